"""`sweep`: many runs of one problem in one call, and what comes back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from unhurried_heron.driver.checked_request import with_events
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.options import refuse_no_problem
from unhurried_heron.driver.recorded_times import Record
from unhurried_heron.errors import OptionError, excerpt, listing, near_spelling
from unhurried_heron.input.rules import POSITIVE, POSITIVE_COUNT, TRUTH
from unhurried_heron.methods.catalogue import DEFAULT
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.study.attempts import OnInterrupt
from unhurried_heron.sweeps.axes import ENDS, KINDS, MEMBER, Axes, read_axes
from unhurried_heron.sweeps.batches import Shared
from unhurried_heron.sweeps.dataset import OCCURRENCE, TIME, dataset_of, with_axes
from unhurried_heron.sweeps.draws import Draws
from unhurried_heron.sweeps.execution import executor_of, march_in_batches
from unhurried_heron.sweeps.folder import Folder
from unhurried_heron.sweeps.measures import Measure, read_measures
from unhurried_heron.sweeps.outcome import NOT_RUN
from unhurried_heron.sweeps.plan import axes_of_options, common_times, filled, options_and_axes
from unhurried_heron.text.document import Document
from unhurried_heron.text.progress import ProgressBar
from unhurried_heron.text.sweep_document import sweep_document

if TYPE_CHECKING:
    import pandas as pd
    import xarray


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

    @property
    def left(self) -> int:
        """How many members did not march yet."""
        ending = self.dataset["ending"]
        return self.axes.count - int((ending != NOT_RUN).sum())

    def frame(self, *, recorded: bool = False) -> pd.DataFrame:
        """Return a row for each member: what varies, final values, measures, ending and tally.

        Parameters
        ----------
        recorded : bool
            A row for each member and recorded time instead, with states and derived quantities.

        Returns
        -------
        DataFrame
        """
        dimensions = (*self.axes.dimensions, TIME) if recorded else self.axes.dimensions
        chosen = [name for name, each in self.dataset.data_vars.items() if each.dims == dimensions]
        return self.dataset[chosen].to_dataframe().reset_index()

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
        """Return the index of a member.

        Raises
        ------
        OptionError
        """
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

    def document(self) -> Document:
        """What the sweep came to: members, what varied, endings and work."""
        return sweep_document(self)

    def __str__(self) -> str:
        return str(self.document())

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
    executor: Any = None,
    folder: str | Path | None = None,
    seconds: float | None = None,
    progress: bool | None = None,
    on_interrupt: Literal["raise", "return"] = "raise",
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
    executor : concurrent.futures.Executor, or client of dask.distributed, optional
        What carries out batches of members elsewhere, each with one thread by default.
    folder : str or Path, optional
        Where batches are kept as they are done (Zarr stores). The same call goes on where another was interrupted; what
        is larger than memory is opened by parts, along one dimension of members.
    seconds : float, optional
        After which no further batch begins; the members left have the ending "not run".
    progress : bool, optional
        Show a progress bar always or never; by default after about two seconds in a terminal.
    on_interrupt : {"raise", "return"}
        What Ctrl-C does: raise KeyboardInterrupt, or return the part done.
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
    chosen, options = options_and_axes(options)
    TRUTH(derived, "derived")
    if threads is not None:
        POSITIVE_COUNT(threads, "threads")
    if seconds is not None:
        seconds = POSITIVE(seconds, "seconds")
    if options["events"]:
        problem, options["events"] = problem.with_(events=with_events(problem.events, options["events"])), ()
    axes = Axes((*read_axes(problem, over, rows, draws), *axes_of_options(methods, chosen)))
    if not axes.axes:
        raise OptionError("nothing varies", name="over", location="sweep",
                          expected="over={name: values}, rows=… or draws=…", given="none")  # fmt: skip
    first = filled(problem, axes)
    questions = read_measures(first, problem.events, measures)
    times = common_times(first, axes, record)
    shared = Shared(problem, method, options, times, questions, derived and bool(problem.derived) and times.size > 0)
    store = None if folder is None else Folder.of(folder, shared, axes)
    found = shared.nothing_yet(0 if store else axes.count)
    found.endings[:] = NOT_RUN
    events: list[tuple[Any, Any, Any, Any]] = []
    done, bar = 0, ProgressBar(progress, f"Sweep of {problem.title or 'a problem'}", 0, axes.count, "members")
    with OnInterrupt(on_interrupt), closing(bar):
        for members, part in march_in_batches(shared, axes, executor_of(executor), store, threads, seconds):
            done += members.stop - members.start
            bar.update(done, done)
            if part is not None:
                found.take(members, part)
                own = part.event_members + members.start
                events.append((own, part.event_which, part.event_times, part.event_states))
    if store is None:
        dataset = dataset_of(problem, axes, times, found.with_events(events), questions, shared.columns)
        return Sweep(problem, dataset, method, options, axes, questions)
    store.clear()
    flat, whole = store.opened(shared, axes.count)
    if whole and flat.sizes[MEMBER] == axes.count:
        return Sweep(problem, with_axes(flat, axes), method, options, axes, questions)
    return Sweep(problem, flat, method, options, axes.flat(slice(0, axes.count)), questions)
