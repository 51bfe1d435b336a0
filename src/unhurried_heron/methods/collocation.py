"""Three-stage collocation methods for stiff problems, from their nodes alone.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), sections IV.5 and IV.8.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Final

import numpy as np

from unhurried_heron.methods.coefficients import Matrix
from unhurried_heron.methods.rooted_trees import ElementaryWeights, Scalar
from unhurried_heron.methods.stability import stability_function


@dataclass(frozen=True, eq=False)
class Collocation:
    """A collocation method whose last node is 1, so that the last stage is the solution.

    Parameters
    ----------
    name : str
        What tables call the method.
    nodes : tuple of float
        The three nodes in (0, 1], the last one 1.
    source : str
        Where the method comes from.
    """

    name: str
    nodes: tuple[float, float, float]
    source: str
    stiff: ClassVar[bool] = True
    adaptive: ClassVar[bool] = True
    family: ClassVar[str] = "collocation"
    real_stability_limit: ClassVar[float] = math.inf

    @property
    def stages(self) -> int:
        """Number of stages, solved together."""
        return len(self.nodes)

    @cached_property
    def a(self) -> Matrix:
        """Coefficients: integrals of the Lagrange polynomials from 0 to each node, shape (stages, stages)."""
        c, exponents = np.array(self.nodes), np.arange(self.stages)
        integrals: Matrix = (c[:, None] ** (exponents + 1) / (exponents + 1)) @ np.linalg.inv(c[:, None] ** exponents)
        return integrals

    @property
    def b(self) -> Matrix:
        """Weights: the last row of ``a``."""
        weights: Matrix = self.a[-1]
        return weights

    @cached_property
    def order(self) -> int:
        """Order of the solution at the steps, from the order conditions."""
        return ElementaryWeights(self.a.tolist()).order(self.b.tolist())

    @property
    def embedded_order(self) -> int:
        """Order of the second solution that estimates the error: a quadrature with one more node at 0."""
        return self.stages

    @property
    def estimate_order(self) -> int:
        """Order of the error estimate."""
        return self.embedded_order

    @property
    def interpolant_order(self) -> int:
        """Order at which the collocation polynomial converges between the steps."""
        return min(self.order, self.stages + 1)

    @cached_property
    def stability(self) -> tuple[tuple[Scalar, ...], tuple[Scalar, ...]]:
        """Numerator and denominator of the stability function R(z), lowest power first."""
        return stability_function(self.a.tolist(), self.b.tolist())

    @cached_property
    def interpolant(self) -> Matrix:
        """Map from stage increments to coefficients of theta, theta^2, theta^3, shape (stages, stages)."""
        c = np.array(self.nodes)
        return np.linalg.inv(c[:, None] ** np.arange(1, self.stages + 1))

    @cached_property
    def spectrum(self) -> tuple[float, float, float, Matrix, Matrix]:
        """Return gamma, alpha, beta, T and its inverse.

        T brings the inverse of ``a`` to one real block gamma and one 2 x 2 block [[alpha, -beta], [beta, alpha]], so
        that a Newton step costs one real and one complex linear system of the problem's size.
        """
        inverse = np.linalg.inv(self.a)
        values, vectors = np.linalg.eig(inverse)
        real, pair = int(np.argmin(np.abs(values.imag))), int(np.argmax(values.imag))
        basis = np.column_stack([vectors[:, real].real, vectors[:, pair].real, -vectors[:, pair].imag])
        gamma, alpha, beta = values[real].real, values[pair].real, values[pair].imag
        return float(gamma), float(alpha), float(beta), basis, np.linalg.inv(basis)

    @cached_property
    def error_weights(self) -> Matrix:
        """Weights e of the stage increments in the error estimate (gamma/h - J)^-1 (f_0 + e.z/h)."""
        c, gamma = np.array(self.nodes), self.spectrum[0]
        exponents = np.arange(self.stages)
        wanted = 1.0 / (exponents + 1.0)
        wanted[0] -= 1.0 / gamma
        embedded: Any = np.linalg.solve((c[:, None] ** exponents).T, wanted)
        weights: Matrix = gamma * (embedded - self.b) @ np.linalg.inv(self.a)
        return weights


RADAU_IIA_5: Final = Collocation(
    "radau-iia-5",
    nodes=((4 - math.sqrt(6)) / 10, (4 + math.sqrt(6)) / 10, 1.0),
    source="B. L. Ehle (1969); Hairer and Wanner, Solving ODEs II, IV.8",
)
