"""How near to zero the argument of a root counts as zero: within what the tolerances of a run tell apart."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.formulas.evaluate import STATE, evaluate
from unhurried_heron.march.asked import Asked
from unhurried_heron.model.switch import RootSwitch

# the width as a share of what the absolute tolerances of the states make of the argument. Steps that keep the tolerance
# hover above a narrower one (1e-4, 3e-3: some methods never came to rest, on random networks of tanks; measured)
_SHARE: Final = 0.5
# of what the largest state is, where no absolute tolerance says anything
_LEAST: Final = 1e-18
_SMALLEST: Final = 1e-280


def widths_of(asked: Asked) -> dict[str, float]:
    """Return the width of each root in the rates of a run, by its name."""
    problem = asked.problem
    roots = [each for each in problem.model.rates.switches if isinstance(each, RootSwitch)]
    if not roots:
        return {}
    start, state = problem.interval[0], problem.start
    places = problem.model.layout.scalars.items()
    # one row for the start itself, one for each state moved by its absolute tolerance
    rows = np.vstack([state, state + np.diag(asked.absolute)])
    columns = {name: rows[:, place] for name, place in places}
    around = {**problem.inputs, **problem.parameters, **columns, "t": start, STATE: rows}
    least = _LEAST * float(np.abs(state).max(initial=0.0)) + _SMALLEST
    found = {}
    for root in roots:
        values = np.broadcast_to(np.asarray(evaluate(root.argument, around), dtype=np.float64), len(rows))
        moved = np.abs(values[1:] - values[0])
        reach = float(moved[np.isfinite(moved)].sum())
        found[root.width] = max(_SHARE * reach, least)
    return found
