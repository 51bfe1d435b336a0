"""What a fully implicit Runge-Kutta method's tableau comes to: blocks to solve, error estimate, step polynomial.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), sections IV.5 and IV.8.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import MethodError
from unhurried_heron.methods.coefficients import Matrix, refusal
from unhurried_heron.methods.interpolant import joined_weights
from unhurried_heron.methods.nodes import exactly, integrals
from unhurried_heron.methods.rooted_trees import ElementaryWeights, extended

# Conditions met to this are met; coefficients have fifty digits, their eigenvalues are doubles.
_MET: Final = 1e-12
# Nodes and eigenvalues nearer than this cannot be told apart.
_APART: Final = 1e-6
# Points of a step at which a largest value is looked for.
_FINE: Final = 2001


@dataclass(frozen=True, eq=False)
class DiagonalisedTableau:
    """A tableau with every stage tied to every other, made ready to be solved.

    Parameters
    ----------
    name : str
    a, b, c, b_embedded : tuples
        The tableau; ``b_embedded`` may be None.

    Raises
    ------
    MethodError
        The matrix is singular, or its stages cannot be told apart.
    """

    name: str
    a: Any
    b: Any
    c: Any
    b_embedded: Any = None

    @property
    def stages(self) -> int:
        """Number of stages."""
        return len(self.b)

    @cached_property
    def inverse(self) -> Array:
        """The inverse of ``a``."""
        s = self.stages
        wide = np.hstack([extended(self.a), np.eye(s, dtype=np.longdouble)])
        for k in range(s):
            pivot = k + int(np.argmax(np.abs(wide[k:, k])))
            if abs(wide[pivot, k]) < _MET:
                raise refusal(self.name, "the matrix a is singular", "an invertible one: explicit first stages are for "
                              "diagonally implicit methods", "a determinant of 0")  # fmt: skip
            wide[[k, pivot]] = wide[[pivot, k]]
            wide[k] /= wide[k, k]
            for i in range(s):
                if i != k:
                    wide[i] -= wide[i, k] * wide[k]
        return wide[:, s:]

    @cached_property
    def _spectrum(self) -> tuple[int, Matrix, Matrix]:
        """Number of real blocks, the blocks' numbers, and the basis T that makes them of the inverse of ``a``."""
        values, vectors = np.linalg.eig(self.inverse.astype(float))
        apart = np.abs(values[:, None] - values)
        np.fill_diagonal(apart, np.inf)
        if apart.min() < _APART * np.abs(values).max():
            raise refusal(self.name, "the stages cannot be solved apart", "a matrix a without double eigenvalues",
                          ", ".join(f"{1 / x:.4g}" for x in values))  # fmt: skip
        real = [k for k in range(self.stages) if abs(values[k].imag) < _MET * abs(values[k])]
        pairs = sorted((k for k in range(self.stages) if values[k].imag > 0 and k not in real),
                       key=lambda k: -values[k].real)  # fmt: skip
        columns = [vectors[:, k].real for k in real]
        numbers = [values[k].real for k in real]
        for k in pairs:
            columns += [vectors[:, k].real, -vectors[:, k].imag]
            numbers += [values[k].real, values[k].imag]
        return len(real), np.array(numbers), np.column_stack(columns)

    @property
    def n_real(self) -> int:
        """Number of real blocks; the others are pairs."""
        return self._spectrum[0]

    @property
    def numbers(self) -> Matrix:
        """Each real block's eigenvalue, then real and imaginary part of each pair, shape (stages,)."""
        return self._spectrum[1]

    @property
    def basis(self) -> Matrix:
        """T, which brings the inverse of ``a`` to its blocks."""
        return self._spectrum[2]

    @cached_property
    def gamma(self) -> float:
        """The real shift by which errors are filtered: an eigenvalue where there is a real one."""
        if self.n_real:
            return float(self.numbers[0])
        return float(np.sqrt(self.numbers[0::2] ** 2 + self.numbers[1::2] ** 2).min())

    @cached_property
    def end(self) -> Matrix:
        """Weights of the stages' increments in that of the step."""
        weights: Matrix = (extended(self.b) @ self.inverse).astype(float)
        weights[np.abs(weights) < _MET] = 0.0
        return weights

    @cached_property
    def _distinct(self) -> bool:
        c = np.array([float(x) for x in self.c])
        return bool((np.abs(c[:, None] - c) + np.eye(len(c)) > _APART).all())

    @cached_property
    def stage_order(self) -> int:
        """The highest order of the stages: of collocation, their number."""
        a, c = extended(self.a), extended(self.c)
        for k in range(1, self.stages + 1):
            if not np.abs(a @ c ** (k - 1) - c**k / k).max() < _MET:
                return k - 1
        return self.stages

    @property
    def is_collocation(self) -> bool:
        """Whether the step polynomial meets the rates at the nodes."""
        return self._distinct and self.stage_order == self.stages

    @property
    def can_be_corrected(self) -> bool:
        """Whether what the estimate adds to the step polynomial vanishes at the end of the step."""
        return self.is_collocation and abs(float(self.free.sum())) < _MET

    @cached_property
    def rates_to_polynomial(self) -> Matrix:
        """From the stages' rates to the coefficients of theta, theta^2, …, shape (stages or fewer, stages)."""
        if self._distinct:
            c = extended(self.c)
            s = self.stages
            # the polynomials' integrals at s points tell their coefficients
            points = np.arange(1, s + 1) / np.longdouble(s)
            values = integrals(c, points).astype(float)
            powers = points.astype(float)[:, None] ** np.arange(1, s + 1)
            found: Matrix = np.linalg.solve(powers, values)
            if np.allclose(found.sum(axis=0), [float(x) for x in self.b], atol=1e-9):
                return found
        return joined_weights(ElementaryWeights(self.a), self.b, self.stages)[0]

    @cached_property
    def polynomial(self) -> Matrix:
        """From the stages' increments to the coefficients of theta, …, theta^stages."""
        found = np.zeros((self.stages, self.stages))
        weights = self.rates_to_polynomial @ self.inverse.astype(float)
        found[: len(weights)] = weights
        return found

    @cached_property
    def polynomial_at_end(self) -> Array:
        """The same of the polynomial in theta - 1."""
        shift: Any = np.array([[math.comb(e, d) for e in range(1, self.stages + 1)] for d in range(1, self.stages + 1)])
        shifted: Array = shift @ self.polynomial
        return shifted

    @cached_property
    def _embedded(self) -> tuple[Any, float]:
        """Weights of the second solution, and that of the rates at the start."""
        if self.b_embedded is not None:
            return extended(self.b_embedded), 0.0
        c, s, weight = extended(self.c), self.stages, 1.0 / self.gamma
        wanted = 1.0 / np.arange(1.0, s + 1.0)
        wanted[0] -= weight
        found = np.linalg.lstsq(
            (c.astype(float)[:, None] ** np.arange(s)).T if not self._distinct else self._nodal_powers,
            wanted,
            rcond=None,
        )[0]
        return found, weight

    @property
    def _nodal_powers(self) -> Array:
        c = np.array([float(x) for x in self.c])
        powers: Array = (c[:, None] ** np.arange(float(self.stages))).T
        return powers

    @cached_property
    def embedded_order(self) -> int:
        """Order of the second solution, which has one more stage where the step begins."""
        weights, first = self._embedded
        wide = [[0.0] * (self.stages + 1), *[[0.0, *row] for row in self.a]]
        return ElementaryWeights(wide).order([first, *exactly(np.asarray(weights, dtype=np.longdouble))])

    @cached_property
    def error_weights(self) -> Matrix:
        """Weights e of the increments in the estimate (gamma/h - J)^-1 (f_0 + e.z/h), or without f_0."""
        weights, _ = self._embedded
        found: Matrix = (self.gamma * (weights - extended(self.b)) @ self.inverse).astype(float)
        return found

    @property
    def uses_start_rates(self) -> bool:
        """Whether the rates at the start belongs to the estimate."""
        return self.b_embedded is None

    @cached_property
    def nodal(self) -> Array:
        """Coefficients of the nodes' polynomial N, the highest power first."""
        found: Array = np.asarray(np.poly([float(x) for x in self.c]), dtype=np.float64)
        return found

    @cached_property
    def free(self) -> Array:
        """Coefficients of theta, theta^2, … of the integral of N."""
        found: Array = np.array(np.polyint(self.nodal)[::-1][1:], dtype=np.float64)
        return found

    @cached_property
    def pulled(self) -> Array:
        """Coefficients of theta, theta^2, … of theta N."""
        return self.nodal[::-1].copy()

    @cached_property
    def largest(self) -> float:
        """The largest value of theta N on a step."""
        theta = np.linspace(0.0, 1.0, _FINE)
        return float(np.abs(theta * np.polyval(self.nodal, theta)).max())

    @cached_property
    def checked_nodes(self) -> tuple[float, float]:
        """The two values of theta at which the defect is evaluated: the largest arcs of theta N, to two digits."""
        theta = np.linspace(0.0, 1.0, _FINE)
        size = np.abs(theta * np.polyval(self.nodal, theta))
        inside = (size[1:-1] >= size[:-2]) & (size[1:-1] > size[2:])
        tops = sorted(np.flatnonzero(inside) + 1, key=lambda i: -size[i])[:2]
        found = sorted(round(float(theta[i]), 2) for i in tops)
        return (found[0], found[1]) if len(found) == 2 else (0.5, 0.75)


def check_blocks(blocks: DiagonalisedTableau) -> None:
    """Refuse a tableau that cannot be solved.

    Raises
    ------
    MethodError
    """
    try:
        _ = blocks.numbers
    except np.linalg.LinAlgError:
        raise MethodError(f"{blocks.name}: its stages cannot be solved", name=blocks.name, location=blocks.name,
                          expected="an invertible matrix a", given="numbers too far apart") from None  # fmt: skip
