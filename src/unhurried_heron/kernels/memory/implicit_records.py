"""What all implicit families keep: records of the iteration and of the Jacobian, its outcomes, and their limits."""

from __future__ import annotations

from typing import Final

import numpy as np

NEWTON: Final = np.dtype(
    [
        ("contraction", np.float64),  # what was left of a correction when it was last seen, and of how large a one
        ("correction", np.float64),
        ("first", np.float64),  # corrections of the present iteration: the first, and the one before
        ("before", np.float64),
        ("first_miss", np.float64),  # by how much the equations were missed at first, in units of the tolerance
        ("at_rest", np.float64),  # corrections up to this size are rounding where they contract no further
        ("theta", np.float64),  # its contraction, 0 where it says nothing
        ("shrink", np.float64),  # by how much to shorten the step where it diverges
    ],
    align=True,
)

IMPLICIT_MEMORY: Final = np.dtype(
    [
        ("previous_step", np.float64),  # 0 where there is none
        ("jacobian_age", np.int64),  # 0 none, 1 from an earlier step, 2 from here
        ("factored_step", np.float64),  # step the factors belong to, 0 without
        ("sign", np.int64),  # of the determinant of the real factors
        ("foreseen", np.int64),  # whether, at fixed steps, all of the present step was foreseen
        ("trusted", np.int64),  # whether, at fixed steps, the step before had been foreseen by the one before it
        # of the present attempt
        ("outcome", np.int64),
        ("error", np.float64),
    ],
    align=True,
)

# age of a Jacobian: found at the present step, or at one before
FRESH: Final = 2

# The Jacobian is of an earlier state.
OLD: Final = 1

# Outcomes of the iteration: the equations are solved,
CONVERGED = 1

# they are not,
DIVERGED = 0

# the rates stopped the run,
STOPPED = -1

# the step would pass over a growing mode,
GROWS = 2

# or another iteration is needed.
GOES_ON = 3

# numbers of a method and of a run, in ``limits``: the largest error of Newton's iteration, and of what is let through
# between the steps unmeasured, in units of the tolerance of the estimate; how large h times a growing mode may be for
# the method to follow it
NEWTON_LIMIT, BETWEEN, FOLLOWS = range(3)
