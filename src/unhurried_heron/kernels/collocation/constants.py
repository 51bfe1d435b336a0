"""Places of a three-stage collocation method's numbers in the one array that its kernel reads.

C: nodes (the third is 1); GAMMA, ALPHA, BETA: the blocks of the transformed inverse of the coefficient matrix; T: the
transformation; U: its inverse; V: from stage increments to the collocation polynomial; I: the inverse of the
coefficient matrix; E: weights of the error estimate. S: what the nodes' polynomial (x - c1)(x - c2)(x - 1) =
x^3 - S1 x^2 + S2 x - S3 is made of. LARGEST: the largest value of theta times that polynomial on a step.

Of a run: NEWTON: the largest error of the iteration, BETWEEN: the largest error between the steps that is let through
unmeasured, both in units of the tolerance of the error estimate.
"""

from __future__ import annotations

C1, C2 = range(0, 2)
GAMMA, ALPHA, BETA = range(2, 5)
T00, T01, T02, T10, T11, T12, T20, T21, T22 = range(5, 14)
U00, U01, U02, U10, U11, U12, U20, U21, U22 = range(14, 23)
V00, V01, V02, V10, V11, V12, V20, V21, V22 = range(23, 32)
I00 = 32
E1, E2, E3 = range(41, 44)
S1, S2, S3, LARGEST = range(44, 48)
NEWTON, BETWEEN = range(48, 50)
