"""What a figure shows, computed before anything is drawn."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, RunError, as_text, excerpt
from unhurried_heron.figures.coordinates import coordinates_of, refuse_unknown
from unhurried_heron.formulas.layout import Group
from unhurried_heron.formulas.notation import in_one_spelling
from unhurried_heron.input.rules import among
from unhurried_heron.input.values import each_of
from unhurried_heron.run.columns import derived_at
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.text.numbers import with_unit

# Points at which a step polynomial is drawn between the steps, at least.
_POINTS = 600
# The share of the height of a curve that can be seen.
_SEEN = 0.01
# Distance from a jump at which its two sides are drawn, as a share of the time.
_SIDE = 1e-9
# With more points than this a curve looks like a line.
MAX_DOTS = 200
# A curve looks flat beside another that is larger by this factor.
_SEEN_BESIDE = 20.0
# An indexed state with more members than this is drawn as a map.
_MAX_CURVES = 8
# Times of a map of an indexed state.
_MAP_POINTS = 300


@dataclass(frozen=True)
class Curve:
    """One labelled curve, shape (n_points,) each.

    ``index`` is its number among all that were asked for, which settles its colour; ``dots`` tells that its points are
    all that was computed, and are to be seen; ``points``: others that are; ``exact``: a closed form.
    """

    label: str
    x: Array
    y: Array
    index: int = 0
    dots: bool = False
    points: tuple[Array, Array] | None = None
    exact: bool = False


@dataclass(frozen=True)
class Map:
    """An indexed state against time (one index), or at the end (two indices).

    ``x`` and ``y`` are times and indices, or the two indices; ``values`` has shape (n_y, n_x).
    """

    label: str
    x_label: str
    y_label: str
    x: Array
    y: Array
    values: Array


@dataclass(frozen=True)
class Mark:
    """One event: where it stands on the time axis, and on which curve if it has a value there."""

    name: str
    time: float


@dataclass(frozen=True)
class StatesRecord:
    """States against time in panels: one for each unit, or for each unit and order of size."""

    title: str
    time_label: str
    panels: tuple[tuple[str, tuple[Curve, ...]], ...]
    marks: tuple[Mark, ...]
    maps: tuple[Map, ...] = ()


@dataclass(frozen=True)
class StepsRecord:
    """Step size against time; refused attempts apart, shapes (n_accepted,) and (n_refused,).

    ``kinds``: the accepted steps by method or order, where these change along the run; ``by_order`` tells which.
    """

    title: str
    time_label: str
    step_label: str
    accepted: Curve
    refused: Curve
    kinds: tuple[Curve, ...] = ()
    by_order: bool = False


def _time_label(run: Run) -> str:
    return with_unit("time", run.problem.units.get("t", ""))


def _title(run: Run) -> str:
    subject = run.problem.title or "Solution"
    return f"{subject}, {run.method}" + ("" if run.ending.as_requested else f": {run.ending.reason}")


def states_record(
    run: Run, names: Sequence[str] | None = None, *, split_sizes: bool = False, along: Mapping[str, Any] | None = None
) -> StatesRecord:
    """Compute the curves of states (and, by name, derived quantities).

    Parameters
    ----------
    run : Run
    names : Sequence[str] or None, optional
    split_sizes : bool, optional
        Whether curves of one unit that differ much in size come into panels of their own, where each can be seen.
    along : mapping of str to str or array, or None, optional
        Coordinates of indexed states by name, as `coordinates_of` takes them.

    Returns
    -------
    StatesRecord

    Raises
    ------
    RunError
        A name is no state or derived quantity.
    """
    if isinstance(names, str):
        names = [names]
    if not isinstance(run, Run) or not (names is None or isinstance(names, Iterable)):
        raise OptionError(
            "this cannot be drawn",
            name="run",
            location="draw_states",
            expected="a Run, and a list of names",
            given=f"{type(run).__name__}, {excerpt(names)}",
        )
    query = names if names is not None else [*(group.name for group in run.problem.model.layout.groups), *run.modes]
    wanted, indexed = _sorted_names(run, query)
    if not wanted and not indexed:
        raise OptionError("there is nothing to draw", name="names", location="draw_states",
                          expected="names of states or derived quantities", given=excerpt(names))  # fmt: skip
    times, table = run.times, {name: run[name] for name in wanted}
    smooth = isinstance(run.data.trajectory, StepTrajectory) and times.size > 1 and not swings(run)
    if smooth:
        times = np.union1d(run.times, np.linspace(times[0], times[-1], _MAP_POINTS if indexed else _POINTS))
        # Both sides of a jump are drawn.
        sides = _SIDE * abs(times[-1] - times[0])
        crossed = np.concatenate([run.data.switch_log.times, run.data.trajectory.jumps.times])
        times = np.union1d(times, np.clip(np.concatenate([crossed - sides, crossed + sides]), times[0], times[-1]))
        states = run.at(times)
        values = np.hstack([states, derived_at(run, times, states)])
        columns = {name: index for index, name in enumerate(run.columns)}
        table = {name: values[:, columns[name]] for name in wanted}
    refuse_unknown(run, along)
    maps = tuple(each for group in indexed for each in _maps(run, group, times, along))
    units = run.problem.units
    panels: list[tuple[str, list[Curve]]] = []
    for unit in dict.fromkeys(units.get(name, "") for name in wanted):
        curves = [
            Curve(name, times, table[name], index, dots=not smooth and times.size <= MAX_DOTS)
            for index, name in enumerate(wanted)
            if units.get(name, "") == unit
        ]
        panels += [(unit, group) for group in (_by_size(curves) if split_sizes else [curves])]
    marks = tuple(Mark(name, time) for name, time, _ in run.data.occurrences)
    grouped = []
    for unit, curves in panels:
        only = curves[0].label if len(curves) == 1 else ""
        grouped.append((with_unit(only, unit) if only else f"[{unit}]" if unit else "", tuple(curves)))
    return StatesRecord(_title(run), _time_label(run), tuple(grouped), marks, maps)


def _sorted_names(run: Run, names: Sequence[str]) -> tuple[list[str], list[Group]]:
    """Tell what is drawn as curves from the indexed states that are drawn as maps.

    Raises
    ------
    RunError
    """
    model = run.problem.model
    curves: list[str] = []
    indexed: list[Group] = []
    for name in (in_one_spelling(name) if isinstance(name, str) else name for name in each_of(names)):
        known_name = name if isinstance(name, str) else ""
        group = model.layout.by_name.get(known_name) or model.derived_layout.by_name.get(known_name)
        if group is not None and group.box:
            if math.prod(group.value_shape) > _MAX_CURVES and len(group.value_box) <= 2:
                indexed.append(group)
            else:
                curves += group.members()
        elif isinstance(name, str) and name in run.columns:
            curves.append(name)
        else:
            known = [*model.layout.by_name, *model.derived_layout.by_name, *model.functions]
            message = f"there is no state or derived quantity '{as_text(name)}'"
            among(known)(name, as_text(name), "names", message=message, error=RunError)
    return curves, indexed


def _maps(run: Run, group: Group, times: Array, along: Mapping[str, Any] | None) -> list[Map]:
    """Return the maps of an indexed state: of a complex one, of its real and its imaginary parts.

    Parameters
    ----------
    run : Run
    group : Group
        The indexed state.
    times : ndarray, shape (n_times,)
    along : mapping of str to str or array, or None
        Coordinates of indexed states by name, as `coordinates_of` takes them.

    Returns
    -------
    list of Map
    """
    whole = _map(run, group, times, along)
    if not group.complex:
        return [whole]
    label = with_unit(group.name, run.problem.units.get(group.name, ""))
    parts = (("re", whole.values.real), ("im", whole.values.imag))
    return [replace(whole, label=whole.label.replace(label, f"{part}({label})", 1), values=values)
            for part, values in parts]  # fmt: skip


def _map(run: Run, group: Group, times: Array, along: Mapping[str, Any] | None) -> Map:
    """Return an indexed state against time, or one of two indices at the end of the run.

    Parameters
    ----------
    run : Run
    group : Group
        The indexed state.
    times : ndarray, shape (n_times,)
    along : mapping of str to str or array, or None
        Coordinates of indexed states by name, as `coordinates_of` takes them.

    Returns
    -------
    Map
    """
    label = with_unit(group.name, run.problem.units.get(group.name, ""))
    coordinates = coordinates_of(run, group, along)
    name, index = coordinates[0]
    kept = isinstance(run.data.trajectory, StepTrajectory)
    if len(group.value_box) == 2:
        last = run[group.name][-1]
        return Map(f"{label} at the end", coordinates[1][0], name, coordinates[1][1], index, last)
    if group.name not in run.problem.model.layout.by_name or not kept:
        return Map(label, _time_label(run), name, run.times, index, run[group.name].T)
    values = run.problem.model.layout.take(group.name, run.at(times))
    return Map(label, _time_label(run), name, times, index, values.T)


def _by_size(curves: list[Curve]) -> list[list[Curve]]:
    """Group curves so that within a group none is too small to be seen beside the largest, in the order given."""
    groups: list[list[Curve]] = []
    largest = 0.0
    for curve in sorted(curves, key=lambda c: -float(np.abs(c.y).max())):
        size = float(np.abs(curve.y).max())
        if not groups or size * _SEEN_BESIDE < largest:
            groups.append([])
            largest = size
        groups[-1].append(curve)
    return sorted((sorted(group, key=lambda c: c.index) for group in groups), key=lambda group: group[0].index)


def swings(run: Run) -> bool:
    """Whether the polynomials of fixed steps go where the computed points do not.

    The middle of each step is held against a cubic through the four computed points around it.
    """
    if run.options.get("step") is None:
        return False
    values, times = run.states, run.times
    if times.size < 5:
        return True
    middles = run.at(0.5 * (times[1:-2] + times[2:-1]))
    cubic = (9.0 * (values[1:-2] + values[2:-1]) - values[:-3] - values[3:]) / 16.0
    span = values.max(axis=0) - values.min(axis=0)
    with np.errstate(all="ignore"):
        return bool((np.abs(middles - cubic) > _SEEN * span).any())


def steps_record(run: Run) -> StepsRecord:
    """Compute step sizes against time from the ledger.

    Raises
    ------
    RunError
        The run kept no ledger.
    """
    ledger = run.ledger
    size = ledger["step"].abs().to_numpy()
    time, good = ledger["time"].to_numpy(), ledger["accepted"].to_numpy()
    unit = run.problem.units.get("t", "")
    by_order = "method" not in ledger or ledger["method"][good].nunique() < 2
    of_each = ledger["order" if by_order else "method"].to_numpy()
    several = np.unique(of_each[good]) if len(np.unique(of_each[good])) > 1 else ()
    kinds = []
    for kind in several:
        these = good & (of_each == kind)
        label = f"order {kind}" if by_order else str(kind)
        kinds.append(Curve(f"{label}: {int(these.sum()):,}", time[these], size[these]))
    return StepsRecord(
        _title(run),
        _time_label(run),
        with_unit("step", unit),
        Curve(f"{int(good.sum()):,} accepted", time[good], size[good]),
        Curve(f"{int((~good).sum()):,} refused", time[~good], size[~good]),
        tuple(kinds),
        by_order,
    )
