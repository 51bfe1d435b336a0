"""The structure of a problem without its values: what is compiled once and shared by changed copies."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Any, TypeVar

from unhurried_heron.formulas.expression import ONE, Node, names_in, replace_names
from unhurried_heron.formulas.layout import Group, IndexedFormula, Layout
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.input.equation_lines import EquationLine
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured_rates import measured_names, rates_in_time
from unhurried_heron.input.names import check_defined, in_order
from unhurried_heron.model.complex_states import ComplexStates
from unhurried_heron.model.functions import NamedFunction, match_arguments
from unhurried_heron.model.guards import Guard
from unhurried_heron.model.indexed import Resolver
from unhurried_heron.model.indexed_rules import Rule
from unhurried_heron.model.mass_matrix import MassMatrix
from unhurried_heron.model.narrow import Narrow
from unhurried_heron.model.rates import Rates
from unhurried_heron.model.switch_types import RootSwitch
from unhurried_heron.model.transformation import FirstOrder, Transformation
from unhurried_heron.units.quantities import number_for

Watched = Node | NamedFunction
Kind = TypeVar("Kind", bound=Transformation)
# Entries of the memory of a model, after which it is emptied.
_MAX_REMEMBERED = 20_000
# What followed from values of parameters is kept for this many values.
_MAX_LATELY = 32


@dataclass(frozen=True)
class Model:
    """The structure of a problem without its values.

    Attributes
    ----------
    layout : Layout
        The states.
    parameters, inputs : tuple of str
        Names in order.
    rates : Rates
        Right-hand sides: formulas, or a Python function.
    derived_layout, derived : Layout, tuple of IndexedFormula
        Derived quantities, written out in terms of time, states, parameters and inputs.
    functions : dict of str to NamedFunction
        Derived quantities given as Python functions.
    formulas : dict of str to Node
        The derived quantities that are no indexed states, for use in events.
    exact : dict of str to Node
        Closed forms of some states, in terms of time and parameters.
    statements : tuple of EquationLine
        What the user wrote.
    sizes : dict of str to float
        Values of the parameters that the structure depends on.
    transformations : tuple of Transformation
        What it was made by, in this order: equations of motion, complex states, reduction to first order, sliding.
    mass : MassMatrix, or None
        M of M y' = rates; None where it is the identity.
    """

    layout: Layout
    parameters: tuple[str, ...]
    rates: Rates
    inputs: tuple[str, ...] = ()
    derived_layout: Layout = field(default_factory=lambda: Layout(()))
    derived: tuple[IndexedFormula, ...] = ()
    functions: Mapping[str, NamedFunction] = field(default_factory=dict)
    formulas: Mapping[str, Node] = field(default_factory=dict)
    exact: Mapping[str, Node] = field(default_factory=dict)
    statements: tuple[EquationLine, ...] = ()
    sizes: Mapping[str, float] = field(default_factory=dict)
    resolver: Resolver = field(default_factory=lambda: Resolver(Layout(())))
    transformations: tuple[Transformation, ...] = ()
    mass: MassMatrix | None = field(default=None, compare=False)

    def watch(self, event: Event, units: Mapping[str, str]) -> Watched:
        """Return the expression or function whose sign change is the event; of known times a constant.

        Raises
        ------
        ExpressionError, UndefinedNameError, UnitError, RateFunctionError
        """
        for each in self.transformations:
            own = each.watched(event)
            if own is not None:
                return own
        if event.when is None:
            return ONE
        if callable(event.when):
            return match_arguments(event.when, self.layout, self.parameters)
        location = f"the event '{event.name}'"
        found: Node = self.remembered(
            (event, *units.items()), lambda: self.written_out(self.read_event(event, units).node, location)
        )
        return found

    def remembered(self, key: tuple[Any, ...], make: Callable[[], Any]) -> Any:
        """Return what was made before for a key, or make it."""
        if key not in self._remembered:
            if len(self._remembered) >= _MAX_REMEMBERED:
                self._remembered.clear()
            self._remembered[key] = make()
        return self._remembered[key]

    def lately(self, key: tuple[Any, ...], make: Callable[[], Any]) -> Any:
        """Return what follows from values, as `remembered` does, of the last few values alone."""
        found = self._lately
        if key not in found:
            if len(found) >= _MAX_LATELY:
                found.clear()
            found[key] = make()
        return found[key]

    @cached_property
    def kept(self) -> dict[Any, Any]:
        """What other rooms derived from the model and keep as long as it lives; neither pickled nor copied."""
        return {}

    @cached_property
    def requests(self) -> dict[Any, Any]:
        """Calls that were checked before, as `kept` is."""
        return {}

    def __getstate__(self) -> dict[str, Any]:
        return {each.name: getattr(self, each.name) for each in fields(self)}

    @cached_property
    def _remembered(self) -> dict[tuple[Any, ...], Any]:
        """What was read before, as of events: every run of every changed copy asks for it."""
        return {}

    @cached_property
    def _lately(self) -> dict[tuple[Any, ...], Any]:
        """What followed from values of parameters; a loop over runs brings others with every run."""
        return {}

    @cached_property
    def of_time(self) -> tuple[Node, ...]:
        """Formulas of time and parameters alone that can vary narrowly."""
        return self.rates.of_time(self.parameters)

    @cached_property
    def names_of_time(self) -> tuple[str, ...]:
        """The names in these formulas, in alphabetical order."""
        return tuple(sorted({named for formula in self.of_time for named in names_in(formula)}))

    @property
    def resting_roots(self) -> tuple[RootSwitch, ...]:
        """The roots in the rates that count as zero below a width."""
        for each in self.transformations[::-1]:
            own = each.resting_roots()
            if own is not None:
                return own
        return tuple(each for each in self.rates.switches if isinstance(each, RootSwitch))

    @cached_property
    def manifold(self) -> tuple[IndexedFormula, ...]:
        """Formulas that are zero all along, behind one another: the march keeps states where they are."""
        return self._manifold(held=False)

    @cached_property
    def held_manifold(self) -> tuple[IndexedFormula, ...]:
        """The same with jumps and kinks taken out."""
        return self._manifold(held=True)

    def _manifold(self, *, held: bool) -> tuple[IndexedFormula, ...]:
        found, first = list[IndexedFormula](), 0
        for own in (each.manifold(self, held=held) for each in self.transformations):
            found += (replace(formula, base=formula.base + first) for formula in own)
            first += sum(formula.turns for formula in own)
        return tuple(found)

    def one_behind_another(self, rules: Iterable[Rule]) -> tuple[IndexedFormula, ...]:
        """Return the values of rules as formulas whose numbers go behind one another."""
        found, first = list[IndexedFormula](), 0
        for rule in rules:
            group = Group(rule.name, rule.box())
            base = first - sum(step * begin for step, (begin, _) in zip(group.strides, group.box, strict=True))
            where = base, group.strides
            found += self.resolver.indexed_formulas(rule, lambda _, where=where: where)  # type: ignore[misc]  # bound
            first += group.size
        return tuple(found)

    @cached_property
    def n_manifold(self) -> int:
        """How many these are."""
        return sum(each.turns for each in self.manifold)

    @cached_property
    def guards(self) -> tuple[Guard, ...]:
        """What must not change its sign within a step: denominators, and the arguments of logarithms and roots."""
        return self.rates.guards(rates_in_time(self.inputs))

    @cached_property
    def narrow(self) -> tuple[Narrow, ...]:
        """Formulas that depend on states through one argument and can vary narrowly."""
        return self.rates.narrow(self.parameters)

    def read_event(self, event: Event, units: Mapping[str, str]) -> Formula:
        """Read the equation of an event, its quantities turned into plain numbers, and check its names."""
        states = {group.name for group in self.layout.groups}

        def plain(value: float, unit: str, beside: str) -> float:
            return number_for(value, unit, beside, units, states, f"the event '{event.name}'")

        written = event.read(plain)
        check_defined({event.name: written}, self.known, "an event")
        return written

    def read_formula(self, text: str, location: str) -> Node:
        """Read a formula of time, states, parameters and derived quantities.

        Raises
        ------
        ExpressionError, UndefinedNameError, IndexedStateError
        """
        written = read(Source(text, location))
        check_defined({location: written}, self.known, "a formula")
        return self.written_out(written.node, location)

    @property
    def known(self) -> list[str]:
        """Names that mean something in a formula about a solution."""
        known = [*self.layout.by_name, *self.parameters, *self.formulas, *self.derived_layout.by_name]
        known += sorted(measured_names(self.inputs))
        return [*known, *(name for each in self.transformations for name in each.known(self))]

    def written_out(self, node: Node, location: str = "") -> Node:
        """Return a tree with derived names replaced by their formulas, and members of indexed states by their indices.

        Raises
        ------
        IndexedStateError
        """
        return self._resolved(node, location, self.transformations)

    def _resolved(self, node: Node, location: str, transformations: Iterable[Transformation]) -> Node:
        for each in transformations:
            node = each.formula(self, node, location)
        # formulas of derived quantities are in terms of the model already
        return self.resolver.single(replace_names(node, self.formulas.get, {}), location)

    def parts_written_out(self, node: Node, location: str = "") -> tuple[Node, Node]:
        """Return the real and the imaginary part of a formula, written out as by `written_out`.

        Raises
        ------
        ExpressionError, IndexedStateError
        """
        parts = self.complex_states.parts(node, location)
        others = [each for each in self.transformations if not isinstance(each, ComplexStates)]
        real, imaginary = (self._resolved(part, location, others) for part in parts)
        return real, imaginary

    def made_by(self, kind: type[Kind]) -> Kind | None:
        """Return the transformation of a kind by which the model was made; None without."""
        return next((each for each in self.transformations[::-1] if isinstance(each, kind)), None)

    @property
    def whole(self) -> Model:
        """The model of the motion along no switch."""
        found = self
        for each in self.transformations[::-1]:
            found = each.whole(found)
        return found

    @cached_property
    def complex_states(self) -> ComplexStates:
        """Which of the states and derived quantities are pairs of real numbers."""
        return self.made_by(ComplexStates) or ComplexStates()

    @cached_property
    def orders(self) -> Mapping[str, int]:
        """How many derivatives of each state are states, itself included."""
        return (self.made_by(FirstOrder) or FirstOrder()).orders

    @cached_property
    def highest(self) -> dict[str, Node]:
        """The highest derivatives of states that are no indexed states, as the formulas they equal."""
        return self.rates.highest(self.orders)


def write_out(derived: Mapping[str, Node]) -> dict[str, Node]:
    """Return derived quantities in terms of time, states and parameters only.

    Raises
    ------
    CircularDerivedError
    """
    ready: dict[str, Node] = {}
    done: dict[Node, Node] = {}
    for key, node in in_order(derived).items():
        ready[key] = replace_names(node, ready.get, done)
    return {key: ready[key] for key in derived}
