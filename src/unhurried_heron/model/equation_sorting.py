"""Sorting statements: rates, derived quantities and equations to be solved, each name checked in the user's words."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

from unhurried_heron.errors import (
    ExpressionError,
    IndexedStateError,
    MissingRateError,
    NameClashError,
    OpenParameterError,
    UndefinedNameError,
    listing,
    unforeseen,
)
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import (
    BOUND,
    IMAGINARY,
    SUM,
    TIME,
    ZERO,
    Node,
    add,
    names_in,
    neg,
    number,
    walk,
)
from unhurried_heron.formulas.layout import Loop
from unhurried_heron.formulas.source import Formula
from unhurried_heron.formulas.state_name import StateName, group_of, with_primes
from unhurried_heron.input.equation_lines import EquationLine
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.measured_rates import OF_MEASURED, usable_names
from unhurried_heron.input.names import check_defined
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.model.indexed_constraints import bare_rule, indexed_rules
from unhurried_heron.model.indexed_rules import Rule, refuse_two_meanings, refuse_without_index
from unhurried_heron.model.indices import whole
from unhurried_heron.model.motion import take_motion
from unhurried_heron.model.reduction import Residual
from unhurried_heron.model.unknowns import counts_members, indexed_unknowns, is_bare, single_unknowns


@dataclass
class ClassifiedEquations:
    """What a text says, sorted: rates and derived quantities of single states and of indexed states, and the rest.

    ``unknowns`` are names that no line defines, where lines are left that define nothing: constraints.
    ``indexed_constraints`` belong to the members of ``indexed_unknowns``; ``bare`` ones hold no unknown. ``beyond`` are
    derivatives of members that are no states.
    """

    rates: dict[str, Node] = field(default_factory=dict)
    derived: dict[str, Node] = field(default_factory=dict)
    rate_rules: dict[str, list[Rule]] = field(default_factory=dict)
    derived_rules: dict[str, list[Rule]] = field(default_factory=dict)
    residuals: list[Residual] = field(default_factory=list)
    orders: dict[str, int] = field(default_factory=dict)
    velocities: dict[str, Node] = field(default_factory=dict)
    unknowns: tuple[str, ...] = ()
    indexed_unknowns: tuple[str, ...] = ()
    indexed_constraints: dict[str, list[Rule]] = field(default_factory=dict)
    bare: list[Rule] = field(default_factory=list)
    beyond: dict[str, list[Rule]] = field(default_factory=dict)

    @cached_property
    def highest(self) -> frozenset[str]:
        """The highest derivative of each state."""
        return frozenset(with_primes(base, order) for base, order in self.orders.items())


class Sorter:
    """Sorts the statements of one problem; ``sizes`` gathers the parameters that its structure depends on."""

    def __init__(
        self,
        user_input: ProblemInput,
        statements: list[EquationLine],
        values: Mapping[str, float],
        parameters: tuple[str, ...],
        collector: ErrorCollector,
    ) -> None:
        self.user_input, self.statements, self.values = user_input, statements, values
        self.parameters, self.collector = parameters, collector
        self.inputs, self.measured = tuple(user_input.inputs), usable_names(user_input.inputs)
        self.sizes: set[str] = set()
        # whether i is the imaginary unit
        self.imaginary = False

    @property
    def defined(self) -> set[str]:
        """What has a meaning by itself: parameters, inputs, loop indices, and what stands alone on a left side."""
        targets = (each.target.name for each in self.statements if each.target)
        indices = (each.index for statement in self.statements for each in statement.ranges)
        return {*self.parameters, *self.inputs, *targets, *indices}

    def gather(self, initial: tuple[str, ...]) -> ClassifiedEquations:
        """Sort the statements."""
        found = ClassifiedEquations()
        if self.user_input.form == "equations":
            found.orders = self._orders()
            self._refuse_clashes(found.orders)
            known = self._known(found.orders) | {TIME, *((IMAGINARY,) if self.imaginary else ())}
            found.unknowns = single_unknowns(self.statements, found.orders, found.highest, known, self.parameters)
            known |= {*found.unknowns}
            found.indexed_unknowns = indexed_unknowns(self.statements, found.orders, known, self._loops)
            self._check_names(found.orders, (*found.unknowns, *found.indexed_unknowns), initial)
            indexed = {each.target.name for each in self.statements if each.target and each.target.indices}
            indexed |= {*found.indexed_unknowns}
            left, bare = list[EquationLine](), list[EquationLine]()
            unknowns, others = found.indexed_unknowns + found.unknowns, {*found.unknowns, *found.highest}
            for statement in self.statements:
                count = len(self.collector.wrong)
                with self.collector.gathering():
                    for side in (statement.left, statement.right) if indexed else ():
                        refuse_without_index(side.node, indexed, statement.location, statement.text[:80])
                    if counts_members(statement, found.indexed_unknowns, others):
                        left.append(statement)
                    elif unknowns and is_bare(statement, others):
                        bare.append(statement)
                    else:
                        self._sort(statement, found)
                if len(self.collector.wrong) > count and statement.target:
                    self.collector.assumed.add(statement.target.name)
            with self.collector.gathering():
                found.indexed_constraints = indexed_rules(left, found.indexed_unknowns, self._loops, some=bool(bare))
                found.bare = [bare_rule(each, self._loops(each)) for each in bare]
            with self.collector.gathering():
                refuse_two_meanings({**found.rate_rules, **found.indexed_constraints}, found.derived_rules)
            if not found.orders:
                self.collector.add(ExpressionError(
                    "the equations hold no rate", location="the equations",
                    expected="at least one line such as level' = inflow - outflow",
                    given=f"{len(found.derived)} derived quantities",
                ))  # fmt: skip
        else:
            take_motion(self, found)
            self._refuse_clashes(found.orders)
        return found

    def _orders(self) -> dict[str, int]:
        """Return the order of each state: how many primes it has at most, in order of appearance."""
        orders: dict[str, int] = {}
        for statement in self.statements:
            fixed = self.measured - ({*statement.left.mentions} if statement.target else set())
            for mention in (*statement.left.mentions, *statement.right.mentions):
                named = StateName.read(mention)
                if named.primes and mention not in fixed:
                    orders[named.base] = max(orders.get(named.base, 0), named.primes)
        return orders

    def _refuse_clashes(self, orders: Mapping[str, int]) -> None:
        derived = {s.target.name for s in self.statements if s.target and not s.target.primes} - set(orders)
        groups = {"parameter": self.parameters, "state": orders, "derived quantity": derived}
        groups["measured quantity"] = self.inputs
        for named in dict.fromkeys((*self.parameters, *derived, *self.inputs)):
            kinds = [kind for kind, group in groups.items() if named in group]
            if kinds == ["parameter", "derived quantity"] and self._is_equation(named, orders):
                continue
            if len(kinds) > 1:
                self.collector.add(
                    NameClashError(
                        f"'{named}' is used for two things", name=named, location=" and ".join(kinds),
                        expected="one meaning for each name" + OF_MEASURED * (named in self.inputs and named in orders),
                        given=f"a {' and a '.join(kinds)}",
                    )
                )  # fmt: skip

    def _is_equation(self, named: str, orders: Mapping[str, int]) -> bool:
        """Whether a formula for a parameter is one: it holds a highest derivative, or there is something unknown."""
        highest = {with_primes(base, order) for base, order in orders.items()}
        own = [s for s in self.statements if s.target and s.target.name == named and not s.target.primes]
        if all(set(s.right.mentions) & highest for s in own):
            return True
        known = self._known(orders) | {TIME, *((IMAGINARY,) if self.imaginary else ())}
        plain = not any(s.target.indices or s.ranges for s in own if s.target)
        return plain and bool(single_unknowns(self.statements, orders, highest, known, self.parameters))

    def _known(self, orders: Mapping[str, int]) -> set[str]:
        """Return the names that a line defines, or a value."""
        states = [with_primes(base, k) for base, order in orders.items() for k in range(order + 1)]
        derived = [s.target.name for s in self.statements if s.target]
        return {*states, *derived, *self.parameters, *self.measured, *self.collector.assumed}

    def _check_names(self, orders: Mapping[str, int], unknowns: Sequence[str], initial: tuple[str, ...]) -> None:
        """Refuse names without a meaning, and states without an equation.

        Parameters
        ----------
        orders : mapping of str to int
        unknowns : sequence of str
            Names that constraints are to determine.
        initial : tuple of str
            What was given a starting value.
        """
        known = {*self._known(orders), *unknowns}
        used = {mention for s in self.statements for side in (s.left, s.right) for mention in side.mentions}
        missing = [n for n in map(group_of, initial) if n not in known and n in used]
        if missing:
            self.collector.add(
                MissingRateError(
                    "no equation says how " + listing(missing, quoted=True) + " changes",
                    name=listing(missing),
                    location="the equations",
                    expected="; ".join(f"a line {named}' = …" for named in missing),
                    given="an initial value and uses, but no rate",
                )
            )
        known |= {*missing, *((IMAGINARY,) if self.imaginary else ())}
        written: dict[str, Formula] = {}
        for statement in self.statements:
            inside = {r.index for r in statement.ranges}
            for side, formula in (("left", statement.left), ("right", statement.right)):
                own = {key: at for key, at in formula.mentions.items() if key not in inside}
                written[f"{statement.line} {side}"] = replace(formula, mentions=own)
            for each in statement.ranges:
                written[f"{statement.line} {each.index} first"] = each.first
                written[f"{statement.line} {each.index} last"] = each.last
        with self.collector.gathering():
            check_defined(written, known, "the equations")

    def _sort(self, statement: EquationLine, found: ClassifiedEquations) -> None:
        target, orders, highest = statement.target, found.orders, found.highest
        if target is not None and target.indices:
            self._sort_indexed(statement, found)
            return
        if statement.ranges:
            raise IndexedStateError(
                "an equation with a range needs its index on the left side",
                location=statement.location,
                expected="u[i]' = … for i in 1..n",
                given=statement.text[:80],
            )
        held = (set(statement.left.mentions) | set(statement.right.mentions)) & highest
        if target is not None and target.primes and target.label in highest:
            if target.label in found.rates:
                raise self._twice(target.label, statement)
            if not set(statement.right.mentions) & highest:
                found.rates[target.label] = statement.right.node
                return
        elif target is not None and not target.primes and target.name not in self.parameters:
            if target.name in orders and not held and not found.unknowns:
                if any(s.target and s.target.primes and s.target.name == target.name for s in self.statements):
                    raise self._twice(target.name, statement)
                raise ExpressionError(
                    f"'{target.name}' is a derived quantity; its derivative cannot be used",
                    name=target.name,
                    location=statement.location,
                    expected="derivatives of states",
                    given=with_primes(target.name, orders[target.name]),
                )
            if target.name not in orders:
                if target.name in found.derived or target.name in found.derived_rules:
                    raise self._twice(target.name, statement)
                found.derived[target.name] = statement.right.node
                return
        left, right = statement.left.node, statement.right.node
        node = right if left is ZERO else add(left, neg(right))
        found.residuals.append(Residual(node, statement.location, (statement.left, statement.right)))

    def _twice(self, named: str, statement: EquationLine) -> NameClashError:
        return NameClashError(
            f"'{named}' is defined twice",
            name=named,
            location=statement.location,
            expected="one equation for each name",
            given="a second one",
        )

    def _sort_indexed(self, statement: EquationLine, found: ClassifiedEquations) -> None:
        target = statement.target
        if target is None:
            raise unforeseen("an equation for a name without its name")
        rule = self._rule(statement)
        if target.primes == 0:
            found.derived_rules.setdefault(target.name, []).append(rule)
            return
        if target.primes != found.orders[target.name]:
            raise ExpressionError(
                f"'{target.label}' is no highest derivative",
                name=target.label,
                location=statement.location,
                expected=f"an equation for {with_primes(target.name, found.orders[target.name])}[…]",
                given=statement.text[:80],
            )
        highest = found.highest
        held = sorted(set(statement.right.mentions) & highest)
        if held:
            raise ExpressionError(
                f"a highest derivative, '{held[0]}', stands on the right side of an indexed state's equation",
                name=held[0],
                location=statement.location,
                expected="equations of indexed states solved for their highest derivatives",
                given=statement.text[:80],
            )
        found.rate_rules.setdefault(target.name, []).append(rule)

    def _loops(self, statement: EquationLine) -> list[Loop]:
        """Return the loops of a line, with whole numbers as their ends."""
        location = statement.location
        loops = []
        for each in statement.ranges:
            first = self._whole(each.first.node, each.first, location)
            last = self._whole(each.last.node, each.last, location)
            if last < first:
                raise IndexedStateError(
                    f"the range of '{each.index}' is empty",
                    name=each.index,
                    location=location,
                    expected="a last value that is not below the first",
                    given=f"{first}..{last}",
                )
            loops.append(Loop(each.index, first, last))
        return loops

    def _rule(self, statement: EquationLine) -> Rule:
        target, location = statement.target, statement.location
        if target is None:
            raise unforeseen("an equation for a name without its name")
        loops = self._loops(statement)
        running = {loop.index for loop in loops}
        indices = []
        for index in target.indices:
            if index.op == "name" and str(index.args[0]) in running:
                indices.append(index)
            elif names_in(index) & running:
                raise IndexedStateError(
                    "an index on the left side is more than a plain one",
                    name=target.name,
                    location=location,
                    expected=f"{target.name}[i] on the left side",
                    given=statement.text[:80],
                )
            else:
                indices.append(number(self._whole(index, statement.left, location)))
        unused = running - {str(index.args[0]) for index in indices if index.value is None}
        if unused or len(running) < len(loops):
            raise IndexedStateError(
                "each range needs its index on the left side, once",
                name=listing(sorted(unused)),
                location=location,
                expected="u[i]' = … for i in 1..n",
                given=statement.text[:80],
            )
        return Rule(target.name, tuple(indices), tuple(loops), statement.right.node, location)

    def _whole(self, node: Node, written: Formula, location: str) -> int:
        """Return an end of a range as a whole number.

        Parameters
        ----------
        node : Node
        written : Formula
        location : str
            Where this was said, for messages.

        Returns
        -------
        int
        """
        names = names_in(node)
        self.sizes |= names
        self._need(names, location)
        if not names <= set(self.values):
            return 1
        return whole(float(evaluate(node, self.values)), written.words(node) or written.source.text, location)

    def _need(self, names: set[str], location: str) -> None:
        """Refuse sizes that are still open."""
        unknown = tuple(sorted(names & set(self.parameters) - set(self.values)))
        if unknown:
            raise OpenParameterError(
                "the size of an indexed state needs a value: " + listing(unknown, quoted=True),
                names=unknown,
                location=location,
                expected="values for all parameters that sizes and indices use",
            )
        foreign = names - set(self.parameters)
        if foreign:
            raise UndefinedNameError(
                "a size is no parameter: " + listing(sorted(foreign), quoted=True),
                names=tuple(sorted(foreign)),
                location=location,
                expected="sizes made of whole numbers and parameters",
            )

    def note_sizes(self, nodes: Iterable[Node]) -> None:
        """Add the parameters in the indices and ends of sums of trees to the sizes."""
        known = set(self.parameters)
        for node in walk(*(node for node in nodes if node.has_indexed)):
            parts = node.operands if node.op == "at" else node.operands[:2] if node.op == SUM else ()
            for part in parts:
                used = {n for n in names_in(part) if BOUND not in n} & known
                self._need(used, "the equations")
                self.sizes |= used
