"""Runge-Kutta methods: one record of coefficients; order, stability and interpolant follow."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cached_property
from typing import Any, ClassVar, Final

import numpy as np

from unhurried_heron.errors import MethodError, excerpt
from unhurried_heron.methods.coefficients import Matrix, Row, check_name, floats, refusal, row, sequence, square
from unhurried_heron.methods.doubling import Doubled, double
from unhurried_heron.methods.fully_implicit import DiagonalisedTableau, check_blocks
from unhurried_heron.methods.interpolant import (
    continuous_weights,
    growth_within,
    joined_weights,
    leading_error,
    order_of_weights,
)
from unhurried_heron.methods.nodes import collocation
from unhurried_heron.methods.rooted_trees import ElementaryWeights, assumed_order, condition, hidden_error
from unhurried_heron.methods.stability import OneStep, Polynomials, stability_function, value_at_infinity
from unhurried_heron.methods.tableau_checks import ALIKE, continuous_extension, second_weights

EXPLICIT: Final = "explicit Runge-Kutta"
DIAGONALLY_IMPLICIT: Final = "diagonally implicit Runge-Kutta"
FULLY_IMPLICIT: Final = "fully implicit Runge-Kutta"
# |R| at infinity below which a method damps very fast decays.
_DAMPS: Final = 0.9


@dataclass(frozen=True, eq=False)
class RungeKutta(OneStep):
    """A Runge-Kutta method given by its tableau: explicit, diagonally implicit or fully implicit.

    Parameters
    ----------
    name : str
        What tables call the method.
    a : sequence of sequences
        Coefficients, shape (stages, stages); rows may end where their zeros begin. Where they are zero from the
        diagonal on the method is explicit, where they are zero beyond it diagonally implicit; else all stages are
        solved together.
    b : sequence
        Weights, length stages, of the solution that is carried on.
    c : sequence, optional
        Nodes, length stages: the row sums of ``a``, which are taken where they are not given.
    b_embedded : sequence, optional
        Weights of a second solution of another order; the difference estimates the error. Without it the error is
        estimated by step doubling.
    b_further : sequence, optional
        Weights of a third one, of lower order than the second: with both differences, e and f, the estimate is
        e^2 / sqrt(e^2 + 0.01 f^2) (Hairer, Norsett and Wanner, *Solving Ordinary Differential Equations I*, 2nd ed.,
        1993, section II.10).
    continuous : pair, optional
        ``(rows, weights)`` of a continuous extension: rows of further stages, and for each stage, the further ones
        last, the coefficients of theta, theta^2, …; else one is constructed.
    source : str
        Where the coefficients come from.

    Numbers may be `fractions.Fraction`, texts such as "3/40", int or float; all but float stay exact.

    Raises
    ------
    MethodError
        The parts do not fit, or the method has not even order 1.

    Examples
    --------
    >>> midpoint = RungeKutta("my-midpoint", a=[[], ["1/2"]], b=[0, 1], c=[0, "1/2"])
    >>> midpoint.order
    2
    """

    name: str
    a: Any
    b: Any
    c: Any = None
    b_embedded: Any = None
    b_further: Any = None
    continuous: Any = None
    source: str = "given by the user"
    adaptive: ClassVar[bool] = True

    @classmethod
    def from_nodes(cls, name: str, nodes: Any, source: str = "given by the user") -> RungeKutta:
        """Return the collocation method of nodes in [0, 1].

        Parameters
        ----------
        name : str
        nodes : sequence
            Distinct numbers, `fractions.Fraction`, texts, int or float, shape (stages,).
        source : Source, optional
            The text it stands in.

        Returns
        -------
        RungeKutta

        Raises
        ------
        MethodError
            A node is no number in [0, 1], or there is one twice, or only explicit stages.
        """
        check_name(name)
        sequence(name, "nodes", nodes)
        c = row(name, "nodes", nodes, len(nodes))
        if len(set(c)) < len(c) or not c or not all(0 <= x <= 1 for x in c):
            raise refusal(name, "the nodes are not those of a collocation method", "distinct numbers from 0 to 1",
                          ", ".join(f"{float(x):g}" for x in c))  # fmt: skip
        a, b = collocation(c)
        return cls(name, a=a, b=b, source=source)

    def __post_init__(self) -> None:
        check_name(self.name)
        for part in ("b", "c"):
            if part == "b" or self.c is not None:
                sequence(self.name, part, getattr(self, part))
        b = row(self.name, "b", self.b, len(self.b), fill=True)
        a = square(self.name, "a", self.a, len(b))
        sums = tuple(sum(each, Fraction(0)) for each in a)
        c = sums if self.c is None else row(self.name, "c", self.c, len(b))
        for i, (given, total) in enumerate(zip(c, sums, strict=True)):
            if abs(float(total - given)) > ALIKE:
                raise refusal(self.name, "a node is not the sum of its row", f"c[{i}] = {total}", str(given))
        self._set("a", a)
        self._set("b", b)
        self._set("c", c)
        self._set("b_embedded", second_weights(self.name, "b_embedded", self.b_embedded, b))
        self._set("b_further", second_weights(self.name, "b_further", self.b_further, b))
        if self.b_further is not None and self.b_embedded is None:
            raise refusal(self.name, "b_further comes beside b_embedded", "both, or b_embedded alone", "b_further")
        if abs(float(sum(b)) - 1) > ALIKE:
            raise refusal(self.name, "the method is not consistent", "weights b that sum to 1", str(sum(b)))
        if self.continuous is not None:
            self._set("continuous", continuous_extension(self.name, self.continuous, b))
        if self.family == FULLY_IMPLICIT:
            check_blocks(self.diagonalised)

    def _set(self, field: str, value: Any) -> None:
        object.__setattr__(self, field, value)

    @cached_property
    def implicit(self) -> bool:
        """Whether its stages are solved for."""
        return any(any(each[i:]) for i, each in enumerate(self.a))

    @cached_property
    def family(self) -> str:
        """The family it belongs to."""
        if any(any(each[i + 1 :]) for i, each in enumerate(self.a)):
            return FULLY_IMPLICIT
        return DIAGONALLY_IMPLICIT if self.implicit else EXPLICIT

    @cached_property
    def diagonalised(self) -> DiagonalisedTableau:
        """What the tableau of a fully implicit method comes to."""
        return DiagonalisedTableau(self.name, self.a, self.b, self.c, self.b_embedded)

    @cached_property
    def stiff(self) -> bool:
        """Whether it is meant for stiff problems: fast decays are damped."""
        return self.implicit and self.region.a_stable and self.region.at_infinity < _DAMPS

    @property
    def stages(self) -> int:
        """Number of stages of one step."""
        return len(self.b)

    @property
    def evaluations(self) -> int:
        """Evaluations of the rates in a step: the last stage of one may be the first of the next."""
        return self.stages - self.begins_with_the_end

    @cached_property
    def begins_with_the_end(self) -> bool:
        """Whether its first stage is the end of the step before."""
        return self.ends_in_a_stage and not any(self.a[0])

    @property
    def paired(self) -> bool:
        """Whether it has an embedded solution; else the error is estimated by step doubling.

        A fully implicit method has one by itself, with one more stage where the step begins.
        """
        return self.b_embedded is not None or self.family == FULLY_IMPLICIT

    @cached_property
    def _weights(self) -> ElementaryWeights:
        return ElementaryWeights(self.a)

    @cached_property
    def order(self) -> int:
        """Order of the solution carried on, from the order conditions (up to 10), or simplifying assumptions."""
        return assumed_order(self.a, self.b, self.c) or self._weights.order(self.b)

    @property
    def first_missed(self) -> str:
        """The first order condition that is not met, and what it comes to."""
        _, tree, missed = self._weights.first_missed(self.b)
        return "" if tree is None else f"{condition(tree)}, missed by {missed:.3g}"

    @cached_property
    def embedded_order(self) -> int:
        """Order of the second solution; 0 without one."""
        if self.family == FULLY_IMPLICIT:
            return self.diagonalised.embedded_order
        return self._weights.order(self.b_embedded) if self.paired else 0

    @cached_property
    def estimate_order(self) -> int:
        """Order of the error estimate: it goes with the next power of the step."""
        if self.b_further is None:
            return min(self.order, self.embedded_order) if self.paired else self.order
        # e^2 / f
        return 2 * (self.embedded_order + 1) - self._weights.order(self.b_further) - 2

    @cached_property
    def ends_in_a_stage(self) -> bool:
        """Whether the last stage is the end of the step, and its rate so the first of the next one."""
        # coefficients that were solved for differ by a rounding
        apart = [self.c[-1] - 1, *(x - y for x, y in zip(self.a[-1], self.b, strict=True))]
        return all(abs(float(each)) < ALIKE for each in apart)

    @cached_property
    def stability(self) -> Polynomials:
        """Numerator and denominator of the stability function R(z), lowest power first."""
        return stability_function(self.a, self.b)

    @cached_property
    def embedded_stability(self) -> Polynomials:
        """The stability function of the second solution of a pair."""
        return stability_function(self.a, self.b_embedded)

    @cached_property
    def embedded_at_infinity(self) -> float:
        """The second solution's stability function at infinity."""
        return value_at_infinity(self.embedded_stability) if self.paired else 0.0

    @cached_property
    def further_stages(self) -> tuple[Row, ...]:
        """Rows of stages that only the interpolant needs, over the stages, the rate at the end and one another."""
        if self.continuous is None:
            return ()
        rows, _ = self._with_end_rate()
        return rows

    def _with_end_rate(self) -> tuple[tuple[Row, ...], Matrix]:
        """The further stages and the weights of the continuous extension, the rate at the end as the first of them.

        A method whose last stage that already is has none among the further ones.
        """
        s, rows, weights = self.stages, list(self.continuous.a), self.continuous.weights
        if self.ends_in_a_stage or self.implicit:
            return tuple(rows), weights
        ends = [i for i, each in enumerate(rows) if tuple(each[:s]) == tuple(self.b) and not any(each[s:])]
        if not ends:
            widened = [(*each[:s], Fraction(0), *each[s:]) for each in rows]
            return tuple(widened), np.insert(weights, s, 0.0, axis=0)
        first = ends[0]
        indices = [*range(s), s + first, *(s + i for i in range(len(rows)) if i != first)]
        others = [tuple(each[j] for j in indices) for i, each in enumerate(rows) if i != first]
        return tuple(others), weights[indices]

    @cached_property
    def _interpolant(self) -> tuple[Matrix, int]:
        """Weights of the step polynomial and the order whose conditions they meet."""
        if self.family == FULLY_IMPLICIT:
            weights = self.diagonalised.rates_to_polynomial
            return weights, order_of_weights(self.a, weights)
        zero = Fraction(0)
        if self.continuous is None:
            if self.implicit:
                return joined_weights(self._weights, self.b, self.order)
            if self.ends_in_a_stage:
                return continuous_weights(self.a, self.b, self.order)
            # the rate at the end of the step joins as one more stage
            wider = (*((*each, zero) for each in self.a), (*self.b, zero))
            return continuous_weights(wider, (*self.b, zero), self.order)
        weights = self._with_end_rate()[1].T
        return weights.copy(), order_of_weights(self._wide(len(weights.T)), weights)

    def _wide(self, width: int) -> list[Row]:
        """The rows of all stages that a step polynomial uses."""
        ends = () if self.ends_in_a_stage or self.implicit else (self.b,)
        rows = (*self.a, *ends, *self.further_stages)
        return [(*each, *[Fraction(0)] * (width - len(each))) for each in rows]

    @cached_property
    def hidden_error(self) -> float:
        """How much larger the leading error of the solution is than what its estimate, of an order less, tells."""
        if self.b_embedded is None or self.order != self.embedded_order + 1:
            return 1.0
        difference = [x - y for x, y in zip(self.b, self.b_embedded, strict=True)]
        return hidden_error(self._weights.stages, self.b, difference, self.order)

    @cached_property
    def between_errors(self) -> float:
        """The leading error between the steps over that of the error estimate, of an explicit pair."""
        order = self.estimate_order
        if self._interpolant[1] != order:
            return 0.0
        estimated = leading_error(self.a, self.error_weights[:1], min(self.order, self.embedded_order) + 1)
        return leading_error(self._wide(len(self.interpolant.T)), self.interpolant, order + 1) / estimated

    @cached_property
    def growth_between(self) -> float:
        """How much the step polynomial of an explicit method makes of what decays, at most, within its stability."""
        return growth_within(self._wide(len(self.interpolant.T)), self.interpolant, self.real_stability_limit)

    @property
    def interpolant(self) -> Matrix:
        """Weights of the step polynomial; row d belongs to theta^(d+1).

        The columns: the stages, of an explicit method the rate at the end of the step where it is no stage, and
        ``further_stages``.
        """
        return self._interpolant[0]

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""
        return min(self.order, self._interpolant[1] + 1)

    @cached_property
    def error_weights(self) -> Matrix:
        """``b - b_embedded`` as floats, one row; a second one, ``b - b_further``, where there is one."""
        rows = [other for other in (self.b_embedded, self.b_further) if other is not None]
        found = [[float(x - y) for x, y in zip(self.b, other, strict=True)] for other in rows]
        return np.array(found).reshape(len(rows), self.stages)

    @cached_property
    def doubled(self) -> RungeKutta:
        """The same method with the error estimated by step doubling: as a tableau."""
        tableau: Doubled = double(self.a, self.b, self.order)
        continuous = None
        if self.implicit and self.order <= 2:
            # through the states at both ends and halfway: bounded however stiff the problem
            b, halfway = floats(tableau.b), floats(tableau.halfway)
            continuous = ((), np.column_stack([4.0 * halfway - b, 2.0 * b - 4.0 * halfway]).tolist())
        return replace(
            self, a=tableau.a, b=tableau.b, c=None, b_embedded=tableau.b_extrapolated, b_further=None,
            continuous=continuous,
        )  # fmt: skip

    def extrapolating(self, wanted: bool) -> RungeKutta:
        """Return the pair that continues with its solution of higher order, or with that of lower order.

        Parameters
        ----------
        wanted : bool
            Whether the solution of higher order is carried on.

        Returns
        -------
        RungeKutta

        Raises
        ------
        MethodError
            The method is implicit, where only one of the two is stable enough.
        """
        pair = self if self.paired else self.doubled
        if self.implicit:
            raise MethodError(f"{self.name} continues with the solution that is made for stiff problems",
                              name="local_extrapolation", location="local_extrapolation",
                              expected="an explicit method", given=excerpt(wanted))  # fmt: skip
        if (pair.embedded_order > pair.order) != wanted or pair.order == pair.embedded_order:
            return pair
        return replace(pair, b=pair.b_embedded, b_embedded=pair.b, b_further=None, continuous=None)
