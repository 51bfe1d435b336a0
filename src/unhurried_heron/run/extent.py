"""Between which values a quantity of a run goes."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from unhurried_heron.run.run import Run


def extent(run: Run, quantity: str) -> tuple[float, float]:
    """Return the smallest and the largest value of a quantity, on either side of jumps, too.

    Parameters
    ----------
    run : Run
    quantity : str
        A state, a derived quantity, or a formula of them.

    Returns
    -------
    (float, float)
    """
    begin, end = run.times[0], run.ending.time
    ends = np.unique(np.append(run.times, end))
    # a jump lies between a time and the number before it
    before = np.nextafter(ends[ends != begin], begin)
    times = np.concatenate([run.extremes(quantity)["time"], ends, before])
    values = run.function_of(quantity)(times)
    return float(np.nanmin(values)), float(np.nanmax(values))
