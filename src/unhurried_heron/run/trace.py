"""Every call of the rates in a run: when, at what state, with what answer, and what for."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum, auto
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.equality import ByValue
from unhurried_heron.kernels.memory.control import Purpose
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.methods.runge_kutta import EXPLICIT

if TYPE_CHECKING:
    import pandas as pd

# Columns of the counts of the march at each call.
PURPOSE, ACCEPTED, REFUSED, STAGE, MEMBER, CODE = range(6)


class CallKind(Enum):
    """What a call of the rates was for, as a step table and a trace tell them apart."""

    START = auto()
    STARTING_STEP = auto()
    STARTER = auto()
    STAGE = auto()
    STAGE_AND_END = auto()
    END = auto()
    PREDICTION = auto()
    ITERATION = auto()
    JACOBIAN = auto()
    TIME_DERIVATIVE = auto()
    ESTIMATE = auto()
    BETWEEN = auto()

    @property
    def at_end(self) -> bool:
        """Whether the call is made at the end of a step."""
        return self in (CallKind.STAGE_AND_END, CallKind.END)

    @property
    def of_a_step(self) -> bool:
        """Whether the call belongs to the formula of a step, so that a table worked by hand has it."""
        return self in _OF_A_STEP


_OF_A_STEP: Final = {
    CallKind.STARTER, CallKind.STAGE, CallKind.STAGE_AND_END, CallKind.END, CallKind.PREDICTION, CallKind.ITERATION,
}  # fmt: skip


class Call(NamedTuple):
    """What one call was for: its kind, its text, and the stage and iteration (from 1; 0 for none)."""

    kind: CallKind
    text: str
    stage: int = 0
    iteration: int = 0


@dataclass(frozen=True, eq=False)
class Trace(ByValue):
    """The calls, in order.

    Attributes
    ----------
    times : ndarray, shape (calls,)
    states, rates : ndarray, shape (calls, n_states)
    march_counts : ndarray of int, shape (calls, 6)
        Purpose, steps accepted and refused so far, stage, which of several methods, and the answer's code.
    """

    times: Array = field(repr=False)
    states: Array = field(repr=False)
    rates: Array = field(repr=False)
    march_counts: IntArray = field(repr=False)

    def followed_by(self, other: Trace, accepted: int, refused: int) -> Trace:
        """Return the calls of two runs, one after the other, with the step counts of the first.

        Parameters
        ----------
        other : Trace
        accepted : int
            Accepted steps of the first run.
        refused : int
            Refused ones.

        Returns
        -------
        Trace
        """
        march_counts = other.march_counts + np.array([0, accepted, refused, 0, 0, 0])
        mine = self.times, self.states, self.rates, self.march_counts
        parts = zip(mine, (other.times, other.states, other.rates, march_counts),
                    strict=True)  # fmt: skip
        return Trace(*(np.concatenate(pair) for pair in parts))

    def frame(self, states: tuple[str, ...], methods: tuple[Method, ...]) -> pd.DataFrame:
        """Return a row for each call: ``step`` (0 before the first), ``attempt``, ``purpose``, ``time``, states, rates.

        States are those the rates were asked at, which are those of a solution only at the ends of steps; rates have
        the names ``rate of …``. An answer outside the domain of the rates is NaN.
        """
        import pandas as pd

        purposes, accepted, refused = (
            self.march_counts[:, PURPOSE],
            self.march_counts[:, ACCEPTED],
            self.march_counts[:, REFUSED],
        )
        ends = np.isin(purposes, (Purpose.END, Purpose.STARTING, Purpose.BETWEEN))
        rates = np.where(self.march_counts[:, CODE, None] == 1, self.rates, np.nan)
        head = {
            "step": accepted + ~ends,
            "attempt": accepted + refused + ~ends,
            "purpose": [call.text for call in self.calls(states, methods)],
            "time": self.times,
        }
        parts = [pd.DataFrame(head), pd.DataFrame(self.states, columns=list(states))]
        return pd.concat([*parts, pd.DataFrame(rates, columns=[f"rate of {name}" for name in states])], axis=1)

    def calls(self, states: tuple[str, ...], methods: tuple[Method, ...]) -> list[Call]:
        """Return what each call was for.

        Parameters
        ----------
        states : tuple of str
            Names of the states, for the columns of Jacobians.
        methods : tuple of Method
            Those that the run could choose from, by their number in the trace.
        """
        found: list[Call] = []
        counts: dict[tuple[int, ...], int] = {}
        base, now, begun, started = None, np.nan, 0, np.nan
        for row, time, state in zip(self.march_counts.tolist(), self.times.tolist(), self.states, strict=True):
            purpose, attempt, method = Purpose(row[PURPOSE]), row[ACCEPTED] + row[REFUSED], methods[row[MEMBER]]
            if purpose is Purpose.ESTIMATES and capabilities(method).several_stages:
                found.append(Call(CallKind.ESTIMATE, "largest eigenvalue"))
            elif purpose in _SIMPLE:
                found.append(_SIMPLE[purpose])
            elif purpose is Purpose.JACOBIAN:
                found.append(_TIME_DERIVATIVE if time != now else Call(CallKind.JACOBIAN, _column(states, state, base)))
            elif purpose is Purpose.STARTING:
                begun = row[ACCEPTED]
                # a call that chooses the first step is later than the start, and follows it
                last = found[-1].kind if found else None
                looks = last is CallKind.START or (last is CallKind.STARTING_STEP and time != started)
                found.append(_STARTING_STEP if looks else _START)
                started = started if looks else time
            else:
                staged = not capabilities(method).reaches_back
                index = (attempt, row[STAGE] if staged and method.family != EXPLICIT else -1)
                counts[index] = counts.get(index, 0) + 1
                found.append(_of_stage(method, row[STAGE], counts[index], row[ACCEPTED] - begun))
            if found[-1].kind is CallKind.START or found[-1].kind.at_end:
                base, now = state, time
        return found


_START: Final = Call(CallKind.START, "start")
_STARTING_STEP: Final = Call(CallKind.STARTING_STEP, "starting step")
_TIME_DERIVATIVE: Final = Call(CallKind.TIME_DERIVATIVE, "time derivative")
_END: Final = Call(CallKind.END, "end of the step")
_SIMPLE: Final = {
    Purpose.ESTIMATES: Call(CallKind.ESTIMATE, "error estimate"),
    Purpose.BETWEEN: Call(CallKind.BETWEEN, "between the steps"),
    Purpose.END: _END,
}


def _of_stage(method: Any, stage: int, count: int, steps: int) -> Call:
    """Return which stage or iteration a call was for.

    The rates at the start of a step, stage 1 of explicit methods, are known before.

    Parameters
    ----------
    method : Method
    stage : int
        Its number from 0; negative at the end of the step.
    count : int
        How many calls of the attempt there were, of the stage where stages are solved for.
    steps : int
        Accepted steps since the run began, or began anew.

    Returns
    -------
    Call
    """
    if capabilities(method).reaches_back:
        if capabilities(method).fixed_reach and steps < method.steps - 1:
            return Call(CallKind.STARTER, "starter")
        if method.implicit:
            return Call(CallKind.ITERATION, f"iteration {count}", iteration=count)
        return Call(CallKind.PREDICTION, "prediction")
    if stage < 0:
        return _END
    if method.family == EXPLICIT:
        number = count + 1
        if number > method.stages:
            return _END
        if method.ends_in_a_stage and number == method.stages:
            return Call(CallKind.STAGE_AND_END, f"stage {number}, end of the step", stage=number)
        return Call(CallKind.STAGE, f"stage {number}", stage=number)
    iteration = count if method.implicit and capabilities(method).has_tableau else 0
    text = f"stage {stage + 1}" + (f", iteration {iteration}" if iteration else "")
    return Call(CallKind.STAGE, text, stage=stage + 1, iteration=iteration)


def _column(states: tuple[str, ...], state: Array, base: Array | None) -> str:
    """Say which states were moved to find columns of the Jacobian.

    Parameters
    ----------
    states : tuple of str
    state : ndarray, shape (n_states,)
        Where the rates were asked for.
    base : ndarray or None
        The state of the step.

    Returns
    -------
    str
    """
    moved = np.flatnonzero(state != base) if base is not None else np.empty(0, dtype=int)
    if moved.size == 0:
        return "Jacobian, where it is found"
    return "Jacobian, column " + ", ".join(states[k] for k in moved[:4]) + (" …" if moved.size > 4 else "")
