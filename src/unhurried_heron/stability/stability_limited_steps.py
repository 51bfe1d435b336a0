"""A run in the stability region of its method: whether accuracy or stability limited its steps."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, ComplexArray, IntArray
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import RunError
from unhurried_heron.input.rules import whole
from unhurried_heron.methods.method import capabilities
from unhurried_heron.methods.stabilised import MAX_STAGES
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import StepTrajectory
from unhurried_heron.stability.eigenvalues import eigenvalues_along, rows_worth
from unhurried_heron.stability.regions import Stability, stability
from unhurried_heron.study.arguments import a_run
from unhurried_heron.text.stability_statements import limited_steps_statement

if TYPE_CHECKING:
    import pandas as pd

# The factor by which a step must be lengthened to leave the stability region for good.
_LONGER: Final = 1.25
# A step is limited by stability that, longer by the factor above, lets a decay grow by this factor.
_GROWS: Final = 1.05
# Steps that are looked at by default.
_ROWS: Final = 400
# Stretches that one sentence lists.
_NAMED: Final = 3


@dataclass(frozen=True, eq=False)
class StabilityLimitedSteps(ByValue):
    """Steps of a run, as eigenvalues of the Jacobian times their length, in the regions of the methods that took them.

    Attributes
    ----------
    regions : tuple of Stability
        Of the method; several where method or order change along the run.
    times, steps : ndarray, shape (rows,)
        Where steps that were looked at begin, and how long they are.
    z : ndarray of complex, shape (rows, n_states)
        h lambda for each mode; of very large systems for the fastest alone.
    which : ndarray of int, shape (rows,)
        The index of each step's region.
    limited : ndarray of bool, shape (rows,)
        Whether stability held the step back: one a quarter longer would let a decaying mode grow.
    counts : ndarray of int, shape (rows,)
        How many steps of the run each row stands for.
    """

    regions: tuple[Stability, ...]
    times: Array = field(repr=False)
    steps: Array = field(repr=False)
    z: ComplexArray = field(repr=False)
    which: IntArray = field(repr=False)
    limited: BoolArray = field(repr=False)
    counts: IntArray = field(repr=False)
    title: str = ""
    unit: str = ""

    @property
    def share(self) -> float:
        """The share of the run's steps that stability limited, from 0 to 1."""
        total = float(self.counts.sum())
        return float(self.counts[self.limited].sum() / total) if total else 0.0

    @property
    def stiffness(self) -> Array:
        """How fast the fastest decay is beside the step: the largest -Re(h lambda) of each row."""
        with np.errstate(invalid="ignore"):
            fastest: Array = np.nan_to_num(-self.z.real, nan=0.0).max(axis=1, initial=0.0)
        return fastest

    def frame(self) -> pd.DataFrame:
        """Return a DataFrame, a row for each step that was looked at, with its mode that is farthest out."""
        import pandas as pd

        farthest = np.nan_to_num(np.abs(self.z)).argmax(axis=1) if self.z.shape[1] else np.zeros(0, dtype=int)
        mode = self.z[np.arange(len(farthest)), farthest]
        names = [self.regions[index].name for index in self.which]
        amplified = [self.regions[w](z) for w, z in zip(self.which, mode, strict=True)]
        return pd.DataFrame(
            {
                "time": self.times, "step": self.steps, "method": names, "real": mode.real, "imaginary": mode.imag,
                "amplification": amplified, "limited": self.limited, "steps": self.counts,
            }
        )  # fmt: skip

    def __str__(self) -> str:
        return limited_steps_statement(self)

    def intervals(self, chosen: Any = None) -> list[tuple[float, float]]:
        """Return from when to when stability held steps back (or other rows lie), a gap of a few rows left out.

        Parameters
        ----------
        chosen : ndarray of bool, shape (rows,), or None
            Which rows; None: those that stability limited.

        Returns
        -------
        list[tuple[float, float]]
        """
        rows = np.flatnonzero(self.limited if chosen is None else chosen)
        if not rows.size:
            return []
        parts = np.split(rows, np.flatnonzero(np.diff(rows) > 3) + 1)
        return [(float(self.times[p[0]]), float(self.times[p[-1]] + self.steps[p[-1]])) for p in parts]


def stability_limited_steps(run: Run, *, rows: int = _ROWS) -> StabilityLimitedSteps:
    """Lay the steps of a run into the stability region of its method.

    Parameters
    ----------
    run : Run
        With a ledger; where one method of one order took all steps, every step kept or a fixed step do as well.
    rows : int
        At how many steps at most to look, evenly among all; fewer of large systems.

    Returns
    -------
    StabilityLimitedSteps

    Raises
    ------
    OptionError
        This is no run.
    RunError
        The run kept neither steps nor a ledger, or no ledger where several methods, orders or stages took its steps.
    MethodError
        The method is not in the list, or does not tell its stability function.
    """
    run = a_run(run, "stability_limited_steps")
    rows = whole(1, 1_000_000)(rows, "rows", "stability_limited_steps")
    begins, lengths, kinds = _steps_of(run)
    most = rows_worth(run.problem.model.layout.size, rows)
    kept = run.data.trajectory
    if isinstance(kept, StepTrajectory):
        chosen = _evenly(begins.size, most)
        states = run.at(begins[chosen]) if chosen.size else np.empty((0, run.problem.model.layout.size))
    else:
        # States are known at recorded times only: the steps under way at these times are judged.
        sign = 1.0 if run.ending.time >= run.problem.interval[0] else -1.0
        inside = np.flatnonzero(sign * (kept.times - run.ending.time) < 0.0)
        indices = np.searchsorted(sign * begins, sign * kept.times[inside], side="right") - 1
        thin = _evenly(inside.size, most)
        chosen, states = np.maximum(indices[thin], 0), kept.states[inside[thin]]
    counts = np.diff(np.append(chosen, begins.size)) if chosen.size else chosen
    regions = _regions(run, kinds[chosen])
    names = list(regions)
    which = np.array([names.index(tuple(kind)) for kind in kinds[chosen].tolist()], dtype=np.int64)
    z = eigenvalues_along(run, begins[chosen], states) * lengths[chosen][:, None]
    limited = np.zeros(chosen.size, dtype=bool)
    # where stages are as many as a step needs, only their most can hold it back
    for index, region in enumerate(regions.values()):
        if not 0 < names[index][2] < MAX_STAGES:
            limited[which == index] = decays_that_grow(region, _LONGER * z[which == index], _GROWS)
    return StabilityLimitedSteps(
        tuple(regions.values()), begins[chosen], lengths[chosen], z, which, limited, counts,
        run.problem.title, run.problem.units.get("t", ""),
    )  # fmt: skip


def decays_that_grow(region: Stability, z: Any, most: float = 1.0 + 1e-9) -> BoolArray:
    """Whether a method amplifies a decaying mode by more than ``most``, shape (rows,).

    Parameters
    ----------
    region : Stability
    z : ndarray of complex, shape (rows, n_modes)
        h lambda.
    most : float, optional

    Returns
    -------
    ndarray of bool
    """
    decaying = z.real < 0.0
    with np.errstate(invalid="ignore"):
        grown = np.asarray(region(np.where(decaying, z, 0.0)))
    growing: BoolArray = (decaying & (grown > most)).any(axis=1)
    return growing


def _evenly(count: int, most: int) -> IntArray:
    return np.unique(np.linspace(0, count - 1, min(count, most)).astype(np.int64)) if count else np.empty(0, np.int64)


def _steps_of(run: Run) -> tuple[Array, Array, Any]:
    """Return start and length of every accepted step, and (member, order, stages) of each, int64 (steps, 3).

    Stages are 0 where a method has its own number.
    """
    rows: Any = run.data.ledger
    if rows is not None:
        good = np.flatnonzero(rows["accepted"])
        chosen = np.array([_takes_what_it_needs(method) for method in run.data.methods])[rows["member"][good]]
        stages = np.where(chosen, rows["iterations"][good], 0)
        return (
            rows["time"][good],
            rows["step"][good],
            np.column_stack([rows["member"][good], rows["order"][good], stages]),
        )
    kept = run.data.trajectory
    known = _known_without_ledger(run.data.methods)
    if isinstance(kept, StepTrajectory) and known:
        begins, lengths = kept.starts, kept.steps
    elif run.options["step"] is not None and known:
        start, end = run.problem.interval[0], run.ending.time
        lengths = np.full(run.tally.accepted, np.copysign(run.options["step"], end - start))
        begins = start + np.arange(lengths.size) * lengths
    elif not known:
        raise RunError("this run kept no ledger", name="run", location="stability_limited_steps",
                       expected="ledger=True, which tells the method, order and stages of each step",
                       given="a run of several methods, orders or stages")  # fmt: skip
    else:
        raise RunError("this run kept neither its steps nor a ledger", name="run", location="stability_limited_steps",
                       expected='record="steps", or ledger=True',
                       given=f"record={run.options.get('record')!r}")  # fmt: skip
    return begins, lengths, np.zeros((lengths.size, 3), dtype=np.int64)


def _takes_what_it_needs(method: Any) -> bool:
    return capabilities(method).several_stages and not method.count


def _known_without_ledger(methods: Sequence[Any]) -> bool:
    return len(methods) == 1 and not (_takes_what_it_needs(methods[0]) or capabilities(methods[0]).several_orders)


def _regions(run: Run, kinds: Any) -> dict[tuple[int, int, int], Stability]:
    """Return the regions of the methods that took steps, by member and order."""
    found = {}
    for member, order, stages in dict.fromkeys(map(tuple, kinds.tolist())):
        method: Any = run.data.methods[member]
        several = capabilities(method).several_orders
        found[member, order, stages] = stability(
            method, order=max(order, 1 + (not method.implicit)) if several else None, stages=stages or None
        )
    return found
