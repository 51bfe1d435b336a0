"""Holding every term of every equation to the declared units."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Final

import numpy as np

from unhurried_heron.errors import UnitError, unforeseen
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import CONSTANTS, SUM, TIME, Node, upwards
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import COMPLEX_FUNCTIONS, OPERATIONS
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.input.equation_lines import EquationLine
from unhurried_heron.input.measured_rates import N_DERIVATIVES
from unhurried_heron.input.names import in_order
from unhurried_heron.model.action import assignments
from unhurried_heron.model.energies import KINETIC, POTENTIAL
from unhurried_heron.problem.measures import UNKNOWN, AnyUnit, Disagreement, Measure
from unhurried_heron.units.unit import PLAIN, PLAIN_WORDS, CoherentSet, Unit, coherent_set, read_unit

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

# Disagreements that one message lists.
_MAX_TOLD: Final = 12
_CONSTANTS: Final = frozenset(CONSTANTS.values())


def disagreements(problem: Problem) -> tuple[Disagreement, ...]:
    """Return every disagreement of units, in the order of the equations; nothing where no unit is declared.

    Raises
    ------
    UnitError
        A declared unit is none.
    """
    if not any(problem.units.values()):
        return ()
    checker = _Checker(problem)
    return tuple(dict.fromkeys(checker.all()))


def refuse_disagreements(problem: Problem) -> None:
    """Refuse a problem whose units disagree.

    Raises
    ------
    UnitError
        All disagreements, or the first dozen of them.
    """
    found = disagreements(problem)
    if not found:
        return
    more = [f"and {len(found) - _MAX_TOLD} more"] if len(found) > _MAX_TOLD else []
    lines = [str(each).replace("\n ", ",") for each in found[:_MAX_TOLD]] + more
    sentence = str(found[0]).partition("\n")[0] if len(found) == 1 else "\n  " + "\n  ".join(lines)
    raise UnitError(f"units disagree: {sentence}", name=found[0].one,
                    location=found[0].location, given=found[0].other_unit,
                    expected="the same unit on both sides; check_units=False where it is meant so")  # fmt: skip


def unit_of(problem: Problem, quantity: str, *, times: int = 0) -> str:
    """Return the unit of a formula, times that of the time to a power; empty where it is not known, or a plain number.

    Parameters
    ----------
    problem : Problem
    quantity : str
    times : int, optional
        The power of the time.

    Returns
    -------
    str

    Raises
    ------
    FormulationError
        The formula cannot be read.
    """
    if not any(problem.units.values()):
        return ""
    checker = _Checker(problem)
    # A derived quantity gets its unit when it is read.
    tuple(checker.all())
    written = read(Source(quantity, f"'{quantity}'"))
    measure = checker.measure(written, quantity, set())
    time = checker.of_name(TIME)
    if not isinstance(measure, Unit) or (times and not isinstance(time, Unit)):
        return ""
    for _ in range(abs(times)):
        measure = measure * time if times > 0 else measure / time  # type: ignore[operator]  # a unit, as was just seen
    sentence = checker.say(measure)
    return "" if sentence == PLAIN_WORDS else sentence


class _Checker:
    def __init__(self, problem: Problem) -> None:
        self.problem, self.model = problem, problem.model
        self.declared: dict[str, Measure] = {
            name: read_unit(text, f"units, '{name}'") for name, text in problem.units.items() if text
        }
        groups = {group.name: problem.units.get(group.name, "") for group in self.model.layout.groups}
        base = {name: text for name, text in groups.items() if text}
        if problem.units.get(TIME):
            base[TIME] = problem.units[TIME]
        self.together: CoherentSet = coherent_set(base or dict(problem.units))
        self.units: dict[str, Measure] = {**self.declared}
        self.found: list[Disagreement] = []
        for base_name, order in (*self.model.orders.items(), *((each, N_DERIVATIVES) for each in self.model.inputs)):
            for k in range(1, order + 1):
                self.units.setdefault(base_name + "'" * k, self._derivative(self.of_name(base_name + "'" * (k - 1))))

    def _derivative(self, measure: Measure) -> Measure:
        time = self.units.get(TIME, UNKNOWN)
        return measure / time if isinstance(measure, Unit) and isinstance(time, Unit) else UNKNOWN

    def of_name(self, name: str) -> Measure:
        return PLAIN if name in self.model.complex_states.known(self.model) else self.units.get(name, UNKNOWN)

    def all(self) -> Iterator[Disagreement]:
        """Check equations, then parameters, starting values and events."""
        self._measure_parameters()
        helpers = {s.target.name: s for s in self.model.statements if s.target and not s.target.primes}
        for name in self._in_order(helpers):
            statement = helpers[name]
            own = self.of_name(name)
            measure = self.measure(statement.right, statement.location, {r.index for r in statement.ranges})
            if isinstance(own, AnyUnit):
                self.units[name] = measure
            else:
                self._compare(statement.left, statement.left.node, own, statement.right, measure, statement.location)
        for statement in self.model.statements:
            if statement.target is not None and helpers.get(statement.target.name) is statement:
                continue
            indices = {r.index for r in statement.ranges}
            left = self.measure(statement.left, statement.location, indices)
            right = self.measure(statement.right, statement.location, indices)
            self._compare(statement.left, statement.left.node, left, statement.right, right, statement.location)
        self._compare_energies(helpers)
        for name, written, wanted, index in self._others():
            measure = self.measure(written, index, set())
            if isinstance(wanted, Unit) and isinstance(measure, Unit) and not wanted.same(measure):
                words = written.words(written.node) or to_text(written.node)
                self.found.append(Disagreement(name, self.say(wanted), words, self.say(measure), index))
        yield from self.found

    def _compare_energies(self, helpers: Mapping[str, EquationLine]) -> None:
        """Kinetic and potential energy add up, so they have one unit; a force is an energy over its coordinate."""
        if not {KINETIC, POTENTIAL} <= {*helpers}:
            return
        one, other = helpers[KINETIC], helpers[POTENTIAL]
        energy, potential = self.of_name(KINETIC), self.of_name(POTENTIAL)
        self._compare(one.right, one.right.node, energy, other.right, potential, other.location)
        for name, text in self.problem.user_input.forces.items():
            force = read(Source(text, f"the force on '{name}'"))
            wanted = self._product([energy, self.of_name(name)], "div")
            measure = self.measure(force, f"the force on '{name}'", set())
            if isinstance(wanted, Unit) and isinstance(measure, Unit) and not wanted.same(measure):
                words, where = force.words(force.node) or to_text(force.node), f"the force on '{name}'"
                self.found.append(Disagreement(f"energy/{name}", self.say(wanted), words, self.say(measure), where))

    def _measure_parameters(self) -> None:
        """Parameters that are formulas of others have the units of their formulas, where none is declared."""
        definitions = self.problem.assembled.definitions
        formulas = {
            key: each.formula for key, each in definitions.items() if each.formula and key in self.model.parameters
        }
        for key in in_order({key: formula.node for key, formula in formulas.items()}, "parameters"):
            if isinstance(self.of_name(key), AnyUnit):
                self.units[key] = self.measure(formulas[key], formulas[key].source.location, set())

    def _in_order(self, helpers: Mapping[str, object]) -> Sequence[str]:
        """Derived quantities in an order in which each uses only those before it."""
        formulas = [name for name in self.model.formulas if name in helpers]
        return [*formulas, *(name for name in helpers if name not in formulas)]

    def _others(self) -> Iterator[tuple[str, Formula, Measure, str]]:
        problem = self.problem
        for name, definition in problem.assembled.definitions.items():
            if definition.formula is not None:
                yield name, definition.formula, self.of_name(group_of(name)), definition.formula.source.location
        for event in problem.events:
            if isinstance(event.when, str):
                written = self.model.read_event(event, problem.units)
                yield event.name, written, UNKNOWN, f"the event '{event.name}': {event.when}"
            for each in assignments(event, problem.units, self.model):
                target = each.target.label if each.target else ""
                yield target, each.right, self.of_name(target), f"what the event '{event.name}' changes: {each.text}"

    def measure(self, written: Formula, location: str, indices: set[str]) -> Measure:
        """Return the unit of a formula, noting what disagrees within it.

        Parameters
        ----------
        written : Formula
        location : str
            Where this was said, for messages.
        indices : set of str
            Names of loop indices, which are plain numbers.

        Returns
        -------
        Measure
        """
        done: dict[Node, Measure] = {}
        for node in upwards(written.node):
            done[node] = self._of(node, done, written, location, indices)
        return done[written.node]

    def _of(
        self, node: Node, done: Mapping[Node, Measure], written: Formula, location: str, indices: set[str]
    ) -> Measure:
        """Return the unit of a node whose operands have theirs.

        Parameters
        ----------
        node : Node
        done : mapping of Node
            What is known of parts that were seen before.
        written : Formula
        location : str
            Where this was said, for messages.
        indices : set of str
            Names of loop indices, which are plain numbers.

        Returns
        -------
        Measure

        Raises
        ------
        HeronError
            An operation has no rule for units.
        """
        op = node.op
        if op == "number":
            # zero fits every unit, and a quantity has been converted to the right one already
            return PLAIN if node.value != 0.0 and (node in written.spans or node.value in _CONSTANTS) else UNKNOWN
        if op == "name":
            return PLAIN if node.args[0] in indices or "\u00b7" in node.args[0] else self.of_name(str(node.args[0]))
        if op == "at":
            return self.of_name(str(node.args[0]))
        parts = [done[operand] for operand in node.operands]
        if op == SUM:
            return parts[2]
        if op == "neg":
            return parts[0]
        if op in ("mul", "div"):
            return self._product(parts, op)
        if op == "pow":
            return self._power(node, parts, written, location)
        if op == "where":
            return self._alike(node.operands[1:], parts[1:], written, location)
        kind = COMPLEX_FUNCTIONS[op].unit if op in COMPLEX_FUNCTIONS else OPERATIONS[op].unit
        if isinstance(kind, float):
            return parts[0] ** kind if isinstance(parts[0], Unit) else UNKNOWN
        if kind == OWN_RULE:
            raise unforeseen(f"no rule for the unit of '{op}'")
        if kind == "same":
            return self._alike(node.operands, parts, written, location)
        if kind == "compared":
            self._alike(node.operands, parts, written, location)
        if kind == "plain":
            for operand, part in zip(node.operands, parts, strict=True):
                self._plain(op, operand, part, written, location)
        return PLAIN

    @staticmethod
    def _product(parts: Sequence[Measure], op: str) -> Measure:
        total: Unit = PLAIN
        for k, part in enumerate(parts):
            if not isinstance(part, Unit):
                return UNKNOWN
            total = total / part if op == "div" and k else total * part
        return total

    def _power(self, node: Node, parts: Sequence[Measure], written: Formula, location: str) -> Measure:
        """Return the unit of a power.

        Parameters
        ----------
        node : Node
        parts : Sequence[Measure]
        written : Formula
        location : str
            Where this was said, for messages.

        Returns
        -------
        Measure
        """
        base = parts[0]
        if not isinstance(base, Unit):
            return UNKNOWN
        exponent = node.operands[1]
        self._plain("an exponent", exponent, parts[1], written, location)
        if base.same(PLAIN):
            return PLAIN
        try:
            value = float(evaluate(exponent, self.problem.parameters))
        except (KeyError, TypeError, ValueError):
            return UNKNOWN
        return base**value if np.isfinite(value) and abs(value) < 100 else UNKNOWN

    def _plain(self, what: str, node: Node, measure: Measure, written: Formula, location: str) -> None:
        """Note an operand that must be a plain number and is none.

        Parameters
        ----------
        what : str
            What is spoken of, for messages.
        node : Node
        measure : Measure
        written : Formula
        location : str
            Where this was said, for messages.
        """
        if isinstance(measure, Unit) and not measure.same(PLAIN):
            words = written.words(node) or to_text(node)
            label = what if what.startswith("an ") else f"the argument of {what}"
            self.found.append(Disagreement(words, self.say(measure), label, "", location))

    def _alike(self, nodes: Sequence[Node], parts: Sequence[Measure], written: Formula, location: str) -> Measure:
        """Return the unit that operands share, noting what disagrees.

        Parameters
        ----------
        nodes : Sequence[Node]
        parts : Sequence[Measure]
        written : Formula
        location : str
            Where this was said, for messages.

        Returns
        -------
        Measure
        """
        first: tuple[Node, Unit] | None = None
        for node, part in zip(nodes, parts, strict=True):
            if not isinstance(part, Unit):
                continue
            if first is None:
                first = (node, part)
            elif not first[1].same(part):
                self._compare(written, first[0], first[1], written, part, location, node)
                return UNKNOWN
        return first[1] if first else UNKNOWN

    def _compare(
        self,
        a: Formula,
        one: Node,
        unit: Measure,
        b: Formula,
        other_unit: Measure,
        location: str,
        other: Node | None = None,
    ) -> None:
        """Note two parts of formulas whose units disagree.

        Parameters
        ----------
        a : Formula
        one : Node
            A part of the first formula.
        unit : Measure
        b : Formula
        other_unit : Measure
        location : str
            Where this was said, for messages.
        other : Node or None, optional
            A part of the second; None for all of it.
        """
        if isinstance(unit, Unit) and isinstance(other_unit, Unit) and not unit.same(other_unit):
            other = b.node if other is None else other
            # the sign of a term is not part of it
            one, other = (node.operands[0] if node.op == "neg" else node for node in (one, other))
            words = (a.words(one) or to_text(one), b.words(other) or to_text(other))
            self.found.append(Disagreement(words[0], self.say(unit), words[1], self.say(other_unit), location))

    def say(self, unit: Unit) -> str:
        """Write a unit by the names the user declared."""
        for name, text in self.problem.units.items():
            if text and isinstance(self.declared.get(name), Unit) and self.declared[name] == unit:
                return text
        return self.together.describe(unit)
