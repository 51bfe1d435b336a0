"""How well the constraints of a problem hold along a run."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from unhurried_heron.formulas.printing import to_text

if TYPE_CHECKING:
    import pandas as pd

    from unhurried_heron.run.run import Run


def constraint_table(run: Run) -> pd.DataFrame:
    """Return one row for each constraint: what is to be zero, the most by which it is missed, and when."""
    import pandas as pd

    rows, rates = [], run.problem.model.rates
    for left, node, ranges in rates.shown() if rates.written else ():
        if left or ranges:
            continue
        text = to_text(node)
        missed = np.abs(run.function_of(text)(run.times))
        worst = int(np.argmax(missed))
        rows.append((f"0 = {text}", float(missed[worst]), float(run.times[worst])))
    return pd.DataFrame(rows, columns=["constraint", "missed by", "at"])
