"""Every call of the rates in a run: when, at what state, with what answer, and what for."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.kernels.memory.control import (
    FOR_BETWEEN,
    FOR_END,
    FOR_ESTIMATES,
    FOR_JACOBIAN,
    FOR_STARTING,
)
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.methods.runge_kutta import EXPLICIT
from unhurried_heron.run.trajectory import Array

if TYPE_CHECKING:
    import pandas as pd

_PLAIN: Final = {
    FOR_ESTIMATES: "error estimate",
    FOR_BETWEEN: "between the steps",
    FOR_END: "end of the step",
}
# columns of what the march told at each call
PURPOSE, ACCEPTED, REFUSED, STAGE, MEMBER, CODE = range(6)


@dataclass(frozen=True)
class Trace:
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
    march_counts: Any = field(repr=False)

    def followed_by(self, other: Trace, accepted: int, refused: int) -> Trace:
        """Return the calls of two runs, one after the other, with the step counts of the first."""
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
        ends = np.isin(purposes, (FOR_END, FOR_STARTING, FOR_BETWEEN))
        rates = np.where(self.march_counts[:, CODE, None] == 1, self.rates, np.nan)
        head = {
            "step": accepted + ~ends,
            "attempt": accepted + refused + ~ends,
            "purpose": self.purposes(states, methods),
            "time": self.times,
        }
        parts = [pd.DataFrame(head), pd.DataFrame(self.states, columns=list(states))]
        return pd.concat([*parts, pd.DataFrame(rates, columns=[f"rate of {name}" for name in states])], axis=1)

    @staticmethod
    def _is_look(found: list[str], time: float, started: float) -> bool:
        """Whether a call at the start is one that chooses the first step: later than the start, and after it."""
        return bool(found) and (found[-1] == "start" or (found[-1] == "starting step" and time != started))

    def purposes(self, states: tuple[str, ...], methods: tuple[Method, ...]) -> list[str]:
        """Say in words what each call was for."""
        found: list[str] = []
        counts: dict[tuple[int, ...], int] = {}
        base, now, begun, started = None, np.nan, 0, np.nan
        for row, time, state in zip(self.march_counts.tolist(), self.times.tolist(), self.states, strict=True):
            purpose, attempt, method = row[PURPOSE], row[ACCEPTED] + row[REFUSED], methods[row[MEMBER]]
            if purpose == FOR_ESTIMATES and capabilities(method).several_stages:
                found.append("largest eigenvalue")
            elif purpose in _PLAIN:
                found.append(_PLAIN[purpose])
            elif purpose == FOR_JACOBIAN:
                found.append("time derivative" if time != now else _column(states, state, base))
            elif purpose == FOR_STARTING:
                begun = row[ACCEPTED]
                found.append("starting step" if self._is_look(found, time, started) else "start")
                started = time if found[-1] == "start" else started
            else:
                staged = not capabilities(method).reaches_back
                index = (attempt, row[STAGE] if staged and method.family != EXPLICIT else -1)
                counts[index] = counts.get(index, 0) + 1
                found.append(_of_stage(method, row[STAGE], counts[index], row[ACCEPTED] - begun))
            if found[-1] == "start" or found[-1].endswith("end of the step"):
                base, now = state, time
        return found


def _of_stage(method: Any, stage: int, count: int, steps: int) -> str:
    """Say which stage it is; the rates at the start of the step, stage 1 of explicit methods, are known before."""
    if capabilities(method).reaches_back:
        if capabilities(method).fixed_reach and steps < method.steps - 1:
            return "starting method"
        return f"iteration {count}" if method.implicit else "prediction"
    if stage < 0:
        return "end of the step"
    if method.family == EXPLICIT:
        last = count + 1 - (not method.ends_in_a_stage)
        name = f"stage {count + 1}" if count + 1 <= method.stages else "end of the step"
        return f"{name}, end of the step" if method.ends_in_a_stage and last == method.stages else name
    return f"stage {stage + 1}" + (f", iteration {count}" if method.implicit and hasattr(method, "a") else "")


def _column(states: tuple[str, ...], state: Array, base: Array | None) -> str:
    """Say which states were moved to find columns of the Jacobian."""
    moved = np.flatnonzero(state != base) if base is not None else np.empty(0, dtype=int)
    if moved.size == 0:
        return "Jacobian, where it is found"
    return "Jacobian, column " + ", ".join(states[k] for k in moved[:4]) + (" …" if moved.size > 4 else "")
