"""Stabilised explicit methods: stages that stretch the stable interval of the negative axis, as many as a step needs.

P. J. van der Houwen and B. P. Sommeijer, Z. Angew. Math. Mech. 60 (1980) 479-485; E. Hairer and G. Wanner, *Solving
Ordinary Differential Equations II*, 2nd ed. (1996), section IV.2.
"""

from __future__ import annotations

import math
import numbers
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import excerpt
from unhurried_heron.methods.coefficients import Matrix, check_name, refusal
from unhurried_heron.methods.stability import OneStep, Polynomials, Region, characteristic_of, limit_along

STABILISED: Final = "stabilised Runge-Kutta"
# With this damping R stays a twentieth below 1 between the fastest and the slowest decays (1 - damping / 3: Hairer
# and Wanner, IV.2); it costs a fiftieth of the stable interval.
DAMPING: Final = 0.15
# Rounding errors of a step grow as the square of the stages: this number leaves eleven digits.
MAX_STAGES: Final = 200
# The smallest number of stages that has order 2.
MIN_STAGES: Final = 2
# Stages up to which stability functions are polynomials in h lambda.
_PLAIN: Final = 20


@dataclass(frozen=True)
class Stabilised(OneStep):
    """The Runge-Kutta-Chebyshev method of order 2.

    Its stability polynomial R(z) = a + b T(w0 + w1 z) swings with the Chebyshev polynomial T of its number of stages s
    within [-1, 1] over an interval of the negative axis that grows as 0.65 s^2. Stages cost an evaluation of the rates
    each, and room for three states.

    Parameters
    ----------
    name : str
        What tables call the method.
    count : int
        The number of stages, from 2 to 200; 0: at each step as many as it needs, by an estimate of the largest
        eigenvalue.
    source : str

    Raises
    ------
    MethodError
        There is no method with this number of stages.
    """

    name: str
    count: int = 0
    source: str = "given by the user"
    family: str = STABILISED
    adaptive: ClassVar[bool] = True
    implicit: ClassVar[bool] = False
    stiff: ClassVar[bool] = False
    order: ClassVar[int] = 2
    embedded_order: ClassVar[int] = 2
    estimate_order: ClassVar[int] = 2
    interpolant_order: ClassVar[int] = 2

    def __post_init__(self) -> None:
        check_name(self.name)
        whole = isinstance(self.count, numbers.Integral) and not isinstance(self.count, bool)
        if not whole or not (self.count == 0 or MIN_STAGES <= self.count <= MAX_STAGES):
            raise refusal(self.name, "there is no method with this number of stages",
                          f"from {MIN_STAGES} to {MAX_STAGES} stages, or 0: as many as a step needs",
                          excerpt(self.count))  # fmt: skip
        object.__setattr__(self, "count", int(self.count))

    @property
    def stages(self) -> int:
        """Number of stages; where each step takes what it needs, the least."""
        return self.count or MIN_STAGES

    @property
    def evaluations(self) -> int:
        """Evaluations of the rates in a step; where each step takes what it needs, the fewest."""
        return self.stages

    def of_stages(self, count: int) -> Stabilised:
        """Return the method with a number of stages."""
        return Stabilised(f"{self.name}, {count} stages", count, self.source)

    @cached_property
    def _shape(self) -> tuple[float, float, float, float]:
        """The numbers w0, w1, a and b of R(z) = a + b T(w0 + w1 z)."""
        s = self.count or MAX_STAGES
        w0 = 1.0 + DAMPING / s**2
        value, derivative, bend = chebyshev(s, w0)
        b = bend / derivative**2
        return w0, derivative / bend, 1.0 - b * value, b

    @cached_property
    def region(self) -> Region:
        """What its region of stability is like; of the most stages where none are fixed."""
        s = self.count or MAX_STAGES
        w0, w1, a, b = self._shape
        # beyond -1, T leaves for the value it has at w0, or for the other side of R = -1
        beyond = w0 if s % 2 == 0 else math.cosh(math.acosh((1.0 + a) / b) / s)
        imaginary = limit_along(self.stability, 1j) if s <= _PLAIN else 0.0
        return Region((w0 + beyond) / w1, imaginary, 0.0, math.inf)

    def amplification(self, z: Any) -> Array:
        """Return |R(z)|, without the powers of z that cancel one another where stages are many."""
        w0, w1, a, b = self._shape
        s = self.count or MAX_STAGES
        with np.errstate(over="ignore", invalid="ignore"):
            found = np.abs(a + b * np.cosh(s * np.arccosh(np.asarray(w0 + w1 * z, dtype=complex))))
        return np.where(np.isnan(found), np.inf, found)

    @cached_property
    def stability(self) -> Polynomials:
        """Numerator and denominator of the stability function R(z), lowest power first; of the least stages, too."""
        if not self.count:
            return self.of_stages(MIN_STAGES).stability
        w0, w1, a, b = self._shape
        before, present = np.array([1.0]), np.array([w0, w1])
        for _ in range(self.count - 1):
            further = 2.0 * np.convolve(present, [w0, w1])
            further[: before.size] -= before
            before, present = present, further
        present = b * present
        present[0] += a
        return tuple(present.tolist()), (1.0,)

    @cached_property
    def characteristic(self) -> Matrix:
        """R(z) as a polynomial of x and z; of the most stages where none are fixed."""
        return characteristic_of((self if self.count else self.of_stages(MAX_STAGES)).stability)


def chebyshev(count: int, x: float) -> tuple[float, float, float]:
    """Return a Chebyshev polynomial, its derivative and its second derivative at x, by the recurrence of T."""
    before, present = (1.0, 0.0, 0.0), (x, 1.0, 0.0)
    for _ in range(count - 1):
        value = 2.0 * x * present[0] - before[0]
        derivative = 2.0 * x * present[1] + 2.0 * present[0] - before[1]
        bend = 2.0 * x * present[2] + 4.0 * present[1] - before[2]
        before, present = present, (value, derivative, bend)
    return present
