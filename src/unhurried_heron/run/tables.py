"""The data frames that a run is read by: its rows, events, attempts and switches."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import RunError
from unhurried_heron.input.rules import TRUTH

if TYPE_CHECKING:
    import pandas as pd

    from unhurried_heron.run.queries import Queries
    from unhurried_heron.run.run import Run


def state_table(run: Run, rows: slice, derived: Array, *, exact: bool) -> pd.DataFrame:
    """Return rows of states and derived quantities, indexed by time.

    Parameters
    ----------
    run : Run
    rows : slice
        Of the recorded times.
    derived : ndarray, shape (n_rows, n_derived)
        Derived quantities and modes of these rows.
    exact : bool
        Whether closed forms stand beside.

    Returns
    -------
    DataFrame

    Raises
    ------
    RunError
        ``exact`` is no choice of two.
    """
    import pandas as pd

    TRUTH(exact, "exact", "run.frame", error=RunError)
    values = np.hstack([run.states[rows], derived])
    table = pd.DataFrame(values, index=pd.Index(run.times[rows], name="t"), columns=list(run.columns))
    return _beside_exact(run, table) if exact else table


def with_complex_columns(table: pd.DataFrame, run: Queries) -> pd.DataFrame:
    """Return a table with one column for each complex state or derived quantity in place of its two parts."""
    import pandas as pd

    model = run.problem.model
    layouts = [layout for layout in (model.layout, model.derived_layout) if layout.has_complex]
    names = [name for layout in layouts for name in layout.value_names if layout.pair(name) is not None]
    if not names:
        return table
    pairs = {f"re({name}){end}": (f"im({name}){end}", f"{name}{end}") for name in names for end in ("", " after")}
    imaginary, columns = {part for part, _ in pairs.values()}, dict[str, Any]()
    for label, column in table.items():
        part, name = pairs.get(str(label), ("", ""))
        if name:
            columns[name] = column.to_numpy() + 1j * table[part].to_numpy()
        elif label not in imaginary:
            columns[str(label)] = column
    return pd.DataFrame(columns, index=table.index)


def _beside_exact(run: Run, table: pd.DataFrame) -> pd.DataFrame:
    forms = run.exact_at(table.index)
    if not forms:
        raise RunError("this problem has no closed form", name="exact", location="run.frame", given="exact=True",
                       expected="exact={…} where the problem is made, or exact=False")  # fmt: skip
    for name, form in forms.items():
        error = table[name].to_numpy() - form
        with np.errstate(divide="ignore", invalid="ignore"):
            share = error / np.abs(form)
        for word, column in {"exact": form, "error": error, "relative": share, "per cent": 100.0 * share}.items():
            table[f"{name} {word}"] = column
    return table


def event_table(run: Run) -> pd.DataFrame:
    """Return a row for each event that happened, as `Run.events` describes it."""
    import pandas as pd

    found, states = run.data.event_log, list(run.problem.states)
    frame = pd.DataFrame({"name": [run.data.events[e].name for e in found.which.tolist()], "time": found.times})
    before = found.before if found.times.size else np.empty((0, len(states)))
    parts = [pd.DataFrame(before, columns=states)]
    if any(event.then is not None for event in run.data.events):
        parts.append(pd.DataFrame(found.after, columns=[f"{name} after" for name in states]))
        parts.append(pd.DataFrame(found.levels[1:], columns=[f"{name} after" for name in run.modes]))
    return pd.concat([frame, *parts], axis=1)


def ledger_table(run: Run) -> pd.DataFrame:
    """Return a row for each attempt, as `Run.ledger` describes it.

    Raises
    ------
    RunError
        The ledger was not kept.
    """
    import pandas as pd

    ledger: Any = run.data.ledger
    if ledger is None:
        raise RunError(
            "this run kept no ledger",
            name="ledger",
            location="run.ledger",
            expected='record="steps", or ledger=True',
            given=f"record={run.options.get('record')!r}",
        )
    frame = pd.DataFrame(ledger).drop(columns="member")
    if len(run.data.methods) > 1:
        frame["method"] = [run.data.methods[member].name for member in ledger["member"]]
    landed = run.data.switch_log.texts_by_row()
    frame["switch"] = [landed.get(row, "") for row in range(len(frame))]
    return frame


def switch_table(run: Run) -> pd.DataFrame:
    """Return a row for each switch that was crossed, as `Run.switches` describes it."""
    import pandas as pd

    found = run.data.switch_log
    names = [found.texts[which] for which in found.which.tolist()]
    return pd.DataFrame({"time": found.times, "switch": pd.Series(names, dtype=object), "value": found.values})
