"""Additive Runge-Kutta methods: a diagonally implicit one for a part of the rates, an explicit one for the rest."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Final

from unhurried_heron.methods.coefficients import Matrix, refusal, square
from unhurried_heron.methods.interpolant import joined_weights
from unhurried_heron.methods.rooted_trees import CoupledWeights, hidden_error
from unhurried_heron.methods.runge_kutta import DIAGONALLY_IMPLICIT, RungeKutta
from unhurried_heron.methods.stability import OneStep, Polynomials
from unhurried_heron.methods.tableau_checks import ALIKE

ADDITIVE: Final = "additive Runge-Kutta"


@dataclass(frozen=True, eq=False)
class Additive(OneStep):
    """An additive Runge-Kutta method given by its two tableaux, which share their weights and nodes.

    Where the rates are f + g, stage i is ``y + h sum a_ij f(Y_j) + h sum a_explicit_ij g(Y_j)``: f is solved for, g is
    not. f is what equations mark as ``implicit(…)``, or what is linear in the states where nothing is marked.

    Parameters
    ----------
    name : str
        What tables call the method.
    a : sequence of sequences
        Coefficients of the implicit part, shape (stages, stages), lower triangular; the first row is zero. Rows may end
        where their zeros begin.
    a_explicit : sequence of sequences
        Of the explicit part, strictly lower triangular, with the same sums of rows.
    b : sequence
        Weights, length stages, of the solution that is carried on.
    b_embedded : sequence
        Weights of a second solution of another order; the difference estimates the error.
    source : str
        Where the coefficients come from.

    Raises
    ------
    MethodError
        The parts do not fit, or the method has not even order 1.
    """

    name: str
    a: Any
    a_explicit: Any
    b: Any
    b_embedded: Any
    source: str = "given by the user"
    family: ClassVar[str] = ADDITIVE
    adaptive: ClassVar[bool] = True
    implicit: ClassVar[bool] = True
    # only the marks tell whether what is stiff in a problem is in its implicit part
    stiff: ClassVar[bool] = False

    def __post_init__(self) -> None:
        half = RungeKutta(self.name, self.a, self.b, b_embedded=self.b_embedded, source=self.source)
        explicit = square(self.name, "a_explicit", self.a_explicit, half.stages)
        if half.family != DIAGONALLY_IMPLICIT or any(half.a[0]) or self.b_embedded is None:
            raise refusal(self.name, "the implicit part does not belong to an additive method",
                          "a lower triangular, its first row zero, and b_embedded", half.family)  # fmt: skip
        if any(any(row[i:]) for i, row in enumerate(explicit)):
            raise refusal(self.name, "the explicit part is not explicit", "a_explicit strictly lower triangular",
                          "numbers from the diagonal on")  # fmt: skip
        apart = [abs(float(sum(one) - sum(other))) for one, other in zip(half.a, explicit, strict=True)]
        if max(apart) > ALIKE:
            raise refusal(self.name, "the two parts have other nodes", "the same sums of rows of a and a_explicit",
                          f"sums that differ by {max(apart):.3g}")  # fmt: skip
        for part, value in (("a", half.a), ("b", half.b), ("b_embedded", half.b_embedded), ("a_explicit", explicit)):
            object.__setattr__(self, part, value)

    @cached_property
    def half(self) -> RungeKutta:
        """The implicit method alone."""
        return RungeKutta(self.name, self.a, self.b, b_embedded=self.b_embedded, source=self.source)

    @property
    def stages(self) -> int:
        """Number of stages of one step."""
        return self.half.stages

    @property
    def evaluations(self) -> int:
        """Evaluations of both parts of the rates in a step."""
        return self.stages

    @cached_property
    def _weights(self) -> CoupledWeights:
        return CoupledWeights(self.a, self.a_explicit)

    @cached_property
    def order(self) -> int:
        """Order of the solution carried on, from the coupled order conditions."""
        return self._weights.order(self.b)

    @cached_property
    def embedded_order(self) -> int:
        """Order of the second solution."""
        return self._weights.order(self.b_embedded)

    @property
    def estimate_order(self) -> int:
        """Order of the error estimate: it goes with the next power of the step."""
        return min(self.order, self.embedded_order)

    @cached_property
    def hidden_error(self) -> float:
        """How much larger the leading error of the solution is than what its estimate, of an order less, tells."""
        if self.order != self.embedded_order + 1:
            return 1.0
        difference = [x - y for x, y in zip(self.b, self.b_embedded, strict=True)]
        return hidden_error(self._weights.stages, self.b, difference, self.order)

    @cached_property
    def _interpolant(self) -> tuple[Matrix, int]:
        return joined_weights(self._weights, self.b, self.order)

    @property
    def interpolant(self) -> Matrix:
        """Weights of the step polynomial, shape (degree, stages); row d belongs to theta^(d+1)."""
        return self._interpolant[0]

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""
        return min(self.order, self._interpolant[1] + 1)

    @cached_property
    def explicit_limit(self) -> float:
        """The largest x for which steps of a decay in the explicit part are stable up to h lambda = -x."""
        return RungeKutta(self.name, self.a_explicit, self.b).region.real

    @property
    def stability(self) -> Polynomials:
        """The stability function of the implicit part alone: numerator and denominator, lowest power first."""
        return self.half.stability
