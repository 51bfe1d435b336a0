"""Methods side by side: errors, work and stability of each."""

from __future__ import annotations

import time as clock
from collections.abc import Iterable, Sequence
from typing import Any, Final

import numpy as np

from unhurried_heron.accuracy.comparison import COLUMNS, SCALE, Comparison
from unhurried_heron.accuracy.conserved_quantities import drift_of, lowest_of, scale_of
from unhurried_heron.arrays import Array
from unhurried_heron.deadline import done_within
from unhurried_heron.driver.budget import Budget, budget_of
from unhurried_heron.driver.option_values import in_time
from unhurried_heron.driver.options import refuse_no_problem, refuse_unfit, step_for_count
from unhurried_heron.errors import HeronError, MethodError, OptionError, excerpt
from unhurried_heron.input.rules import POSITIVE, several, whole
from unhurried_heron.input.values import each_of
from unhurried_heron.methods.catalogue import DEFAULT, FOR_STIFF, all_methods, find_method
from unhurried_heron.methods.method import Method, capabilities, is_method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.stability.stability_limited_steps import stability_limited_steps
from unhurried_heron.study.attempts import INTERRUPTED, Attempt, OnInterrupt, attempt_run, raise_common_error
from unhurried_heron.study.reference import Kind, References, Truth, kind_of, shortened_to_stop, size_of

# Relative tolerances where none are given: loose, usual and tight, so that a line shows.
DEFAULT_RTOL: Final = (1e-4, 1e-6, 1e-8)
ALL: Final = "all"
# Seconds that each run may take if all methods are compared.
_SECONDS_EACH: Final = 5.0
# Steps at which eigenvalues are found.
_ROWS: Final = 120


def compare(
    problem: Problem,
    methods: str | Method | Iterable[str | Method],
    *,
    rtol: float | Sequence[float] | None = None,
    atol: float | None = None,
    step: float | str | Sequence[float | str] | None = None,
    count: int | Sequence[int] | None = None,
    budget: Budget | None = None,
    reference: Kind | None = None,
    on_interrupt: str = "raise",
) -> Comparison:
    """Run several methods at several tolerances or steps and measure errors, work and stability.

    Errors are measured against the problem's closed forms (``exact``) if it has any, else against a run of a method of
    another family at a tolerance a thousand times tighter than the tightest compared; the table says which. Where two
    such references part, errors are measured only as far as they agree. Where an event stops the run, the interval
    compared ends there; events that act, act in every run.

    Parameters
    ----------
    problem : Problem
    methods : str or Method, or iterable of them
        Or "all": every method of the list that fits the problem and the settings.
    rtol : float or sequence of float, optional
        Tolerances at which methods that can choose their steps do so; 1e-4, 1e-6 and 1e-8 without them and steps.
    atol : float, optional
        Absolute tolerance of all runs; by default a thousandth of each ``rtol``.
    step : float or str, or sequence of them, optional
        Fixed steps, also with a unit, which all methods take; those that can adapt run at the tolerances too, if there
        are any.
    count : int or sequence of int, optional
        The same, as the number of steps over the interval.
    budget : Budget, optional
        Limit of each run; of all methods five seconds each by default. Its seconds limit each reference, too: where
        none comes to its end in them, errors are left out.
    reference : {"taylor"}, optional
        Measure against the solution by its Taylor series in 30 digits, of written and smooth problems: slow, certain.
    on_interrupt : {"raise", "return"}
        What Ctrl-C does: raise KeyboardInterrupt, or return the rows done; the others are labelled as interrupted.

    Returns
    -------
    Comparison

    Raises
    ------
    MethodError, OptionError
        A method is unknown, a tolerance unusable, or nothing is to be compared.
    Exception
        What the problem's own function raised, in every run.
    """
    refuse_no_problem(problem, "compare")
    kind, ctrl_c = kind_of(reference, "compare"), OnInterrupt(on_interrupt)
    tolerances = _positive_numbers(DEFAULT_RTOL if rtol is None and step is None and count is None else rtol, "rtol")
    limits = budget_of(budget)
    seconds = limits.seconds
    problem = shortened_to_stop(problem, seconds)
    given = [] if count is None else several("counts")(count, "counts", "compare")
    counts = [whole(1)(each, "count", "compare") for each in given]
    steps = [*_positive_numbers(step, "step", problem), *(step_for_count(problem, None, each) for each in counts)]
    everything = isinstance(methods, str) and methods == ALL
    chosen = _all_that_fit(problem, bool(steps)) if everything else chosen_methods(methods)
    if everything and budget is None:
        limits = Budget(seconds=_SECONDS_EACH)
    fixed: list[dict[str, Any]] = [{"step": value} for value in steps]
    adapting: list[dict[str, Any]] = [{"rtol": value, "atol": atol} for value in tolerances]
    if not chosen or not (fixed or adapting):
        raise OptionError(
            "there is nothing to compare",
            name="methods",
            location="compare",
            expected="at least one method and one tolerance or step",
            given=f"{len(chosen)} methods, {len(tolerances)} tolerances, {len(steps)} steps",
        )
    references = References(problem, min(tolerances, default=0.0), kind, seconds)
    rows, runs, curves = [], [], []
    for method in chosen:
        takes_steps = capabilities(method).takes_fixed_steps or not (everything or adapting)
        for setting in [*(fixed if takes_steps else []), *(adapting if method.adaptive or not fixed else [])]:
            row, found, curve = _row_of(method, setting, INTERRUPTED), INTERRUPTED, None
            with ctrl_c:
                if not ctrl_c.hit:
                    row, found, curve = _row(problem, method, setting, limits, references)
            rows.append(row)
            runs.append(found)
            curves.append(curve)
    raise_common_error(runs)
    kept, apart, until = tuple(each.run for each in runs), None, None
    with ctrl_c:
        if not ctrl_c.hit:
            apart, until = references.disagreement(), references.until
    outcomes = tuple(each.outcome for each in runs)
    lacking = references.lacking
    return Comparison(problem, tuple(rows), kept, outcomes, tuple(curves), apart, until, references.certain, lacking)


def chosen_methods(methods: Any) -> list[Method]:
    """Return one method or several by name as a list, each once.

    Raises
    ------
    MethodError, OptionError
        There is no such method, two different ones have one name, or something else was given.
    """
    single = isinstance(methods, str) or is_method(methods)
    try:
        found: dict[str, Method] = {}
        for method in [find_method(each) for each in ([methods] if single else methods)]:
            if found.setdefault(method.name, method) != method:
                message = f"two different methods are called '{method.name}'"
                raise MethodError(message, name=method.name, location="methods", given=method.name,
                                  expected="a name of its own for each: rows and curves go by it")  # fmt: skip
        return list(found.values())
    except TypeError:
        raise OptionError(
            "these are no methods",
            name="methods",
            location="compare",
            expected=f'names of methods, such as {[DEFAULT, FOR_STIFF]}, or "{ALL}"',
            given=excerpt(methods),
        ) from None


def _all_that_fit(problem: Problem, with_steps: bool) -> list[Method]:
    """Return the methods of the list that can do a problem: those that only take fixed steps where there are some."""
    found = []
    for method in all_methods():
        try:
            refuse_unfit(method, problem)
        except MethodError:
            continue
        if method.adaptive or with_steps:
            found.append(method)
    return found


def _positive_numbers(values: Any, name: str, problem: Problem | None = None) -> list[float]:
    """Return one number or several as a list of positive numbers; steps may be quantities.

    Parameters
    ----------
    values : float, str or sequence of them, or None
    name : str
        Of the option.
    problem : Problem or None, optional
        For the unit of steps.

    Returns
    -------
    list[float]
    """
    if values is None:
        return []
    return [POSITIVE(in_time(problem, each, name) if problem else each, name) for each in each_of(values)]


def _row_of(method: Method, setting: dict[str, Any], found: Attempt) -> dict[str, Any]:
    """Return a row in which nothing is measured yet.

    Parameters
    ----------
    method : Method
    setting : dict of str to float
        ``rtol`` and ``atol``, or ``step``.
    found : Attempt

    Returns
    -------
    dict[str, Any]
    """
    row = dict.fromkeys(COLUMNS)
    known = {"method": method.name, "rtol": setting.get("rtol"), "step": setting.get("step"), "ending": found.ending}
    return row | known


def _row(
    problem: Problem, method: Method, setting: dict[str, Any], budget: Budget, references: References
) -> tuple[dict[str, Any], Attempt, tuple[Array, Array] | None]:
    """Return the row of a run, the run, and the times and errors along it where they could be measured.

    Parameters
    ----------
    problem : Problem
    method : Method
    setting : dict
        ``rtol`` and ``atol``, or ``step``.
    budget : Budget
    references : References

    Returns
    -------
    (dict, Attempt, (ndarray, ndarray) or None)
    """
    curve = None
    begun, times = clock.perf_counter(), references.grid
    if problem.conserved and "step" in setting:
        times = _with_steps(times, setting["step"])
    found = attempt_run(problem, method, **setting, record=times.tolist(), budget=budget, ledger="rtol" in setting)
    row, run = _row_of(method, setting, found), found.run
    if run is None:
        return row, found, None
    row |= {"seconds in all": clock.perf_counter() - begun, **_counts(run), **_steps(run, setting.get("step"))}
    try:
        with done_within(budget.seconds):
            row["limited by stability"] = stability_limited_steps(run, rows=_ROWS).share if run.times.size > 1 else None
    except HeronError:
        # The method has no stability region that could be told.
        row["limited by stability"] = None
    if run.ending.as_requested:
        # Without a reference the work is still reported.
        truth = references.truth_for(method)
        if truth is not None:
            errors, curve = _errors(run, references.grid, truth)
            row |= errors | {"reference": truth.label}
        row |= {f"drift of {name}": drift_of(run, name) for name in problem.conserved}
        row |= {SCALE + name: scale_of(run, name)[1] for name in problem.conserved}
        for name in problem.never_negative:
            row[f"lowest {name}"], row[f"lowest {name} at"] = lowest_of(run, name)
    return row, found, curve


def _counts(run: Run) -> dict[str, Any]:
    tally = run.tally
    names = [name for name in (*tally.__dataclass_fields__, "for_stages") if name.replace("_", " ") in COLUMNS]
    return {name.replace("_", " "): getattr(tally, name) for name in names}


def _steps(run: Run, fixed: float | None) -> dict[str, float | None]:
    """Return smallest, median and largest accepted step."""
    if fixed is not None:
        return {"smallest step": fixed, "median step": fixed, "largest step": fixed}
    rows: Any = run.data.ledger
    lengths = np.abs(rows["step"][rows["accepted"]])
    # The last step ends where the interval does, so it is left out.
    lengths = lengths[:-1] if lengths.size > 1 else lengths
    if not lengths.size:
        return {}
    low, middle, high = np.quantile(lengths, [0.0, 0.5, 1.0]).tolist()
    return {"smallest step": low, "median step": middle, "largest step": high}


def _with_steps(grid: Array, step: float) -> Array:
    """Return the grid and, beside each of its times, the end of a fixed step, where what is conserved is so."""
    start, end = grid[0], grid[-1]
    length = np.copysign(step, end - start)
    ends = start + np.unique(np.round((grid - start) / length)) * length
    inside = ends[(ends - start) * (ends - end) <= 0.0]
    joined = np.union1d(grid, inside)
    return joined if end > start else joined[::-1]


def _errors(run: Run, grid: Array, truth: Truth) -> tuple[dict[str, Any], tuple[Array, Array]]:
    """Return the errors of a row, and the times at which they were measured with the largest over the states there.

    Parameters
    ----------
    run : Run
    grid : ndarray, shape (n_times,)
        Where errors are measured.
    truth : Truth

    Returns
    -------
    tuple[dict[str, Any], tuple[ndarray, ndarray]]
    """
    columns = [slot for slot in map(run.problem.model.layout.slot, truth.names) if slot is not None]
    states = run.states[np.isin(run.times, grid)]
    # A run that an event stopped has fewer times than the grid, and the references may agree on fewer.
    rows = min(len(states), len(truth.values))
    misses = np.abs(states[:rows, columns] - truth.values[:rows]) / size_of(truth.values)
    row, column = np.unravel_index(int(misses.argmax()), misses.shape)
    found = {
        "error at end": float(misses[-1].max()),
        "largest error": float(misses[row, column]),
        "worst state": truth.names[int(column)],
    }
    return found, (grid[:rows], misses.max(axis=1))
