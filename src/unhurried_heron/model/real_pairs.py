"""Equations of complex states as equations of twice as many real ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from unhurried_heron.formulas.expression import ONE, Node
from unhurried_heron.formulas.state_name import base_of, with_primes
from unhurried_heron.model.complex_states import TWO, ComplexStates
from unhurried_heron.model.equation_sorting import ClassifiedEquations
from unhurried_heron.model.indexed_rules import Rule


def infer(found: ClassifiedEquations, starts: frozenset[str], *, imaginary: bool) -> ComplexStates:
    """Return what is complex: what starts from complex numbers, and all whose formulas are complex by it.

    Parameters
    ----------
    found : ClassifiedEquations
        Solved and written out.
    starts : frozenset of str
    imaginary : bool
        Whether ``i`` is the imaginary unit.

    Returns
    -------
    ComplexStates

    Raises
    ------
    ExpressionError
    """
    nodes: list[tuple[str, Node, str]] = [(base, found.rates[with_primes(base, order)], f"the equation of {base}")
             for base, order in found.orders.items() if base not in found.rate_rules]  # fmt: skip
    nodes += [(key, node, f"the equation of {key}") for key, node in found.derived.items()]
    for rules in (found.rate_rules, found.derived_rules):
        nodes += [(key, rule.node, rule.location) for key, own in rules.items() for rule in own]
    names = starts
    while True:
        known = ComplexStates(frozenset(names), imaginary)
        if not (names or imaginary):
            return known
        more = {
            key for key, node, location in nodes if key not in names and known.parts(node, location)[1].value != 0.0
        }
        if not more:
            return known
        names |= more


def as_real(found: ClassifiedEquations, complex_states: ComplexStates) -> ClassifiedEquations:
    """Return equations of real numbers: complex states become indexed ones of two members more.

    Raises
    ------
    ExpressionError
    """
    rates, rules, derived, derived_rules = {}, {}, {}, {}
    for label, node in found.rates.items():
        base = base_of(label)
        real, imaginary = complex_states.parts(node, f"the equation of {label}")
        if base in complex_states.names:
            rules[base] = _pair(Rule(base, (), (), node), real, imaginary)
        else:
            rates[label] = real
    for key, node in found.derived.items():
        real, imaginary = complex_states.parts(node, f"the equation of {key}")
        if key in complex_states.names:
            derived_rules[key] = _pair(Rule(key, (), (), node), real, imaginary)
        else:
            derived[key] = real
    rules |= {key: _split(own, complex_states) for key, own in found.rate_rules.items()}
    derived_rules |= {key: _split(own, complex_states) for key, own in found.derived_rules.items()}
    return replace(found, rates=rates, derived=derived, rate_rules=rules, derived_rules=derived_rules)


def _split(rules: Sequence[Rule], complex_states: ComplexStates) -> list[Rule]:
    out: list[Rule] = []
    for rule in rules:
        parts = complex_states.parts(rule.node, rule.location)
        out += _pair(rule, *parts) if rule.name in complex_states.names else [replace(rule, node=parts[0])]
    return out


def _pair(rule: Rule, real: Node, imaginary: Node) -> list[Rule]:
    """Return the rules of the real and the imaginary part of what a rule defines.

    Parameters
    ----------
    rule : Rule
    real, imaginary : Node

    Returns
    -------
    list of Rule
    """
    parts = zip((ONE, TWO), (real, imaginary), strict=True)
    return [replace(rule, indices=(*rule.indices, index), node=node) for index, node in parts]
