"""Stabilised explicit methods of order 4: a recurrence of orthogonal polynomials, and four stages that finish it.

A. Abdulle, SIAM J. Sci. Comput. 23 (2002) 2041-2054; E. Hairer and G. Wanner, *Solving Ordinary Differential Equations
II*, 2nd ed. (1996), section IV.2.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import excerpt
from unhurried_heron.methods.coefficients import Matrix, check_name, refusal
from unhurried_heron.methods.stabilised import STABILISED
from unhurried_heron.methods.stability import OneStep, Polynomials, Region, characteristic_of, limit_along

# Stages that finish a step.
FINISHING: Final = 4
# Stages up to which stability functions are polynomials in h lambda.
_PLAIN: Final = 20
# What the estimate is multiplied by, so that errors of fast modes, which are damped by little, add up to about what is
# allowed: measured on five problems of diffusion and reaction at tolerances from 1e-2 to 1e-8, at all times of a run.
_WEIGHT: Final = 8.0
# The share of s^2 that is stable for any number of stages s,
_INSIDE: Final = 0.15
# and one that is not,
_OUTSIDE: Final = 0.6
# and how that end is looked for: so many points between two bounds,
_POINTS: Final = 200
# so often.
_ROUNDS: Final = 6
# Rounding of a stability function near 1.
_ROUNDING: Final = 1e-9


class Stages(NamedTuple):
    """A number of stages.

    ``rows`` (count - 4, 2): of stage j, mu and kappa in mu h f(g_(j-1)) + (1 - kappa) g_(j-1) + kappa g_(j-2).
    ``a`` (4, 4) and ``b`` (4,): of the four from the last of these; ``error`` (5,): of their rates and of that at the
    end, in the estimate. ``between`` (6, 4): what the states at both ends of a step and at the four stages are
    multiplied by in between, by powers of theta.
    """

    rows: Array
    a: Array
    b: Array
    error: Array
    between: Array


def _between(rows: Array, a: Array) -> Array:
    """Return the weights of the states at both ends of a step and at the finishing stages, shape (6, 4).

    Polynomials of order 3 by the conditions of all trees up to that order, with the least weights for which the ends
    are met: states are damped, and rates are not.

    Parameters
    ----------
    rows : ndarray, shape (count - 4, 2)
    a : ndarray, shape (4, 4)

    Returns
    -------
    ndarray
    """

    def grown(rate: Array) -> Array:
        """Return the weights of the trees t, [t], [t, t] and [[t]] of h f of a state with such weights."""
        return np.array([1.0, rate[0], rate[0] ** 2, rate[1]])

    before, present = np.zeros(4), np.zeros(4)
    for mu, kappa in rows:
        before, present = present, mu * grown(present) + (1.0 - kappa) * present + kappa * before
    finishing: list[Array] = []
    for row in a:
        moves = [weight * grown(stage) for weight, stage in zip(row, finishing, strict=False)]
        finishing.append(np.sum([present, *moves], axis=0))
    columns = [np.zeros(4), np.array([1.0, 1 / 2, 1 / 3, 1 / 6]), *finishing]
    conditions = np.array([[1.0, *column] for column in columns]).T
    wanted = np.zeros((5, 4))
    for condition, (power, value) in enumerate([(0, 1.0), (1, 1.0), (2, 1 / 2), (3, 1 / 3), (3, 1 / 6)]):
        wanted[condition, power] = value
    weights = np.linalg.pinv(conditions) @ wanted
    # what is free meets the ends: it is linear in theta
    free = np.linalg.svd(conditions)[2][-1]
    starts, ends = np.eye(6)[0] - weights[:, 0], np.eye(6)[1] - weights.sum(axis=1)
    weights[:, 0] = np.eye(6)[0]
    weights[:, 1] += free * (free @ (ends - starts))
    return np.asarray(weights)


@dataclass(frozen=True)
class OrthogonalStages(OneStep):
    """The stabilised method of order 4, whose stages are the recurrence of orthogonal polynomials.

    Its stability polynomial is the product of one of them and of one of degree 4, and swings within 0.95 over an
    interval of the negative axis that grows as 0.35 s^2 with the number of stages s.

    Parameters
    ----------
    name : str
        What tables call the method.
    tables : sequence of mapping
        Coefficients for rising numbers of stages, as numbers or as texts of them: "stages"; "rows", mu and kappa of
        each stage but four; "a", "b" and "error" of these (`Stages`).
    count : int
        The number of stages, one of those there are coefficients for; 0: at each step as many as it needs, by an
        estimate of the largest eigenvalue.
    source : str

    Raises
    ------
    MethodError
        There are no coefficients for this number of stages.
    """

    name: str
    tables: Sequence[Mapping[str, Any]] = field(repr=False, compare=False)
    count: int = 0
    source: str = "given by the user"
    family: str = STABILISED
    adaptive: ClassVar[bool] = True
    implicit: ClassVar[bool] = False
    stiff: ClassVar[bool] = False
    order: ClassVar[int] = 4
    embedded_order: ClassVar[int] = 3
    estimate_order: ClassVar[int] = 3
    interpolant_order: ClassVar[int] = 3

    def __post_init__(self) -> None:
        check_name(self.name)
        if self.count != 0 and self.count not in self.counts:
            raise refusal(self.name, "there is no method with this number of stages",
                          f"0, as many as a step needs, or one of {', '.join(map(str, self.counts))}",
                          excerpt(self.count))  # fmt: skip
        object.__setattr__(self, "count", int(self.count))

    @cached_property
    def counts(self) -> tuple[int, ...]:
        """The numbers of stages there are, in rising order."""
        return tuple(int(table["stages"]) for table in self.tables)

    @cached_property
    def _known(self) -> dict[int, Stages]:
        """What was read before."""
        return {}

    def stages_of(self, count: int) -> Stages:
        """Return the coefficients of a number of stages."""
        if count not in self._known:
            self._known[count] = self._read(count)
        return self._known[count]

    def _read(self, count: int) -> Stages:
        """Read the coefficients of a number of stages."""
        table = self.tables[self.counts.index(count)]
        a = np.zeros((FINISHING, FINISHING))
        for i, row in enumerate(table["a"], 1):
            a[i, :i] = list(map(float, row))
        rows = np.array(table["rows"], dtype=float).reshape(-1, 2)
        b, error = np.array(table["b"], dtype=float), _WEIGHT * np.array(table["error"], dtype=float)
        return Stages(rows, a, b, error, _between(rows, a))

    @cached_property
    def reaches(self) -> Array:
        """How far each number of stages is stable along the negative axis."""
        return np.array([self.of_stages(count).reach for count in self.counts])

    @property
    def stages(self) -> int:
        """Number of stages; where each step takes what it needs, the least."""
        return self.count or self.counts[0]

    @property
    def evaluations(self) -> int:
        """Evaluations of the rates in a step; where each step takes what it needs, the fewest."""
        return self.stages

    def of_stages(self, count: int) -> OrthogonalStages:
        """Return the method with a number of stages."""
        return OrthogonalStages(f"{self.name}, {count} stages", self.tables, count, self.source)

    def value(self, z: Any) -> Any:
        """Return the stability function R(z), complex, without powers of z; of the most stages where none are fixed."""
        found = self.stages_of(self.count or self.counts[-1])
        z = np.asarray(z, dtype=complex)
        before, present = np.zeros_like(z), np.ones_like(z)
        with np.errstate(over="ignore", invalid="ignore"):
            for mu, kappa in found.rows:
                before, present = present, (mu * z + 1.0 - kappa) * present + kappa * before
            rates: list[Any] = []
            for row in found.a:
                inner = sum((weight * rate for weight, rate in zip(row, rates, strict=False)), np.zeros_like(z))
                rates.append(present + z * inner)
            return present + z * sum(weight * rate for weight, rate in zip(found.b, rates, strict=True))

    def amplification(self, z: Any) -> Array:
        """Return |R(z)|."""
        found = np.abs(self.value(z))
        return np.where(np.isnan(found), np.inf, found)

    @cached_property
    def reach(self) -> float:
        """How far it is stable along the negative axis; of the most stages where none are fixed."""
        s = self.count or self.counts[-1]
        # swings within are at most 0.95, and |R| leaves 1 for good beyond the last
        inside, outside = _INSIDE * s**2, _OUTSIDE * s**2
        for _ in range(_ROUNDS):
            tried = np.linspace(inside, outside, _POINTS)
            first = int(np.argmax(self.amplification(-tried) > 1.0 + _ROUNDING))
            inside, outside = float(tried[first - 1]), float(tried[first])
        return inside

    @cached_property
    def region(self) -> Region:
        """What its region of stability is like; of the most stages where none are fixed."""
        s = self.count or self.counts[-1]
        imaginary = limit_along(self.stability, 1j) if s <= _PLAIN else 0.0
        return Region(self.reach, imaginary, 0.0, math.inf)

    @cached_property
    def stability(self) -> Polynomials:
        """Numerator and denominator of the stability function R(z), lowest power first; of the least stages, too."""
        if not self.count:
            return self.of_stages(self.counts[0]).stability
        found = self.stages_of(self.count)
        before, present = np.zeros(1), np.ones(1)
        for mu, kappa in found.rows:
            further = np.convolve(present, [1.0 - kappa, mu])
            further[: before.size] += kappa * before
            before, present = present, further
        rates: list[Array] = []
        for row in found.a:
            rates.append(_combined(present, row, rates))
        return tuple(_combined(present, found.b, rates).tolist()), (1.0,)

    @cached_property
    def characteristic(self) -> Matrix:
        """R(z) as a polynomial of x and z; of the most stages where none are fixed."""
        return characteristic_of((self if self.count else self.of_stages(_PLAIN)).stability)


def _combined(start: Array, weights: Array, rates: list[Array]) -> Array:
    """Return ``start`` + z times a sum of polynomials, lowest power first.

    Parameters
    ----------
    start : ndarray
    weights : ndarray
    rates : list of ndarray

    Returns
    -------
    ndarray
    """
    found = np.zeros(max([start.size, *(rate.size + 1 for rate in rates)]))
    found[: start.size] = start
    for weight, rate in zip(weights, rates, strict=False):
        found[1 : rate.size + 1] += weight * rate
    return found
