"""Which of several switches that a solution stands on hold it, and on which side it leaves the others.

Each switch is either slid along by a share of its two sides, or left on a side on which it goes away: the
complementarity of speeds and shares (A. F. Filippov, *Differential Equations with Discontinuous Righthand Sides*, 1988,
section 4; R. W. Cottle, J.-S. Pang and R. E. Stone, *The Linear Complementarity Problem*, 1992, section 1.2).
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Any, Final

import numpy as np

FALSE, TRUE, SLIDES = range(3)
# Choices of sides that are examined.
_MAX_CHOICES: Final = 3**8
# Tolerance of speeds and shares, in parts of the largest speed and of 1.
_SLACK = 1e-7
# A switch cannot be held beside the ones before it if its speed on both sides differs by no more than this part of
# the largest speed, which is rounding: its formula follows from theirs.
_DEPENDENT = 1e-12


def sides_that_hold(speeds: Any, first: tuple[int, ...], free: int = -1) -> tuple[int, ...] | None:
    """Return what becomes of each switch: FALSE or TRUE, the side on which it is left, or SLIDES.

    Parameters
    ----------
    speeds : ndarray, shape (2, …, 2, m)
        How fast the formula of each of the m switches grows, where the first is FALSE or TRUE, the second, ….
    first : tuple of int
        The choice that is looked at first, and then those that differ from it in one switch, in two, ….
    free : int
        A switch whose share has just come to its border: it goes away at no speed yet.

    Returns
    -------
    tuple of int, or None
        The first choice that holds; None if none does.
    """
    slack = _SLACK * float(np.abs(speeds).max(initial=1e-300))
    for choice in itertools.islice(_near(first), _MAX_CHOICES):
        if _holds(speeds, choice, slack, free if choice[free] == first[free] else -1):
            return choice
    return None


def _near(first: tuple[int, ...]) -> Iterator[tuple[int, ...]]:
    """Yield all choices, those first that change little."""
    for changed in range(len(first) + 1):
        for indices in itertools.combinations(range(len(first)), changed):
            others = [[side for side in (SLIDES, TRUE, FALSE) if side != first[index]] for index in indices]
            for sides in itertools.product(*others):
                choice = list(first)
                for index, side in zip(indices, sides, strict=True):
                    choice[index] = side
                yield tuple(choice)


def _holds(speeds: Any, choice: tuple[int, ...], slack: float, free: int) -> bool:
    """Whether a choice of sides is consistent with the speeds of all switches.

    Parameters
    ----------
    speeds : ndarray, shape (n + 1, n)
        Speeds of the switches, a row for each share.
    choice : tuple of int
        The side of each, or `SLIDES`.
    slack : float
        A speed that counts as zero.
    free : int
        The switch that may have any share; -1 for none.

    Returns
    -------
    bool
    """
    left = speeds[tuple(slice(None) if side == SLIDES else side for side in choice)]
    sliding = [index for index, side in enumerate(choice) if side == SLIDES]
    shares: list[Any] = []
    least = _DEPENDENT * float(np.abs(speeds).max(initial=0.0))
    for index in sliding:
        below, above = left[0], left[1]
        back = below[..., index] - above[..., index]
        # If the two sides do not lead back to the switch, nothing holds the solution on it.
        if not np.all(back > least):
            return False
        share = below[..., index] / back
        left = below + share[..., None] * (above - below)
        shares = [each[0] + share * (each[1] - each[0]) for each in shares] + [share]
    return all(-_SLACK <= float(share) <= 1.0 + _SLACK for share in shares) and all(
        index == free or side == SLIDES or (left[index] >= -slack if side == TRUE else left[index] <= slack)
        for index, side in enumerate(choice)
    )
