"""Explicit Runge-Kutta methods: one record of coefficients; order, region and interpolant follow."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any, ClassVar, Final

import numpy as np

from unhurried_heron.errors import MethodError
from unhurried_heron.methods.interpolant import Matrix, continuous_weights
from unhurried_heron.methods.rooted_trees import ElementaryWeights, Scalar
from unhurried_heron.methods.stability import stability_function

# decimal powers of more than two digits are no coefficients, and would take endless digits to write out
_EXPONENT: Final = re.compile(r"[eE][+-]?0*[1-9]\d\d")
_LARGEST: Final = 1e50


@dataclass(frozen=True, eq=False)
class RungeKutta:
    """An explicit Runge-Kutta method given by its tableau.

    Parameters
    ----------
    name : str
        What tables call the method.
    a : sequence of sequences
        Strictly lower triangular coefficients, shape (stages, stages); rows may end where their zeros begin.
    b : sequence
        Weights, length stages, of the solution that is carried on.
    c : sequence
        Nodes, length stages: the row sums of ``a``.
    b_embedded : sequence, optional
        Weights of a second solution of another order; the difference estimates the error, so that the step can
        adapt. Without it the method runs with fixed steps.
    source : str
        Where the coefficients come from.

    Numbers may be `fractions.Fraction`, texts such as "3/40", int or float; all but float stay exact.

    Raises
    ------
    MethodError
        The tableau is not explicit, its parts do not fit, or it has not even order 1.

    Examples
    --------
    >>> midpoint = RungeKutta("my-midpoint", a=[[], ["1/2"]], b=[0, 1], c=[0, "1/2"])
    >>> midpoint.order
    2
    """

    name: str
    a: Any
    b: Any
    c: Any
    b_embedded: Any = None
    source: str = "given by the user"
    stiff: ClassVar[bool] = False
    family: ClassVar[str] = "explicit Runge-Kutta"

    def __post_init__(self) -> None:
        if not isinstance(self.name, str) or not self.name:
            raise MethodError(
                "a method needs a name", name="name", place="name", expected="a text", given=repr(self.name)
            )
        for part in ("a", "b", "c"):
            if not hasattr(getattr(self, part), "__len__"):
                raise self._refuse(f"{part} is no sequence", "a sequence of numbers", repr(getattr(self, part))[:80])
        b = _row(self.name, "b", self.b, len(self.b))
        s = len(b)
        if len(self.a) != s:
            raise self._refuse(
                "the tableau's parts do not fit",
                f"{s} rows in a, as many as weights in b",
                f"{len(self.a)} rows",
            )
        a = tuple(_row(self.name, f"row {i + 1} of a", row, s) for i, row in enumerate(self.a))
        c = _row(self.name, "c", self.c, s, fill=False)
        for i, row in enumerate(a):
            if any(row[i:]):
                raise self._refuse(
                    "the tableau is not explicit",
                    "zeros on and above the diagonal of a",
                    f"row {i + 1}: {self.a[i]}",
                )
            if abs(float(sum(row) - c[i])) > 1e-12:
                raise self._refuse("a node is not the sum of its row", f"c[{i}] = {sum(row)}", str(c[i]))
        object.__setattr__(self, "a", a)
        object.__setattr__(self, "b", b)
        object.__setattr__(self, "c", c)
        if self.b_embedded is not None:
            object.__setattr__(self, "b_embedded", self._checked_embedded(b))
        if abs(float(sum(b)) - 1) > 1e-12:
            raise self._refuse("the method is not consistent", "weights b that sum to 1", str(sum(b)))

    def _checked_embedded(self, b: tuple[Scalar, ...]) -> tuple[Scalar, ...]:
        embedded = _row(self.name, "b_embedded", self.b_embedded, len(b), fill=False)
        if embedded == b:
            raise self._refuse(
                "b_embedded equals b", "weights of another order, to estimate the error", "the same weights"
            )
        if abs(float(sum(embedded)) - 1) > 1e-12:
            raise self._refuse("b_embedded is not consistent", "weights that sum to 1", str(sum(embedded)))
        return embedded

    def _refuse(self, message: str, expected: str, given: str) -> MethodError:
        return MethodError(f"{self.name}: {message}", name=self.name, place=self.name, expected=expected, given=given)

    @property
    def stages(self) -> int:
        """Number of rate evaluations of one step."""
        return len(self.b)

    @property
    def adaptive(self) -> bool:
        """Whether the method estimates its own error."""
        return self.b_embedded is not None

    @cached_property
    def _weights(self) -> ElementaryWeights:
        return ElementaryWeights(self.a)

    @cached_property
    def order(self) -> int:
        """Order of the solution carried on, from the order conditions (up to 8)."""
        return self._weights.order(self.b)

    @cached_property
    def embedded_order(self) -> int:
        """Order of the second solution; 0 without one."""
        return self._weights.order(self.b_embedded) if self.adaptive else 0

    @cached_property
    def first_same_as_last(self) -> bool:
        """Whether the last stage already is the rate at the end of the step."""
        return bool(self.c[-1] == 1 and tuple(self.a[-1]) == tuple(self.b))

    @cached_property
    def stability(self) -> tuple[tuple[Scalar, ...], tuple[Scalar, ...]]:
        """Numerator and denominator of the stability function R(z), lowest power first."""
        return stability_function(self.a, self.b)

    @cached_property
    def real_stability_limit(self) -> float:
        """The largest x for which steps of a decay are stable up to h lambda = -x, from the stability function."""
        top = np.array([float(x) for x in self.stability[0]])[::-1]
        x = np.linspace(0.0, 4.0 * self.stages**2 + 1.0, 20_001)
        unstable = np.abs(np.polyval(top, -x)) > 1.0 + 1e-12
        if not unstable.any():
            return float(x[-1])
        place = int(np.argmax(unstable))
        stable, beyond = float(x[place - 1]), float(x[place])
        for _ in range(50):
            middle = 0.5 * (stable + beyond)
            stable, beyond = (stable, middle) if abs(np.polyval(top, -middle)) > 1.0 else (middle, beyond)
        return stable

    @cached_property
    def _continuous(self) -> tuple[Matrix, int]:
        if self.first_same_as_last:
            return continuous_weights(self.a, self.b, self.order)
        # the rate at the end of the step joins as one more stage
        wider = (*((*row, Fraction(0)) for row in self.a), (*self.b, Fraction(0)))
        return continuous_weights(wider, (*self.b, Fraction(0)), self.order)

    @property
    def interpolant(self) -> Matrix:
        """Weights of the step polynomial, shape (degree, stages or stages + 1); row d belongs to theta^(d+1)."""
        return self._continuous[0]

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""
        return min(self.order, self._continuous[1] + 1)

    @cached_property
    def error_weights(self) -> Matrix:
        """``b - b_embedded`` as floats, zeros for a method without error estimate."""
        if not self.adaptive:
            return np.zeros(self.stages)
        return np.array([float(x - y) for x, y in zip(self.b, self.b_embedded, strict=True)])


def _number(value: Any) -> Scalar:
    """Return a coefficient, exact unless it is a float.

    Raises
    ------
    ValueError, TypeError, ZeroDivisionError
        It is no finite number of a sensible size.
    """
    if isinstance(value, str) and (len(value) > 200 or _EXPONENT.search(value)):
        raise ValueError
    number: Scalar = value if isinstance(value, float) else Fraction(value)
    if not abs(float(number)) < _LARGEST:
        raise ValueError
    return number


def _row(method: str, part: str, values: Sequence[Any], length: int, *, fill: bool = True) -> tuple[Scalar, ...]:
    try:
        row = [_number(x) for x in values]
    except (TypeError, ValueError, ZeroDivisionError, OverflowError):
        raise MethodError(
            f"{method}: {part} holds something that is no number",
            name=method,
            place=part,
            expected='fractions, texts such as "3/40", or numbers',
            given=repr(values)[:80],
        ) from None
    if len(row) > length or (len(row) < length and not fill):
        raise MethodError(
            f"{method}: {part} has the wrong length",
            name=method,
            place=part,
            expected=str(length),
            given=str(len(row)),
        )
    return tuple(row + [Fraction(0)] * (length - len(row)))
