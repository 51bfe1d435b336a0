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
from unhurried_heron.problem.jump_sides import as_the_rows
from unhurried_heron.run.columns import AT_ONCE, modes_at

if TYPE_CHECKING:
    import pandas as pd

    from unhurried_heron.run.run import Run

# A share by which states are moved to be on one side of a switch that they stand on.
_BESIDE = 1e-12


def constraint_table(run: Run) -> pd.DataFrame:
    """Return one row for each constraint: what is to be zero, the most by which it is missed, and when."""
    import pandas as pd

    rows, rates, times = [], run.problem.model.rates, as_the_rows(run.times, run.problem.interval)
    for left, node, loops in rates.shown() if rates.written else ():
        if left:
            continue
        text = to_text(node)
        missed = _missed(run, times, node, text, loops)
        worst = int(np.argmax(missed))
        words = f"0 = {text}" + (f" for {ranges_of(loops)}" if loops else "")
        rows.append((words, float(missed[worst]), float(run.times[worst])))
    if not rates.written:
        for named, missed in _missed_by_function(run, times):
            worst = int(np.argmax(missed))
            rows.append((f"0 = rates of {named}", float(missed[worst]), float(run.times[worst])))
    return pd.DataFrame(rows, columns=["constraint", "missed by", "at"])


def _missed_by_function(run: Run, times: Array) -> Iterator[tuple[str, Array]]:
    """Yield states whose rates of a function are to be zero, each group together, and the most by which they are not.

    Parameters
    ----------
    run : Run
    times : ndarray, shape (n_times,)

    Yields
    ------
    (str, ndarray of shape (n_times,))
    """
    model, problem = run.problem.model, run.problem
    n, mass = model.layout.size, model.mass
    held = np.zeros(n, dtype=bool) if mass is None else mass.sizes(n) == 0.0
    if not held.any():
        return
    states, found = run.states, np.empty((times.size, n))
    modes = modes_at(run, run.times)
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


def _missed(run: Run, times: Array, node: Node, text: str, loops: tuple[Loop, ...]) -> Array:
    """Return by how much a constraint is missed, the most of one over an index.

    Parameters
    ----------
    run : Run
    times : ndarray, shape (n_times,)
    node : Node
        What is to be zero.
    text : str
        The same.
    loops : tuple of Loop

    Returns
    -------
    ndarray, shape (n_times,)
    """
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.system import native_members, native_queries

    problem, model, states = run.problem, run.problem.model, run.states
    if loops:
        written = replace_names(node, model.formulas.get, {})
        made = native_members(problem, Rule("constraint", tuple(name(loop.index) for loop in loops), loops, written))
    else:
        made = native_queries(problem, text)
    found = []
    for rows in np.array_split(np.arange(times.size), max(times.size * model.layout.size // AT_ONCE, 1)):
        values = evaluate_rows(made, times[rows], states[rows], modes_at(run, run.times[rows]))
        found.append(np.abs(values).max(axis=1))
    missed = np.concatenate(found)
    # where a switch is crossed rounding decides of its side, in the row, but not in the march
    crossed = np.flatnonzero(np.isin(run.times, run.data.switch_log.times))
    for share in (-_BESIDE, _BESIDE) if crossed.size else ():
        beside = (1.0 + share) * states[crossed]
        values = evaluate_rows(made, times[crossed], beside, modes_at(run, run.times[crossed]))
        missed[crossed] = np.minimum(missed[crossed], np.abs(values).max(axis=1))
    return missed
