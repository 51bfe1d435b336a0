"""From what was said to a model: names, order, families and switches, each checked in the user's words."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from unhurried_heron.errors import (
    ExpressionError,
    FamilyError,
    MissingRateError,
    NameClashError,
    OpenParameterError,
    UndefinedNameError,
)
from unhurried_heron.problem.energies import ENERGY, LAGRANGIAN, check_coordinates, hamilton, lagrange, read_forces
from unhurried_heron.problem.evaluate import evaluate
from unhurried_heron.problem.expression import BOUND, SUM, Node, add, name, names_in, neg, number, replace_names, walk
from unhurried_heron.problem.families import Resolver, Rule, layout_of, whole
from unhurried_heron.problem.findings import Findings
from unhurried_heron.problem.grammar import Written
from unhurried_heron.problem.layout import Block, Box, Layout, Loop, single
from unhurried_heron.problem.model import Model, read_exact, write_out
from unhurried_heron.problem.names import check_defined
from unhurried_heron.problem.reduction import Residual, solve_highest
from unhurried_heron.problem.said import Said
from unhurried_heron.problem.spelling import base_of, with_primes
from unhurried_heron.problem.statements import Statement, read_statements
from unhurried_heron.problem.switches import Smooth, take_out
from unhurried_heron.problem.written import to_text


@dataclass
class _Gathered:
    """What a text says, sorted: rates and derived quantities of single states and of families, and the rest."""

    rates: dict[str, Node] = field(default_factory=dict)
    derived: dict[str, Node] = field(default_factory=dict)
    rate_rules: dict[str, list[Rule]] = field(default_factory=dict)
    derived_rules: dict[str, list[Rule]] = field(default_factory=dict)
    residuals: list[Residual] = field(default_factory=list)
    orders: dict[str, int] = field(default_factory=dict)


def formulate(
    said: Said, values: Mapping[str, float], parameters: Sequence[str], initial: Iterable[str], findings: Findings
) -> Model:
    """Make the model of equations or energies.

    Parameters
    ----------
    values : mapping of str to float
        The parameters whose values are known; sizes of families are taken from them.
    parameters, initial : iterable of str
        All names that were given a value, or declared open.

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    statements = read_statements(said.text, findings, "the equations" if said.form == "equations" else "the energies")
    maker = _Maker(said, statements, values, tuple(parameters), findings)
    gathered = maker.gather(tuple(initial))
    return maker.model(gathered)


class _Maker:
    def __init__(
        self,
        said: Said,
        statements: list[Statement],
        values: Mapping[str, float],
        parameters: tuple[str, ...],
        findings: Findings,
    ) -> None:
        self.said, self.statements, self.values = said, statements, values
        self.parameters, self.findings = parameters, findings
        self.inputs = tuple(said.inputs)
        self.sizes: set[str] = set()

    def gather(self, initial: tuple[str, ...]) -> _Gathered:
        """Sort the statements."""
        found = _Gathered()
        if self.said.form == "equations":
            found.orders = self._orders()
            self._refuse_clashes(found.orders)
            self._check_names(found.orders, initial)
            for statement in self.statements:
                with self.findings.gathering():
                    self._sort(statement, found)
            if not found.orders:
                self.findings.add(
                    ExpressionError(
                        "the equations hold no rate",
                        place="the equations",
                        expected="at least one line such as level' = inflow - outflow",
                        given=f"{len(found.derived)} derived quantities",
                    )
                )
        else:
            self._move(found)
            self._refuse_clashes(found.orders)
        return found

    def _move(self, found: _Gathered) -> None:
        """Take the equations of motion from energies."""
        said = self.said
        check_coordinates((*said.coordinates, *said.momenta))
        forces = read_forces(said.forces, said.coordinates, self.findings)
        helpers = {s.target.name: s.right.node for s in self.statements if s.target and not s.target.primes}
        written_forces = {key: replace_names(force.node, write_out(helpers).get, {}) for key, force in forces.items()}
        if said.form == "lagrangian":
            motion = lagrange(self.statements, said.coordinates, written_forces)
        else:
            motion = hamilton(self.statements, dict(zip(said.coordinates, said.momenta, strict=True)), written_forces)
        found.orders = dict(motion.orders)
        found.rates = {with_primes(base, 1): node for base, node in motion.rates.items()}
        found.residuals = list(motion.residuals)
        found.derived = {key: node for key, node in helpers.items() if key != LAGRANGIAN}
        found.derived.setdefault(ENERGY, motion.energy)
        states = [with_primes(q, k) for q, order in motion.orders.items() for k in range(order)]
        written = {s.text: s.right for s in self.statements} | forces
        check_defined(written, [*states, *helpers, *self.parameters, *self.inputs], "the energies")

    def _orders(self) -> dict[str, int]:
        """Return the order of each state: how many primes it has at most, in order of appearance."""
        orders: dict[str, int] = {}
        for statement in self.statements:
            names = [*statement.left.mentions, *statement.right.mentions]
            for mention in names:
                base = base_of(mention)
                if base != mention:
                    orders[base] = max(orders.get(base, 0), len(mention) - len(base))
        return orders

    def _refuse_clashes(self, orders: Mapping[str, int]) -> None:
        derived = {s.target.name for s in self.statements if s.target and not s.target.primes} - set(orders)
        groups = {"parameter": self.parameters, "state": orders, "derived quantity": derived, "input": self.inputs}
        for named in dict.fromkeys((*self.parameters, *derived, *self.inputs)):
            kinds = [kind for kind, group in groups.items() if named in group]
            # a formula for a parameter is an equation like any other if it holds a highest derivative
            if kinds == ["parameter", "derived quantity"] and self._is_equation(named, orders):
                continue
            if len(kinds) > 1:
                self.findings.add(
                    NameClashError(
                        f"'{named}' is used for two things",
                        name=named,
                        place=" and ".join(kinds),
                        expected="one meaning for each name",
                        given=f"a {' and a '.join(kinds)}",
                    )
                )

    def _is_equation(self, named: str, orders: Mapping[str, int]) -> bool:
        highest = {with_primes(base, order) for base, order in orders.items()}
        own = [s for s in self.statements if s.target and s.target.name == named and not s.target.primes]
        return all(set(s.right.mentions) & highest for s in own)

    def _check_names(self, orders: Mapping[str, int], initial: tuple[str, ...]) -> None:
        """Refuse names without a meaning, and states without an equation."""
        states = [with_primes(base, k) for base, order in orders.items() for k in range(order + 1)]
        derived = [s.target.name for s in self.statements if s.target]
        assumed = list(self.findings.assumed)
        known = {*states, *derived, *self.parameters, *self.inputs, *assumed}
        used = {mention for s in self.statements for side in (s.left, s.right) for mention in side.mentions}
        missing = [n for n in (key.partition("[")[0] for key in initial) if n not in known and n in used]
        if missing:
            self.findings.add(
                MissingRateError(
                    "no equation says how " + ", ".join(f"'{named}'" for named in missing) + " changes",
                    name=", ".join(missing),
                    place="the equations",
                    expected="; ".join(f"a line {named}' = …" for named in missing),
                    given="an initial value and uses, but no rate",
                )
            )
        known |= set(missing)
        written: dict[str, Written] = {}
        for statement in self.statements:
            inside = {r.index for r in statement.ranges}
            for side, formula in (("left", statement.left), ("right", statement.right)):
                own = {key: at for key, at in formula.mentions.items() if key not in inside}
                written[f"{statement.line} {side}"] = replace(formula, mentions=own)
            for each in statement.ranges:
                written[f"{statement.line} {each.index} first"] = each.first
                written[f"{statement.line} {each.index} last"] = each.last
        with self.findings.gathering():
            check_defined(written, known, "the equations")

    def _sort(self, statement: Statement, found: _Gathered) -> None:
        target, orders = statement.target, found.orders
        highest = {with_primes(base, order) for base, order in orders.items()}
        if target is not None and target.indices:
            self._sort_family(statement, found)
            return
        if statement.ranges:
            raise FamilyError(
                "an equation with a range needs its index on the left side",
                place=statement.where,
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
            if target.name in orders and not held:
                raise self._twice(target.name, statement)
            if target.name not in orders:
                if target.name in found.derived or target.name in found.derived_rules:
                    raise self._twice(target.name, statement)
                found.derived[target.name] = statement.right.node
                return
        node = add(statement.left.node, neg(statement.right.node))
        found.residuals.append(Residual(node, statement.where, (statement.left, statement.right)))

    def _twice(self, named: str, statement: Statement) -> NameClashError:
        return NameClashError(
            f"'{named}' is defined twice",
            name=named,
            place=statement.where,
            expected="one equation for each name",
            given="a second one",
        )

    def _sort_family(self, statement: Statement, found: _Gathered) -> None:
        target = statement.target
        assert target is not None
        rule = self._rule(statement)
        if target.primes == 0:
            found.derived_rules.setdefault(target.name, []).append(rule)
            return
        if target.primes != found.orders[target.name]:
            raise ExpressionError(
                f"'{target.label}' is no highest derivative",
                name=target.label,
                place=statement.where,
                expected=f"an equation for {with_primes(target.name, found.orders[target.name])}[…]",
                given=statement.text[:80],
            )
        highest = {with_primes(base, order) for base, order in found.orders.items()}
        held = sorted(set(statement.right.mentions) & highest)
        if held:
            raise ExpressionError(
                f"a highest derivative, '{held[0]}', stands on the right side of a family's equation",
                name=held[0],
                place=statement.where,
                expected="equations of families solved for their highest derivatives",
                given=statement.text[:80],
            )
        found.rate_rules.setdefault(target.name, []).append(rule)

    def _rule(self, statement: Statement) -> Rule:
        target, where = statement.target, statement.where
        assert target is not None
        loops = []
        for each in statement.ranges:
            first = self._whole(each.first.node, each.first, where)
            last = self._whole(each.last.node, each.last, where)
            if last < first:
                raise FamilyError(
                    f"the range of '{each.index}' is empty",
                    name=each.index,
                    place=where,
                    expected="a last value that is not below the first",
                    given=f"{first}..{last}",
                )
            loops.append(Loop(each.index, first, last))
        running = {loop.index for loop in loops}
        indices = []
        for index in target.indices:
            if index.op == "name" and str(index.args[0]) in running:
                indices.append(index)
            elif names_in(index) & running:
                raise FamilyError(
                    "an index on the left side is more than a plain one",
                    name=target.name,
                    place=where,
                    expected=f"{target.name}[i] on the left side",
                    given=statement.text[:80],
                )
            else:
                indices.append(number(self._whole(index, statement.left, where)))
        unused = running - {str(index.args[0]) for index in indices if index.value is None}
        if unused or len(running) < len(loops):
            raise FamilyError(
                "each range needs its index on the left side, once",
                name=", ".join(sorted(unused)),
                place=where,
                expected="u[i]' = … for i in 1..n",
                given=statement.text[:80],
            )
        return Rule(target.name, tuple(indices), tuple(loops), statement.right.node, where)

    def _whole(self, node: Node, written: Written, where: str) -> int:
        names = names_in(node)
        self.sizes |= names
        self._need(names, where)
        if not names <= set(self.values):
            return 1
        return whole(float(evaluate(node, self.values)), written.words(node) or written.source.text, where)

    def _need(self, names: set[str], where: str) -> None:
        """Refuse sizes that are still open."""
        unknown = tuple(sorted(names & set(self.parameters) - set(self.values)))
        if unknown:
            raise OpenParameterError(
                "the size of a family needs a value: " + ", ".join(f"'{n}'" for n in unknown),
                names=unknown,
                place=where,
                expected="values for all parameters that sizes and indices use",
            )
        foreign = names - set(self.parameters)
        if foreign:
            raise UndefinedNameError(
                "a size is no parameter: " + ", ".join(f"'{n}'" for n in sorted(foreign)),
                names=tuple(sorted(foreign)),
                place=where,
                expected="sizes made of whole numbers and parameters",
            )

    def _note_sizes(self, nodes: Iterable[Node]) -> None:
        known = set(self.parameters)
        for node in walk(*nodes):
            parts = node.operands if node.op == "at" else node.operands[:2] if node.op == SUM else ()
            for part in parts:
                used = {n for n in names_in(part) if BOUND not in n} & known
                self._need(used, "the equations")
                self.sizes |= used

    def model(self, found: _Gathered) -> Model:
        """Solve, write out, resolve families, and take the switches out."""
        orders = found.orders
        highest = [with_primes(base, order) for base, order in orders.items()]
        solved = self._solve(found, [label for label in highest if base_of(label) not in found.rate_rules])
        rates = {**found.rates, **solved}
        # derived quantities may use highest derivatives, which are formulas now
        derived = {key: replace_names(node, rates.get, {}) for key, node in found.derived.items()}
        rules = {
            key: [replace(rule, node=replace_names(rule.node, rates.get, {})) for rule in own]
            for key, own in found.derived_rules.items()
        }
        self._note_sizes([*rates.values(), *derived.values()])
        self._note_sizes([rule.node for own in (*rules.values(), *found.rate_rules.values()) for rule in own])
        formulas = write_out(derived)
        done: dict[Node, Node] = {}
        plain = {key: replace_names(node, formulas.get, done) for key, node in rates.items()}
        rules, rate_rules = (
            {
                key: tuple(replace(rule, node=replace_names(rule.node, formulas.get, done)) for rule in own)
                for key, own in group.items()
            }
            for group in (rules, found.rate_rules)
        )
        layout = layout_of(self._state_rules(orders, rate_rules), "the equations")
        own = {key: node for key, node in rules.items() if key not in orders}
        columns = {**{key: [Rule(key, (), (), node)] for key, node in formulas.items()}, **own}
        derived_layout = layout_of(columns, "the derived quantities")
        resolver = Resolver(layout, {key: self.values[key] for key in sorted(self.sizes) if key in self.values}, rules)
        blocks = _rate_blocks(orders, plain, rate_rules, layout, resolver)
        offsets = derived_layout.offsets
        derived_blocks = [single(resolver.single(node, key), offsets[key]) for key, node in formulas.items()]
        for key, group_rules in own.items():
            for rule in group_rules:
                derived_blocks += resolver.blocks(rule, _Places(derived_layout, key))
        exact = read_exact(self.said.exact, layout, self.parameters, self.findings)
        known = {resolver.single(node): key for key, node in formulas.items() if node.operands}
        return Model(
            layout,
            self.parameters,
            blocks,
            self.inputs,
            self._smooth(blocks, layout, known),
            derived_layout,
            tuple(derived_blocks),
            {},
            formulas,
            {key: formula.node for key, formula in exact.items()},
            self._reduced(orders, rates, found.rate_rules),
            tuple(self.statements),
            dict(resolver.constants),
            resolver,
            dict(orders),
        )

    def _solve(self, found: _Gathered, unknowns: list[str]) -> dict[str, Node]:
        open_ones = [label for label in unknowns if label not in found.rates]
        for label in open_ones:
            base = base_of(label)
            if base in found.derived:
                raise ExpressionError(
                    f"'{base}' is a derived quantity; its derivative cannot be used",
                    name=base,
                    place="the equations",
                    expected="derivatives of states",
                    given=label,
                )
        if not found.residuals and not open_ones:
            return {}
        # derived quantities that hold unknowns are written out, the others keep their names
        holding = dict(found.derived)
        formulas = write_out(holding)
        wanted = set(unknowns)
        carriers = {key: node for key, node in formulas.items() if names_in(node) & wanted}
        residuals = []
        for residual in found.residuals:
            node = replace_names(residual.node, carriers.get, {})
            residuals.append(replace(residual, node=replace_names(node, found.rates.get, {})))
        return solve_highest(residuals, open_ones)

    @staticmethod
    def _state_rules(orders: Mapping[str, int], rate_rules: Mapping[str, Sequence[Rule]]) -> dict[str, list[Rule]]:
        """Return the equations by state, lower derivatives included, in the order of the states."""
        states: dict[str, list[Rule]] = {}
        for base, order in orders.items():
            for k in range(order):
                rules = rate_rules.get(base, (Rule(base, (), (), number(0.0)),))
                states[with_primes(base, k)] = [replace(rule, name=with_primes(base, k)) for rule in rules]
        return states

    def _smooth(self, blocks: tuple[Block, ...], layout: Layout, known: Mapping[Node, str]) -> Smooth:
        return take_out(blocks, layout.scalars, self.inputs, known)

    def _reduced(
        self, orders: Mapping[str, int], rates: Mapping[str, Node], rate_rules: Mapping[str, Sequence[Rule]]
    ) -> tuple[tuple[str, Node, str], ...]:
        lines: list[tuple[str, Node, str]] = []
        for base, order in orders.items():
            alone = Rule(base, (), (), rates.get(with_primes(base, order), number(0.0)))
            for rule in rate_rules.get(base, ()) or [alone]:
                ranges = ", ".join(f"{loop.index} in {loop.first}..{loop.last}" for loop in rule.loops)
                for k in range(order):
                    last = k == order - 1
                    lower = with_primes(base, k)
                    left = Node("at", lower, *rule.indices) if rule.indices else name(lower)
                    above = with_primes(base, k + 1)
                    node = rule.node if last else Node("at", above, *rule.indices) if rule.indices else name(above)
                    lines.append((to_text(left), node, ranges))
        return tuple(lines)


@dataclass(frozen=True)
class _Places:
    """Where a rule's values go in a layout."""

    layout: Layout
    key: str

    def __call__(self, box: Box) -> tuple[int, tuple[int, ...]]:
        group = self.layout.by_name[self.key]
        base = self.layout.offsets[self.key]
        return base - sum(s * first for s, (first, _) in zip(group.strides, group.box, strict=True)), group.strides


def _rate_blocks(
    orders: Mapping[str, int],
    rates: Mapping[str, Node],
    rate_rules: Mapping[str, Sequence[Rule]],
    layout: Layout,
    resolver: Resolver,
) -> tuple[Block, ...]:
    blocks: list[Block] = []
    for base, order in orders.items():
        for k in range(order):
            lower, above = with_primes(base, k), with_primes(base, k + 1)
            if base not in rate_rules:
                node = rates[above] if k == order - 1 else name(above)
                blocks.append(single(resolver.single(node, above), layout.offsets[lower]))
                continue
            for rule in rate_rules[base]:
                moved = rule if k == order - 1 else replace(rule, node=Node("at", above, *rule.indices))
                blocks += resolver.blocks(moved, _Places(layout, lower))
    return tuple(blocks)
