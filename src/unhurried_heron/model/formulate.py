"""From what was said to a model: solved, written out, indexed states resolved, switches taken out."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from unhurried_heron.errors import ConstraintError, listing
from unhurried_heron.formulas.cost_limit import refuse_endless
from unhurried_heron.formulas.expression import IMAGINARY, MARK, Node, name, number, replace_names
from unhurried_heron.formulas.layout import Box, IndexedFormula, Layout, Loop, single
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.state_name import base_of, with_primes
from unhurried_heron.input.definitions import Definition
from unhurried_heron.input.equation_lines import read_statements
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.model.additive_parts import has_marks, marked_parts, without_marks
from unhurried_heron.model.closed_forms import read_closed_forms
from unhurried_heron.model.complex_states import ComplexStates, complex_starts, refuse_complex
from unhurried_heron.model.constraints import Constraints, mass_of, with_constraints
from unhurried_heron.model.equation_sorting import ClassifiedEquations, Sorter
from unhurried_heron.model.indexed import Resolver
from unhurried_heron.model.indexed_rules import Rule, layout_of
from unhurried_heron.model.model import Model, write_out
from unhurried_heron.model.rates import Shown, WrittenRates
from unhurried_heron.model.real_pairs import as_real, infer
from unhurried_heron.model.reduction import highest_of
from unhurried_heron.model.switch_extraction import take_out
from unhurried_heron.model.transformation import EquationsOfMotion, FirstOrder
from unhurried_heron.model.unrolling import unrolled


def formulate(
    user_input: ProblemInput,
    values: Mapping[str, float],
    parameters: Sequence[str],
    initial: Mapping[str, Definition],
    collector: ErrorCollector,
) -> Model:
    """Make the model of equations or energies.

    Parameters
    ----------
    user_input : ProblemInput
    values : mapping of str to float
        The parameters whose values are known; sizes of indexed states are taken from them.
    parameters : sequence of str
        All that were given a value, or declared open.
    initial : mapping of str to Definition
        Starting values as they were said.
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    Model

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    statements = read_statements(
        user_input.text, collector, "the equations" if user_input.form == "equations" else "the energies"
    )
    sorter = Sorter(user_input, statements, values, tuple(parameters), collector)
    starts = complex_starts(initial, sorter.defined)
    if user_input.form != "equations":
        refuse_complex(starts, "energies")
    sorter.imaginary = bool(starts) and IMAGINARY not in sorter.defined
    return _ModelBuilder(sorter, starts, initial.keys()).model(sorter.gather(tuple(initial)))


class _ModelBuilder:
    def __init__(self, sorter: Sorter, complex_starts: frozenset[str], preferred: Collection[str]) -> None:
        self._sorter, self._complex_starts, self._preferred = sorter, complex_starts, preferred

    def model(self, found: ClassifiedEquations) -> Model:
        """Solve, write out, resolve indexed states, and take the switches out."""
        constraints = Constraints()
        if self._sorter.user_input.form == "equations" or found.unknowns:
            found, constraints = with_constraints(
                found, self._preferred, self._sorter.values, self._sorter.user_input.inputs
            )
        solved = self._with_highest(found, constraints)
        written = self._in_states(solved)
        complex_states = infer(written, self._complex_starts, imaginary=self._sorter.imaginary)
        classified = as_real(written, complex_states)
        if classified.beyond and complex_states != ComplexStates():
            raise ConstraintError(
                "constraints of complex indexed states would have to be differentiated", location="the equations",
                expected="constraints that hold the unknowns themselves, or real states",
                given=listing(constraints.algebraic),
            )  # fmt: skip
        layout = layout_of(self._state_rules(classified.orders, classified.rate_rules), "the equations")
        layout = complex_states.marked(layout)
        resolver = Resolver(layout, self._known_sizes(), {**classified.derived_rules, **classified.beyond})
        indexed_formulas = _rate_formulas(classified.orders, classified.rates, classified.rate_rules, layout, resolver)
        derived_layout, derived = derived_formulas(classified, resolver, complex_states)
        refuse_endless(indexed_formulas, "the equations")
        refuse_endless(derived, "the derived quantities")
        sorter = self._sorter
        exact = read_closed_forms(sorter.user_input.exact, layout, sorter.parameters, sorter.collector)
        known = {resolver.single(node): key for key, node in classified.derived.items() if node.operands}
        smooth = take_out(unrolled(indexed_formulas), layout, sorter.inputs, known)
        shown = (
            *self._reduced(solved, constraints.algebraic),
            *(("", each.node, each.loops) for each in constraints.held),
        )
        return Model(
            layout=layout,
            parameters=sorter.parameters,
            rates=_with_parts(
                WrittenRates(layout, indexed_formulas, smooth.indexed_formulas, smooth.switches, smooth.left, shown),
                may_be_marked=any(MARK in each.text for each in sorter.statements),
            ),
            inputs=sorter.inputs,
            derived_layout=derived_layout,
            derived=derived,
            formulas=classified.derived,
            exact=exact,
            statements=tuple(sorter.statements),
            sizes=dict(resolver.constants),
            resolver=resolver,
            transformations=(
                *([EquationsOfMotion(found.velocities)] if sorter.user_input.form != "equations" else []),
                *([complex_states] if complex_states != ComplexStates() else []),
                *([constraints] if constraints != Constraints() else []),
                FirstOrder({key: k for key, k in classified.orders.items() if key not in constraints.algebraic}),
            ),
            mass=mass_of(layout, constraints.algebraic),
        )

    def _with_highest(self, found: ClassifiedEquations, constraints: Constraints) -> ClassifiedEquations:
        """Solve for the highest derivatives; derived quantities may use them, which are formulas now."""
        if self._sorter.collector.assumed & (found.orders.keys() - found.rate_rules.keys()):
            # The mistakes of these lines have been reported already.
            raise self._sorter.collector.wrong.pop()
        moving = [base for base in found.orders if base not in constraints.algebraic]
        highest = [with_primes(base, found.orders[base]) for base in moving]
        single_ones = [label for label in highest if base_of(label) not in found.rate_rules]
        solved = highest_of(found.residuals, found.rates, write_out(found.derived), single_ones)
        rates = {**found.rates, **solved}

        def filled_in(node: Node) -> Node:
            return replace_names(node, rates.get, {})

        rules = {key: [replace(r, node=filled_in(r.node)) for r in own] for key, own in found.derived_rules.items()}
        derived = {key: filled_in(node) for key, node in found.derived.items()}
        self._sorter.note_sizes([*rates.values(), *derived.values()])
        self._sorter.note_sizes([rule.node for own in (*rules.values(), *found.rate_rules.values()) for rule in own])
        return replace(found, rates=rates, derived=derived, derived_rules=rules)

    @staticmethod
    def _in_states(found: ClassifiedEquations) -> ClassifiedEquations:
        """Write derived quantities out, in themselves and in the equations."""
        formulas, done = write_out(found.derived), dict[Node, Node]()

        def out(node: Node) -> Node:
            return replace_names(node, formulas.get, done) if formulas else node

        def rules(group: Mapping[str, Sequence[Rule]]) -> dict[str, list[Rule]]:
            return {key: [replace(rule, node=out(rule.node)) for rule in own] for key, own in group.items()}

        return replace(
            found,
            rates={key: out(node) for key, node in found.rates.items()},
            derived=formulas,
            derived_rules=rules(found.derived_rules),
            rate_rules=rules(found.rate_rules),
            beyond=rules(found.beyond),
        )

    def _known_sizes(self) -> dict[str, float]:
        sorter = self._sorter
        return {key: sorter.values[key] for key in sorted(sorter.sizes & sorter.values.keys())}

    @staticmethod
    def _state_rules(orders: Mapping[str, int], rate_rules: Mapping[str, Sequence[Rule]]) -> dict[str, list[Rule]]:
        """Return the equations by state, lower derivatives included, in the order of the states."""
        states: dict[str, list[Rule]] = {}
        for base, order in orders.items():
            for k in range(order):
                rules = rate_rules.get(base, (Rule(base, (), (), number(0.0)),))
                states[with_primes(base, k)] = [replace(rule, name=with_primes(base, k)) for rule in rules]
        return states

    @staticmethod
    def _reduced(found: ClassifiedEquations, algebraic: Collection[str]) -> Shown:
        """Return the equations as lines: name, formula and ranges of indices; constraints have no name.

        Parameters
        ----------
        found : ClassifiedEquations
        algebraic : collection of str
            The states that constraints determine.

        Returns
        -------
        tuple of (str, Node, tuple of Loop)
        """
        lines: list[tuple[str, Node, tuple[Loop, ...]]] = []
        for base, order in found.orders.items():
            alone = Rule(base, (), (), found.rates.get(with_primes(base, order), number(0.0)))
            for rule in found.rate_rules.get(base, ()) or [alone]:
                for k in range(order):
                    last = k == order - 1
                    lower = with_primes(base, k)
                    left = Node("at", lower, *rule.indices) if rule.indices else name(lower)
                    above = with_primes(base, k + 1)
                    node = rule.node if last else Node("at", above, *rule.indices) if rule.indices else name(above)
                    lines.append(("" if base in algebraic else to_text(left), node, rule.loops))
        return tuple(lines)


def _with_parts(rates: WrittenRates, *, may_be_marked: bool) -> WrittenRates:
    """Return rates without marks, which tell the parts of those that have some."""
    if not (may_be_marked and has_marks(rates.indexed_formulas)):
        return rates
    marked = marked_parts(rates.indexed_formulas), marked_parts(rates.held)
    plain, held = without_marks(rates.indexed_formulas), without_marks(rates.held)
    return replace(rates, indexed_formulas=plain, held=held, marked=marked)


def derived_formulas(
    classified: ClassifiedEquations, resolver: Resolver, complex_states: ComplexStates
) -> tuple[Layout, tuple[IndexedFormula, ...]]:
    """Return the layout of derived quantities, and the formulas that compute them.

    Parameters
    ----------
    classified : ClassifiedEquations
        In real numbers.
    resolver : Resolver
    complex_states : ComplexStates

    Returns
    -------
    (Layout, tuple of IndexedFormula)
    """
    own = {key: group for key, group in classified.derived_rules.items() if key not in classified.orders}
    columns = {**{key: [Rule(key, (), (), node)] for key, node in classified.derived.items()}, **own}
    layout = complex_states.marked(layout_of(columns, "the derived quantities"))
    indexed_formulas = [
        single(resolver.single(node, key), layout.offsets[key]) for key, node in classified.derived.items()
    ]
    for key, rules in own.items():
        for rule in rules:
            indexed_formulas += resolver.indexed_formulas(rule, _FormulaPlaces(layout, key))
    return layout, tuple(indexed_formulas)


@dataclass(frozen=True)
class _FormulaPlaces:
    """Where a rule's values go in a layout."""

    layout: Layout
    key: str

    def __call__(self, box: Box) -> tuple[int, tuple[int, ...]]:
        group = self.layout.by_name[self.key]
        base = self.layout.offsets[self.key]
        return base - sum(s * first for s, (first, _) in zip(group.strides, group.box, strict=True)), group.strides


def _rate_formulas(
    orders: Mapping[str, int],
    rates: Mapping[str, Node],
    rate_rules: Mapping[str, Sequence[Rule]],
    layout: Layout,
    resolver: Resolver,
) -> tuple[IndexedFormula, ...]:
    """Return the rates as formulas over index ranges, in the order of the states.

    Parameters
    ----------
    orders : Mapping[str, int]
    rates : Mapping[str, Node]
    rate_rules : Mapping[str, Sequence[Rule]]
    layout : Layout
        Of the states.
    resolver : Resolver

    Returns
    -------
    tuple[IndexedFormula, ...]
    """
    indexed_formulas: list[IndexedFormula] = []
    for base, order in orders.items():
        for k in range(order):
            lower, above = with_primes(base, k), with_primes(base, k + 1)
            if base not in rate_rules:
                node = rates[above] if k == order - 1 else name(above)
                indexed_formulas.append(single(resolver.single(node, above), layout.offsets[lower]))
                continue
            for rule in rate_rules[base]:
                moved = rule if k == order - 1 else replace(rule, node=Node("at", above, *rule.indices))
                indexed_formulas += resolver.indexed_formulas(moved, _FormulaPlaces(layout, lower))
    return tuple(indexed_formulas)
