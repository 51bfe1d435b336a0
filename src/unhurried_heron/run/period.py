"""How long a run takes from one crossing to the next."""

from __future__ import annotations

from dataclasses import dataclass

from unhurried_heron.equality import ByValue


@dataclass(frozen=True, eq=False)
class Period(ByValue):
    """How long it takes from one crossing to the next.

    Attributes
    ----------
    mean, spread : float
        Mean and standard deviation of the periods.
    shortest, longest : float
    count : int
        How many periods there were.
    """

    mean: float
    spread: float
    shortest: float
    longest: float
    count: int

    def __str__(self) -> str:
        one = f"{self.mean:.10g} over {self.count} period{'s' * (self.count > 1)}"
        return (
            one
            if self.count == 1
            else f"{one}, from {self.shortest:.10g} to {self.longest:.10g} (spread {self.spread:.2g})"
        )
