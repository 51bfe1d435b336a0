"""The snapshot that a march begins from: laid out once for a march, so that a run copies it in compiled code."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.crossing_functions import CrossingFunctions
from unhurried_heron.codegen.system import NativeSystem
from unhurried_heron.driver.crossing_layout import function_rows, longs
from unhurried_heron.driver.time_sources import Listed, TimeSources
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address
from unhurried_heron.kernels.memory.bundles import Crossing, address_table
from unhurried_heron.kernels.memory.initial_data import LINE, LISTED, SOURCE_DEPTH, SOURCE_SIZE, STEPS, InitialData
from unhurried_heron.model.model import Model
from unhurried_heron.model.switch_types import WholeSwitch
from unhurried_heron.model.time_switches import TimeSwitch


def lay_out_initial_data(native: NativeSystem, model: Model, crossing: Crossing, put_in_order: int) -> InitialData:
    """Allocate what is the same for all runs of a march; its records, and its known times, come later.

    Parameters
    ----------
    native : NativeSystem
    model : Model
    crossing : Crossing
    put_in_order : int
        Address of the kernel for known times, 0 without.

    Returns
    -------
    InitialData
    """
    context, arguments = native.context, native.beyond.arguments if native.beyond else ()
    roots = model.resting_roots
    reaching = [sorted(model.layout.states_in(root.argument)) for root in roots]
    nothing = np.empty(0, dtype=np.int64)
    return InitialData(
        march=0,
        put_in_order=put_in_order,
        n_records=0,
        records=nothing,
        n_parameters=len(context.parameters),
        parameters=np.zeros(len(context.parameters)),
        initial=np.empty(0),
        interval=np.zeros(3),
        n_following=0,
        following=0,
        following_context=0,
        following_values=np.empty(0),
        following_targets=nothing,
        n_roots=len(roots),
        widths=longs([context.slots[root.width] for root in roots]),
        arguments=function_rows(arguments),
        reach_begins=np.cumsum([0, *map(len, reaching)], dtype=np.int64),
        reaching=longs([index for each in reaching for index in each]),
        n_sources=0,
        sources=nothing,
        gaps=nothing,
        growths=nothing,
        listed=np.empty(0),
        bounds=np.empty(0),
        upcoming=np.empty(0),
        begun=np.empty(0),
        held=np.empty(0),
        position=nothing,
        room=crossing.items.size,
        scratch=np.zeros(1),
    )


def with_records(data: InitialData, march: Any, records: Sequence[tuple[Array, Array]]) -> InitialData:
    """Return a snapshot with the records that are copied.

    Parameters
    ----------
    data : InitialData
    march : ndarray of int64
        The march's table.
    records : sequence of (ndarray of uint8, ndarray of uint8)
        Each record of the march, and what it is at first.

    Returns
    -------
    InitialData
    """
    rows = [[address(record), address(fresh), record.nbytes // 8] for record, fresh in records]
    return data._replace(march=address(march), n_records=len(rows), records=longs(rows))


def with_sources(data: InitialData, found: TimeSources, beyond: CrossingFunctions, n_events: int) -> InitialData:
    """Return a snapshot with the known times of a run.

    Parameters
    ----------
    data : InitialData
    found : TimeSources
    beyond : CrossingFunctions
    n_events : int

    Returns
    -------
    InitialData
    """
    begins = np.cumsum([0, *(each.times.size for each in found.listed)])
    rows: list[tuple[list[int], tuple[NativeFunction | None, NativeFunction | None]]] = [
        ([LISTED, each.item, int(begins[k]), int(begins[k + 1]), each.depth], (None, None))
        for k, each in enumerate(found.listed)
    ]
    rows += [
        ([_kind(each), n_events + each.index, 0, 0, each.depth], beyond.lines[each.index])
        for each in found.switches.follow
        if each is not None and each.gap is not None
    ]
    rows.sort(key=lambda row: row[0][SOURCE_DEPTH])
    count = len(rows)
    return data._replace(
        n_sources=count,
        sources=longs([row for row, _ in rows]).reshape(-1, SOURCE_SIZE),
        gaps=function_rows([pair[0] for _, pair in rows]),
        growths=function_rows([pair[1] for _, pair in rows]),
        listed=np.concatenate([np.empty(0), *(each.times for each in found.listed)]),
        bounds=np.concatenate([np.empty(0), *map(_bounds_of, found.listed)]),
        upcoming=np.zeros(count),
        begun=np.zeros(count),
        held=np.zeros(count),
        position=np.zeros(count, dtype=np.int64),
    )


def table_of(data: InitialData) -> Any:
    """Return the table of addresses of a snapshot; what it holds must be kept alive beside it."""
    return address_table(*data)


def _kind(each: TimeSwitch) -> int:
    return STEPS if isinstance(each.switch, WholeSwitch) else LINE


def _bounds_of(each: Listed) -> Array:
    return np.full(each.times.size, np.nan) if each.bounds is None else each.bounds
