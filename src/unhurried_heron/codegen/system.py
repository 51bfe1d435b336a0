"""The native side of one problem: one object that owns all memory behind the addresses the kernels call."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.codegen.clamp import clamped
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.crossing_functions import (
    CrossingFunctions,
    compile_crossing_functions,
    native_function,
    native_watched,
    ready_of,
)
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.runtime_data import RuntimeData, context_of
from unhurried_heron.codegen.watched_formulas import NativeManifold, native_guards, native_manifold
from unhurried_heron.errors import HeronError, unforeseen
from unhurried_heron.formulas.expression import Node
from unhurried_heron.formulas.layout import IndexedFormula, single
from unhurried_heron.input.event import Event
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.model.action import modes_of
from unhurried_heron.model.closed_forms import with_starting_values
from unhurried_heron.model.indexed_rules import Rule
from unhurried_heron.model.model import Watched
from unhurried_heron.model.rates import FunctionRates, WrittenRates
from unhurried_heron.model.switch_types import HeldSwitch, Switch
from unhurried_heron.model.time_switches import RunSwitches
from unhurried_heron.problem.problem import Problem


@dataclass(frozen=True)
class NativeSystem:
    """Rates, Jacobian, events and switches of a problem as native functions; keep it alive while a kernel runs.

    Attributes
    ----------
    jacobian : NativeFunction, or None
        None where it must be found by differences.
    implicit, explicit : NativeFunction, or None
        The two parts of the rates, for an additive method.
    product : NativeFunction, or None
        The Jacobian times a vector, which stands behind the state; None where it is a difference of the rates.
    time_derivative : NativeFunction, or None
        The partial derivative of the rates by the time; None where that is found by differences.
    moves : bool
        Whether the rates may depend on the time.
    context : RuntimeData
        Parameters, switches, and addresses of tables: what all functions share.
    located : tuple of Switch
        Switches found during the march, in the order of ``watched``.
    limits : ndarray, shape (2,), or None
        Between which times a Python function may be asked.
    entries : tuple of two ndarrays of int64, or None
        Row and column of each number of the Jacobian; None where it is a full matrix, row by row.
    beyond : CrossingFunctions, or None
        What is called where the march stops on its way; None where it does not.
    guards : NativeFunction, or None
        What must not change its sign across a pole (`model.guards`), and ``n_arguments`` of what is narrow
        (`model.narrow`); None where there is nothing.
    manifold : NativeManifold, or None
        What is zero all along (`Model.manifold`).
    held : bool
        Whether the march holds the switches and crosses them one by one.
    """

    rates: NativeFunction
    jacobian: NativeFunction | None
    time_derivative: NativeFunction | None
    moves: bool
    events: tuple[NativeFunction, ...]
    watched: tuple[NativeFunction, ...]
    context: RuntimeData
    located: tuple[Switch, ...] = ()
    limits: Array | None = None
    entries: tuple[IntArray, IntArray] | None = None
    beyond: CrossingFunctions | None = None
    guards: NativeFunction | None = None
    n_arguments: int = 0
    manifold: NativeManifold | None = None
    held: bool = True
    product: NativeFunction | None = None
    implicit: NativeFunction | None = None
    explicit: NativeFunction | None = None

    def addresses(self) -> tuple[int, ...]:
        """Return the addresses of rates, Jacobian and time derivative with their contexts, 0 without; ``moves``."""
        functions = (self.rates, self.jacobian, self.time_derivative)
        pairs = [(each.address, each.context_address) if each else (0, 0) for each in functions]
        return (*pairs[0], *pairs[1], *pairs[2], int(self.moves))

    def event_addresses(self) -> np.ndarray:
        """Return one row (address, context) for each event and located switch, int64 (m, 2)."""
        rows = [[event.address, event.context_address] for event in (*self.events, *self.watched)]
        return np.array(rows, dtype=np.int64).reshape(-1, 2)

    def raise_pending(self, time: float) -> None:
        """Raise the exception of whichever of the user's functions stopped a march.

        Raises
        ------
        BaseException
            Whatever it was; a `HeronError` if no function tells why.
        """
        named = [(self.rates, "rates"), *([(self.jacobian, "the Jacobian")] if self.jacobian else [])]
        named += [(self.time_derivative, "the time derivative")] if self.time_derivative else []
        named += [(event, "an event function") for event in self.events]
        named += [(switch, "a switch function") for switch in self.watched]
        named += self.beyond.named() if self.beyond else []
        for function, what in named:
            function.raise_pending(what)
        raise HeronError("a native function stopped the run without saying why", location=f"t = {time:.12g}")


def native_system(
    problem: Problem, events: tuple[Event, ...], *, held: bool = True, run_switches: RunSwitches | None = None
) -> NativeSystem:
    """Make a problem callable, without Jacobian; what was compiled before for the same structure is used again.

    Parameters
    ----------
    problem : Problem
    events : tuple[Event, ...]
    held : bool, optional
        Whether the march holds the switches and crosses them one by one.
    run_switches : RunSwitches, optional
        Those of the run, without times where they are located on the way; by default all.

    Returns
    -------
    NativeSystem

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    model, rates = problem.model, problem.model.rates
    modes = modes_of(model, events, problem.units)
    found = run_switches or RunSwitches(problem.switches_beside(modes), problem.time_switches(modes))
    found, switches = (found, found.all) if held else (RunSwitches(), ())
    context = context_of(problem)
    names = context.names(model.layout, held=held)
    own = tuple(switch for switch in switches if switch.times is None)
    limits = None
    if isinstance(rates, WrittenRates):
        guarded = plain_formulas(rates, own, held=held)
        indexed_formulas = rates.held if held else rates.indexed_formulas
        made = compiled(indexed_formulas, model.layout.size, names, context.array, guarded=guarded)
    else:
        if not isinstance(rates, FunctionRates):
            raise unforeseen("a function asked of rates that are formulas")
        made = native_function(rates.function, context, model.layout.size)
        if any(switch.times is not None for switch in switches):
            limits = np.array([-np.inf, np.inf])
            made = clamped(made, limits)
    events_context = context.names(model.layout, held=False)
    watched = ready_of((model.watch(event, problem.units) for event in events), model.layout)
    located = ready_of((switch.watched for switch in own), model.layout)
    return NativeSystem(
        rates=made,
        jacobian=None,
        time_derivative=None,
        moves=True,
        events=native_watched(watched, events_context, context),
        watched=native_watched(located, names, context),
        context=context,
        located=own,
        limits=limits,
        beyond=compile_crossing_functions(problem, events, (watched, located), found, modes, context),
        guards=native_guards(problem, context),
        n_arguments=len(model.narrow),
        manifold=native_manifold(problem, context, held=held),
        held=held,
    )


def _plain(problem: Problem, indexed_formulas: tuple[IndexedFormula, ...], size: int) -> NativeFunction:
    """Compile formulas in which nothing is held.

    Parameters
    ----------
    problem : Problem
    indexed_formulas : tuple[IndexedFormula, ...]
    size : int
        How many numbers are written.

    Returns
    -------
    NativeFunction
    """
    context = context_of(problem)
    made = compiled(indexed_formulas, size, context.names(problem.model.layout, held=False), context.array)
    return replace(made, keep=(*made.keep, context))


def native_derived(problem: Problem) -> NativeFunction:
    """Return a native function of the written derived quantities, in order."""
    return _plain(problem, problem.model.derived, problem.model.derived_layout.size)


def native_members(problem: Problem, rule: Rule) -> NativeFunction:
    """Return a native function of the values of a rule, one for each of its members."""
    return _plain(problem, problem.model.one_behind_another([rule]), rule.size)


def native_queries(problem: Problem, queries: Event | str | Node) -> NativeFunction:
    """Return a native function of one number: what an event looks at, or a formula."""
    model, context = problem.model, context_of(problem)
    found: Watched
    if isinstance(queries, Node):
        found = queries
    else:
        found = (
            model.watch(queries, problem.units) if isinstance(queries, Event) else model.read_formula(queries, queries)
        )
    (made,) = native_watched(ready_of([found], model.layout), context.names(model.layout, held=False), context)
    return replace(made, keep=(*made.keep, context))


def native_exact(problem: Problem) -> NativeFunction:
    """Return a native function of the closed forms, in the order they were given."""
    model, start = problem.model, problem.start
    exact = [with_starting_values(node, model.layout, problem.parameters, start) for node in model.exact.values()]
    return _plain(problem, tuple(single(node, index) for index, node in enumerate(exact)), len(exact))


def exact_rows(problem: Problem, times: Array) -> dict[str, Array]:
    """Return the closed forms at times, by state, shape (n_times,) each; nothing where there are none."""
    names = tuple(problem.model.exact)
    if not names:
        return {}
    values = evaluate_rows(native_exact(problem), times, np.zeros((times.size, problem.model.layout.size)))
    found = np.full((times.size, len(names)), np.nan)
    found[: len(values)] = values
    return dict(zip(names, found.T, strict=True))


def plain_formulas(rates: WrittenRates, located: tuple[Switch, ...], *, held: bool) -> tuple[IndexedFormula, ...]:
    """Return what is asked where a held formula gives no number; nothing where none is held.

    At a known time itself a formula that is held for what lies beyond it may be 0/0, which its condition avoids.

    Parameters
    ----------
    rates : WrittenRates
    located : tuple[Switch, ...]
    held : bool
        Whether the march holds the switches and crosses them one by one.

    Returns
    -------
    tuple[IndexedFormula, ...]
    """
    if not held:
        return ()
    known = any(switch.kind == "jump" for switch in rates.switches) and rates.can_be_no_number
    return rates.indexed_formulas if known or any(isinstance(switch, HeldSwitch) for switch in located) else ()
