"""What a march watches, and what is called where it stops on its way: events, switches, what changes there."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from unhurried_heron.codegen.compile_formulas import compiled, compiled_each
from unhurried_heron.codegen.expression_ir import SymbolTable
from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.deadline import check_deadline
from unhurried_heron.formulas.layout import Layout, single
from unhurried_heron.formulas.template import Filled, as_template
from unhurried_heron.input.event import GOING, Event
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.model.action import Acting, FunctionAction, action_of, condition
from unhurried_heron.model.functions import NamedFunction, is_compiled
from unhurried_heron.model.model import Watched
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.model.switch_types import HeldSwitch, Switch, WholeSwitch
from unhurried_heron.model.time_derivatives import SolutionDerivatives, can_break, solution_derivatives, swings
from unhurried_heron.model.time_switches import RunSwitches
from unhurried_heron.problem.problem import Problem

# how a watched formula must change: a held switch ends where its formula falls below zero
LEAVES = 2
# The code of a function that is watched in both directions.
_EITHER = 0
# What an event does to its step, as `kernels.memory.control` has it: it ends the run,
ENDS = 1
# or it changes something.
ACTS = 2


# a formula with what fills its template, or a function of the user
Ready = Filled | NamedFunction
_Derived = Callable[[SolutionDerivatives, Filled], Filled | None]


@dataclass(frozen=True)
class CrossingFunctions:
    """The compiled functions that a march calls at crossings: known times, switches and events.

    Attributes
    ----------
    switches : tuple of Switch
        All of the run.
    actions : tuple of NativeFunction or None
        What the events change, in their order.
    targets : tuple of ndarray of int64
        Where the answers of each go: indices of states, or n_states and the slot of a parameter.
    conditions : tuple of NativeFunction or None
        Under which the events happen.
    gaps, lives : dict of str to NativeFunction
        By the slot of a switch: its formula with the other switches held, and its value with no switch held.
    lines : dict of int to (NativeFunction, NativeFunction)
        By the index of a switch that is linear in the time: its formula with the other switches held, and its
        derivative by the time.
    arguments : tuple of NativeFunction
        Of the roots that rest (`Model.resting_roots`), in which nothing is held.
    modes : tuple of int
        Slots of the parameters that events change.
    derivatives : tuple of NativeFunction or None
        Derivatives along the solution of the functions of events and located switches; None where the function is
        searched in every step.
    speeds : tuple of NativeFunction or None
        How fast the sines and cosines in them turn.
    breaks : ndarray of int64
        Of each event and located switch, whether it is an equation whose formula can jump over zero.
    """

    switches: tuple[Switch, ...]
    actions: tuple[NativeFunction | None, ...]
    targets: tuple[np.ndarray, ...]
    conditions: tuple[NativeFunction | None, ...]
    gaps: dict[str, NativeFunction]
    lives: dict[str, NativeFunction]
    lines: dict[int, tuple[NativeFunction, NativeFunction]]
    arguments: tuple[NativeFunction, ...]
    modes: tuple[int, ...]
    derivatives: tuple[NativeFunction | None, ...]
    speeds: tuple[NativeFunction | None, ...]
    breaks: np.ndarray

    def named(self) -> list[tuple[NativeFunction, str]]:
        """Return the functions with what messages call them."""
        acting = [(each, "what an event changes") for each in self.actions if each]
        return [*acting, *((each, "the condition of an event") for each in self.conditions if each)]


def compile_crossing_functions(
    problem: Problem,
    events: tuple[Event, ...],
    watched: tuple[Sequence[Ready], Sequence[Ready]],
    switches: RunSwitches,
    modes: tuple[str, ...],
    context: RuntimeData,
) -> CrossingFunctions:
    """Make what is called where the march stops on its way.

    Parameters
    ----------
    problem : Problem
    events : tuple[Event, ...]
    watched : (sequence of Ready, sequence of Ready)
        What is watched of the events, and of the located switches.
    switches : RunSwitches
    modes : tuple of str
        Parameters that events change.
    context : RuntimeData

    Returns
    -------
    CrossingFunctions
    """
    model, held = problem.model, [switch for switch in switches.all if isinstance(switch, HeldSwitch)]
    within, live = context.names(model.layout, held=True), context.names(model.layout, held=False)
    needed = [switch for switch in held if switch.times is None and (switch.nested or isinstance(switch, WholeSwitch))]
    acting = [action_of(model, event, problem.units) for event in events]
    gaps = compiled_each(tuple(switch.gap for switch in needed), within, context.array)
    lives = compiled_each(tuple(switch.as_number for switch in held), live, context.array)
    lines = [each for each in switches.follow if each is not None and each.gap is not None]
    pairs = [node for each in lines for node in (each.gap, each.growth) if node is not None]
    compiled_lines = compiled_each(pairs, within, context.array)
    conditions = [condition(model, event) for event in events]
    looked_at, located = watched

    def made_of(what: _Derived) -> tuple[NativeFunction | None, ...]:
        return (*_derived(what, looked_at, problem, live, context), *_derived(what, located, problem, within, context))

    allowed = ready_of((each for each in conditions if each is not None), model.layout)
    made = iter(native_watched(allowed, live, context))
    return CrossingFunctions(
        switches=switches.all,
        actions=tuple(_native_action(each, live, context) for each in acting),
        targets=tuple(_targets(each, model.layout.size, context) for each in acting),
        conditions=tuple(None if each is None else next(made) for each in conditions),
        gaps={switch.slot: gap for switch, gap in zip(needed, gaps, strict=True)},
        lives={switch.slot: value for switch, value in zip(held, lives, strict=True)},
        lines={each.index: (compiled_lines[2 * k], compiled_lines[2 * k + 1]) for k, each in enumerate(lines)},
        arguments=compiled_each([root.argument for root in model.resting_roots], live, context.array),
        modes=tuple(context.parameters.index(name) for name in modes),
        derivatives=made_of(_time_derivative),
        speeds=made_of(SolutionDerivatives.phase_speed),
        breaks=np.array(
            [
                *(
                    event.is_equation and not isinstance(each, NamedFunction) and can_break(each.template.node)
                    for event, each in zip(events, looked_at, strict=True)
                ),
                *(False for _ in located),
            ],
            dtype=np.int64,
        ),
    )


def _time_derivative(derivatives: SolutionDerivatives, formula: Filled) -> Filled | None:
    """Return the derivative along the solution; None where the formula swings with time, too, and is looked at."""
    return None if swings(formula.template.node) else derivatives.derivative(formula)


def _derived(
    what: _Derived, watched: Sequence[Ready], problem: Problem, names: SymbolTable, context: RuntimeData
) -> list[NativeFunction | None]:
    """Compile what is worked out of each of the written formulas.

    Parameters
    ----------
    what : _Derived
        What is derived of each.
    watched : Sequence[Ready]
    problem : Problem
    names : SymbolTable
    context : RuntimeData

    Returns
    -------
    list[NativeFunction | None]
    """
    found: list[Filled | None] = [None] * len(watched)
    if isinstance(problem.model.rates, WrittenRates):
        derivatives = solution_derivatives(problem.model, held=names.held)
        for position, each in enumerate(watched):
            check_deadline()
            if not isinstance(each, NamedFunction):
                found[position] = what(derivatives, each)
    made = iter(compiled_each([each for each in found if each is not None], names, context.array))
    return [None if each is None else next(made) for each in found]


def _native_action(action: Acting | None, names: SymbolTable, context: RuntimeData) -> NativeFunction | None:
    """Compile what an event changes; None where it changes nothing.

    Parameters
    ----------
    action : Acting or None
    names : SymbolTable
    context : RuntimeData

    Returns
    -------
    NativeFunction or None
    """
    if action is None:
        return None
    if isinstance(action, FunctionAction):
        from unhurried_heron.codegen.callback import python_function

        function = action.function
        return python_function(function, context, function.layout.size + len(function.parameters))
    indexed_formulas = tuple(single(node, index) for index, node in enumerate(action.nodes))
    return compiled(indexed_formulas, len(indexed_formulas), names, context.array)


def _targets(action: Acting | None, n: int, context: RuntimeData) -> np.ndarray:
    """Return the indices of what an event changes, states before slots of the context, int64.

    Parameters
    ----------
    action : Acting or None
    n : int
        Number of states.
    context : RuntimeData

    Returns
    -------
    np.ndarray
    """
    if action is None:
        return np.empty(0, dtype=np.int64)
    if isinstance(action, FunctionAction):
        return np.arange(n + len(context.parameters))
    return np.array([*action.states, *(n + context.parameters.index(name) for name in action.parameters)])


def going_codes(events: tuple[Event, ...], located: tuple[Switch, ...] = ()) -> tuple[np.ndarray, np.ndarray]:
    """Return direction and stop flag of each event and of each located switch, int64 (m,)."""
    going = [GOING[event.going] for event in events]
    going += [LEAVES if isinstance(switch, HeldSwitch) else _EITHER for switch in located]
    stop = [ENDS * event.stop + ACTS * (event.then is not None) for event in events] + [ACTS] * len(located)
    return np.array(going, dtype=np.int64), np.array(stop, dtype=np.int64)


def native_function(function: NamedFunction, context: RuntimeData, size: int) -> NativeFunction:
    """Put a user's function behind an address.

    Parameters
    ----------
    function : NamedFunction
    context : RuntimeData
    size : int
        How many numbers it returns, 0 for a bare one.

    Returns
    -------
    NativeFunction
    """
    if is_compiled(function.function):
        from unhurried_heron.codegen.njit_functions import njit_function

        return njit_function(function, context, size)
    from unhurried_heron.codegen.callback import python_function

    return python_function(function, context, size)


def ready_of(watched: Iterable[Watched], layout: Layout) -> list[Ready]:
    """Return what is watched with formulas as templates and what fills them."""
    found: list[Ready] = []
    for each in watched:
        check_deadline()
        found.append(each if isinstance(each, NamedFunction) else as_template(each, layout.size))
    return found


def native_watched(watched: Sequence[Ready], names: SymbolTable, context: RuntimeData) -> tuple[NativeFunction, ...]:
    """Put what is watched behind addresses; all formulas are compiled together.

    Parameters
    ----------
    watched : Sequence[Ready]
    names : SymbolTable
    context : RuntimeData

    Returns
    -------
    tuple[NativeFunction, ...]
    """
    written = tuple(each for each in watched if not isinstance(each, NamedFunction))
    made = iter(compiled_each(written, names, context.array))
    return tuple(
        native_function(each, context, 0) if isinstance(each, NamedFunction) else next(made) for each in watched
    )
