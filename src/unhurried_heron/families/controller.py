"""How the length of adaptive steps follows the error estimate, as data."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import OptionError, near_spelling
from unhurried_heron.kernels.memory.bundles import CONTROLLER


@dataclass(frozen=True)
class Controller:
    """A linear controller of the step in logarithms (G. Söderlind, ACM Trans. Math. Softw. 29 (2003) 1-26).

    An estimate of order q goes with the power k = q + 1 of the step. With the error e and the one before, e', both over
    the aim share^k, and the steps h and h' that had them, the next step is::

        h * e^(-now/k) * e'^(-before/k) * (h/h')^steps

    The exponents sum to now + before: 1 holds a smooth error exactly at the aim.

    Parameters
    ----------
    share : float
        The next step as a part of the one whose error would be all that is allowed.
    now, before, steps : float
        The exponents.
    cautious : bool
        Whether the next step is at most that of now = 1, before = steps = 0.
    shrink, grow : float
        Bounds of the change from one step to the next.
    deadband : float
        A step that could grow by less than this factor keeps its length.
    """

    share: float
    now: float = 1.0
    before: float = 0.0
    steps: float = 0.0
    cautious: bool = False
    shrink: float = 0.2
    grow: float = 5.0
    deadband: float = 1.0

    def __post_init__(self) -> None:
        numbers = (self.share, self.now, self.before, self.steps, self.shrink, self.grow, self.deadband)
        real = all(isinstance(x, int | float) and math.isfinite(x) for x in numbers)
        if not (real and 0 < self.share <= 1 and 0 < self.shrink < 1 < self.grow and 1 <= self.deadband < self.grow):
            raise OptionError(
                "such a controller does not hold steps",
                name="control",
                place="Controller",
                expected="finite exponents, 0 < share <= 1, 0 < shrink < 1 < grow and 1 <= deadband < grow",
                given=repr(self),
            )

    def record(self, order: int) -> Any:
        """Return it for an error estimate of an order, as kernels read it (`kernels.march.controller`)."""
        power = order + 1.0
        record = np.zeros(1, dtype=CONTROLLER)
        record["aim"] = power * np.log(self.share)
        record["alone"], record["now"], record["before"] = 1.0 / power, self.now / power, self.before / power
        record["steps"], record["cautious"] = self.steps, self.cautious
        record["shrink"], record["grow"], record["deadband"] = self.shrink, self.grow, self.deadband
        # an error so small lets the step grow as much as it may
        record["least"] = -power * np.log(self.grow)
        return record


# by the names of Söderlind's paper: "elementary" looks at the present error alone; "proportional-integral" damps
# what stability makes of that; "predictive" carries the trend on; the digital filters make the steps smooth, over the
# last two errors and, at b = 4, the last change of the step, or over three
CONTROLS: Final[Mapping[str, Controller]] = MappingProxyType(
    {
        "elementary": Controller(share=0.8),
        "proportional-integral": Controller(share=0.77, now=0.8, before=-0.2),
        "predictive": Controller(share=0.5**0.25, now=2.0, before=-1.0, steps=1.0, cautious=True),
        "digital-filter": Controller(share=0.8, now=0.25, before=0.25, steps=-0.25),
        "smooth-digital-filter": Controller(share=0.8, now=1 / 6, before=1 / 6),
    }
)


def controller_for(control: Any) -> Controller | None:
    """Return the controller that is asked for, None where nothing is said.

    Raises
    ------
    OptionError
        There is none of that name.
    """
    if control is None or isinstance(control, Controller):
        return control
    if not isinstance(control, str) or control not in CONTROLS:
        raise OptionError(
            f"there is no step control '{control}'{near_spelling(str(control), CONTROLS)}",
            name="control",
            place="control",
            expected="one of " + ", ".join(CONTROLS) + ", or a Controller of your own",
            given=repr(control)[:80],
        )
    return CONTROLS[control]
