"""Rosenbrock methods: linearly implicit ones, which solve one linear system a stage and iterate nothing.

E. Hairer and G. Wanner, *Solving Ordinary Differential Equations II*, 2nd ed. (1996), section IV.7.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.methods.coefficients import Matrix, check_name, floats, refusal, row, sequence, square
from unhurried_heron.methods.constraint_trees import order_with_constraints
from unhurried_heron.methods.rooted_trees import MAX_ORDER, Tree, density, extended, hidden_error, trees
from unhurried_heron.methods.stability import OneStep, Polynomials, stability_function, value_at_infinity

ROSENBROCK: Final = "Rosenbrock"
# Conditions met to this are met.
_MET: Final = 1e-12
# The share of what misses a constraint that a step may leave.
_DAMPED: Final = 0.1


class Transformed(NamedTuple):
    """The coefficients of the form without products with the Jacobian, of its unknowns U = Gamma k.

    ``a``, ``c`` (stages, stages); ``m``, ``error``, ``gamma``, ``alpha`` (stages,); ``interpolant`` (degree, stages).
    """

    a: Matrix
    c: Matrix
    m: Matrix
    error: Matrix
    gamma: Matrix
    alpha: Matrix
    interpolant: Matrix


@dataclass(frozen=True, eq=False)
class Rosenbrock(OneStep):
    """A Rosenbrock method given by its coefficients.

    One step solves, one stage after the other, with J the Jacobian and f_t the time derivative of the rates,
    ``(I - h gamma J) k_i = f(t + alpha_i h, y + h sum alpha_ij k_j) + h J sum_j<i gamma_ij k_j + gamma_i h f_t``.

    Parameters
    ----------
    name : str
        What tables call the method.
    alpha : sequence of sequences
        Strictly lower triangular, shape (stages, stages); rows may end where their zeros begin.
    gamma : sequence of sequences
        Lower triangular, with the same number all along the diagonal.
    b : sequence
        Weights, length stages.
    b_embedded : sequence, optional
        Weights of a second solution, whose difference estimates the error; without it the steps are fixed.
    continuous : sequence of sequences, optional
        For each stage the coefficients of theta, theta^2, … in the solution between the steps; else the cubic, or what
        the stages allow, is constructed.
    source : str
        Where the coefficients come from.

    Raises
    ------
    MethodError
        The parts do not fit, or the method has not even order 1.
    """

    name: str
    alpha: Any
    gamma: Any
    b: Any
    b_embedded: Any = None
    continuous: Any = None
    source: str = "given by the user"
    family: ClassVar[str] = ROSENBROCK

    def __post_init__(self) -> None:
        check_name(self.name)
        sequence(self.name, "b", self.b)
        s = len(self.b)
        b = row(self.name, "b", self.b, s)
        alpha, gamma = square(self.name, "alpha", self.alpha, s), square(self.name, "gamma", self.gamma, s)
        if any(any(each[i:]) for i, each in enumerate(alpha)) or any(
            any(each[i + 1 :]) for i, each in enumerate(gamma)
        ):
            raise refusal(self.name, "the coefficients are not those of a Rosenbrock method",
                          "alpha strictly lower and gamma lower triangular", "numbers above")  # fmt: skip
        diagonal = {float(each[i]) for i, each in enumerate(gamma)}
        if len(diagonal) > 1 or not min(diagonal) > 0.0:
            raise refusal(self.name, "the diagonal of gamma is not one number", "the same positive number all along",
                          ", ".join(f"{x:g}" for x in sorted(diagonal)))  # fmt: skip
        for part, value in (("b", b), ("alpha", alpha), ("gamma", gamma)):
            object.__setattr__(self, part, value)
        if abs(float(sum(b)) - 1.0) > _MET:
            raise refusal(self.name, "the method is not consistent", "weights b that sum to 1", str(float(sum(b))))
        if self.b_embedded is not None:
            embedded = row(self.name, "b_embedded", self.b_embedded, s)
            if abs(float(sum(embedded)) - 1.0) > _MET or embedded == b:
                raise refusal(self.name, "b_embedded does not estimate the error",
                              "other weights than b, that sum to 1", str(float(sum(embedded))))  # fmt: skip
            object.__setattr__(self, "b_embedded", embedded)
        if self.continuous is not None:
            degree = max((len(each) for each in self.continuous), default=0)
            read = [row(self.name, "weights of the continuous extension", each, degree, fill=True)
                    for each in self.continuous]  # fmt: skip
            if len(read) != s or not np.allclose([float(sum(each)) for each in read], floats(b), atol=1e-9):
                raise refusal(self.name, "the continuous extension does not end at the method's solution",
                              f"{s} rows of weights whose sums are b", f"{len(read)} rows")  # fmt: skip
            object.__setattr__(self, "continuous", floats(read))

    @property
    def adaptive(self) -> bool:
        """Whether it estimates its own error."""
        return self.b_embedded is not None

    @property
    def implicit(self) -> bool:
        """Whether its stages are solved for."""
        return True

    @property
    def stiff(self) -> bool:
        """Whether it is meant for stiff problems: fast decays are damped."""
        return self.region.a_stable and self.region.at_infinity < 1.0

    @property
    def stages(self) -> int:
        """Number of stages of one step."""
        return len(self.b)

    @cached_property
    def evaluations(self) -> int:
        """Evaluations of the rates in a step: stages may share their argument."""
        return len(set(self.alpha))

    @cached_property
    def _beta(self) -> Any:
        return extended(self.alpha) + extended(self.gamma)

    @cached_property
    def _stage_weights(self) -> dict[Tree, Any]:
        return {(): np.ones(self.stages, dtype=np.longdouble)}

    def _weights(self, tree: Tree) -> Array:
        """Return a tree's weight at each stage: branches that stand alone go through beta, others through alpha."""
        found = self._stage_weights.get(tree)
        if found is None:
            through = self._beta if len(tree) == 1 else extended(self.alpha)
            found = np.ones(self.stages, dtype=np.longdouble)
            for branch in tree:
                found = found * (through @ self._weights(branch))
            self._stage_weights[tree] = found
        return found

    def _order_of(self, weights: Any) -> int:
        """Return the order of weights: one row, or rows for the powers of theta."""
        rows = np.atleast_2d(weights)
        for order in range(1, MAX_ORDER + 1):
            for tree in trees(order):
                missed = rows @ self._weights(tree)
                if len(rows) == 1:
                    missed[0] -= np.longdouble(1) / density(tree)
                elif order <= len(rows):
                    missed[order - 1] -= np.longdouble(1) / density(tree)
                if not np.abs(missed).max() <= _MET * max(1.0, float(np.abs(rows).max())):
                    return order - 1
        return MAX_ORDER

    @cached_property
    def order(self) -> int:
        """Order of the solution carried on, from the order conditions."""
        return self._order_of(extended(self.b))

    @cached_property
    def order_with_constraints(self) -> int:
        """Order where there are constraints of index 1, from the conditions of these; 0 where nothing damps errors."""
        if not self.region.at_infinity < 1.0:
            return 0
        return order_with_constraints(extended(self.alpha), self._beta, extended(self.b), self.order)

    @property
    def keeps_constraints(self) -> bool:
        """Whether constraints of index 1 leave it its order, and both solutions bring back what misses one.

        A second solution that does not would tell an error however short the step is.
        """
        damps = max(self.region.at_infinity, abs(self.embedded_at_infinity)) <= _DAMPED
        return damps and self.order_with_constraints == self.order

    @cached_property
    def embedded_order(self) -> int:
        """Order of the second solution; 0 without one."""
        return self._order_of(extended(self.b_embedded)) if self.adaptive else 0

    @property
    def estimate_order(self) -> int:
        """Order of the error estimate: it goes with the next power of the step."""
        return min(self.order, self.embedded_order) if self.adaptive else self.order

    @cached_property
    def hidden_error(self) -> float:
        """How much larger the leading error of the solution is than what its estimate, of an order less, tells."""
        if self.b_embedded is None or self.order != self.embedded_order + 1:
            return 1.0
        difference = [x - y for x, y in zip(self.b, self.b_embedded, strict=True)]
        return hidden_error(self._weights, self.b, difference, self.order)

    @cached_property
    def interpolant(self) -> Matrix:
        """Weights of the step polynomial, shape (degree, stages); row d belongs to theta^(d+1)."""
        if self.continuous is not None:
            weights: Matrix = self.continuous.T.copy()
            return weights
        return self._constructed()

    def _constructed(self) -> Matrix:
        """Solve the conditions of the highest order that polynomials of the same degree can meet."""
        s, b = self.stages, floats(self.b)
        for order in range(self.order, 1, -1):
            every = [(k, tree) for k in range(1, order + 1) for tree in trees(k)]
            phi = np.array([self._weights(tree) for _, tree in every], dtype=float)
            wanted = np.zeros((len(every), order))
            for index, (k, tree) in enumerate(every):
                wanted[index, k - 1] = 1.0 / density(tree)
            system = np.vstack([np.kron(np.eye(order), phi), np.kron(np.ones(order), np.eye(s))])
            right = np.concatenate([wanted.T.ravel(), b])
            found = np.linalg.lstsq(system, right, rcond=1e-10)[0]
            if np.abs(system @ found - right).max() < _MET:
                constructed: Matrix = found.reshape(order, s)
                return constructed
        return b[None, :]

    @cached_property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""
        weights = self.interpolant
        met = self._order_of(weights) if len(weights) > 1 else 1
        return min(self.order, met + 1)

    @cached_property
    def stability(self) -> Polynomials:
        """Numerator and denominator of the stability function R(z), lowest power first."""
        return stability_function(self._beta, self.b)

    @cached_property
    def embedded_at_infinity(self) -> float:
        """The second solution's stability function at infinity."""
        if not self.adaptive:
            return 0.0
        return value_at_infinity(stability_function(self._beta, self.b_embedded))

    @cached_property
    def transformed(self) -> Transformed:
        """The coefficients as the kernel uses them."""
        alpha, gamma, b = extended(self.alpha), extended(self.gamma), extended(self.b)
        inverse = np.zeros_like(gamma)
        for i in range(self.stages):
            inverse[i] = -(gamma[i, :i] @ inverse[:i]) / gamma[i, i]
            inverse[i, i] = 1.0 / gamma[i, i]
        c = np.diag(1.0 / np.diag(gamma)) - inverse
        error = (b - extended(self.b_embedded)) @ inverse if self.adaptive else np.zeros(self.stages)
        a, m, gammas, alphas = alpha @ inverse, b @ inverse, gamma.sum(axis=1), alpha.sum(axis=1)
        one, two, three, four, five, six = (part.astype(float) for part in (a, c, m, error, gammas, alphas))
        return Transformed(one, two, three, four, five, six, (self.interpolant @ inverse).astype(float))
