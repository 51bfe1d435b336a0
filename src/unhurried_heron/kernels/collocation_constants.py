"""Places of a three-stage collocation method's numbers in the one array that its kernel reads.

C: nodes (the third is 1); GAMMA, ALPHA, BETA: the blocks of the transformed inverse of the coefficient matrix; T: the
transformation; U: its inverse; V: from stage increments to the step polynomial; E: weights of the error estimate.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.methods.collocation import Collocation

C1, C2 = range(0, 2)
GAMMA, ALPHA, BETA = range(2, 5)
T00, T01, T02, T10, T11, T12, T20, T21, T22 = range(5, 14)
U00, U01, U02, U10, U11, U12, U20, U21, U22 = range(14, 23)
V00, V01, V02, V10, V11, V12, V20, V21, V22 = range(23, 32)
E1, E2, E3 = range(32, 35)


def constants_of(method: Collocation) -> np.ndarray:
    """Return the numbers of a method in these places, float64 (35,)."""
    gamma, alpha, beta, basis, inverse = method.spectrum
    parts = [method.nodes[:2], [gamma, alpha, beta], basis, inverse, method.interpolant, method.error_weights]
    return np.concatenate([np.ravel(part) for part in parts])
