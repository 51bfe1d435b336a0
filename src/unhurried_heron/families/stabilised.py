"""Stabilised explicit methods."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.families.controller import Controller
from unhurried_heron.families.family import Family, SetupRequest, WorkSpace
from unhurried_heron.kernels.stabilised_work import STRETCH, StabilisedWork
from unhurried_heron.methods.orthogonal_stages import FINISHING, OrthogonalStages
from unhurried_heron.methods.stabilised import STABILISED, Stabilised

# Degree of the step polynomial: a parabola, or a cubic where there are only two stages.
_DEGREE: Final = 3
_CONTROLLER: Final = Controller(safety=0.8)
# What a method without coefficients of its own has in their place.
_NO_TABLES: Final[dict[str, Any]] = {
    "n_tables": 0,
    **{name: np.zeros(0, dtype=np.int64) for name in ("counts", "begins")},
    **{name: np.zeros(0) for name in ("limits", "coefficients", "finishing")},
}


def _lay_out(method: Stabilised | OrthogonalStages, demand: SetupRequest) -> WorkSpace:
    vectors: dict[str, Any] = {
        name: np.zeros(demand.n) for name in ("stage", "before", "rates", "middle", "end", "direction")
    }
    tables: dict[str, Any] = _tables(method, demand.n) if isinstance(method, OrthogonalStages) else _NO_TABLES
    count = method.count if isinstance(method, Stabilised) else int(method.count != 0)
    work = StabilisedWork(
        stretch=np.zeros(1, dtype=STRETCH),
        controller=(demand.controller or _CONTROLLER).record(method.estimate_order),
        fixed_stages=count,
        **vectors,
        **tables,
    )
    return WorkSpace(work, np.zeros(demand.n), _DEGREE)


def _tables(method: OrthogonalStages, n: int) -> dict[str, Any]:
    """Return the coefficients of all numbers of stages, or of the one that is wanted, one after the other."""
    counts = (method.count,) if method.count else method.counts
    parts = [np.concatenate([np.ravel(part) for part in method.stages_of(count)]) for count in counts]
    ends = np.cumsum([part.size for part in parts])
    return {
        "n_tables": len(counts),
        "counts": np.array(counts, dtype=np.int64),
        "limits": np.array([method.reach]) if method.count else method.reaches,
        "begins": np.concatenate([[0], ends[:-1]]).astype(np.int64),
        "coefficients": np.concatenate(parts),
        "finishing": np.zeros((FINISHING, n)),
    }


STABILISED_STAGES: Final = Family(
    STABILISED, "stabilised.family", _lay_out, degree=lambda method: _DEGREE, takes_controller=True
)
