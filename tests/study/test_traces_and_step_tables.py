"""Inside a step: traces against functions that log themselves, worked tables against fractions, places asked."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from representatives import marches_functions, representatives

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import CATALOGUE

ADAPTIVE = [(name, {"rtol": 1e-4}) for name in CATALOGUE if CATALOGUE[name].adaptive]
SPECIAL = [("classical-rk-4", {"count": 7}), ("adams-pece-4", {"count": 9}), ("adams-bashforth-3", {"count": 9})]


@pytest.mark.parametrize(
    ("name", "options"),
    [*((name, {}) for name in representatives(lambda m: m.order > 1 and marches_functions(m))), *SPECIAL],
)
def test_a_trace_is_what_a_function_logs_of_itself(name: str, options: dict[str, Any]) -> None:
    logged: list[tuple[float, ...]] = []

    def rates(t: float, u: float, v: float) -> list[float]:
        logged.append((t, u, v))
        return [v, 5.0 * (1.0 - u * u) * v - u]

    problem = uh.Problem.from_rates(rates, initial={"u": 2, "v": 0}, interval=(0, 1))
    logged.clear()
    run = uh.integrate(problem, name, **options if options else {"rtol": 0.0001, **options}, trace=True)
    trace = run.trace
    assert trace[["time", "u", "v"]].to_numpy().tolist() == [list(each) for each in logged]
    assert len(trace) == run.tally.rate_evaluations
    assert (trace["rate of u"] == trace["v"]).all()
    # every purpose is counted
    purposes = trace["purpose"]
    report = {
        "for_starting": purposes.isin(["start", "starting step"]),
        "for_between": purposes == "between the steps",
        "for_estimates": purposes.isin(["error estimate", "largest eigenvalue"]),
        "for_jacobians": purposes.str.startswith(("Jacobian", "time derivative")),
    }
    for count, rows in report.items():
        assert rows.sum() == getattr(run.tally, count), count
    assert run.tally.for_stages == len(trace) - sum(rows.sum() for rows in report.values())
    # columns of the Jacobian are asked at states of which one has moved a little
    moved = trace[purposes == "Jacobian, column v"]
    assert (len(moved) > 0) == (run.tally.for_jacobians > 0)
    # without it nothing is kept, and the run is the same to the last bit
    plain = uh.integrate(problem, name, **(options if options else {"rtol": 0.0001}))
    assert np.array_equal(plain.states, run.states)
    with pytest.raises(uh.RunError, match="no trace"):
        plain.trace  # noqa: B018 - looking is what raises


def test_iterations_are_numbered_from_one() -> None:
    problem = uh.Problem.from_text("x' = -x^2", initial={"x": 1}, interval=(0, 1))
    purposes = uh.integrate(problem, "radau-iia-5", step=0.5, trace=True).trace["purpose"].tolist()
    assert purposes[:5] == ["start", *(f"stage {k}, iteration 1" for k in (1, 2, 3)), "stage 1, iteration 2"]


def test_traces_of_written_equations_go_on_with_the_run() -> None:
    pond = uh.Problem.from_text(
        "x' = -x + step(t - 1)",
        initial={"x": 1},
        interval=(0, 2),
        events=[uh.Event("x = 0.5", then="x = 1", at_most=1)],
    )
    run = uh.integrate(pond, "bogacki-shampine-32", rtol=1e-3, trace=True)
    # at the start, and again beyond the event and the jump
    assert (run.trace["purpose"] == "start").sum() == 3
    assert run.trace["step"].is_monotonic_increasing
    longer = run.extend(3.0)
    assert len(longer.trace) == longer.tally.rate_evaluations > len(run.trace)
    assert longer.trace["step"].is_monotonic_increasing
    wrong = uh.Problem.from_text("x' = sqrt(x - 2) - 3", initial={"x": 4}, interval=(0, 2))
    with pytest.warns(uh.IncompleteRunWarning):
        outside = uh.integrate(wrong, "heun-2", rtol=1e-3, trace=True)
    assert len(outside.trace) == outside.tally.rate_evaluations


A, H = Fraction(-3, 4), Fraction(1, 8)


def derivative(t: Fraction, x: Fraction) -> Fraction:
    return A * x + t


def by_hand(method: Any, steps: int) -> list[tuple[str, Fraction, Fraction, Fraction | None]]:
    """Rows of an explicit method in exact arithmetic: name, time, state, rate."""
    t, x, rows = Fraction(0), Fraction(1), []
    for _ in range(steps):
        k: list[Fraction] = []
        for i in range(method.stages):
            inside = x + H * sum((method.a[i][j] * k[j] for j in range(i)), Fraction(0))
            k.append(derivative(t + method.c[i] * H, inside))
            rows.append((f"k{i + 1}", t + method.c[i] * H, inside, k[-1]))
        t, x = t + H, x + H * sum((b * each for b, each in zip(method.b, k, strict=True)), Fraction(0))
        rows.append(("result", t, x, None))
    return rows


FORCED = uh.Problem.from_text("x' = -0.75*x + t", initial={"x": 1}, interval=(0, 2), exact={
    "x": "(1 + 16/9)*exp(-0.75*t) + 4/3*t - 16/9"})  # fmt: skip


@pytest.mark.parametrize("name", ["euler", "heun-2", "kutta-3", "classical-rk-4", "dormand-prince-54", "fehlberg-45"])
def test_worked_tables_against_fractions(name: str) -> None:
    found = uh.step_table(FORCED, name, step=0.125, steps=3)
    wanted = by_hand(CATALOGUE[name], 3)
    assert found["row"].tolist() == [row[0] for row in wanted]
    assert found["step"].tolist() == [1 + sum(r[0] == "result" for r in wanted[:i]) for i in range(len(wanted))]
    for column, index in (("t", 1), ("x", 2), ("rate of x", 3)):
        values = [np.nan if row[index] is None else float(row[index]) for row in wanted]
        assert found[column].to_numpy() == pytest.approx(np.array(values), rel=4e-16, abs=4e-16, nan_ok=True)
    ends = found[found["row"] == "result"]
    exact = 25 / 9 * np.exp(-0.75 * ends["t"]) + 4 / 3 * ends["t"] - 16 / 9
    assert ends["x exact"].to_numpy() == pytest.approx(exact.to_numpy(), rel=1e-14)
    assert ends["x per cent"].to_numpy() == pytest.approx((100 * (ends["x"] - exact) / exact).to_numpy(), rel=1e-6)
    assert found[found["row"] != "result"]["x exact"].isna().all()


def test_worked_tables_of_methods_that_look_back() -> None:
    found = uh.step_table(FORCED, "adams-bashforth-2", step=0.125, steps=4)
    last = found[found["step"] == 4].set_index("row")
    assert last.index.tolist() == ["back 0", "back 1", "result"]
    result = last["x"]["back 0"] + 0.125 * (1.5 * last["rate of x"]["back 0"] - 0.5 * last["rate of x"]["back 1"])
    assert last["x"]["result"] == pytest.approx(result, rel=1e-15)
    pece = uh.step_table(FORCED, "adams-pece-2", step=0.125, steps=3)
    third = pece[pece["step"] == 3].set_index("row")
    start, predicted = third.loc["back 0"], third.loc["prediction"]
    rate, before = start["rate of x"], third["rate of x"]["back 1"]
    assert predicted["x"] == pytest.approx(start["x"] + 0.125 * (1.5 * rate - 0.5 * before))
    assert third["x"]["result"] == pytest.approx(start["x"] + 0.0625 * (rate + predicted["rate of x"]), rel=1e-15)
    implicit = uh.step_table(FORCED, "backward-euler", step=0.125, steps=2)
    assert implicit["row"].str.startswith("k1, iteration").sum() >= 2
    first = implicit[implicit["row"] == "result"]["x"].iloc[0]
    assert first == pytest.approx((1 + 0.125**2) / (1 + 0.125 * 0.75), rel=1e-12)
    refused = uh.step_table(
        uh.Problem.from_text("x' = -50*(x - cos(9*t))", initial={"x": 0}, interval=(0, 3)),
        "heun-3",
        rtol=1e-7,
        steps=40,
    )
    assert (refused["row"] == "result").sum() == 40
    with pytest.raises(uh.OptionError, match="steps is not usable"):
        uh.step_table(FORCED, "euler", step=0.1, steps=0)


def test_exact_values_stand_beside_the_computed_ones() -> None:
    run = uh.integrate(FORCED, "heun-2", step=0.25)
    table = run.frame(exact=True)
    assert table["x exact"].to_numpy() == pytest.approx(run.exact_at(run.times)["x"])
    assert (table["x error"] == table["x"] - table["x exact"]).all()
    assert table["x per cent"].to_numpy() == pytest.approx(100 * table["x relative"].to_numpy())
    with pytest.raises(uh.RunError, match="no closed form"):
        uh.integrate(uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 1))).frame(exact=True)


def test_a_problem_can_be_asked_anywhere() -> None:
    swing = uh.Problem.from_text("x' = v\nv' = -w^2*x - c*v + sin(t)", initial={"x": 1, "v": 0},
                                 parameters={"w": 2, "c": 0.1}, interval=(0, 5), units={"t": "h"},
                                 check_units=False)  # fmt: skip

    def rates(t: float, x: float, v: float, w: float, c: float) -> list[float]:
        return [v, -(w**2) * x - c * v + np.sin(t)]

    called = uh.Problem.from_rates(rates, initial={"x": 1, "v": 0}, parameters={"w": 2, "c": 0.1}, interval=(0, 5))
    times, states = np.array([0.5, 1.5]), np.array([[1.0, 2.0], [3.0, 4.0]])
    for problem in (swing, called):
        truth = np.column_stack([states[:, 1], -4 * states[:, 0] - 0.1 * states[:, 1] + np.sin(times)])
        assert problem.rates_at(times, states) == pytest.approx(truth, rel=1e-12)
        named = problem.rates_at(0.5, {"v": 2.0, "x": 1.0})
        assert [named["x"], named["v"]] == pytest.approx(truth[0])
        assert problem.jacobian_at(0.5, states) == pytest.approx(np.array([[[0, 1], [-4, -0.1]]] * 2), abs=1e-6)
        values = problem.eigenvalues_at(times, states)
        assert values.shape == (2, 2)
        assert np.abs(values) == pytest.approx(2.0, rel=1e-6)
    run = uh.integrate(swing)
    assert swing.rates_at(run.times, run.frame())["x"] == pytest.approx(run["v"])
    assert swing.rates_at("30 min", states[0]) == pytest.approx(swing.rates_at(0.5, states[0]))
    for bad in ((0, [1]), (0, {"x": 1}), (0, {"x": 1, "v": 1, "u": 2}), ([0, 1, 2], states), (0, "text")):
        with pytest.raises(uh.OptionError):
            swing.rates_at(*bad)


def test_the_trace_of_a_run_that_was_extended_goes_on() -> None:
    swing = uh.Problem.from_text("x' = v\nv' = -x - 0.1*v", initial={"x": 1, "v": 0}, interval=(0, 2))
    whole = uh.integrate(swing, "classical-rk-4", step=0.125, trace=True).trace
    parts = uh.integrate(swing.with_(interval=(0, 1)), "classical-rk-4", step=0.125, trace=True).extend(2).trace
    # where it goes on, its rates are found again
    again = (parts["purpose"] == "start") & (parts["step"] > 0)
    assert parts["time"][again].tolist() == [1.0]
    assert parts[~again].reset_index(drop=True).equals(whole)
