"""A worked table: every stage of the first steps of a method, as one would work them by hand."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.budget import Budget
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.options import refuse_no_problem
from unhurried_heron.errors import RunError, unforeseen
from unhurried_heron.input.rules import whole
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.run import Run
from unhurried_heron.run.trace import Call, CallKind

if TYPE_CHECKING:
    import pandas as pd

# Steps of a table.
_MAX_STEPS: Final = 100_000


def step_table(
    problem: Problem,
    method: str | Method,
    *,
    step: float | str | None = None,
    count: int | None = None,
    steps: int = 5,
    rtol: float | None = None,
    atol: float | None = None,
) -> pd.DataFrame:
    """Return the first steps of a method worked out, a row for each stage and one for each step's result.

    As by hand, jumps and kinks are stepped over; events that act, act.

    Parameters
    ----------
    problem : Problem
    method : str or Method
    step : float or str, optional
        The fixed step, also with a unit; or ``count``: how many the interval takes. Without both the steps follow the
        tolerances, and refused ones are shown, too.
    count : int or None
    steps : int
        How many steps to show.
    rtol, atol : float, optional
        As for `integrate`.

    Returns
    -------
    DataFrame
        ``step`` and ``row``: "k1", "k2", … are stages of a Runge-Kutta or Rosenbrock method (of implicit ones with the
        iteration), "back 0", "back 1", … the values of a multistep method from that many steps before, "prediction"
        and "iteration" its own; "result" is the end of the step. Then ``t``, the states that the rates are asked at,
        and the rates there (``rate of x``). Where the problem has closed forms, results have ``x exact``, ``x error``
        and ``x per cent`` beside them.

    Raises
    ------
    MethodError, OptionError
        As of `integrate`; or fewer than one step is asked for.
    RunError
        No step could be begun.

    Examples
    --------
    >>> import unhurried_heron as uh
    >>> pond = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), exact={"x": "exp(-t)"})
    >>> uh.step_table(pond, "heun-2", step=0.1, steps=1)[["row", "t", "x", "rate of x"]].values.tolist()
    [['k1', 0.0, 1.0, -1.0], ['k2', 0.1, 0.9, -0.9], ['result', 0.1, 0.905, nan]]
    """
    refuse_no_problem(problem, "step_table")
    steps = whole(1, _MAX_STEPS)(steps, "steps", "step_table")
    settings: dict[str, Any] = {"step": step, "count": count, "rtol": rtol, "atol": atol}
    given = {name: value for name, value in settings.items() if value is not None}
    chosen: Any = find_method(method)
    with quietly():
        # Refused attempts count as steps of a budget, which must suffice for the accepted ones.
        budget = Budget(steps=_attempts_allowed(steps, given))
        run = integrate(problem, chosen, **given, trace=True, switches=False, ledger=True, budget=budget,
                        progress=False)  # fmt: skip
    if not run.tally.accepted and not run.tally.refused:
        raise RunError(f"there is no step to work out: {run.ending.message}", name="steps", location="step_table",
                       expected="a problem whose first step can be begun", given=run.ending.reason)  # fmt: skip
    return _table(run, steps)


def _attempts_allowed(steps: int, given: dict[str, Any]) -> int:
    return steps if "step" in given or "count" in given else 3 * steps + 10


def _table(run: Run, steps: int) -> pd.DataFrame:
    import pandas as pd

    names, trace = run.problem.states, run.trace
    rates = [f"rate of {name}" for name in names]
    results = _results(run)
    rows: list[list[Any]] = []
    past: list[tuple[float, Array, Array]] = []
    before: tuple[float, Array, Array] | None = None
    acting: Any = run.data.methods[0]
    reach = acting.steps if capabilities(acting).fixed_reach else 1
    shown = trace[trace["step"] <= steps]
    calls, attempts = _calls(run)[: len(shown)], shown["attempt"].tolist()
    values, state_rates, times = shown[list(names)].to_numpy(), shown[rates].to_numpy(), shown["time"].to_numpy()
    step_of = shown["step"].tolist()
    begun: set[int] = set()
    ended: set[int] = set()
    for i, call in enumerate(calls):
        step, here = step_of[i], (float(times[i]), values[i], state_rates[i])
        if call.kind is CallKind.START:
            before, past = here, [here]
        if not call.kind.of_a_step:
            continue
        ends = call.kind.at_end
        if attempts[i] not in begun and not (ends and step in ended):
            begun.add(attempts[i])
            rows += _rows_at_start(acting, step, before, past)
        if call.kind is not CallKind.END:
            rows.append([step, _label(call), *_values_of(here)])
        if ends and _accepted(run, attempts[i]):
            ended.add(step)
            before = here
            past = [here, *past][:reach]
        if i + 1 == len(calls) or attempts[i + 1] != attempts[i] or ends:
            rows += _rows_at_end(run, attempts[i], step, results, rows)
            if not ends and step - 1 < len(results[0]) and _accepted(run, attempts[i]):
                before = _hermite_at(run, results[0][step - 1], results[1][step - 1])
                past = [before, *past][:reach]
    frame = pd.DataFrame(rows, columns=["step", "row", "t", *names, *(f"rate of {name}" for name in names)])
    return _with_exact(run, frame)


def _results(run: Run) -> tuple[Array, Array]:
    """Return the time and state at the end of each accepted step."""
    kept: Any = run.data.trajectory
    ends = np.append(kept.starts[1:], kept.end_time)
    states = np.vstack([kept.coefficients[1:, 0, :], kept.end_state])
    return ends, states


def _accepted(run: Run, attempt: int) -> bool:
    ledger: Any = run.data.ledger
    return bool(0 < attempt <= len(ledger) and ledger["accepted"][attempt - 1])


def _values_of(index: tuple[float, Array, Array]) -> list[float]:
    return [index[0], *index[1].tolist(), *index[2].tolist()]


def _rows_at_start(method: Any, step: int, before: Any, past: list[Any]) -> list[list[Any]]:
    """Return the rows of what a step begins with: its first stage, or the values that it reaches back to.

    Parameters
    ----------
    method : Method
    step : int
        Its number.
    before : (float, ndarray, ndarray), or None
        Time, state and rates where it begins.
    past : list of (float, ndarray, ndarray)
        The same of earlier steps, the newest first.

    Returns
    -------
    list[list[Any]]
    """
    if capabilities(method).fixed_reach:
        if len(past) < method.steps:
            return [[step, "k1", *_values_of(before)]]
        return [[step, f"back {j}", *_values_of(each)] for j, each in enumerate(past[: method.steps])]
    # an implicit first stage is found by iterations
    iterated = capabilities(method).has_tableau and any(method.a[0])
    return [] if iterated or before is None else [[step, "k1", *_values_of(before)]]


def _calls(run: Run) -> list[Call]:
    if run.data.trace is None:
        raise unforeseen("a step table of a run without its trace")
    return run.data.trace.calls(run.problem.states, run.data.methods)


def _label(call: Call) -> str:
    if not call.stage:
        return call.text
    return f"k{call.stage}" + (f", iteration {call.iteration}" if call.iteration else "")


def _rows_at_end(
    run: Run, attempt: int, step: int, results: tuple[Array, Array], rows: list[list[Any]]
) -> list[list[Any]]:
    """Return the row of a step's result, or of what was refused.

    Parameters
    ----------
    run : Run
    attempt : int
        Its number.
    step : int
        Its number.
    results : (ndarray, ndarray)
        Times and states at the ends of steps.
    rows : list of list
        The rows so far.

    Returns
    -------
    list[list[Any]]
    """
    n = run.problem.model.layout.size
    if rows and rows[-1][0] == step and rows[-1][1] == "result":
        return []
    if not _accepted(run, attempt):
        return [[step, "refused", *[np.nan] * (2 * n + 1)]] if attempt <= len(run.data.ledger) else []  # type: ignore[arg-type]  # kept
    return [[step, "result", float(results[0][step - 1]), *results[1][step - 1].tolist(), *[np.nan] * n]]


def _hermite_at(run: Run, time: float, state: Array) -> tuple[float, Array, Array]:
    """Return time, state and rates at the end of a step.

    Parameters
    ----------
    run : Run
    time : float
        In the unit of the problem's time.
    state : ndarray, shape (n_states,)

    Returns
    -------
    tuple[float, ndarray, ndarray]
    """
    return float(time), state, run.problem.rates_at(float(time), state)


def _with_exact(run: Run, frame: pd.DataFrame) -> pd.DataFrame:
    for name, values in run.exact_at(frame["t"].to_numpy()).items():
        ends = (frame["row"] == "result").to_numpy()
        exact = np.where(ends, values, np.nan)
        error = frame[name].to_numpy() - exact
        frame[f"{name} exact"], frame[f"{name} error"] = exact, error
        with np.errstate(divide="ignore", invalid="ignore"):
            frame[f"{name} per cent"] = 100.0 * error / np.abs(exact)
    return frame
