"""Where methods are stable, what limits a step, and what stability did in a run, in sentences."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

if TYPE_CHECKING:
    from unhurried_heron.stability.regions import Stability
    from unhurried_heron.stability.stability_limited_steps import StabilityLimitedSteps
    from unhurried_heron.stability.step_limit import Limits

# Methods that a sentence names,
_MAX_NAMES: Final = 4
# and intervals of time.
_MAX_INTERVALS: Final = 4


def region_statements(stability: Stability) -> list[str]:
    """Return what the stability region of a method is like."""
    facts, name = stability.region, f"{stability.name}, order {stability.order}"
    if facts.l_stable:
        statements = [f"{name}: L-stable; every decay is damped at every step, very fast ones at once."]
    elif facts.a_stable:
        statements = [f"{name}: A-stable; no decay limits the step. At infinity |R| = {facts.at_infinity:.4g}."]
    elif facts.angle:
        statements = [f"{name}: A(α)-stable with α = {facts.angle:.4g}°; at infinity |R| = {facts.at_infinity:.4g}."]
    else:
        statements = [f"{name}: a decay of rate L is stable while h L is at most {facts.real:.6g}."]
    if math.isfinite(facts.imaginary):
        statements.append(
            f"A swing of angular frequency w is stable while h w is at most {facts.imaginary:.6g}."
            if facts.imaginary
            else "Undamped swings grow, however short the steps."
        )
    return statements


def limited_steps_statement(steps: StabilityLimitedSteps) -> str:
    """Return how many steps of a run stability limited, and when."""
    listed = list(dict.fromkeys(region.name for region in steps.regions))
    names = "; ".join(listed[:_MAX_NAMES]) + f" and {len(listed) - _MAX_NAMES} more" * (len(listed) > _MAX_NAMES)
    intervals = steps.intervals()
    where = "; ".join(f"from t = {a:.6g} to {b:.6g}" for a, b in intervals[:_MAX_INTERVALS])
    where += " …" * (len(intervals) > _MAX_INTERVALS)
    text = f"{names}: stability limited {100 * steps.share:.3g} % of the steps"
    return text + (f", {where}." if intervals else "; accuracy, or what else was asked, chose the others.")


def unlimited_statement(stability: Stability) -> str:
    """Return that no step is too long for a method on a problem."""
    unlimited = math.isinf(stability.region.real)
    why = "every decay is stable at any step." if unlimited else "nothing decays."
    return f"{stability.name} has no largest step here: {why}"


def largest_step_statement(stability: Stability, limits: Limits) -> str:
    """Return what was foreseen of the largest stable step, and what was seen.

    Parameters
    ----------
    stability : Stability
        Of the method.
    limits : Limits
    """
    good, bad, eigenvalue = limits.stays, limits.fails, limits.eigenvalue
    rate = f"{eigenvalue.real:.4g}" + (f" ± {abs(eigenvalue.imag):.4g}i" if eigenvalue.imag else "")
    statements = [
        f"From the eigenvalues, {stability.name} is stable up to a step of {limits.foreseen:.6g}: the mode {rate} at "
        f"t = {limits.time:.6g} limits it."
    ]
    if good is None and bad is None:
        statements.append("No march was finished in the time given: this is not confirmed.")
    elif good is None and bad is not None:
        statements.append(f"No step down to {limits.span / bad:.3g} was seen to stay bounded.")
    elif good is not None:
        statements.append(f"Steps of {limits.span / good:.6g} ({good:,} over the interval) stay bounded")
        statements[-1] += (
            f", steps of {limits.span / bad:.6g} ({bad:,}) do not." if bad else "; no longer ones were seen to fail."
        )
        if not limits.close:
            statements.append("The time given was too short to come closer.")
    if limits.chaotic:
        statements.append(
            "Some longer ones stay bounded but are not stable: small changes grow in them, not in the solution."
        )
    return " ".join(statements)
