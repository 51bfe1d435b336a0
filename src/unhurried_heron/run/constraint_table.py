"""How well the constraints of a problem hold along a run."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.formulas.expression import Node, name, replace_names
from unhurried_heron.formulas.layout import Loop
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.model.first_order import ranges_of
from unhurried_heron.model.indexed_rules import Rule
from unhurried_heron.run.columns import AT_ONCE, modes_at

if TYPE_CHECKING:
    import pandas as pd

    from unhurried_heron.run.run import Run


def constraint_table(run: Run) -> pd.DataFrame:
    """Return one row for each constraint: what is to be zero, the most by which it is missed, and when."""
    import pandas as pd

    rows, rates = [], run.problem.model.rates
    for left, node, loops in rates.shown() if rates.written else ():
        if left:
            continue
        text = to_text(node)
        missed = _missed_by_members(run, node, loops) if loops else np.abs(run.function_of(text)(run.times))
        worst = int(np.argmax(missed))
        words = f"0 = {text}" + (f" for {ranges_of(loops)}" if loops else "")
        rows.append((words, float(missed[worst]), float(run.times[worst])))
    if not rates.written:
        for named, missed in _missed_by_function(run):
            worst = int(np.argmax(missed))
            rows.append((f"0 = rates of {named}", float(missed[worst]), float(run.times[worst])))
    return pd.DataFrame(rows, columns=["constraint", "missed by", "at"])


def _missed_by_function(run: Run) -> Iterator[tuple[str, Array]]:
    """Yield states whose rates of a function are to be zero, each group together, and the most by which they are not.

    Yields
    ------
    (str, ndarray of shape (n_times,))
    """
    model, problem, times = run.problem.model, run.problem, run.times
    n, mass = model.layout.size, model.mass
    held = np.zeros(n, dtype=bool) if mass is None else mass.sizes(n) == 0.0
    if not held.any():
        return
    states, found = run.at(times), np.empty((times.size, n))
    modes = modes_at(run, times)
    values = np.empty((times.size, 0)) if modes is None else modes[1]
    for each in np.unique(values, axis=0):
        rows = (values == each).all(axis=1)
        around = {**problem.parameters, **dict(zip(run.modes, each.tolist(), strict=True))}
        found[rows] = model.rates.at(times[rows], states[rows], around)
    for group in model.layout.groups:
        own = model.layout.indices_of_all((group.name,))
        own = own[held[own]]
        if own.size:
            yield group.name, np.abs(found[:, own]).max(axis=1)


def _missed_by_members(run: Run, node: Node, loops: tuple[Loop, ...]) -> Array:
    """Return the most by which a constraint over an index is missed.

    Parameters
    ----------
    run : Run
    node : Node
        What is to be zero.
    loops : tuple of Loop

    Returns
    -------
    ndarray, shape (n_times,)
    """
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.system import native_members

    model = run.problem.model
    written = replace_names(node, model.formulas.get, {})
    made = native_members(run.problem, Rule("constraint", tuple(name(loop.index) for loop in loops), loops, written))
    parts = np.array_split(run.times, max(run.times.size * model.layout.size // AT_ONCE, 1))
    found = [np.abs(evaluate_rows(made, part, run.at(part), modes_at(run, part))).max(axis=1) for part in parts]
    return np.concatenate(found)
