"""What a march meets on its way, laid out for `kernels.march.crossing`: known times, switches, events that act."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.errors import unforeseen
from unhurried_heron.kernels.machine_code.signature import address
from unhurried_heron.kernels.memory.bundles import ACTION_SIZE, Crossing
from unhurried_heron.kernels.memory.control import CEIL, FLOOR, PASSED, ROOT, TRUTH
from unhurried_heron.model.manifold import movable_states
from unhurried_heron.model.model import Model
from unhurried_heron.model.switch_types import HeldSwitch, RootSwitch, Switch, WholeSwitch

# Crossings that fit into the buffer before the march returns.
_ROOM = 1024
# Known times that there is room for at least.
_MIN_KNOWN: Final = 8
_NOTHING, _NO_PLACES = np.empty(0), np.empty(0, dtype=np.int64)


def crossing_of(request: RunRequest, native: NativeSystem, *, stops: bool) -> Crossing:
    """Allocate what is the same for all runs of a march.

    Parameters
    ----------
    request : RunRequest
    native : NativeSystem
    stops : bool
        Whether the march stops on its way at all.

    Returns
    -------
    Crossing

    Raises
    ------
    HeronError
        The library itself is at fault.
    """
    beyond, context = native.beyond, native.context
    if beyond is None:
        raise unforeseen("a march with crossings and without their functions")
    switches = beyond.switches if stops else ()
    actions = np.zeros((len(request.events), ACTION_SIZE), dtype=np.int64)
    begin = 0
    for k, (action, target) in enumerate(zip(beyond.actions, beyond.targets, strict=True)):
        if action is not None:
            count = -target.size if callable(request.events[k].then) else target.size
            actions[k] = action.address, action.context_address, begin, count
        begin += target.size
    targets = np.concatenate([*beyond.targets, _NO_PLACES]).astype(np.int64)
    held = [switch if isinstance(switch, HeldSwitch) else None for switch in switches]
    pairs = [function_rows([functions.get(each.slot) if each else None for each in held])
             for functions in (beyond.gaps, beyond.lives)]  # fmt: skip
    located = [k for k, switch in enumerate(switches) if switch.times is None]
    tables = [[address(rows), table.times.size, slot + 1] for table, rows, slot in context.tables]
    room = _ROOM + 4 * len(switches) if stops else 0
    return Crossing(
        context=context.array,
        changes=context.array.size - 1,
        n_events=len(request.events),
        actions=actions,
        targets=targets,
        fresh=np.zeros(max([1, *(target.size for target in beyond.targets)])),
        n_switches=len(switches),
        slots=longs([context.slots[each.slot] if each else -1 for each in held]),
        kinds=longs([_kind(switch) for switch in switches]),
        nested=longs([int(each.nested) if each else 0 for each in held]),
        gaps=pairs[0],
        lives=pairs[1],
        follows=_follow(request.problem.model, switches),
        located=longs(located),
        room=room,
        crossed=np.empty(room),
        crossed_which=np.empty(room, dtype=np.int64),
        crossed_values=np.empty(room),
        crossed_row=np.empty(room, dtype=np.int64),
        **known_rows(_MIN_KNOWN + 2 * len(switches) if stops else 0, limited=native.limits is not None),
        n_tables=len(tables),
        tables=longs(tables),
        limited=int(native.limits is not None),
        limits=_NOTHING if native.limits is None else native.limits,
    )


def _follow(model: Model, switches: Sequence[Switch]) -> IntArray:
    """Return whether switches depend on states that constraints tell, int64 (n_switches,); functions may."""
    if model.mass is None:
        given = {k for each in movable_states(model) if each.states is not None for k in each.states.tolist()}
    else:
        given = set(range(model.layout.size)) - set(model.mass.columns.tolist())
    return longs([not isinstance(each, HeldSwitch) or bool(given & model.layout.states_in(each.gap).keys())
                  for each in switches])  # fmt: skip


def known_rows(room: int, *, limited: bool) -> dict[str, Any]:
    """Return memory for known times, by the fields of `Crossing`; ``limited``: functions are asked between them."""
    return {
        "n_landings": 0,
        "times": np.zeros(room + 1),
        "longest": np.zeros(room),
        "begins": np.zeros(room + 1, dtype=np.int64),
        "items": np.zeros(room, dtype=np.int64),
        "values": np.zeros(room),
        "inner": np.zeros((room + 1 if limited else 0, 2)),
    }


def _kind(switch: Switch) -> int:
    if isinstance(switch, WholeSwitch):
        return FLOOR if switch.op == "floor" else CEIL
    if isinstance(switch, RootSwitch):
        return ROOT
    return TRUTH if isinstance(switch, HeldSwitch) else PASSED


def function_rows(functions: Sequence[Any]) -> IntArray:
    """Return functions as a table, int64 (n, 2): address and context of each, 0 without."""
    return longs([[each.address, each.context_address] if each else [0, 0] for each in functions])


def longs(values: Any) -> IntArray:
    """Return whole numbers as a kernel reads them."""
    return np.ascontiguousarray(values, dtype=np.int64)
