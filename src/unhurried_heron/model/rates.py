"""The rates of a problem, written or a Python function: two things that answer the same questions."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OrderError
from unhurried_heron.formulas.differentiate import jacobian
from unhurried_heron.formulas.evaluate import filled
from unhurried_heron.formulas.expression import Node, names_in, walk
from unhurried_heron.formulas.layout import IndexedFormula, Layout, Loop, Values, flat_indices
from unhurried_heron.formulas.narrow_features import time_formulas
from unhurried_heron.formulas.operation import OWN_RULE
from unhurried_heron.formulas.operations import with_fact
from unhurried_heron.formulas.state_name import with_primes
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.model.additive_parts import AdditiveParts, linear_parts
from unhurried_heron.model.column_colouring import groups_of_columns
from unhurried_heron.model.function_trials import try_jacobian, try_rates, try_value
from unhurried_heron.model.functions import NamedFunction
from unhurried_heron.model.guards import Guard, guards_of
from unhurried_heron.model.mass_matrix import MassMatrix
from unhurried_heron.model.narrow import Narrow, narrow_formulas
from unhurried_heron.model.switch_types import FunctionSwitch, HeldSwitch, Switch

# Relative change of a state for a difference, the square root of rounding,
_NUDGE = 1.5e-8
# of states that are taken to be this large at least.
_SMALL = 1e-6
# Operations that have no value, or an infinite one, where something in them comes to zero.
_NO_NUMBER = with_fact(lambda each: each.ends != OWN_RULE and any(kind != "root" for kind, _ in each.ends))
Shown = tuple[tuple[str, Node, tuple[Loop, ...]], ...]


class Rates(Protocol):
    """What a problem asks its rates."""

    @property
    def layout(self) -> Layout:
        """The states."""

    @property
    def switches(self) -> Sequence[Switch]:
        """Where they jump or have a kink."""

    @property
    def left(self) -> tuple[str, ...]:
        """Conditions inside indexed states, which are not followed."""

    @property
    def known(self) -> bool:
        """Whether it is known which rate depends on which state."""

    @property
    def written(self) -> bool:
        """Whether they can be read."""

    def highest(self, orders: Mapping[str, int]) -> dict[str, Node]:
        """Return the highest derivatives of states that are no indexed states, as the formulas they equal."""

    def of_time(self, parameters: Iterable[str]) -> tuple[Node, ...]:
        """Return formulas of time and parameters alone that can vary narrowly."""

    def names(self) -> set[str]:
        """Return the names of parameters and inputs in them, as far as they can be read."""

    def shown(self) -> Shown:
        """Return the first-order equations as they are shown: left side, formula, ranges of indices.

        Raises
        ------
        OrderError
            They are a Python function.
        """

    def tried(self, time: float, start: Values, values: list[float], collector: ErrorCollector) -> Rates:
        """Return the rates after a first call, which shows their shape and kind of answer.

        Parameters
        ----------
        time : float
            In the unit of the problem's time.
        start : Mapping[str, float]
        values : list of float
            Values of the parameters.
        collector : ErrorCollector
            Gathers what is wrong.
        """

    def guards(self, in_time: Collection[str]) -> tuple[Guard, ...]:
        """Return the formulas that must not change their signs within a step; none of a function."""

    def narrow(self, parameters: Iterable[str]) -> tuple[Narrow, ...]:
        """Return the formulas that depend on states through one argument and can vary narrowly."""

    def at(self, time: Any, state: Any, around: Mapping[str, Any]) -> Array:
        """Return their values, shape (n_states,) or (rows, n_states) as ``state``, without compiling anything.

        Parameters
        ----------
        time : float or ndarray, shape (rows,)
        state : ndarray, shape (n_states,) or (rows, n_states)
        around : mapping of str to float or ndarray
            The value of every name that formulas use.
        """

    def jacobian_at(self, time: Any, state: Any, around: Mapping[str, Any]) -> Array:
        """Return d rates / d states, shape (n_states, n_states), of many rows (rows, …), likewise.

        Parameters
        ----------
        time : float or ndarray, shape (rows,)
        state : ndarray, shape (n_states,) or (rows, n_states)
        around : mapping of str to float or ndarray
            The value of every name that formulas use.
        """

    def pattern(self) -> Any:
        """Return where the Jacobian can be nonzero, a SciPy sparse matrix of booleans."""


@dataclass(frozen=True)
class WrittenRates:
    """Rates that are formulas.

    Attributes
    ----------
    layout : Layout
        The states.
    indexed_formulas : tuple of IndexedFormula
        Right-hand sides with derived names written out.
    held : tuple of IndexedFormula
        The same with jumps and kinks taken out.
    switches : tuple of HeldSwitch
        What was taken out.
    left : tuple of str
        Conditions inside indexed states, which are not followed.
    reduced : tuple of (str, Node, tuple of Loop)
        The first-order equations as they are shown.
    marked : pair of AdditiveParts, or None
        Their implicit and explicit parts and those of the held ones, where terms are marked.
    implied : tuple of str
        Algebraic states in whose places stands what their constraints miss, and whose rates follow from these.
    """

    layout: Layout
    indexed_formulas: tuple[IndexedFormula, ...]
    held: tuple[IndexedFormula, ...]
    switches: tuple[HeldSwitch, ...] = ()
    left: tuple[str, ...] = ()
    reduced: Shown = ()
    marked: tuple[AdditiveParts, AdditiveParts] | None = None
    implied: tuple[str, ...] = ()
    known = written = True

    def __getstate__(self) -> dict[str, Any]:
        # a run is pickled with its problem: what is as usual is left out
        values = {each.name: getattr(self, each.name) for each in fields(self)}
        return {each.name: values[each.name] for each in fields(self) if values[each.name] != each.default}

    def highest(self, orders: Mapping[str, int]) -> dict[str, Node]:
        by_place = {formula.base: formula.node for formula in self.indexed_formulas if not formula.loops}
        one_order_up = {with_primes(base, order): with_primes(base, order - 1) for base, order in orders.items()}
        lower = {
            higher: self.layout.scalars[below] for higher, below in one_order_up.items() if below in self.layout.scalars
        }
        return {higher: by_place[index] for higher, index in lower.items() if index in by_place}

    def of_time(self, parameters: Iterable[str]) -> tuple[Node, ...]:
        return time_formulas([formula.node for formula in self.held], parameters) if self.held else ()

    def names(self) -> set[str]:
        return {name for formula in self.indexed_formulas for name in names_in(formula.node)}

    def shown(self) -> Shown:
        return self.reduced

    def tried(self, *_: Any) -> WrittenRates:
        return self

    def guards(self, in_time: Collection[str]) -> tuple[Guard, ...]:
        return guards_of(self.indexed_formulas, self.layout, in_time)

    def narrow(self, parameters: Iterable[str]) -> tuple[Narrow, ...]:
        return narrow_formulas(self.held, self.layout, parameters)

    @property
    def parts(self) -> tuple[AdditiveParts, AdditiveParts]:
        """Their implicit and explicit parts, and those of the held ones: marked or linear terms, and the others."""
        return self.marked or (linear_parts(self.indexed_formulas, self.layout), linear_parts(self.held, self.layout))

    @cached_property
    def can_be_no_number(self) -> bool:
        """Whether a quotient or a logarithm stands in the formulas."""
        return any(node.op in _NO_NUMBER for node in walk(*(formula.node for formula in self.indexed_formulas)))

    def at(self, time: Any, state: Any, around: Mapping[str, Any]) -> Array:  # around has the time
        rates: Array = filled(self.indexed_formulas, self.layout.size, around, state.shape[:-1])
        return rates

    def jacobian_at(self, time: Any, state: Any, around: Mapping[str, Any]) -> Array:  # as above
        n, rows = self.layout.size, state.shape[:-1]
        entries: Array = filled(jacobian(self.indexed_formulas, self.layout), n * n, around, rows)
        return entries.reshape(*rows, n, n)

    def pattern(self) -> Any:
        from scipy.sparse import csr_array

        n = self.layout.size
        found = []
        for formula in jacobian(self.indexed_formulas, self.layout):
            strides = dict(zip((loop.index for loop in formula.loops), formula.strides, strict=True))
            found.append(flat_indices(formula.loops, formula.base, strides))
        if self.implied:
            found.append((self.layout.indices_of_all(self.implied)[:, None] * n + np.arange(n)).ravel())
        together = np.unique(np.concatenate(found)) if found else np.empty(0, dtype=np.int64)
        rows, columns = together // max(n, 1), together % max(n, 1)
        return csr_array((np.ones(together.size, dtype=bool), (rows, columns)), shape=(n, n))


@dataclass(frozen=True)
class FunctionRates:
    """Rates that are a Python function.

    Attributes
    ----------
    layout : Layout
        The states.
    function : NamedFunction
        The rates.
    jacobian : NamedFunction, or None
        A Jacobian of the user's own.
    sparsity : matrix of booleans, or None
        Where the Jacobian can be nonzero, as far as it was said.
    switches : tuple of Switch
        What the user said beside it.
    called : bool
        Whether the functions have been called once, which tells what they return.
    implied : MassMatrix, or None
        A diagonal before y' whose zeros make constraints, where these states are to have rates by numbers.
    """

    layout: Layout
    function: NamedFunction
    jacobian: NamedFunction | None = None
    sparsity: Any = field(default=None, compare=False)
    switches: tuple[Switch, ...] = ()
    called: bool = False
    implied: MassMatrix | None = field(default=None, compare=False)
    left = ()
    written = False

    @property
    def known(self) -> bool:
        return self.sparsity is not None

    def highest(self, orders: Mapping[str, int]) -> dict[str, Node]:  # a function has no formulas
        return {}

    def of_time(self, parameters: Iterable[str]) -> tuple[Node, ...]:  # a function has no formulas
        return ()

    def names(self) -> set[str]:
        return set()

    def shown(self) -> Shown:
        raise OrderError(
            "the rates of this problem are a Python function",
            name=self.function.label,
            location="first_order",
            expected="a problem of written equations",
            given=self.function.label,
        )

    def tried(self, time: float, start: Values, values: list[float], collector: ErrorCollector) -> FunctionRates:
        if self.called:
            return self
        rates = self.function
        with collector.gathering():
            rates = try_rates(rates, time, start, values)
        with collector.gathering():
            if self.jacobian is not None:
                try_jacobian(self.jacobian, time, start, values)
        for switch in self.switches:
            with collector.gathering():
                if isinstance(switch, FunctionSwitch):
                    try_value(switch.function, time, start, values)
        return replace(self, function=rates, called=True)

    def guards(self, in_time: Collection[str]) -> tuple[Guard, ...]:  # a function has no formulas
        return ()

    def narrow(self, parameters: Iterable[str]) -> tuple[Narrow, ...]:  # a function has no formulas
        return ()

    def at(self, time: Any, state: Any, around: Mapping[str, Any]) -> Array:
        call = self.function.caller([around[name] for name in self.function.parameters], interpreted=True)
        found = []
        for when, row in zip(np.ravel(time).tolist(), np.atleast_2d(state), strict=True):
            with np.errstate(all="ignore"):
                answer = call(when, row.copy())
            found.append(self.function.flat(answer))
        return np.array(found, dtype=np.float64).reshape(state.shape)

    def jacobian_at(self, time: Any, state: Any, around: Mapping[str, Any]) -> Array:
        n = self.layout.size
        if self.jacobian is not None:
            own = self.jacobian.caller([around[name] for name in self.jacobian.parameters], interpreted=True)
            rows = zip(np.ravel(time).tolist(), np.atleast_2d(state), strict=True)
            return np.array([own(when, row.copy()) for when, row in rows], dtype=np.float64).reshape(*state.shape, n)
        base = self.at(time, state, around)
        matrix = np.empty((*state.shape, n))
        for k in range(n):
            change, step = self._difference(k, time, state, around, base)
            matrix[..., k] = change / step[..., None]
        return matrix

    def entries_at(self, time: float, state: Array, around: Mapping[str, Any]) -> Any:
        """Return d rates / d states at one point as a sparse array, by as few differences as the pattern asks for.

        Parameters
        ----------
        time : float
        state : ndarray, shape (n_states,)
        around : mapping of str to float
            The value of every name that formulas use.

        Returns
        -------
        csr_array
        """
        from scipy.sparse import csr_array

        if self.jacobian is not None or self.sparsity is None:
            return csr_array(self.jacobian_at(time, state, around))
        n, base = state.size, self.at(time, state, around)
        rows, columns = self.pattern().nonzero()
        group, entries = groups_of_columns(n, rows, columns), np.zeros(rows.size)
        steps = np.ones(n)
        for each in range(int(group.max(initial=-1)) + 1):
            own = group == each
            change, steps[own] = self._difference(own, time, state, around, base)
            here = own[columns]
            entries[here] = change[rows[here]] / steps[columns[here]]
        found = csr_array((entries, (rows, columns)), shape=(n, n))
        found.eliminate_zeros()
        return found

    def _difference(self, which: Any, time: Any, state: Any, around: Mapping[str, Any], base: Any) -> tuple[Any, Any]:
        """Return how much the rates change where states are moved a little, and by how much those are moved.

        Parameters
        ----------
        which : int or ndarray of bool, shape (n_states,)
            The states.
        time : float or ndarray, shape (rows,)
        state : ndarray, shape (n_states,) or (rows, n_states)
        around : mapping of str to float or ndarray
            The value of every name that formulas use.
        base : ndarray, shape of ``state``
            The rates there.

        Returns
        -------
        (ndarray, shape of ``state``; ndarray)
        """
        here = state[..., which]

        def moved(side: float) -> tuple[Any, Any]:
            there = np.array(state)
            there[..., which] += side * _NUDGE * np.maximum(np.abs(here), _SMALL)
            return self.at(time, there, around) - base, there[..., which] - here

        try:
            return moved(1.0)
        except Exception:
            # functions may refuse what lies beyond, as a root does: on this side they need not
            return moved(-1.0)

    def pattern(self) -> Any:
        from scipy.sparse import csr_array

        n = self.layout.size
        return csr_array(np.ones((n, n), dtype=bool) if self.sparsity is None else self.sparsity)
