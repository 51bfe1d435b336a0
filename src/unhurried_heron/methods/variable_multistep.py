"""Multistep methods of variable step and order."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Final

from unhurried_heron.arrays import ComplexArray
from unhurried_heron.errors import excerpt
from unhurried_heron.methods.coefficients import Matrix, check_name, refusal
from unhurried_heron.methods.multistep import Multistep
from unhurried_heron.methods.multistep_formulas import adams_bashforth, adams_moulton, backward_differentiation
from unhurried_heron.methods.pickling import Kept
from unhurried_heron.methods.stability import Region

VARIABLE_ADAMS: Final = "Adams of variable order"
VARIABLE_DIFFERENTIATION: Final = "backward differentiation of variable order"
_MAX: Final = {VARIABLE_ADAMS: 12, VARIABLE_DIFFERENTIATION: 5}


@dataclass(frozen=True, eq=False)
class VariableMultistep(Kept):
    """A multistep method whose order and steps follow the error.

    Parameters
    ----------
    name : str
        What tables call the method.
    family : str
        "Adams of variable order", for what is not stiff, or "backward differentiation of variable order".
    highest : int
        The highest order: at most 12 for Adams, 5 for backward differentiation.
    evaluations : int
        Of the rates in a step of Adams: 2 after prediction and correction, or 1 after prediction alone, which costs
        half and is stable for shorter steps.
    source : str

    Raises
    ------
    MethodError
        There is no such family, or the order is too high.
    """

    name: str
    family: str
    highest: int
    evaluations: int = 2
    source: str = "given by the user"
    adaptive: ClassVar[bool] = True
    fixed_steps: ClassVar[bool] = False
    stages: ClassVar[int] = 1

    def __post_init__(self) -> None:
        check_name(self.name)
        if self.family not in _MAX:
            raise refusal(self.name, "there is no such multistep family", " or ".join(map(repr, _MAX)),
                          excerpt(self.family))  # fmt: skip
        whole = isinstance(self.highest, int) and 1 <= self.highest <= _MAX[self.family]
        if not whole or self.evaluations not in (1, 2):
            raise refusal(self.name, "the order or number of evaluations is not usable",
                          f"a highest order from 1 to {_MAX[self.family]}, and 1 or 2 evaluations",
                          f"{excerpt(self.highest)} and {excerpt(self.evaluations)}")  # fmt: skip

    @property
    def implicit(self) -> bool:
        """Whether each step is solved for."""
        return self.family == VARIABLE_DIFFERENTIATION

    @property
    def stiff(self) -> bool:
        """Whether it is meant for stiff problems."""
        return self.implicit

    @property
    def order(self) -> int:
        """The highest order; a corrector of Adams is of one more than the predictor it is named for."""
        return self.highest

    @property
    def embedded_order(self) -> int:
        """Order of the solution that the error is told by: that of a step with one point less."""
        return self.highest - 1

    @property
    def estimate_order(self) -> int:
        """Order of the error estimate: that of the solution that is carried on."""
        return self.highest

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""
        return self.highest

    def of_order(self, order: int) -> Multistep:
        """Return its method of an order, at equal steps; that of Adams is of the corrector, one more than predicted.

        Parameters
        ----------
        order : int

        Returns
        -------
        Multistep
        """
        name = f"{self.name}, order {order}"
        if self.implicit:
            return Multistep(name, *backward_differentiation(order))
        return Multistep(name, [1], adams_moulton(order), ([1], adams_bashforth(order - 1)))

    @cached_property
    def lowest(self) -> Multistep:
        """The method that it begins with, at equal steps: its region of stability is what is listed."""
        return self.of_order(1 if self.implicit else 2)

    @cached_property
    def region(self) -> Region:
        """The region of stability of order 1, of backward differentiation that of the highest order."""
        return self.of_order(self.highest).region if self.implicit else self.lowest.region

    @property
    def characteristic(self) -> Matrix:
        """Of the order whose region is listed."""
        return (self.of_order(self.highest) if self.implicit else self.lowest).characteristic

    @property
    def real_stability_limit(self) -> float:
        """The largest x for which a decay is stable up to h lambda = -x at the lowest order."""
        return math.inf if self.implicit else self.lowest.region.real

    def recurrence(self, z: Any) -> ComplexArray:
        """Return that of the method of order 1.

        Parameters
        ----------
        z : complex or array_like
            h lambda.

        Returns
        -------
        ndarray of complex, shape (…, steps)
        """
        return self.lowest.recurrence(z)
