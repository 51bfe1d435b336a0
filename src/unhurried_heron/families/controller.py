"""How the length of adaptive steps follows the error estimate, as data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Records
from unhurried_heron.errors import OptionError, as_text
from unhurried_heron.input.rules import FINITE, TRUTH, Rule, above, among, number
from unhurried_heron.kernels.memory.bundles import CONTROLLER

_UNFIT: Final = "such a controller does not hold steps"
_RULES: Final[Mapping[str, Rule]] = MappingProxyType(
    {
        "safety": above(0.0, 1.0),
        "error_exponent": FINITE,
        "previous_error_exponent": FINITE,
        "step_ratio_exponent": FINITE,
        "cautious": TRUTH,
        "shrink": number("a number above 0 and below 1", lambda value: 0.0 < value < 1.0),
        "grow": above(1.0),
        "deadband": number("a number of at least 1", lambda value: value >= 1.0),
    }
)


@dataclass(frozen=True)
class Controller:
    """A linear controller of the step in logarithms (G. Söderlind, ACM Trans. Math. Softw. 29 (2003) 1-26).

    An estimate of order q goes with the power k = q + 1 of the step. With the error e and the one before, e', both over
    the aim safety^k, and the steps h and h' that had them, the next step is::

        h * e^(-a/k) * e'^(-b/k) * (h/h')^c

    The exponents a and b sum to 1 where a smooth error is held exactly at the aim.

    Parameters
    ----------
    safety : float
        The next step as a part of the one whose error would be all that is allowed.
    error_exponent, previous_error_exponent, step_ratio_exponent : float
        The exponents a, b and c.
    cautious : bool
        Whether the next step is at most that of a = 1, b = c = 0.
    shrink, grow : float
        Bounds of the change from one step to the next.
    deadband : float
        A step that could grow by less than this factor keeps its length.
    """

    safety: float
    error_exponent: float = 1.0
    previous_error_exponent: float = 0.0
    step_ratio_exponent: float = 0.0
    cautious: bool = False
    shrink: float = 0.2
    grow: float = 5.0
    deadband: float = 1.0

    def __post_init__(self) -> None:
        for name, rule in _RULES.items():
            rule(getattr(self, name), name, f"Controller, {name}", message=_UNFIT)
        if self.deadband >= self.grow:
            given = f"{self.deadband:g}, grow {self.grow:g}"
            raise OptionError(_UNFIT, name="deadband", location="Controller, deadband", expected="a number below grow",
                              given=given)  # fmt: skip

    def record(self, order: int) -> Records:
        """Return it for an error estimate of an order, as kernels read it (`kernels.march.controller`).

        Parameters
        ----------
        order : int
            Of the error estimate.

        Returns
        -------
        structured ndarray, shape (1,)
        """
        power = order + 1.0
        record = np.zeros(1, dtype=CONTROLLER)
        record["aim"] = power * np.log(self.safety)
        record["alone"], record["now"], record["before"] = (
            1.0 / power,
            self.error_exponent / power,
            self.previous_error_exponent / power,
        )
        record["steps"], record["cautious"] = self.step_ratio_exponent, self.cautious
        record["shrink"], record["grow"], record["deadband"] = self.shrink, self.grow, self.deadband
        # An error below this lets the step grow by the largest factor.
        record["least"] = -power * np.log(self.grow)
        return record


# by the names of Söderlind's paper: "elementary" looks at the present error alone; "proportional-integral" damps
# what stability makes of that; "predictive" carries the trend on; the digital filters make the steps smooth, over the
# last two errors and, at b = 4, the last change of the step, or over three
CONTROLS: Final[Mapping[str, Controller]] = MappingProxyType(
    {
        "elementary": Controller(safety=0.8),
        "proportional-integral": Controller(safety=0.77, error_exponent=0.8, previous_error_exponent=-0.2),
        "predictive": Controller(
            safety=0.5**0.25, error_exponent=2.0, previous_error_exponent=-1.0, step_ratio_exponent=1.0, cautious=True
        ),
        "digital-filter": Controller(
            safety=0.8, error_exponent=0.25, previous_error_exponent=0.25, step_ratio_exponent=-0.25
        ),
        "smooth-digital-filter": Controller(safety=0.8, error_exponent=1 / 6, previous_error_exponent=1 / 6),
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
    known = among(CONTROLS, "one of {}, or a Controller of your own")
    return CONTROLS[known(control, "step_control", message=f"there is no step control '{as_text(control)}'")]
