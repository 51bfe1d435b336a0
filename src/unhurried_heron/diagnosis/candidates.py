"""Other methods on the problem of a run, each within a small budget, to see what they would have cost."""

from __future__ import annotations

import time as clock
from dataclasses import dataclass
from typing import Any, Final

from unhurried_heron.driver.budget import Budget
from unhurried_heron.methods.catalogue import DEFAULT, FOR_LARGE, FOR_SMOOTH, FOR_STIFF
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.study.attempts import attempt_run

_SMOOTH: Final = (FOR_SMOOTH, "verner-76", "adams-variable")
_STIFF: Final = (FOR_STIFF, "radau-iia-variable", "backward-differentiation-variable")
# Seconds that a candidate may take at least,
_MIN_SECONDS: Final = 0.5
# and at most.
_MAX_SECONDS: Final = 5.0
# States from which solving the equations may cost too much.
_LARGE: Final = 300
# Runs shorter than this many seconds are timed again,
_SHORT: Final = 0.02
# this many times in one round,
_REPEATS: Final = 3
# in rounds for this many seconds; the shortest time counts.
_WHILE: Final = 0.1


@dataclass(frozen=True)
class Candidate:
    """What another method, or another tolerance, did on the problem of a run; ``run`` is None where it failed."""

    method: str
    run: Run | None
    why: str

    @property
    def done(self) -> bool:
        """Whether it came to its end."""
        return self.run is not None and self.run.ending.as_requested

    @property
    def work(self) -> int:
        """Its rate evaluations, with those that a Jacobian by differences would cost for each Jacobian."""
        return 0 if self.run is None else work_of(self.run)


def work_of(run: Run) -> int:
    """Return the rate evaluations of a run; a Jacobian counts as one for each state, a factorisation likewise."""
    tally, n = run.tally, run.problem.model.layout.size
    symbolic = tally.jacobians if not tally.for_jacobians else 0
    return tally.rate_evaluations + n * (symbolic + tally.factorisations)


def seconds_in_turn(*runs: Run) -> tuple[float, ...]:
    """Return the seconds of the kernels of runs; short ones are run again in turn, warm, and their shortest counts."""
    seconds, until = [run.tally.seconds for run in runs], clock.monotonic() + _WHILE
    if max(seconds) >= _SHORT or not all(run.ending.as_requested for run in runs):
        return tuple(seconds)
    for _ in range(_REPEATS):
        for k, run in enumerate(runs):
            found = run_again(run, method_of(run), largest_step=run.options.get("largest_step")).run
            seconds[k] = seconds[k] if found is None else min(seconds[k], found.tally.seconds)
        if clock.monotonic() > until:
            break
    return tuple(seconds)


def method_of(run: Run) -> Any:
    """Return the method of a run as it can be asked for again."""
    return run.data.methods[0] if len(run.data.methods) == 1 and run.method != DEFAULT else run.method


def run_again(
    run: Run, method: Any, *, times: float = 2.0, problem: Problem | None = None, **changed: Any
) -> Candidate:
    """Run the problem of a run once more, by another method or with other options, within a small budget.

    Parameters
    ----------
    run : Run
    method : str or Method
    times : float, optional
        How many times the seconds of the run it may take.
    problem : Problem or None, optional
        The same one, begun elsewhere.
    **changed : object
        Options of `integrate` that are others.

    Returns
    -------
    Candidate
    """
    seconds = min(max(times * run.tally.seconds, _MIN_SECONDS), _MAX_SECONDS)
    options: dict[str, Any] = {key: run.options.get(key) for key in ("rtol", "atol", "step")}
    options = {key: value for key, value in {**options, **changed}.items() if value is not None}
    name = method if isinstance(method, str) else method.name
    plain = (problem or run.problem).with_(events=())
    found = attempt_run(plain, method, events=run.data.events, budget=Budget(seconds=seconds), ledger=True, **options)
    return Candidate(name, found.run, found.why)


def candidates_for(run: Run, *, stiff: bool, ready: Candidate | None = None) -> list[Candidate]:
    """Return what other methods made of it, those that came to the end first, the one of least work before others.

    Parameters
    ----------
    run : Run
    stiff : bool
        Whether methods for stiff problems are tried.
    ready : Candidate or None, optional
        One that has run already.

    Returns
    -------
    list[Candidate]
    """
    others = _STIFF + (FOR_LARGE,) * (run.problem.model.layout.size > _LARGE)
    taken = {run.method, *(method.name for method in run.data.methods)}
    names = [name for name in (others if stiff else _SMOOTH) if name not in taken]
    found = [ready if ready is not None and ready.method == name else run_again(run, name) for name in names]
    return sorted(found, key=lambda each: (not each.done, each.work))
