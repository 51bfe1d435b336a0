"""`sweep`: many runs of one problem in one call, and what comes back."""

from __future__ import annotations

import inspect
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.driver.checked_request import with_events
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.options import refuse_no_problem
from unhurried_heron.driver.recorded_times import Record, record_times
from unhurried_heron.errors import OptionError, excerpt, listing, near_spelling
from unhurried_heron.input.rules import POSITIVE_COUNT, TRUTH
from unhurried_heron.methods.catalogue import DEFAULT, find_method
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.run import Run
from unhurried_heron.sweeps.axes import ENDS, KINDS, Axes, Axis, Variation, read_axes
from unhurried_heron.sweeps.dataset import OCCURRENCE, dataset_of
from unhurried_heron.sweeps.draws import Draws
from unhurried_heron.sweeps.marching import Group, march
from unhurried_heron.sweeps.measures import Measure, read_measures
from unhurried_heron.sweeps.outcome import nothing_yet
from unhurried_heron.text.document import Document
from unhurried_heron.text.sweep_document import sweep_document

if TYPE_CHECKING:
    import pandas as pd
    import xarray

_USUAL: Final[dict[str, Any]] = {
    name: each.default
    for name, each in inspect.signature(integrate).parameters.items()
    if each.kind is each.KEYWORD_ONLY and name not in ("parameters", "initial", "interval")
}


@dataclass(frozen=True, eq=False)
class Sweep:
    """Many runs of one problem.

    Attributes
    ----------
    problem : Problem
    dataset : xarray.Dataset
        Dimensions for what varies (``member`` where values came in rows or were drawn) and ``t`` for recorded times.
        Variables: every state and derived quantity at these times, ``final_…`` of each state, each measure,
        ``ending`` and ``ending_time``, ``failure`` (why a member did not come to its end; its values are NaN from
        there on), ``alone`` (why it marched by itself), ``tally_…``, and for events ``event_member``, ``event_name``,
        ``event_time`` and ``event_…`` of each state, one of each for every time something happened.
    method : str or Method
    options : mapping
        As they were given to each run.
    axes : Axes
        What varies.
    measures : tuple of Measure
    """

    problem: Problem
    dataset: xarray.Dataset = field(repr=False)
    method: str | Method
    options: Mapping[str, Any]
    axes: Axes = field(repr=False)
    measures: tuple[Measure, ...] = field(default=(), repr=False)

    def __len__(self) -> int:
        return self.axes.count

    def frame(self) -> pd.DataFrame:
        """Return a row for each member: what varies, ending, final values, measures and tally."""
        one = [name for name, each in self.dataset.data_vars.items() if each.dims == self.axes.dimensions]
        table = self.dataset[one].to_dataframe()
        return table.reset_index()

    @cached_property
    def events(self) -> pd.DataFrame:
        """A row for each time that something happened: what varies, ``name``, ``time`` and the states before."""
        import pandas as pd

        named = {name: each for name, each in self.dataset.data_vars.items() if each.dims == (OCCURRENCE,)}
        if not named:
            return pd.DataFrame({"name": pd.Series(dtype=object), "time": pd.Series(dtype=float)})
        members = named["event_member"].to_numpy()
        varying = {name: each[members] for name, each in self.axes.coordinates().items()}
        found = {str(name).removeprefix("event_"): each.to_numpy() for name, each in named.items()}
        return pd.DataFrame({**found, **varying})

    def run(self, *, member: int | None = None, **values: Any) -> Run:
        """Return one member as a run with all its steps, made anew and bit for bit as in the sweep.

        Parameters
        ----------
        member : int, optional
            Its index, in the order of `frame`.
        **values : float or str
            Or its values, of what varies on axes of its own, by the names of the dimensions; the nearest to a number
            is taken where it differs in rounding alone.

        Returns
        -------
        Run

        Raises
        ------
        OptionError
            There is no such member, or they do not single out one.
        """
        index = self._index(member, values)
        parameters, initial, ends, options = (
            {name: each[index] for name, each in self.axes.columns(kind).items()} for kind in KINDS
        )
        interval = [*self.problem.interval]
        for name, end in ends.items():
            interval[ENDS[name]] = float(end)
        method = options.pop("method", self.method)
        return integrate(
            self.problem,
            method if not isinstance(method, np.str_) else str(method),
            parameters={name: float(value) for name, value in parameters.items()},
            initial={name: float(value) for name, value in initial.items()},
            interval=(interval[0], interval[1]),
            **{**self.options, **{name: float(value) for name, value in options.items()}, "record": "steps"},
        )

    def _index(self, member: int | None, values: Mapping[str, Any]) -> int:
        columns = self.axes.coordinates()
        if member is not None:
            if not (isinstance(member, int | np.integer) and 0 <= member < self.axes.count):
                expected = f"an index from 0 to {self.axes.count - 1}"
                raise OptionError("there is no such member", name="member", location="sweep.run", expected=expected,
                                  given=excerpt(member))  # fmt: skip
            return int(member)
        fits = np.ones(self.axes.count, dtype=bool)
        for name, value in values.items():
            label = name if name in columns else f"initial_{name}"
            if label not in columns:
                raise OptionError(f"'{name}' does not vary{near_spelling(name, columns)}", name=name,
                                  location="sweep.run", expected="one of " + listing(columns), given=name)  # fmt: skip
            column = columns[label]
            fits &= np.isclose(column, value, rtol=1e-12, atol=0.0) if column.dtype.kind == "f" else column == value
        if fits.sum() != 1:
            raise OptionError("these values do not single out one member", name="values", location="sweep.run",
                              expected="a value of each of " + listing(columns),
                              given=f"{int(fits.sum())} members")  # fmt: skip
        return int(np.flatnonzero(fits)[0])

    @property
    def document(self) -> Document:
        """What the sweep came to: members, what varied, endings and work."""
        return sweep_document(self)

    def __str__(self) -> str:
        return str(self.document)

    def __repr__(self) -> str:
        sizes = " x ".join(f"{axis.size} {axis.dimension}" for axis in self.axes.axes) or "one member"
        return f"<Sweep of {self.problem.title or 'a problem'}: {sizes}>"


def sweep(
    problem: Problem,
    over: Mapping[str, Sequence[Any]] | None = None,
    method: str | Method = DEFAULT,
    *,
    rows: Any = None,
    draws: Draws | None = None,
    methods: Iterable[str] | None = None,
    record: Record | None = None,
    measures: Any = (),
    derived: bool = True,
    threads: int | None = None,
    **options: Any,
) -> Sweep:
    """Run a problem for many values, in compiled code and on all processors where that can be.

    Parameters
    ----------
    problem : Problem
    over : mapping of str to sequence of float or str, optional
        Values of parameters and starting values by name, and of the ends of the interval as ``start`` and ``end``, also
        with units. Each is an axis of its own, and every combination is a member.
    method : str or Method
        As for `integrate`.
    rows : DataFrame or mapping of str to sequence, optional
        Values of equal lengths, each row a member.
    draws : Draws, optional
        Values drawn from distributions, each draw a member.
    methods : iterable of str, optional
        Several methods, an axis; ``rtol`` may be a list as well.
    record : int, str or sequence of float, optional
        At which times states and derived quantities are kept, the same of all members; by default only what is there at
        the end. Where ends of the interval vary, a list of times.
    measures : str, callable, or a sequence of these or a mapping by name, optional
        What is asked of each run: formulas of parameters and of ``final(…)``, ``largest(…)``, ``smallest(…)``,
        ``mean(…)``, ``integral(…)`` of a quantity, and of ``time_of(…)``, ``count(…)``, ``period(…)`` of an event; or
        functions of a `Run`.
    derived : bool
        Whether derived quantities are recorded, too.
    threads : int, optional
        How many members march at once; by default as many as there are processors. No number depends on it.
    **options
        As for `integrate`, for each run: tolerances, steps, events, budgets and the others.

    Returns
    -------
    Sweep
        Also where members failed: its ``failure`` tells why.

    Raises
    ------
    OptionError
        A name means nothing, a value is unusable, or an option is not one of `integrate`.
    FormulationError
        One of its subclasses: a member's values do not fit the problem.

    Examples
    --------
    >>> pond = Problem.from_text("level' = -leak*level", initial={"level": 1.0}, parameters={"leak": 0.5},
    ...                          interval=(0, 2))
    >>> leaks = sweep(pond, {"leak": [0.25, 0.5, 1.0]}, rtol=1e-9, measures="final(level)")
    >>> leaks.dataset["final_level"].round(7).values.tolist()
    [0.6065307, 0.3678794, 0.1353353]
    """
    refuse_no_problem(problem, "sweep")
    chosen, options = _options(options)
    TRUTH(derived, "derived")
    if threads is not None:
        POSITIVE_COUNT(threads, "threads")
    if options["events"]:
        problem, options["events"] = problem.with_(events=with_events(problem.events, options["events"])), ()
    axes = Axes((*read_axes(problem, over, rows, draws), *_axes_of_options(methods, chosen)))
    if not axes.count:
        raise OptionError("nothing varies", name="over", location="sweep",
                          expected="over={name: values}, rows=… or draws=…", given="none")  # fmt: skip
    filled = _filled(problem, axes)
    asked = read_measures(filled, problem.events, measures)
    times = _times(filled, axes, record)
    columns = (*problem.states, *(problem.derived if derived and times.size else ()))
    found = nothing_yet(axes.count, times.size, len(columns), len(problem.states), len(asked))
    events: list[tuple[Any, Any, Any, Any]] = []
    for own, group, inside in _groups(
        problem, axes, times, (method, options, asked, len(columns) > len(problem.states), threads)
    ):
        part = march(group)
        found.recorded[np.ix_(own, inside)] = part.recorded[:, : inside.size]
        for name in ("finals", "measures", "ends", "endings", "whys", "counts", "alone"):
            getattr(found, name)[own] = getattr(part, name)
        events.append((own[part.event_members], part.event_which, part.event_times, part.event_states))
    dataset = dataset_of(problem, axes, times, found.with_events(events), asked, columns)
    return Sweep(problem, dataset, method, options, axes, asked)


def _options(given: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the options that are axes, and the others, all of `integrate`.

    Raises
    ------
    OptionError
    """
    for name in given:
        if name not in _USUAL or name in ("trace", "ledger", "progress"):
            raise OptionError(f"a sweep has no option '{name}'{near_spelling(name, _USUAL)}", name=name,
                              location="sweep", expected="options of integrate: " + listing(_USUAL),
                              given=excerpt(given[name]))  # fmt: skip
    rtol = given.get("rtol")
    several = isinstance(rtol, list | tuple | np.ndarray)
    options = {**_USUAL, **given, "ledger": False, "progress": False}
    return ({"rtol": rtol} if several else {}), ({**options, "rtol": None} if several else options)


def _axes_of_options(methods: Iterable[str] | None, chosen: Mapping[str, Any]) -> list[Axis]:
    """Return the axes of methods and tolerances."""
    found = []
    if methods is not None:
        names = [find_method(each).name for each in methods]
        found.append(Axis("method", len(names), (Variation("method", "option", np.array(names)),)))
    for name, values in chosen.items():
        numbers = np.array(values, dtype=np.float64)
        found.append(Axis(name, numbers.size, (Variation(name, "option", numbers),)))
    return found


def _filled(problem: Problem, axes: Axes) -> Problem:
    """Return the problem with the values of the first member, so that nothing is open."""
    with quietly():
        return problem.with_(
            parameters={name: float(each[0]) for name, each in axes.columns("parameter").items()},
            initial={name: float(each[0]) for name, each in axes.columns("state").items()},
        )


def _times(problem: Problem, axes: Axes, record: Any) -> Array:
    """Return the times to record, in the direction of the run.

    Raises
    ------
    OptionError
    """
    if record is None:
        return np.empty(0)
    ends = axes.columns("interval")
    if ends:
        bounds = [*problem.interval]
        far = max if bounds[1] > bounds[0] else min
        near = min if far is max else max
        whole = (near([bounds[0], *ends.get("start", [])]), far([bounds[1], *ends.get("end", [])]))
        if isinstance(record, str | int):
            raise OptionError("members of different intervals have no common times but those of a list", name="record",
                              location="record", expected="a list of times", given=excerpt(record))  # fmt: skip
        problem = problem.with_(interval=whole)
    found = record_times(problem, record)
    if found is None:
        raise OptionError("a sweep records times, not steps", name="record", location="record",
                          expected="a count of times, a spacing, or a list; sweep.run(…) gives a member with its steps",
                          given=excerpt(record))  # fmt: skip
    return found


def _groups(
    problem: Problem, axes: Axes, times: Array, how: tuple[Any, ...]
) -> Iterator[tuple[IntArray, Group, IntArray]]:
    """Yield the members that differ in parameters and starting values alone.

    Parameters
    ----------
    problem : Problem
    axes : Axes
    times : ndarray, shape (n_times,)
    how : tuple
        Method, options, measures, whether derived quantities are kept, threads.

    Yields
    ------
    (ndarray of int64, Group, ndarray of int64)
        Their indices, and the indices of the times that lie within their interval.
    """
    method, options, asked, derived, threads = how
    settings, ends = axes.columns("option"), axes.columns("interval")
    keys = [*zip(*settings.values(), *ends.values(), strict=True)] or [()] * axes.count
    parameters, initial = axes.columns("parameter"), axes.columns("state")
    for key in dict.fromkeys(keys):
        own = np.array([k for k, each in enumerate(keys) if each == key], dtype=np.int64)
        chosen = dict(zip(settings, key, strict=False))
        interval = [*problem.interval]
        for name, end in zip(ends, key[len(settings) :], strict=True):
            interval[ENDS[name]] = float(end)
        inside = np.flatnonzero((times >= min(interval)) & (times <= max(interval)))
        record = times[inside] if inside.size else np.array([interval[1]])
        some = {
            **options,
            **{name: float(value) for name, value in chosen.items() if name != "method"},
            "record": record,
        }
        with quietly():
            here = problem.with_(interval=(interval[0], interval[1])) if ends else problem
        yield (
            own,
            Group(
                here,
                str(chosen["method"]) if "method" in chosen else method,
                some,
                {name: each[own] for name, each in parameters.items()},
                {name: each[own] for name, each in initial.items()},
                asked,
                derived,
                threads,
            ),
            inside,
        )
