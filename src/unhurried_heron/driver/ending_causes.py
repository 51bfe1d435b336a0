"""Why a march failed: a term of the equations near a pole, the end of a domain, 0/0; or a state that blows up."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.driver.layout import March
from unhurried_heron.problem.problem import Problem
from unhurried_heron.problem.quotients import what_to_write, zero_denominator
from unhurried_heron.run.trajectory import Trajectory, grown_at_end

# a formula that has come down to this share of what it was at the start is near to zero
_NEAR_ZERO: Final = 1e-3
# A state leaves all bounds that grows by this factor
_UNBOUNDED: Final = 1e3
# over the last part of the time of this share.
_LAST: Final = 1e-3
# Spacings of floating-point times within which no change can be followed.
_UNRESOLVED: Final = 1e-3
# A rate leaves all bounds that would change its state by this multiple of it in the time that has passed.
_STEEP: Final = 1e6
_INSTEAD: Final = "End the run earlier, or stop it by an event."


def cause_of(problem: Problem, march: March, trajectory: Trajectory) -> str:
    """Return a sentence on why a march failed: a term of the rates, or a state that leaves all bounds; or nothing."""
    found = _term_of(problem, march)
    if found or not march.last("adaptive"):
        # fixed steps beyond a method's stability leave all bounds by themselves
        return found
    time, name_of = march.last("time"), problem.model.layout.name_of
    grown = grown_at_end(trajectory, _LAST)
    if grown is not None and grown[2] >= _UNBOUNDED * grown[1]:
        index, before, size = grown
        return (f"State '{name_of(index)}' leaves all bounds towards t = {time:.6g}: its size is {size:.3g} there, and "
                f"was at most {before:.3g} until shortly before. {_INSTEAD}")  # fmt: skip
    index, share = _fastest(march)
    spacing = float(np.spacing(abs(time)))
    if spacing * share > _UNRESOLVED:
        return (f"Neighbouring floating-point times are {spacing:.3g} apart there, state '{name_of(index)}' changes "
                f"within {1.0 / share:.3g}: count the time from the beginning of the interval.")  # fmt: skip
    if share * abs(time - problem.interval[0]) < _STEEP:
        return ""
    return (f"The rate of state '{name_of(index)}' leaves all bounds towards t = {time:.6g}: it is "
            f"{march.system.rates_at_state[index]:.3g} there. {_INSTEAD}")  # fmt: skip


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


def _term_of(problem: Problem, march: March) -> str:
    """Return a sentence on the term of the rates that has no value, or soon none, where a march failed; or nothing."""
    begins = march.last("time") == problem.interval[0]
    if begins and (zero := zero_denominator(problem, problem.interval[0], problem.start)):
        return f"At the start '{zero}' is zero. {what_to_write(zero)}"
    time = march.last("bad_time")
    if not begins and (zero := zero_denominator(problem, time, march.system.trial)):
        return f"At t = {time:.10g} '{zero}' is zero. {what_to_write(zero)}"
    watched: tuple[Any, ...] = problem.model.guards
    if not watched or march.native.guards is None:
        return ""
    refused = march.last("guard")
    if 0 <= refused < len(watched):
        return str(watched[refused].advice)
    rows = np.vstack([problem.start, march.system.state])
    found = np.abs(evaluate_rows(march.native.guards, np.array([problem.interval[0], march.last("time")]), rows))
    if len(found) < 2:
        return ""
    with np.errstate(all="ignore"):
        share = found[1] / np.maximum(found[0], found[1])
    near = int(np.nanargmin(share)) if np.isfinite(share).any() else -1
    close = near >= 0 and (share[near] < _NEAR_ZERO or found[1, near] == 0.0)
    return str(watched[near].advice) if close else ""
