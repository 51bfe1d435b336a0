"""Questions to a finished run, answered from the polynomials of its steps, without integrating again."""

from __future__ import annotations

import numbers
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import RunError, excerpt
from unhurried_heron.input.event import GOING, Event, Going
from unhurried_heron.input.values import number_array
from unhurried_heron.run.columns import AT_ONCE, LARGEST, modes_at
from unhurried_heron.run.constraint_table import constraint_table
from unhurried_heron.run.period import Period
from unhurried_heron.run.room import refuse_memory
from unhurried_heron.run.run_data import RunData
from unhurried_heron.run.tables import with_complex_columns
from unhurried_heron.run.trajectory import StepTrajectory

if TYPE_CHECKING:
    import pandas as pd

    from unhurried_heron.problem.problem import Problem
    from unhurried_heron.run.piecewise_chebyshev import PiecewisePolynomial
    from unhurried_heron.run.run import Run


def _turning(values: Array, rounding: float) -> list[int]:
    """Return which values between the first and the last turn by more than rounding, as steps meet to that."""
    kept: list[int] = []
    for k in range(1, len(values) - 1):
        before = values[kept[-1]] if kept else values[0]
        if abs(values[k] - before) > rounding:
            kept.append(k)
        elif kept:  # up and down again within rounding: neither
            kept.pop()
    while kept and abs(values[kept[-1]] - values[-1]) <= rounding:
        kept.pop()
    return [k - 1 for k in kept]


class Queries:
    """What can be asked of a run that kept its steps.

    A quantity is a state or derived quantity by its name, or a formula of states, derived quantities, parameters and
    ``t``; a function of these, matched by name, where a crossing is asked for. Times may be said with a unit. What goes
    up or down, and which of two things is first, is meant in the direction of the run.
    """

    problem: Problem
    data: RunData

    if TYPE_CHECKING:

        @property
        def columns(self) -> tuple[str, ...]:
            """Names of the states and derived quantities."""

        def at(self, t: Any, names: Any = None, *, side: str = "after") -> Array:
            """Evaluate the solution.

            Parameters
            ----------
            t : float, str or array
            names : str or sequence of str, or None, optional
            side : str, optional
                "after" or "before".
            """

        @property
        def modes(self) -> tuple[str, ...]:
            """Names of the parameters that events changed."""

    def crossings(self, what: str | Event | Callable[..., Any], *, going: Going = "either") -> pd.DataFrame:
        """Return where an equation becomes true along the run.

        What only touches is left out, and so is what holds from the very start; what is reached at the very end
        counts.

        Parameters
        ----------
        what : str, Event or callable
            An equation, ``"level = 1"``, or a relation, ``"level > 1"``, for where it becomes true; or an event of the
            run, or its name: where that happened, with the states before.
        going : {"up", "down", "either"}
            Which way the left side must pass the right one.

        Returns
        -------
        DataFrame
            ``time``, ``going``, and every state and derived quantity there.

        Raises
        ------
        RunError
            The steps were not kept.
        FormulationError
            The text cannot be read, or uses unknown names.
        """
        for index, watched in enumerate(self.data.events):
            # The direction of each occurrence is not kept for events that go both ways.
            same = what == watched if isinstance(what, Event) else isinstance(what, str) and what == watched.name
            if same and (watched.timed or going in ("either", watched.going)):
                return self._happenings_of(index)
        event = what if isinstance(what, Event) else Event(what, going=going)
        _, times, signs = self._pieces(event, "run.crossings").changes()
        last = self._reached_at_end(event)
        if last is not None and not (times.size and times[-1] == last[0]):
            times, signs = np.append(times, last[0]), np.append(signs, last[1])
        wanted = np.ones(times.size, dtype=bool) if event.going == "either" else signs == GOING[event.going]
        frame = self._rows(times[wanted])
        frame.insert(1, "going", np.where(signs[wanted] > 0, "up", "down"))
        return frame

    def _happenings_of(self, index: int) -> pd.DataFrame:
        """Return where an event of the run happened, with the states before."""
        event = self.data.events[index]
        self.data.steps("run.crossings")
        frame = self._rows(self.data.event_log.times[self.data.event_log.which == index], side="before")
        frame.insert(1, "going", event.going)
        return frame

    def extremes(self, quantity: str) -> pd.DataFrame:
        """Return where a quantity turns, kinks included; the ends of the run are none of these times.

        Returns
        -------
        DataFrame
            ``time``, ``kind`` ("maximum" or "minimum"), ``value``, and every state and derived quantity there.
        """
        pieces = self._pieces(quantity, "run.extremes")
        _, times, signs = pieces.derivative().changes()
        ends = np.array(self._window(None, "run.extremes"))
        values = np.clip(self.function_of(quantity)(np.concatenate([ends[:1], times, ends[1:]])), -LARGEST, LARGEST)
        turning = _turning(values, 64 * np.finfo(float).eps * float(np.abs(values).max(initial=0.0)))
        frame = self._rows(times[turning])
        frame.insert(1, "kind", np.where(signs[turning] < 0, "maximum", "minimum"))
        frame.insert(2, "value", values[1:-1][turning])
        return frame

    def integral(self, quantity: str, between: tuple[Any, Any] | None = None) -> float:
        """Return the integral of a quantity over time, from one time to another; by default over the whole run.

        It is that of the solution's polynomials, and not of a table.
        """
        low, high = self._window(between, "run.integral")
        amount = self._pieces(quantity, "run.integral").integral(min(low, high), max(low, high))
        if not np.isfinite(amount):
            raise RunError(f"'{quantity}' has no finite value all along the window", name=quantity,
                           location="run.integral", expected="a quantity that is finite there",
                           given=f"from {low:.6g} to {high:.6g}")  # fmt: skip
        return amount if high >= low else -amount

    def unit_of(self, quantity: str, *, integral: bool = False) -> str:
        """Return the unit of a quantity, or of its integral over time; empty where none is known.

        Returns
        -------
        str
            In the words of the problem where one of its units is that.
        """
        from unhurried_heron.problem.dimensions import unit_of

        self.function_of(quantity)
        return unit_of(self.problem, quantity, times=int(integral))

    def mean(self, quantity: str, between: tuple[Any, Any] | None = None) -> float:
        """Return the mean of a quantity over time."""
        low, high = self._window(between, "run.mean")
        if low == high:
            raise RunError("there is no mean over no time", name=quantity, location="run.mean",
                           expected="a window that lasts", given=excerpt(between))  # fmt: skip
        return self.integral(quantity, (low, high)) / (high - low)

    def period(self, what: str | Event | Callable[..., Any], *, going: Going = "up") -> Period:
        """Return how long it takes from one crossing to the next.

        Raises
        ------
        RunError
            There are not two crossings.
        """
        times = self.crossings(what, going=going)["time"].to_numpy()
        if times.size < 2:
            raise RunError(f"there is no period: it was {'crossed once' if times.size else 'never crossed'}",
                           name=str(what), location="run.period", expected="two crossings or more",
                           given=f"{times.size}")  # fmt: skip
        gaps = np.abs(np.diff(times))
        return Period(float(gaps.mean()), float(gaps.std()), float(gaps.min()), float(gaps.max()), gaps.size)

    def settles(self, quantity: str, within: float | str, to: float | str | None = None) -> float:
        """Return the time from which on a quantity stays within a band.

        Parameters
        ----------
        quantity : str
        within : float or str
            Half the width of the band, "2 cm".
        to : float or str, optional
            The middle of the band; by default the value at the end of the run.

        Returns
        -------
        float

        Raises
        ------
        RunError
            It is outside the band at the end.
        """
        from unhurried_heron.units.quantities import number_in

        pieces, value = self._pieces(quantity, "run.settles"), self.function_of(quantity)
        unit = self.problem.units.get(quantity, "")
        width = number_in(within, unit, "run.settles, within")
        low, high = self._window(None, "run.settles")
        end = float(value(np.array([high]))[0])
        middle = end if to is None else number_in(to, unit, "run.settles, to")
        if not np.isfinite(end):
            raise RunError(f"'{quantity}' has no finite value at the end", name=quantity, location="run.settles",
                           expected="a quantity that is finite there", given=f"{end:.6g}")  # fmt: skip
        if not width > 0.0:
            raise RunError("a band needs a width", name="within", location="run.settles",
                           expected="a number above 0", given=excerpt(within))  # fmt: skip
        if abs(end - middle) > width:
            raise RunError(f"'{quantity}' has not settled: it ends outside the band", name=quantity,
                           location="run.settles", expected=f"at most {width:.6g} from {middle:.6g}",
                           given=f"{end:.6g}")  # fmt: skip
        edges = [pieces.minus(middle + side * width).changes()[1] for side in (-1.0, 1.0)]
        last = [float(times[-1]) for times in edges if times.size]
        return low if not last else (max(last) if high >= low else min(last))

    def section(self, what: str | Event | Callable[..., Any], *, going: Going = "up") -> pd.DataFrame:
        """Return the points of a Poincaré section: the states where a surface is crossed one way."""
        return self.crossings(what, going=going).drop(columns="going")

    def where(self, relation: str) -> pd.DataFrame:
        """Return the intervals of time in which a relation such as ``"level > 1"`` holds.

        Returns
        -------
        DataFrame
            ``from``, ``to`` and ``length`` of each interval.
        """
        import pandas as pd

        event = Event(relation)
        if event.going == "either":
            raise RunError("an equation holds at times, not in intervals", name=relation, location="run.where",
                           expected='a relation such as "level > 1"', given=excerpt(relation))  # fmt: skip
        begins, times, signs = self._pieces(event, "run.where").changes()
        edges, sides = [self._window(None, "run.where")[0], *times.tolist()], [begins, *signs.tolist()]
        ends = [*edges[1:], self._window(None, "run.where")[1]]
        rows = [(a, b, abs(b - a)) for a, b, side in zip(edges, ends, sides, strict=True) if side == GOING[event.going]]
        return pd.DataFrame(rows, columns=["from", "to", "length"])

    @property
    def constraints(self) -> pd.DataFrame:
        """How well written constraints hold at the times of the run: what is to be zero, ``missed by``, and ``at``."""
        return constraint_table(cast("Run", self))

    @property
    def watched(self) -> pd.DataFrame:
        """One row for each event: how often it happened, and how near what never happened came.

        ``event``, ``count``, ``first``, ``last``; ``closest``: the value of left less right nearest to zero, and the
        time ``at`` which that was, and every state there (before it acts). NaN where there is none, and of what never
        happened also where the steps were not kept.
        """
        import pandas as pd

        rows = []
        for index, event in enumerate(self.data.events):
            own = self.data.event_log.which == index
            times = self.data.event_log.times[own]
            if times.size:
                nearest, when, state = 0.0, float(times[0]), self.data.event_log.before[own][0]
            else:
                nearest, when = self.closest_approach(event)
                known = np.isfinite(when)
                state = self.at(when) if known else np.full(self.problem.model.layout.size, np.nan)
            ends = (float(times[0]), float(times[-1])) if times.size else (np.nan, np.nan)
            rows.append((event.name, times.size, *ends, nearest, when, *state.tolist()))
        columns = ["event", "count", "first", "last", "closest", "at", *self.problem.states]
        return with_complex_columns(pd.DataFrame(rows, columns=columns), self)

    def closest_approach(self, event: Event) -> tuple[float, float]:
        """Return the value nearest to zero of what an event looks at, and when that was."""
        if not isinstance(self.data.trajectory, StepTrajectory) or event.timed:
            return np.nan, np.nan
        pieces = self._pieces(event, "run.watched")
        times = np.concatenate([pieces.starts, pieces.derivative().changes()[1], [self.data.trajectory.end_time]])
        values = self.function_of(event)(times)
        nearest = int(np.argmin(np.abs(values)))
        return float(values[nearest]), float(times[nearest])

    def table(self, times: int | Sequence[Any]) -> pd.DataFrame:
        """Return states and derived quantities at times: a count of equally spaced ones, or a list."""
        low, high = self._window(None, "run.table")
        wanted: Any = times
        if isinstance(wanted, numbers.Integral) and not isinstance(wanted, bool):
            if wanted < 2:
                raise RunError("too few times for a table", name="times", location="run.table",
                               expected="a count of at least 2", given=excerpt(times))  # fmt: skip
            refuse_memory(int(wanted), 3 * (len(self.columns) + 1), "run.table")
            wanted = np.linspace(low, high, int(wanted))
        elif isinstance(wanted, list | tuple):
            wanted = [self._time(each, "run.table") for each in wanted]
        rows = number_array(wanted, 1)
        if rows is None or rows.ndim != 1:
            raise RunError("these are no times", name="times", location="run.table",
                           expected="a count, or a list of times", given=excerpt(times))  # fmt: skip
        return self._rows(rows).rename(columns={"time": "t"}).set_index("t")

    def _time(self, value: Any, location: str) -> Any:
        from unhurried_heron.units.quantities import in_unit_of

        return in_unit_of(value, self.problem.units.get("t", ""), location)

    def _window(self, between: tuple[Any, Any] | None, location: str) -> tuple[float, float]:
        """Return the times of a window; of the whole run where there is none."""
        trajectory = self.data.steps(location)
        begin = float(trajectory.starts[0]) if trajectory.starts.size else trajectory.end_time
        whole = begin, trajectory.end_time
        if between is None:
            return whole
        try:
            low, high = (float(self._time(each, location)) for each in between)
        except (TypeError, ValueError, OverflowError):
            low = high = np.nan
        if not (min(whole) <= min(low, high) and max(low, high) <= max(whole)):
            raise RunError("the window does not lie within the run", name="between", location=location,
                           expected=f"two times from {min(whole):.12g} to {max(whole):.12g}",
                           given=excerpt(between))  # fmt: skip
        return low, high

    def _rows(self, times: Array, side: str = "after") -> pd.DataFrame:
        import pandas as pd

        frame = pd.DataFrame(self.at(times, list(self.columns), side=side), columns=list(self.columns))
        frame.insert(0, "time", times)
        return with_complex_columns(frame, self)

    def function_of(self, queries: str | Event) -> Callable[[Array], Array]:
        """Return the quantity as a function of times, shape (n,)."""
        if not isinstance(queries, str | Event):
            raise RunError("this is no quantity", name="quantity", location="a question to a run",
                           expected='a name or a formula, "inflow - spill"', given=excerpt(queries))  # fmt: skip
        if isinstance(queries, str) and queries in self.columns:
            return lambda times: self.at(times, queries)
        from unhurried_heron.codegen.evaluate_many import evaluate_rows
        from unhurried_heron.codegen.system import native_queries

        made = native_queries(self.problem, queries)

        def values(times: Array) -> Array:
            parts = [np.empty(0)]
            for part in np.array_split(times, max(times.size * self.problem.model.layout.size // AT_ONCE, 1)):
                found = evaluate_rows(made, part, self.at(part), modes_at(self, part))
                if len(found) < part.size:
                    made.raise_pending("what was asked")
                parts.append(found[:, 0])
            return np.concatenate(parts)

        return values

    def _pieces(self, queries: str | Event, location: str) -> PiecewisePolynomial:
        trajectory, counts = self.data.steps(location), self._pieces_known
        if not isinstance(queries, str | Event) or queries not in counts:
            # polynomials are loaded when something is asked
            from unhurried_heron.run.piecewise_chebyshev import pieces_of

            starts = trajectory.starts
            lengths = np.append(starts[1:], trajectory.end_time) - starts
            # A step that was cut where it began has no length.
            lasting = lengths != 0.0
            counts[queries] = pieces_of(self.function_of(queries), starts[lasting], lengths[lasting])
        return counts[queries]

    @cached_property
    def _pieces_known(self) -> dict[Any, PiecewisePolynomial]:
        """Quantities that were asked for before."""
        return {}

    def _reached_at_end(self, event: Event) -> tuple[float, float] | None:
        """Return the end of the run and the direction, where the equation becomes true just there."""
        pieces, end = self._pieces(event, "run.crossings"), self.data.trajectory.end_time
        if not pieces.starts.size:
            return None
        noise = 64 * np.finfo(float).eps * float(np.abs(pieces.coefficients[-1]).max())
        before = float(pieces.coefficients[-1][0])
        value = float(self.function_of(event)(np.array([end]))[0])
        return (end, -np.sign(before)) if abs(value) <= noise and before != 0.0 else None
