"""Linear multistep methods at fixed steps: Adams, predictor-corrector, backward differentiation, or one's own.

E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), chapter III; for
backward differentiation C. F. Curtiss and J. O. Hirschfelder, Proc. Natl. Acad. Sci. 38 (1952) 235-243.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any, ClassVar, Final

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.errors import excerpt
from unhurried_heron.methods.coefficients import Matrix, Row, check_name, refusal, row, sequence
from unhurried_heron.methods.multistep_formulas import adams_bashforth
from unhurried_heron.methods.pickling import Kept
from unhurried_heron.methods.rooted_trees import extended
from unhurried_heron.methods.stability import Region

EXPLICIT_MULTISTEP: Final = "explicit linear multistep"
IMPLICIT_MULTISTEP: Final = "implicit linear multistep"
# Conditions met to this are met, for coefficients of extended precision.
_MET: Final = 1e-11
# Distance from the unit circle below which a root counts as on it: rounding moves double roots by about this.
_OUTSIDE: Final = 1e-9
# Points of the boundary locus.
_ANGLES: Final = 7201
# Distances from zero that are searched on the axes.
_DISTANCES: Final = 600
# Bisections of a limit.
_BISECTIONS: Final = 60
# The highest order that is looked for.
_MAX_ORDER: Final = 20


@dataclass(frozen=True, eq=False)
class Multistep(Kept):
    """A linear multistep method, ``y_n+1 = sum_j a_j y_n+1-j + h sum_j b_j f_n+1-j``.

    Parameters
    ----------
    name : str
        What tables call the method.
    a : sequence
        Coefficients of the last values, the newest first: a_1, a_2, ….
    b : sequence
        Coefficients of the rates, the new one first: b_0 (0 for an explicit method), b_1, b_2, ….
    predictor : pair, optional
        ``(a, b)`` of an explicit method: the new rates are those of its result, evaluated once (predict, evaluate,
        correct, evaluate), instead of being solved for.
    source : str
        Where the coefficients come from.

    Raises
    ------
    MethodError
        The parts do not fit, the method has not even order 1, or errors would grow without bound as steps shorten.

    Examples
    --------
    >>> Multistep("leap", a=[0, 1], b=[0, 2]).order
    2
    """

    name: str
    a: Any
    b: Any
    predictor: Any = None
    source: str = "given by the user"
    adaptive: ClassVar[bool] = False
    stages: ClassVar[int] = 1
    embedded_order: ClassVar[int] = 0

    def __post_init__(self) -> None:
        check_name(self.name)
        for part in ("a", "b"):
            sequence(self.name, part, getattr(self, part))
        a, b = (row(self.name, part, getattr(self, part), len(getattr(self, part))) for part in ("a", "b"))
        if not a or not b:
            raise refusal(self.name, "the parts do not fit", "at least a_1, and b_0 (0 if explicit)", "nothing")
        object.__setattr__(self, "a", a)
        object.__setattr__(self, "b", b)
        if self.predictor is not None:
            object.__setattr__(self, "predictor", self._checked_predictor(b))
        if self.order < 1:
            raise refusal(self.name, "the method is not consistent",
                          "a that sum to 1, and b that sum to 1 a_1 + 2 a_2 + … (the first condition missed: "
                          f"{self.first_missed})", "other coefficients")  # fmt: skip
        largest = np.abs(np.roots(self._first_characteristic)).max()
        double = self._double_root_on_circle()
        if largest > 1.0 + _OUTSIDE**0.5 or double:
            raise refusal(self.name, "errors grow without bound as the steps shorten",
                          "roots of x^k - a_1 x^(k-1) - … inside the unit circle, or simple ones on it",
                          "a double root on it" if double else f"a root of modulus {largest:.6g}")  # fmt: skip

    def _checked_predictor(self, b: Row) -> tuple[Row, Row]:
        try:
            first, second = self.predictor
            pair = (
                row(self.name, "a of the predictor", first, len(first)),
                row(self.name, "b of the predictor", second, len(second)),
            )
        except (TypeError, ValueError):
            raise refusal(self.name, "the predictor is no pair", "(a, b) of an explicit method",
                          excerpt(self.predictor)) from None  # fmt: skip
        if not b[0] or not pair[1] or pair[1][0]:
            raise refusal(self.name, "the predictor does not fit",
                          "an explicit one (b_0 = 0) for an implicit corrector",
                          f"b_0 = {pair[1][0] if pair[1] else 'nothing'}")  # fmt: skip
        return pair

    @property
    def _first_characteristic(self) -> Matrix:
        found: Matrix = np.array([1.0, *(-float(x) for x in self.a)])
        return found

    def _double_root_on_circle(self) -> bool:
        roots = np.roots(self._first_characteristic)
        on = roots[np.abs(np.abs(roots) - 1.0) < _OUTSIDE**0.25]
        apart = np.abs(on[:, None] - on)
        np.fill_diagonal(apart, 1.0)
        return bool((apart < _OUTSIDE**0.25).any())

    @property
    def implicit(self) -> bool:
        """Whether each step is solved for."""
        return bool(self.b[0]) and self.predictor is None

    @property
    def family(self) -> str:
        """The family it belongs to."""
        return IMPLICIT_MULTISTEP if self.implicit else EXPLICIT_MULTISTEP

    @property
    def evaluations(self) -> int:
        """Evaluations of the rates in a step."""
        return 1 if self.predictor is None else 2

    @cached_property
    def steps(self) -> int:
        """How many values or rates of the past it uses."""
        parts = [self.a, self.b[1:], *((self.predictor[0], self.predictor[1][1:]) if self.predictor else ())]
        return max(max((i + 1 for i, x in enumerate(part) if x), default=0) for part in parts)

    @property
    def uses_past_rates(self) -> bool:
        """Whether it uses rates of the past."""
        return any(self.b[1:]) or self.predictor is not None

    def _defect(self, q: int, a: Any, b: Any) -> Any:
        """Return how far the coefficients miss the condition of order q, times q!.

        Parameters
        ----------
        q : int
            The order.
        a : array_like, shape (steps,)
        b : array_like, shape (steps + 1,)

        Returns
        -------
        longdouble
        """
        values = extended(a) @ (-np.arange(len(a), dtype=np.longdouble)) ** q
        rate_weights = (
            extended(b) @ (1.0 - np.arange(len(b), dtype=np.longdouble)) ** (q - 1) if q else np.longdouble(0)
        )
        return np.longdouble(1) - values - q * rate_weights

    def _order_of(self, a: Any, b: Any) -> int:
        for q in range(_MAX_ORDER):
            if not abs(self._defect(q, a, b)) < _MET * max(1.0, float(len(b)) ** q):
                return q - 1
        return _MAX_ORDER

    @cached_property
    def order(self) -> int:
        """Order of the method, from the order conditions; of a predictor-corrector at most one more than predicted."""
        corrected = self._order_of(self.a, self.b)
        return corrected if self.predictor is None else min(corrected, self._order_of(*self.predictor) + 1)

    @property
    def first_missed(self) -> str:
        """The first order condition that is not met."""
        q = self._order_of(self.a, self.b) + 1
        return f"order {q} by {float(self._defect(q, self.a, self.b)):.3g}"

    @property
    def error_constant(self) -> float:
        """C in the error C h^(p+1) y^(p+1) of one step over the sum of b (Henrici's)."""
        q = self._order_of(self.a, self.b) + 1
        return float(self._defect(q, self.a, self.b) / math.factorial(q) / extended(self.b).sum())

    @property
    def estimate_order(self) -> int:
        """Order of what an error estimate would be of."""
        return self.order

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""
        return min(self.order, self._degree + 1)

    @property
    def _degree(self) -> int:
        return min(self.order, self.steps + 1 if self.uses_past_rates else self.steps)

    @cached_property
    def prediction(self) -> tuple[Matrix, Matrix]:
        """Weights of past values and rates, shape (steps,) each, in the prediction of an implicit step."""
        k = self.steps
        values, rate_weights = np.zeros(k), np.zeros(k)
        if self.uses_past_rates or k == 1:
            values[0], rate_weights[:] = 1.0, [float(x) for x in adams_bashforth(k)[1:]]
        else:
            values[:] = [(-1) ** j * math.comb(k, j + 1) for j in range(k)]
        return values, rate_weights

    @cached_property
    def characteristic(self) -> Matrix:
        """The polynomial of x whose roots y_n is made of for h lambda = z, by rising powers of x (rows) and z."""
        k, first = self.steps, float(self.b[0])
        terms = np.zeros((k + 1, 2 if self.predictor is None else 3))
        terms[k, :2] = 1.0, (0.0 if self.predictor else -first)
        for power, values in enumerate((self.a, self.b[1:])):
            terms[k - 1 - np.arange(len(values)), power] -= [float(x) for x in values]
        if self.predictor is not None:
            for power, values in enumerate((self.predictor[0], self.predictor[1][1:])):
                terms[k - 1 - np.arange(len(values)), power + 1] -= [first * float(x) for x in values]
        return terms

    def recurrence(self, z: Any) -> ComplexArray:
        """Return r_1, r_2, … in y_n+1 = r_1 y_n + r_2 y_n-1 + … for y' = lambda y, z = h lambda, shape (…, steps).

        Parameters
        ----------
        z : complex or array_like
            h lambda.

        Returns
        -------
        ndarray of complex, shape (…, steps)
        """
        z = np.asarray(z)[..., None]

        def past(values: Any, count: int) -> Any:
            return np.array([float(x) for x in values] + [0.0] * (count - len(values)))[:count]

        k = self.steps
        a, b = past(self.a, k), past(self.b[1:], k)
        if self.predictor is None:
            found: ComplexArray = (a + z * b) / (1.0 - z * float(self.b[0]))
            return found
        predicted = past(self.predictor[0], k) + z * past(self.predictor[1][1:], k)
        corrected: ComplexArray = a + z * b + z * float(self.b[0]) * predicted
        return corrected

    def largest_root(self, z: Any) -> Array:
        """Return the largest modulus of what y_n is made of for h lambda = z, of the same shape.

        Parameters
        ----------
        z : complex or array_like
            h lambda.

        Returns
        -------
        ndarray, shape of ``z``
        """
        z = np.asarray(z, dtype=complex)
        k = self.steps
        companion = np.zeros((*z.shape, k, k), dtype=complex)
        companion[..., 0, :] = self.recurrence(z)
        companion[..., np.arange(1, k), np.arange(k - 1)] = 1.0
        largest: Array = np.abs(np.linalg.eigvals(companion)).max(axis=-1)
        return largest

    def _limit(self, direction: complex) -> float:
        """Return how far steps are stable from 0 in a direction; infinite where they always are."""
        far = 1e6 if self.implicit else 12.0
        r = np.geomspace(1e-3, far, _DISTANCES)
        outside = self.largest_root(r * direction) > 1.0 + _OUTSIDE
        if not outside.any():
            return math.inf
        index = int(np.argmax(outside))
        if index == 0:
            return 0.0
        within, beyond = float(r[index - 1]), float(r[index])
        for _ in range(_BISECTIONS):
            middle = 0.5 * (within + beyond)
            if self.largest_root(middle * direction) > 1.0 + 1e-13:
                beyond = middle
            else:
                within = middle
        return within

    def _grows_on_axis(self) -> bool:
        """Whether the root near exp(i y) is larger than 1 from y = 0 on, however little: with many digits."""
        import mpmath  # type: ignore[import-untyped]  # it has no stubs

        with mpmath.workdps(60):
            z, k = mpmath.mpc(0, "1e-3"), self.steps

            def exact(values: Any) -> list[Any]:
                read = [mpmath.mpf(Fraction(x).numerator) / Fraction(x).denominator for x in values]
                return (read + [mpmath.mpf(0)] * k)[:k]

            a, b, first = exact(self.a), exact(self.b[1:]), exact(self.b[:1])[0]
            if self.predictor is None:
                past = [(x + z * y) / (1 - z * first) for x, y in zip(a, b, strict=True)]
            else:
                before = zip(exact(self.predictor[0]), exact(self.predictor[1][1:]), strict=True)
                past = [x + z * y + z * first * (u + z * v) for x, y, (u, v) in zip(a, b, before, strict=True)]
            root = mpmath.exp(z)
            for _ in range(8):
                value = root**k - sum(w * root ** (k - 1 - j) for j, w in enumerate(past))
                derivative = k * root ** (k - 1) - sum(
                    w * (k - 1 - j) * root ** (k - 2 - j) for j, w in enumerate(past)
                )
                root -= value / derivative
            return bool(abs(root) - 1 > mpmath.mpf("1e-50"))

    @cached_property
    def region(self) -> Region:
        """What its region of stability is like; the angle from the curve on which a root has modulus 1."""
        real, imaginary = self._limit(-1.0), 0.0 if self._grows_on_axis() else self._limit(1j)
        if not self.implicit:
            return Region(real, imaginary, 0.0, math.inf)
        rate_weights = np.roots([float(x) for x in self.b]) if len(self.b) > 1 else np.zeros(1)
        at_infinity = float(np.abs(rate_weights).max(initial=0.0))
        if math.isfinite(real):
            return Region(real, imaginary, 0.0, at_infinity)
        x = np.exp(1j * np.linspace(1e-4, math.pi, _ANGLES))
        top = 1.0 - sum(float(w) * x ** -(j + 1.0) for j, w in enumerate(self.a))
        bottom = sum(float(w) * x ** -float(j) for j, w in enumerate(self.b))
        with np.errstate(divide="ignore", invalid="ignore"):
            curve = top / bottom
        # Close to 0 the curve coincides with the imaginary axis but for rounding.
        left = curve[np.isfinite(curve) & (curve.real < -1e-9 * np.abs(curve))]
        angles = np.degrees(np.abs(np.angle(-left)))
        return Region(real, imaginary, float(min(angles.min(initial=90.0), 90.0)), at_infinity)

    @property
    def stiff(self) -> bool:
        """Whether it is meant for stiff problems: fast decays are damped."""
        return self.implicit and self.region.real == math.inf and self.region.at_infinity < 0.9

    @property
    def real_stability_limit(self) -> float:
        """The largest x for which steps of a decay are stable up to h lambda = -x; infinite where there is none."""
        return self.region.real

    @cached_property
    def interpolant(self) -> Matrix:
        """The step polynomial, shape (degree, degree), from how far the state moves, and the past.

        Row d belongs to theta^(d+1). The columns: the move; h times the rates at the start of the step and before
        (``uses_past_rates``), or the values before less that at the start.
        """
        degree = self._degree
        powers = np.arange(1, degree + 1)
        conditions: list[Any] = [np.ones(degree)]
        for j in range(degree - 1):
            at = -float(j) if self.uses_past_rates else -float(j + 1)
            conditions.append(powers * at ** (powers - 1.0) if self.uses_past_rates else at**powers)
        return np.linalg.inv(np.array(conditions))
