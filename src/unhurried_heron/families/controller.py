"""How the length of adaptive steps follows the error estimate, as data."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

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
    """

    share: float
    now: float = 1.0
    before: float = 0.0
    steps: float = 0.0
    cautious: bool = False
    shrink: float = 0.2
    grow: float = 5.0

    def record(self, order: int) -> Any:
        """Return it for an error estimate of an order, as kernels read it (`kernels.march.controller`)."""
        power = order + 1.0
        record = np.zeros(1, dtype=CONTROLLER)
        record["aim"] = power * np.log(self.share)
        record["alone"], record["now"], record["before"] = 1.0 / power, self.now / power, self.before / power
        record["steps"], record["cautious"] = self.steps, self.cautious
        record["shrink"], record["grow"] = self.shrink, self.grow
        # an error so small lets the step grow as much as it may
        record["least"] = -power * np.log(self.grow)
        return record
