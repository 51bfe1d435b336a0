"""`Run`: what an integration gives back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import RunError, excerpt, listing, near_spelling
from unhurried_heron.formulas.notation import in_one_spelling
from unhurried_heron.formulas.printing import value_text
from unhurried_heron.input.rules import FINITE
from unhurried_heron.input.values import each_of, number_array
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.columns import AT_ONCE, column_indices, columns_at, derived_at, put_together, values_by_name
from unhurried_heron.run.ending import Ending, Tally
from unhurried_heron.run.late_bindings import STUDIES
from unhurried_heron.run.queries import Queries
from unhurried_heron.run.run_data import RunData
from unhurried_heron.run.tables import event_table, ledger_table, state_table, switch_table, with_complex_columns
from unhurried_heron.run.trajectory import RecordedTrajectory
from unhurried_heron.text.document import Document

if TYPE_CHECKING:
    import pandas as pd


def _no_times(given: object, location: str) -> RunError:
    return RunError("these are no times", name="t", location=location, expected="a time, or an array of times",
                    given=excerpt(given))  # fmt: skip


@dataclass(frozen=True, eq=False)
class Run(Queries, ByValue):
    """The outcome of `integrate`: a solution that can be read, evaluated and judged.

    Attributes
    ----------
    problem : Problem
        What was integrated.
    method : str
        Name of the method.
    options : mapping
        Tolerances or step, and what to record, as they were used.
    ending : Ending
        Why and where it ended.
    tally : Tally
        Counts of work.
    method_selection : str
        Of a method that chooses along the run: what it took, and why, in a sentence.
    data : RunData
        The solution, events, attempts and switches as arrays, from which all of the tables below are made.
    """

    problem: Problem
    method: str
    options: Mapping[str, Any]
    ending: Ending
    tally: Tally
    data: RunData = field(repr=False)
    method_selection: str = ""

    def __getstate__(self) -> dict[str, Any]:
        # Cached answers are not pickled.
        return {each.name: getattr(self, each.name) for each in fields(self)}

    def compared(self) -> tuple[Any, ...]:
        """Return what makes two runs equal: problem, options, ending, counts, and all that was recorded."""
        recorded = (self.times, self.states, *self.data.recorded)
        return (self.problem, self.method, self.options, self.ending, self.tally, self.method_selection, *recorded)

    def with_data(self, **changed: Any) -> Run:
        """Return the run with some fields of its `RunData` changed.

        Parameters
        ----------
        **changed : object
            Fields of `RunData`.

        Returns
        -------
        Run
        """
        return replace(self, data=replace(self.data, **changed))

    @property
    def times(self) -> Array:
        """Recorded times, shape (n_times,): the accepted steps unless ``record`` said otherwise, jumps twice."""
        return self.data.trajectory.times

    @property
    def states(self) -> Array:
        """Recorded states, shape (n_times, n_states)."""
        return self.data.trajectory.states

    @property
    def columns(self) -> tuple[str, ...]:
        """Names of the states, derived quantities and modes, in the order of tables."""
        return (*self.problem.states, *self.problem.derived, *self.modes)

    @property
    def modes(self) -> tuple[str, ...]:
        """Names of the parameters that events changed."""
        return self.data.event_log.changed_modes

    def __getitem__(self, name: str) -> Array:
        """Return the recorded values of a state, derived quantity or mode, (n_times,), or (n_times, …) if indexed.

        They are complex where a state is.

        Raises
        ------
        RunError
            There is no such state or derived quantity.
        """
        model = self.problem.model
        if isinstance(name, str):
            found = model.layout.take(name, self.states)
            if found is None:
                found = model.derived_layout.take(name, self._derived)
            if found is not None:
                return np.asarray(found)
        columns = self.columns[self.problem.model.layout.size :]
        if isinstance(name, str) and in_one_spelling(name) in columns:
            return self._derived[:, columns.index(in_one_spelling(name))]
        self._refuse(name, "run[…]")

    def _refuse(self, name: object, location: str = "run.at") -> NoReturn:
        raise RunError(
            f"there is no state or derived quantity '{name}'{near_spelling(str(name), self.columns)}",
            name=str(name),
            location=location,
            expected="one of " + listing(self.columns),
            given=excerpt(name),
        )

    @cached_property
    def _derived(self) -> Array:
        return derived_at(self, self.times, self.states, self.data.trajectory.are_before)

    def at(self, t: Any, names: str | Sequence[str] | None = None, *, side: str = "after") -> Array:
        """Evaluate the solution anywhere in the run.

        Parameters
        ----------
        t : float or array of shape (n_times,), or str
            Times between the start and where the run ended; one of them may be said with a unit, "2 h".
        names : str or sequence of str, optional
            States, derived quantities and modes to return, complex ones as complex numbers; by default all states in
            the order of ``run.problem.states``, complex ones as two columns.
        side : {"after", "before"}
            Which value is taken at a time at which the solution jumps.

        Returns
        -------
        ndarray
            Shape (n_states,) for one time, (n_times, n_states) for several; one column for each of ``names``, and no
            such axis for a single name.

        Raises
        ------
        RunError
            A time lies outside the run, or the steps were not kept (``record`` was a count or times).
        """
        if isinstance(t, str):
            from unhurried_heron.units.quantities import in_unit_of

            t = in_unit_of(t, self.problem.units.get("t", ""), "run.at")
        times = number_array(t)
        if times is None:
            raise _no_times(t, "run.at")
        if side not in ("after", "before"):
            raise RunError("a jump has two sides", name="side", location="run.at", expected='"after" or "before"',
                           given=excerpt(side))  # fmt: skip
        flat, before = np.ascontiguousarray(times.ravel()), side == "before"
        if names is None:
            values = self.data.trajectory.at(flat, before=before)
        else:
            indices = [column_indices(self, name) or self._refuse(name) for name in each_of(names)]
            values = put_together(columns_at(self, flat, [k for each in indices for k in each], before), indices)
            if isinstance(names, str):
                return values[0, 0] if times.ndim == 0 else values.reshape(times.shape)
        return values[0] if times.ndim == 0 else values.reshape(*times.shape, values.shape[-1])

    def recorded(self, times: int | Sequence[Any]) -> Run:
        """Return the run with the states at a count of equally spaced times, or at a list, in place of its steps.

        Parameters
        ----------
        times : int or sequence of float or str

        Returns
        -------
        Run
        """
        wanted = self.table(times).index.to_numpy()
        last = self.data.trajectory
        kept = RecordedTrajectory(wanted, self.at(wanted), last.end_time, last.end_state, last.jumps)
        return replace(self, options={**self.options, "record": times}, data=replace(self.data, trajectory=kept))

    def extend(self, to: float | str) -> Run:
        """Go on from the end of the run with the same options, and return one longer run.

        Parameters
        ----------
        to : float or str
            The new end, beyond the old one in the direction of the run; or a time before its start, to which the
            solution is continued backwards from there.

        Returns
        -------
        Run

        Raises
        ------
        RunError
            The time lies within the run, or the steps were not kept.
        """
        start, end = float(self.data.steps("run.extend").times[0]), self.data.trajectory.end_time
        time = self._time(to, "run.extend")
        if (
            self.data.continuation is None
            or not FINITE.holds(time)
            or min(start, end) <= float(time) <= max(start, end)
        ):
            raise RunError(
                "there is nothing to go on to",
                name="to",
                location="run.extend",
                expected=f"a time before {min(start, end):.12g} or after {max(start, end):.12g}",
                given=excerpt(to),
            )
        return self.data.continuation(self, float(time))

    @cached_property
    def final(self) -> dict[str, Any]:
        """State and derived quantities where the run ended, by name: numbers, complex ones where a state is."""
        return values_by_name(self, self.final_numbers)

    @cached_property
    def final_numbers(self) -> dict[str, float]:
        """The values of all columns where the run ended, by name."""
        trajectory = self.data.trajectory
        state = trajectory.end_state
        derived = derived_at(self, np.array([trajectory.end_time]), state[None, :])[0]
        return dict(zip(self.columns, [*state.tolist(), *derived.tolist()], strict=True))

    def exact_at(self, times: Any) -> dict[str, Array]:
        """Return the closed forms at times, shape (n_times,) for each state that has one; empty without any.

        Parameters
        ----------
        times : array_like, shape (n_times,)

        Returns
        -------
        dict of str to ndarray, shape (n_times,)

        Raises
        ------
        RunError
        """
        from unhurried_heron.codegen.system import exact_rows

        wanted = number_array(times, 1)
        if wanted is None:
            raise _no_times(times, "run.exact_at")
        return exact_rows(self.problem, wanted.ravel())

    def frame(self, *, exact: bool = False, parts: bool = False) -> pd.DataFrame:
        """Return a DataFrame of states and derived quantities, indexed by time.

        Parameters
        ----------
        exact : bool
            Whether to add, for each state that has a closed form, ``x exact``, ``x error`` (computed less exact),
            ``x relative`` and ``x per cent``.
        parts : bool
            Whether complex states stand as two columns of real numbers, ``re(z)`` and ``im(z)``, not as one.

        Returns
        -------
        DataFrame

        Raises
        ------
        RunError
            Exact values are asked for, and the problem has no closed form.
        """
        table = state_table(self, slice(None), self._derived, exact=exact)
        return table if parts else with_complex_columns(table, self)

    def frames(self, *, exact: bool = False, parts: bool = False) -> Iterator[pd.DataFrame]:
        """Return the rows of `frame` part by part, in order, so that a long run is never one table in memory.

        At least one part, which may have no rows.

        Parameters
        ----------
        exact, parts : bool, optional
            As for `frame`.

        Yields
        ------
        DataFrame
        """
        rows = max(AT_ONCE // max(len(self.columns), 1), 1)
        for first in range(0, max(self.times.size, 1), rows):
            part = slice(first, first + rows)
            before = self.data.trajectory.are_before[part]
            derived = derived_at(self, self.times[part], self.states[part], before)
            table = state_table(self, part, derived, exact=exact)
            yield table if parts else with_complex_columns(table, self)

    @property
    def events(self) -> pd.DataFrame:
        """What happened, in order: a DataFrame with ``name``, ``time`` and every state there.

        Where events change something, the states are those before, and ``… after`` those after; modes, too.
        """
        return with_complex_columns(event_table(self), self)

    @property
    def ledger(self) -> pd.DataFrame:
        """One row for each attempt: ``time``, ``step``, ``error``, ``accepted``, ``order``, ``iterations``, ``switch``.

        ``error`` is the estimate in units of the tolerance: at most 1 for an accepted step, NaN where there is none.
        ``switch`` names what a step landed on, and is empty elsewhere. Where the method chooses along the run,
        ``method`` names that of each step. ``iterations`` are Newton's, of a stabilised method its stages.

        Raises
        ------
        RunError
            The ledger was not kept, because ``record`` was a count or times.
        """
        return ledger_table(self)

    @property
    def trace(self) -> pd.DataFrame:
        """Every call of the rates, in order: ``step``, ``attempt``, ``purpose``, ``time``, the state, the rates there.

        The states are those the rates were asked at; those of the solution are among them only at the ends of steps.

        Raises
        ------
        RunError
            Nothing was traced.
        """
        if self.data.trace is None:
            raise RunError("this run kept no trace", name="trace", location="run.trace",
                           expected="integrate(…, trace=True)", given="trace=False")  # fmt: skip
        return self.data.trace.frame(self.problem.states, self.data.methods)

    @property
    def switches(self) -> pd.DataFrame:
        """The switches that were crossed, in order: ``time``, ``switch`` and the value it took (1 true, 0 false)."""
        return switch_table(self)

    def explain(self, *, seconds: float = 10.0) -> Any:
        """Say what happened, in sentences, each with its numbers: `unhurried_heron.explain` of this run.

        Parameters
        ----------
        seconds : float, optional
            The most that it may take.

        Returns
        -------
        Explanation
        """
        return STUDIES["explain"](self, seconds=seconds)

    def document(self) -> Document:
        """Return what the run came to: ending, work, events and final values."""
        from unhurried_heron.text.run_document import run_document

        return run_document(self)

    def __str__(self) -> str:
        return str(self.document())

    def __repr__(self) -> str:
        counts = f"{self.tally.accepted} steps accepted, {self.tally.refused} refused"
        final = ", ".join(f"{name} = {value_text(value, 6)}" for name, value in list(self.final.items())[:4])
        more = " …" if len(self.columns) > 4 else ""
        title = f" of '{self.problem.title}'" if self.problem.title else ""
        advice = f"\n {self.ending.advice}" if self.ending.advice else ""
        chosen = f"\n {self.method} {self.method_selection}" if self.method_selection else ""
        return (
            f"<Run{title} with {self.method}: {self.ending.message}{advice}{chosen}\n"
            f" {counts}, {self.tally.rate_evaluations} rate evaluations, {self.tally.seconds:.3g} s\n"
            f" at t = {self.ending.time:.6g}: {final}{more}>"
        )
