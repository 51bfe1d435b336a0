"""Lyapunov exponents: how fast small differences between solutions grow or shrink in the long run.

By the variational equations, with vectors that are made orthogonal again and again: G. Benettin, L. Galgani,
A. Giorgilli and J.-M. Strelcyn, Meccanica 15 (1980) 9-30.
"""

from __future__ import annotations

import time as clock
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final, Literal

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.options import refuse_no_problem
from unhurried_heron.dynamics.march_options import march_options
from unhurried_heron.dynamics.search import is_forced
from unhurried_heron.dynamics.variational import with_vectors
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import OptionError, RunError, excerpt
from unhurried_heron.input.rules import POSITIVE, POSITIVE_COUNT, whole
from unhurried_heron.problem.consistency import beginning_near, free_directions, is_constrained, with_rates_for_all
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.text.document import Document
from unhurried_heron.text.exponents_document import exponents_document

if TYPE_CHECKING:
    import pandas as pd

Verdict = Literal["settles", "cycles", "quasi-periodic", "chaotic", "not certain"]
# Vectors are made orthogonal again before they grow, or grow apart, by more than this power of e: within rounding of
# each other they would tell nothing.
_GROWTH: Final = 8.0
# Blocks of time whose means tell how certain the mean is.
_BLOCKS: Final = 20
# Student's factor for 95 % and as many blocks.
_STUDENT: Final = 2.093
# Turns between two looks at whether it is enough.
_LOOK: Final = 200
# Turns at least.
_FEWEST: Final = 400
# The share of the time that passes before anything is counted.
_TRANSIENT: Final = 0.2
# An exponent counts as zero within this many parts of the time that was looked at.
_ZERO: Final = 5.0
# What is called zero may be as large as this share of how fast anything changes.
_FLAT: Final = 0.02
# Relative tolerance of the march.
_RTOL: Final = 1e-7
_SEED: Final = whole(0)


@dataclass(frozen=True, eq=False)
class Exponents(ByValue):
    """Lyapunov exponents of a solution.

    Attributes
    ----------
    problem : Problem
    values : ndarray, shape (n_exponents,)
        The largest first, in the reciprocal of the problem's unit of time.
    half_widths : ndarray, shape (n_exponents,)
        Of intervals of 95 % confidence around them, from means over blocks of time.
    time : float
        Over which they were found.
    verdict : {"settles", "cycles", "quasi-periodic", "chaotic", "not certain"}
    dimension : float or None
        After Kaplan and Yorke (1979), of the set that solutions approach; None where exponents are missing for it.
    convergence : ndarray, shape (n_turns, n_exponents)
        What they would have been with less time.
    times : ndarray, shape (n_turns,)
        These times.
    """

    problem: Problem = field(repr=False)
    values: Array
    half_widths: Array
    time: float
    verdict: Verdict
    dimension: float | None
    convergence: Array = field(repr=False)
    times: Array = field(repr=False)

    def frame(self) -> pd.DataFrame:
        """Return a row for each: value and half the width of its interval."""
        import pandas as pd

        return pd.DataFrame({"value": self.values, "half width": self.half_widths})

    def document(self) -> Document:
        """What they say."""
        return exponents_document(self)

    def __str__(self) -> str:
        return str(self.document())


def exponents(
    problem: Problem, count: int | None = None, *, accuracy: float = 0.005, seconds: float = 10.0, seed: int = 0,
    method: str = "auto", **options: Any,
) -> Exponents:  # fmt: skip
    """Find Lyapunov exponents, and whether the solution settles, cycles or is chaotic.

    Parameters
    ----------
    problem : Problem
        Without jumps; constraints may stand among written equations. The solution begins as it says, and a fifth of
        the time passes before anything is counted.
    count : int, optional
        How many, the largest first; by default all.
    accuracy : float
        They are sought until their intervals are this share of the largest in size, and that of the first this share
        of its own,
    seconds : float
        or this time has passed.
    seed : int
        Of the first vectors.
    method : str
    **options
        As for `integrate`.

    Returns
    -------
    Exponents

    Raises
    ------
    OptionError
        The rates jump, events act, or the count is more than there are states.
    RunError
        The solution ends before anything can be counted.

    Examples
    --------
    >>> tank = Problem.from_text("x' = sin(x) - 2*x", initial={"x": 1}, interval=(0, 1))
    >>> exponents(tank, accuracy=0.02, seconds=1.0).verdict
    'settles'
    """
    refuse_no_problem(problem, "exponents")
    problem.refuse_open()
    POSITIVE(accuracy, "accuracy", "exponents")
    POSITIVE(seconds, "seconds", "exponents")
    _SEED(seed, "seed", "exponents")
    n = free_directions(problem, problem.start).shape[1]
    wanted = n if count is None else POSITIVE_COUNT(count, "count", "exponents")
    if wanted > n:
        free = " that no constraint tells" if n < problem.model.layout.size else ""
        raise OptionError("there are fewer exponents", name="count", location="exponents",
                          expected=f"at most {n}, one for each state{free}", given=excerpt(count))  # fmt: skip
    march = _Vectors(problem, wanted, seed, {"rtol": _RTOL, **march_options(options, "exponents"), "method": method})
    begun, turns = clock.perf_counter(), list[Array]()
    lengths = list[float]()
    while True:
        for _ in range(_LOOK):
            lengths.append(abs(march.turn))
            turns.append(march.go_on())
            if len(turns) >= 2 * _BLOCKS and clock.perf_counter() - begun > seconds:
                break
        logs, spans = np.array(turns), np.array(lengths)
        first = _first(spans)
        values, widths = _means(logs[first:], spans[first:])
        # the largest to its own size, unless it is zero
        largest = abs(values[0]) if abs(values[0]) > 2.0 * widths[0] else np.abs(values).max()
        enough = len(turns) >= _FEWEST and widths[0] <= accuracy * largest
        enough = enough and bool((widths <= accuracy * np.abs(values).max()).all())
        if enough or clock.perf_counter() - begun > seconds:
            break
    kept, total = np.cumsum(spans[first:]), float(spans[first:].sum())
    convergence = np.cumsum(logs[first:], axis=0) / kept[:, None]
    # in the order of what they come to
    convergence = convergence[:, np.argsort(-convergence[-1])]
    forced = is_forced(problem)
    rate = float(np.abs(problem.jacobian_at(problem.interval[0], march.state)).max(initial=0.0))
    # what is not told from zero counts as zero in a dimension
    counted = np.where(np.abs(values) <= np.maximum(widths, _ZERO / total), 0.0, values)
    verdict = _verdict(values, np.maximum(widths, _ZERO / total), rate, forced=forced)
    return Exponents(problem, values, widths, total, verdict, _dimension(counted, n), convergence, kept)


class _Vectors:
    """A state with vectors beside it, which go on turn by turn."""

    def __init__(self, problem: Problem, count: int, seed: int, options: dict[str, Any]) -> None:
        self._held = problem if is_constrained(problem) else None
        flow = problem if self._held is None else with_rates_for_all(problem) or problem
        self._problem, self._count, self._options = with_vectors(flow, count), count, options
        self._names, n = self._problem.states, problem.model.layout.size
        start, end = problem.interval
        self._time, self.turn, self.state, self._longest = start, (end - start) / 100.0, problem.start, end - start
        self._forced = is_forced(problem)
        draw = np.random.default_rng(seed).standard_normal((n, count))
        self._vectors = np.linalg.qr(self._along(draw))[0]

    def _along(self, vectors: Array) -> Array:
        """Return vectors without what leads off the constraints."""
        if self._held is None:
            return vectors
        free = free_directions(self._held, self.state)
        along: Array = free @ (free.T @ vectors)
        return along

    def go_on(self) -> Array:
        """March for a turn; return by what powers of e the vectors grew, shape (count,)."""
        begin = np.concatenate([self.state, self._vectors.T.ravel()])
        # where the time does not matter, calls with one interval are ready calls
        start = self._time if self._forced else self._problem.interval[0]
        with quietly():
            here = self._problem
            if start != here.interval[0] or here.interval[1] - start != self.turn:
                self._problem = here = here.with_(interval=(start, start + self.turn))
            initial = dict(zip(self._names, begin.tolist(), strict=True))
            run = integrate(here, record=2, initial=initial, **self._options)
        if not run.ending.as_requested:
            raise RunError("the solution ends before its exponents are known", name="exponents", location="exponents",
                           expected="a solution that goes on", given=str(run.ending)[:200])  # fmt: skip
        end, n = run.data.trajectory.end_state, self.state.size
        self._time += self.turn
        self.state = end[:n]
        if self._held is not None:
            self.state = beginning_near(self._held, self.state, {}).start
        vectors, grown = np.linalg.qr(self._along(end[n:].reshape(self._count, n).T))
        logs: Array = np.log(np.abs(np.diag(grown)))
        self._vectors = vectors
        most = max(float(np.abs(logs).max()), float(np.ptp(logs)))
        if most > 2.0 * _GROWTH or most < 0.5 * _GROWTH:
            self.turn = min(self.turn * min(2.0, max(0.5, _GROWTH / max(most, 1e-9))), self._longest, key=abs)
        return logs


def _first(spans: Array) -> int:
    """Return the first turn that is counted."""
    return int(np.searchsorted(np.cumsum(spans), _TRANSIENT * spans.sum()))


def _means(logs: Array, spans: Array) -> tuple[Array, Array]:
    """Return exponents, the largest first, and half the widths of their intervals.

    Parameters
    ----------
    logs : ndarray, shape (n_turns, count)
    spans : ndarray, shape (n_turns,)

    Returns
    -------
    (ndarray, ndarray), shapes (count,)
    """
    values = logs.sum(axis=0) / spans.sum()
    edges = np.searchsorted(np.cumsum(spans), np.linspace(0.0, spans.sum(), _BLOCKS + 1)[1:-1])
    blocks = [part.sum(axis=0) / lengths.sum() for part, lengths in
              zip(np.split(logs, edges), np.split(spans, edges), strict=True) if len(lengths)]  # fmt: skip
    widths = _STUDENT * np.std(blocks, axis=0, ddof=1) / np.sqrt(len(blocks))
    order = np.argsort(-values)
    return values[order], widths[order]


def _verdict(values: Array, slack: Array, rate: float, *, forced: bool) -> Verdict:
    """Return what exponents say of a solution.

    Parameters
    ----------
    values : ndarray, shape (count,)
    slack : ndarray, shape (count,)
        Within which each is not told from zero.
    rate : float
        The size of the Jacobian.
    forced : bool
        Whether the rates depend on the time: then no exponent has to be zero.

    Returns
    -------
    str
    """
    if values[0] > slack[0]:
        return "chaotic"
    if values[0] < -slack[0]:
        return "settles"
    zeros = int((np.abs(values) <= slack).sum())
    # what is not told from zero must be near it, beside how fast anything changes
    if slack[0] > _FLAT * max(float(np.abs(values).max()), rate):
        return "not certain"
    if forced:
        return "quasi-periodic" if zeros else "not certain"
    return "cycles" if zeros == 1 else "quasi-periodic"


def _dimension(values: Array, n: int) -> float | None:
    """Return the dimension after Kaplan and Yorke; None where exponents are missing for it."""
    sums = np.cumsum(values)
    if values[0] < 0.0:
        return 0.0
    negative = np.flatnonzero(sums < 0.0)
    if not negative.size:
        return float(n) if values.size == n else None
    k = int(negative[0])
    return float(k + (sums[k - 1] if k else 0.0) / abs(values[k]))
