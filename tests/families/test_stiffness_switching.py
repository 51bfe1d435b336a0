"""Methods that choose along the run: between stiff and not, and among orders."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.demo import demo_file

# fast only around t = 9, where it follows cos(t)
CHANGING = uh.Problem.from_text(
    "x' = -1e4*(x - cos(t))*exp(-(t - 9)^2) - x\ny' = x - y", initial={"x": 1, "y": 0}, interval=(0, 40)
)


@pytest.mark.parametrize("rtol", [1e-4, 1e-6, 1e-9])
def test_auto_changes_where_it_is_stiff_and_loses_nothing(rtol: float) -> None:
    times = np.linspace(0, 40, 999)
    truth = uh.integrate(CHANGING, "radau-iia-13", rtol=1e-12).at(times)
    run = uh.integrate(CHANGING, rtol=rtol)
    assert np.abs(run.at(times) - truth).max() < 10 * rtol
    ledger = run.ledger
    names = ledger["method"].unique()
    smooth = {1e-4: "dormand-prince-54", 1e-6: "verner-76", 1e-9: "verner-98"}[rtol]
    assert list(names) == [smooth, "radau-iia-5" if rtol > 1e-5 else "radau-iia-9"]
    first = ledger["time"][ledger["method"] == names[1]].iloc[0]
    assert 5 < first < 8.5
    assert run.tally.changes == (ledger["method"] != ledger["method"].shift()).sum() - 1
    assert f"stiff from t = {first:.4g}" in run.method_selection
    assert run.options["linear"] == "dense"
    # an explicit method alone takes thirty times as many steps and more
    assert len(ledger) < uh.integrate(CHANGING, smooth, rtol=rtol, record=2).tally.accepted / 3
    # what was laid out serves again, from the beginning
    again = uh.integrate(CHANGING, rtol=rtol)
    assert (again.method_selection, again.states[-1].tolist()) == (run.method_selection, run.states[-1].tolist())


def test_auto_comes_back(tmp_path: object) -> None:
    run = uh.integrate(uh.Problem.from_file(demo_file("bloom")), rtol=1e-8)
    methods = run.ledger["method"]
    assert run.tally.changes >= 3
    assert methods.iloc[0] == "verner-76"
    # quiet in the first winter and the second, stiff in both blooms
    middle = run.ledger[(run.ledger["time"] > 350) & (run.ledger["time"] < 450)]
    assert set(middle["method"]) == {"verner-76"}
    for bloom in (150, 545):
        near = run.ledger[(run.ledger["time"] - bloom).abs() < 5]
        assert set(near["method"]) == {"radau-iia-9"}


def test_auto_leaves_alone_what_is_not_stiff() -> None:
    swing = uh.Problem.from_text("x' = 1e4*v\nv' = -1e4*x", initial={"x": 1, "v": 0}, interval=(0, 0.01))
    for problem in (swing, uh.Problem.from_file(demo_file("food-chain"))):
        for rtol in (1e-4, 1e-6, 1e-10):
            run = uh.integrate(problem, rtol=rtol)
            assert run.tally.changes == 0
            assert run.tally.jacobians == 0
            assert "did not limit" in run.method_selection
    # and nothing is chosen with fixed steps; where full matrices would be too large, there are none
    assert uh.integrate(swing, count=900).method == "dormand-prince-54"
    wide = uh.Problem.from_rates(lambda t, y: -1e4 * (y - np.cos(t)), initial={"u": np.ones(5001)}, interval=(0, 0.1))
    run = uh.integrate(wide, rtol=1e-3, record=2)
    assert (run.tally.changes, run.options["linear"]) == (1, "krylov")
    assert run.tally.accepted < 100


def test_auto_across_switches_and_events() -> None:
    text = "x' = -fast*(x - where(t < 4, 1, 2))\nfast = where(x > 1.5, 2e4, 1)"
    problem = uh.Problem.from_text(
        text, initial={"x": 0}, interval=(0, 8), events=[uh.Event("x = 0.5", name="half"), uh.Event("x = 1.9")]
    )
    run = uh.integrate(problem, rtol=1e-7)
    assert run.ending.reason == "end"
    assert run.events["time"][0] == pytest.approx(np.log(2), rel=1e-6)
    assert run.switches["switch"].tolist() == ["t < 4", "x > 1.5"]
    assert run.final["x"] == pytest.approx(2, rel=1e-6)


def test_orders_change_along_the_run() -> None:
    chain = uh.Problem.from_file(demo_file("food-chain"))
    for method, orders in (("adams-variable", 6), ("backward-differentiation-variable", 4), ("radau-iia-variable", 2)):
        ledger = uh.integrate(chain, method, rtol=1e-7).ledger
        assert ledger["order"].nunique() >= orders
        if method == "radau-iia-variable":
            assert set(ledger["method"]) <= {"radau-iia-5", "radau-iia-9", "radau-iia-13"}
