"""Stabilised explicit methods."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.families.controller import Controller
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace
from unhurried_heron.kernels.stabilised_work import STRETCH, StabilisedWork
from unhurried_heron.methods.stabilised import STABILISED, Stabilised

# Degree of the step polynomial: a parabola, or a cubic where there are only two stages.
_DEGREE: Final = 3
_CONTROLLER: Final = Controller(safety=0.8)


def _lay_out(method: Stabilised, demand: SetupRequest) -> WorkSpace:
    names = ("stage", "before", "rates", "middle", "end", "direction")
    work = StabilisedWork(
        stretch=np.zeros(1, dtype=STRETCH),
        controller=(demand.controller or _CONTROLLER).record(method.estimate_order),
        fixed_stages=method.count,
        **{name: np.zeros(demand.n) for name in names},
    )
    return WorkSpace(work, np.zeros(demand.n), _DEGREE)


STABILISED_STAGES: Final = Family(
    STABILISED, "stabilised.family", _lay_out, degree=lambda method: _DEGREE, takes_controller=True
)
