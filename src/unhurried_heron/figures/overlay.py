"""What figures of several runs show, and of states against states, computed before anything is drawn."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Sized
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, UnitError, excerpt
from unhurried_heron.figures.records import MAX_DOTS, Curve, StatesRecord, states_record, swings
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.text.numbers import with_unit

# Points of a closed form, or of a difference, in a figure.
_POINTS = 2000
# Positions of arrows along a curve, as shares of its length.
_ARROWS = (0.15, 0.45, 0.75)


@dataclass(frozen=True)
class PhaseCurve:
    """One run in the space of two or three states: ``points`` (n_points, 2 or 3), ``arrows``: rows to point from."""

    label: str
    points: Array
    arrows: tuple[int, ...]
    dots: bool = False


@dataclass(frozen=True)
class PhaseRecord:
    """Runs as curves of one state against another, or two others."""

    title: str
    labels: tuple[str, ...]
    curves: tuple[PhaseCurve, ...]


def runs_of(run: Any, location: str) -> list[Run]:
    """Return one run or several as a list.

    Raises
    ------
    OptionError
        There is something else among them, or nothing.
    """
    runs = [run] if isinstance(run, Run) else list(run) if isinstance(run, list | tuple) else []
    if not runs or not all(isinstance(each, Run) for each in runs):
        raise OptionError("this cannot be drawn", name="run", location=location, expected="a Run, or a list of them",
                          given=excerpt(run))  # fmt: skip
    return runs


def labels_of(runs: Sequence[Run], labels: Sequence[str] | None, location: str) -> list[str]:
    """Return a label for each run: those that are given, or what tells the runs apart.

    Parameters
    ----------
    runs : Sequence[Run]
    labels : sequence of str, or None
        One for each run; None for those that tell the runs apart.
    location : str
        Where this was said, for messages.

    Returns
    -------
    list of str

    Raises
    ------
    OptionError
        There are more or fewer labels than runs.
    """
    if labels is not None:
        if not isinstance(labels, list | tuple) or len(labels) != len(runs):
            raise OptionError("each run needs one label", name="labels", location=location,
                              expected=f"{len(runs)} texts", given=excerpt(labels))  # fmt: skip
        return [str(label) for label in labels]
    if len(runs) == 1:
        return [runs[0].method]
    facts_of_runs = [_facts_of(run) for run in runs]
    differ = [
        key
        for key in dict.fromkeys(key for facts in facts_of_runs for key in facts)
        if len({s.get(key) for s in facts_of_runs}) > 1
    ]
    found = [
        ", ".join(facts[key] for key in differ if key in facts) or run.method
        for facts, run in zip(facts_of_runs, runs, strict=True)
    ]
    return [label if found.count(label) == 1 else f"{label} ({index + 1})" for index, label in enumerate(found)]


def _facts_of(run: Run) -> dict[str, str]:
    facts = {"method": run.method}
    for option in ("rtol", "step"):
        value = run.options.get(option)
        if isinstance(value, float):
            facts[option] = f"{option} {value:g}"
    facts |= {f"parameter {name}": f"{name} = {value:g}" for name, value in run.problem.parameters.items()}
    starts = zip(run.problem.states, run.problem.start.tolist(), strict=True)
    return facts | {f"start {name}": f"{name} from {value:g}" for name, value in starts}


def overlay_record(
    runs: Sequence[Run],
    names: Sequence[str] | None,
    labels: Sequence[str],
    *,
    exact: bool,
    points: bool,
    along: Mapping[str, Any] | None = None,
) -> StatesRecord:
    """Compute the curves of several runs for the same panels, the closed forms beside them on request.

    Parameters
    ----------
    runs : Sequence[Run]
    names : Sequence[str] or None
    labels : sequence of str, or None
        One for each run; None for those that tell the runs apart.
    exact : bool
        Whether closed forms stand beside.
    points : bool
        Whether ends of steps are marked.
    along : mapping of str to str or array, or None, optional
        Coordinates of indexed states by name, as `coordinates_of` takes them.

    Returns
    -------
    StatesRecord
    """
    records = [states_record(run, names, along=along) for run in runs]
    panels: dict[str, list[Curve]] = {}
    index = 0
    for run, record, label in zip(runs, records, labels, strict=True):
        for name, curves in record.panels:
            for curve in curves:
                alone = len(runs) == 1 or sum(len(each) for _, each in record.panels) == 1
                text = (curve.label if len(runs) == 1 else label) if alone else f"{curve.label}, {label}"
                seen = (run.times, run[curve.label]) if points else None
                panels.setdefault(name, []).append(replace(curve, label=text, index=index, points=seen))
                index += 1
    known: list[Curve] = []
    for run, record, label in zip(runs, records, labels, strict=True) if exact else ():
        for name, curves in record.panels:
            for curve in curves:
                form = _exact(run, curve)
                # runs of one problem have it in common
                if form is not None and not any(np.array_equal(form.y, each.y) for each in known):
                    text = form.label if run is runs[0] else f"{form.label}, {label}"
                    panels[name].append(replace(form, label=text))
                    known.append(form)
    _refuse_no_curves(panels, names, "draw_states")
    first = records[0]
    titles = {run.problem.title for run in runs}
    title = first.title if len(runs) == 1 else (titles.pop() if len(titles) == 1 else "") or "Solutions"
    marks = first.marks if len(runs) == 1 else ()
    maps = first.maps if len(runs) == 1 else ()
    return StatesRecord(title, first.time_label, tuple((k, tuple(v)) for k, v in panels.items()), marks, maps)


def _refuse_no_curves(panels: Sized, names: object, location: str) -> None:
    """Refuse what is drawn as maps alone, which cannot be laid over each other.

    Parameters
    ----------
    panels : sized
        Of curves.
    names : object
        What was to be drawn.
    location : str

    Raises
    ------
    OptionError
    """
    if not len(panels):
        raise OptionError("there are no curves to lay over each other", name="names", location=location,
                          expected="members of indexed states by name, or derived quantities",
                          given=excerpt(names))  # fmt: skip


def _exact(run: Run, curve: Curve) -> Curve | None:
    """Return the closed form of a curve, None where there is none."""
    if curve.label not in run.problem.model.exact:
        return None
    times = np.linspace(curve.x[0], curve.x[-1], _POINTS)
    return Curve(f"{curve.label}, exact", times, run.exact_at(times)[curve.label], exact=True)


def difference_record(one: Run, other: Run, names: Sequence[str] | None) -> StatesRecord:
    """Compute the first run less the second, wherever both are.

    Parameters
    ----------
    one : Run
    other : Run
    names : Sequence[str] or None

    Returns
    -------
    StatesRecord

    Raises
    ------
    OptionError
        They have no time in common.
    """
    ends = [np.sort([run.times[0], run.times[-1]]) for run in (one, other)]
    low, high = max(end[0] for end in ends), min(end[1] for end in ends)
    if not low < high:
        raise OptionError("these runs have no time in common", name="run", location="draw_difference",
                          expected="two runs over the same times", given=f"{ends[0]} and {ends[1]}")  # fmt: skip
    times = np.linspace(low, high, _POINTS)
    if not all(isinstance(run.data.trajectory, StepTrajectory) for run in (one, other)):
        times = np.intersect1d(one.times, other.times)
    record = states_record(one, names)
    panels = tuple(
        (name, tuple(replace(c, x=times, y=one.at(times, c.label) - other.at(times, c.label)) for c in curves))
        for name, curves in record.panels
    )
    _refuse_no_curves(panels, names, "draw_difference")
    labels = labels_of([one, other], None, "draw_difference")
    return StatesRecord(f"{labels[0]} less {labels[1]}", record.time_label, panels, ())


def levels_of(levels: Mapping[str, Any] | None, units: Sequence[str]) -> list[tuple[int, str, float]]:
    """Return level lines as the panel they belong to, their name and value; ``units`` of the panels.

    A plain number belongs to the first panel, a quantity to the first of its kind.

    Raises
    ------
    OptionError
        There is no panel for one.
    """
    from unhurried_heron.units.quantities import number_in

    if not isinstance(levels, Mapping | None):
        raise OptionError("these are no levels", name="levels", location="draw_states",
                          expected='a dict such as {"crest": 0.8}', given=excerpt(levels))  # fmt: skip
    found = []
    for name, value in (levels or {}).items():
        for index, unit in enumerate(units):
            try:
                found.append((index, str(name), number_in(value, unit, "draw_states, levels")))
                break
            except (UnitError, OptionError):
                continue
        else:
            raise OptionError("no panel is measured in this", name=name, location="draw_states, levels",
                              expected="a number, or a quantity of a unit that is drawn",
                              given=excerpt(value))  # fmt: skip
    return found


def phase_record(runs: Sequence[Run], names: Sequence[str], labels: Sequence[str]) -> PhaseRecord:
    """Compute the curves of two or three states or derived quantities against each other.

    Parameters
    ----------
    runs : Sequence[Run]
    names : Sequence[str]
    labels : sequence of str, or None
        One for each run; None for those that tell the runs apart.

    Returns
    -------
    PhaseRecord

    Raises
    ------
    OptionError
        There are not two or three names.
    RunError
        One is no state or derived quantity.
    """
    # of a complex state, its plane
    model = runs[0].problem.model
    pairs = {name for layout in (model.derived_layout, model.layout) for name in names if layout.pair(name) is not None}
    names = [part for name in names for part in ((f"re({name})", f"im({name})") if name in pairs else (name,))]
    if len(names) not in (2, 3):
        raise OptionError("a phase curve has two or three axes", name="names", location="draw_phase",
                          expected='two or three names, draw_phase(run, "x", "v")', given=excerpt(names))  # fmt: skip
    curves = []
    for run, label in zip(runs, labels, strict=True):
        smooth = isinstance(run.data.trajectory, StepTrajectory) and run.times.size > 1 and not swings(run)
        if smooth:
            times = np.union1d(run.times, np.linspace(run.times[0], run.times[-1], _POINTS))
            times = times if run.times[-1] >= run.times[0] else times[::-1]
            points = _parted(run, names, times)
        else:
            points = np.column_stack([run[name] for name in names])
        curves.append(PhaseCurve(label, points, _arrows(points), not smooth and len(points) <= MAX_DOTS))
    units = runs[0].problem.units
    titles = {run.problem.title for run in runs}
    subject = (titles.pop() if len(titles) == 1 else "") or "Phase curves"
    title = f"{subject}, {runs[0].method}" if len(runs) == 1 else subject
    return PhaseRecord(title, tuple(with_unit(name, units.get(name, "")) for name in names), tuple(curves))


def _parted(run: Run, names: Sequence[str], times: Array) -> Array:
    """Return the points of a curve, parted where it jumps: there it ends, and begins again elsewhere.

    Parameters
    ----------
    run : Run
    names : Sequence[str]
    times : ndarray, shape (n_times,)

    Returns
    -------
    ndarray
    """
    points: Array = run.at(times, list(names))
    jumps = run.data.trajectory.jumps.times
    sign = 1.0 if times[-1] >= times[0] else -1.0
    indices = np.searchsorted(sign * times, sign * jumps)
    ends = run.at(jumps, list(names), side="before")
    gaps = np.full_like(ends, np.nan)
    both = np.stack([ends, gaps], axis=1).reshape(-1, points.shape[1])
    parted: Array = np.insert(points, np.repeat(indices, 2), both, axis=0)
    return parted


def _arrows(points: Array) -> tuple[int, ...]:
    """Return where along a curve, by its length on the page, it is told which way it goes."""
    span = np.nanmax(points, axis=0) - np.nanmin(points, axis=0)
    # A gap has no length.
    steps = np.nan_to_num(np.diff(points, axis=0) / np.where(span > 0.0, span, 1.0))
    length = np.concatenate([[0.0], np.cumsum(np.sqrt((steps**2).sum(axis=1)))])
    if not length[-1] > 0.0:
        return ()
    last = len(points) - 2
    rows = [min(int(np.searchsorted(length, share * length[-1])), last) for share in _ARROWS]
    return tuple(row for row in rows if np.isfinite(points[row : row + 2]).all())
