"""Explicit partitioned methods: positions drift by velocities, velocities are kicked by positions, in turns.

Of Hamiltonian systems they are symplectic: their energy error does not grow over very many steps. E. Hairer, C. Lubich
and G. Wanner, *Geometric Numerical Integration*, 2nd ed. (2006), sections II.5, V.3 and VI.3.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Final, Literal

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import excerpt
from unhurried_heron.methods.coefficients import Matrix, check_name, number, refusal
from unhurried_heron.methods.pickling import Kept
from unhurried_heron.methods.rooted_trees import Scalar
from unhurried_heron.methods.stability import Region

PARTITIONED: Final = "partitioned Runge-Kutta"
# Coefficients that add up to one but for this do.
_ALIKE: Final = 1e-12
# How far |trace| may be above 2 by rounding.
_ROUNDING: Final = 1e-11
# Bisections of the limit.
_BISECTIONS: Final = 60
Turn = Literal["drift", "kick"]


@dataclass(frozen=True)
class Partitioned(Kept):
    """A method by its turns: "drift" moves the first part of the states, "kick" the second, each a share of a step.

    Parameters
    ----------
    name : str
        What tables call the method.
    sequence : sequence of ("drift" or "kick", number)
        Shares of both kinds add up to 1.
    order : int
        Refused above the order for y'' = -y; otherwise it is taken as given.
    second_order : bool
        Whether it is for y'' = f(t, y) alone.
    source : str

    Raises
    ------
    MethodError
        It is no sequence of such turns.
    """

    name: str
    sequence: tuple[tuple[Turn, Scalar], ...]
    order: int
    second_order: bool = False
    source: str = "given by the user"
    family: str = PARTITIONED
    adaptive: ClassVar[bool] = False
    implicit: ClassVar[bool] = False
    stiff: ClassVar[bool] = False
    embedded_order: ClassVar[int] = 0

    def __post_init__(self) -> None:
        check_name(self.name)
        expected = 'turns such as ("kick", "1/2"), ("drift", 1), ("kick", "1/2")'
        try:
            read = tuple((str(turn), number(share)) for turn, share in self.sequence)
        except (TypeError, ValueError):
            raise refusal(self.name, "these are no turns", expected, excerpt(self.sequence)) from None
        if not read or {turn for turn, _ in read} != {"drift", "kick"}:
            raise refusal(self.name, "drifts and kicks are needed", expected, excerpt(self.sequence))
        for turn in ("drift", "kick"):
            total = float(sum(share for each, share in read if each == turn))
            if abs(total - 1.0) > _ALIKE:
                raise refusal(self.name, f"shares of a {turn} do not add up to 1", "1", f"{total:.15g}")
        object.__setattr__(self, "sequence", read)
        highest = self._highest_order()
        if self.order > highest:
            expected = f"at most {highest}, the order for y'' = -y"
            raise refusal(self.name, "its order is lower than given", expected, str(self.order))

    @property
    def stages(self) -> int:
        """Number of kicks of a step."""
        return sum(turn == "kick" for turn, _ in self.sequence)

    @property
    def evaluations(self) -> int:
        """Evaluations of the rates of one part in a step; the first kick of a step has those of the step before."""
        known = self.sequence[0][0] == "kick"
        return len(self.sequence) - known + 1

    @property
    def estimate_order(self) -> int:
        """There is no estimate."""
        return self.order

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge: those of a cubic."""
        return min(self.order, 3)

    def _swing(self) -> list[list[Array]]:
        """Return what a step makes of q' = lambda p, p' = lambda q: a matrix of polynomials of z, by rising powers."""
        matrix = [[np.array([1.0]), np.array([0.0])], [np.array([0.0]), np.array([1.0])]]
        for turn, share in self.sequence:
            moved, by = (0, 1) if turn == "drift" else (1, 0)
            for column in range(2):
                matrix[moved][column] = _sum(matrix[moved][column], float(share) * np.append(0.0, matrix[by][column]))
        return matrix

    def _highest_order(self) -> int:
        """Return the order for that motion, whose solution has cosh z and sinh z in this matrix; no order is higher."""
        order, swing = 0, self._swing()
        while order < len(self.sequence):
            terms = [[np.append(each, np.zeros(order + 2))[order + 1] for each in row] for row in swing]
            odd = (order + 1) % 2
            wanted = np.array([[1 - odd, odd], [odd, 1 - odd]]) / math.factorial(order + 1)
            if np.abs(np.array(terms) - wanted).max() > _ALIKE:
                break
            order += 1
        return order

    @cached_property
    def characteristic(self) -> Matrix:
        """x^2 - T(z) x + 1 of q' = lambda p, p' = lambda q, by rising powers of x (rows) and z."""
        matrix = self._swing()
        trace = _sum(matrix[0][0], matrix[1][1])
        terms = np.zeros((3, trace.size))
        terms[0, 0], terms[1], terms[2, 0] = 1.0, -trace, 1.0
        return terms

    @cached_property
    def region(self) -> Region:
        """What its region of stability is like: a part of the imaginary axis."""
        trace = -self.characteristic[1]

        def excess(y: Any) -> Any:
            return np.abs(np.polynomial.polynomial.polyval(1j * y, trace).real) - 2.0 - _ROUNDING

        y = np.linspace(0.0, 4.0 * len(self.sequence), 20_001)
        index = int(np.argmax(excess(y) > 0.0))
        within, beyond = float(y[max(index - 1, 0)]), float(y[index])
        for _ in range(_BISECTIONS):
            middle = 0.5 * (within + beyond)
            within, beyond = (middle, beyond) if excess(middle) <= 0.0 else (within, middle)
        return Region(0.0, within, 0.0, math.inf)

    @property
    def real_stability_limit(self) -> float:
        """No decay is damped."""
        return 0.0


def _sum(one: Array, other: Array) -> Array:
    total = np.zeros(max(one.size, other.size))
    total[: one.size] += one
    total[: other.size] += other
    return total
