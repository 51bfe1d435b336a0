"""The methods of the catalogue side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING

from unhurried_heron.methods.catalogue import CATALOGUE

if TYPE_CHECKING:
    import pandas as pd


def methods() -> pd.DataFrame:
    """Return a DataFrame of the methods: one row for each, indexed by its name.

    Columns: ``order`` of the solution, ``embedded order`` of the second one that estimates the error (0 without),
    ``stages``, ``order between steps``, ``adaptive``, ``stiff``, ``family``, ``source``.
    """
    import pandas as pd

    rows = [
        {
            "method": each.name,
            "order": each.order,
            "embedded order": each.embedded_order,
            "stages": each.stages,
            "order between steps": each.interpolant_order,
            "adaptive": each.adaptive,
            "stiff": each.stiff,
            "family": each.family,
            "source": each.source,
        }
        for each in CATALOGUE.values()
    ]
    return pd.DataFrame(rows).set_index("method")
