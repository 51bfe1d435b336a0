"""Why a march failed: a term of the equations near a pole, the end of a domain, 0/0; or a state that blows up."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.driver.march import March
from unhurried_heron.problem.problem import Problem
from unhurried_heron.problem.quotients import zero_denominator
from unhurried_heron.run.trajectory import Trajectory, grown_at_end
from unhurried_heron.text.ending_facts import Cause, CauseKind

# A formula is near zero if it has come down to this share of its value at the start.
_NEAR_ZERO: Final = 1e-3
# A state leaves all bounds that grows by this factor
_UNBOUNDED: Final = 1e3
# over the last part of the time of this share.
_LAST: Final = 1e-3
# Spacings of floating-point times within which no change can be followed.
_UNRESOLVED: Final = 1e-3
# A rate leaves all bounds that would change its state by this multiple of it in the time that has passed.
_STEEP: Final = 1e6


def cause_of(problem: Problem, march: March, trajectory: Trajectory) -> Cause | None:
    """Return why a march failed: a term of the rates, or a state that leaves all bounds; None where neither is seen.

    Parameters
    ----------
    problem : Problem
    march : March
    trajectory : Trajectory

    Returns
    -------
    Cause or None
    """
    found = _term_of(problem, march)
    if found is not None or not march.last("adaptive"):
        # Fixed steps beyond a method's stability leave all bounds whatever the problem does.
        return found
    time, name_of = march.last("time"), problem.model.layout.name_of
    grown = grown_at_end(trajectory, _LAST)
    if grown is not None and grown[2] >= _UNBOUNDED * grown[1]:
        index, before, size = grown
        return Cause(CauseKind.STATE_UNBOUNDED, name_of(index), time, (size, before))
    index, share = _fastest(march)
    spacing = float(np.spacing(abs(time)))
    if spacing * share > _UNRESOLVED:
        return Cause(CauseKind.TIMES_TOO_COARSE, name_of(index), time, (spacing, 1.0 / share))
    if share * abs(time - problem.interval[0]) < _STEEP:
        return None
    return Cause(CauseKind.RATE_UNBOUNDED, name_of(index), time, (float(march.system.rates_at_state[index]),))


def fastest_state(problem: Problem, march: March) -> str:
    """Return the name of the state that changes most for its size where a march stands."""
    return problem.model.layout.name_of(_fastest(march)[0])


def _fastest(march: March) -> tuple[int, float]:
    """Return the index of the state whose rate is largest for its size, and how many times its size that is."""
    system = march.system
    with np.errstate(all="ignore"):
        shares = np.nan_to_num(
            np.abs(system.rates_at_state) / np.maximum(np.abs(system.state), system.absolute), posinf=0.0
        )
    index = int(shares.argmax())
    return index, float(shares[index])


def _term_of(problem: Problem, march: March) -> Cause | None:
    """Return the term of the rates that has no value, or soon none, where a march failed; None where none is seen."""
    begins = march.last("time") == problem.interval[0]
    if begins and (zero := zero_denominator(problem, problem.interval[0], problem.start)):
        return Cause(CauseKind.ZERO_AT_START, zero)
    time = march.last("bad_time")
    if not begins and (zero := zero_denominator(problem, time, march.system.trial)):
        return Cause(CauseKind.ZERO, zero, time)
    watched: tuple[Any, ...] = problem.model.guards
    if not watched or march.native.guards is None:
        return None
    refused = march.last("guard")
    if 0 <= refused < len(watched):
        return Cause(CauseKind.TERM, watched[refused].advice)
    rows = np.vstack([problem.start, march.system.state])
    found = np.abs(evaluate_rows(march.native.guards, np.array([problem.interval[0], march.last("time")]), rows))
    if len(found) < 2:
        return None
    with np.errstate(all="ignore"):
        share = found[1] / np.maximum(found[0], found[1])
    near = int(np.nanargmin(share)) if np.isfinite(share).any() else -1
    close = near >= 0 and (share[near] < _NEAR_ZERO or found[1, near] == 0.0)
    return Cause(CauseKind.TERM, watched[near].advice) if close else None
