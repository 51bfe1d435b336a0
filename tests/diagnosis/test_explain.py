"""Explanations of runs whose cause is known, each sentence's claim tested by other means."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.demo import demo_file
from unhurried_heron.diagnosis.candidates import candidates_for
from unhurried_heron.diagnosis.explain import worth_saying

SLOW = uh.Problem.from_text("x' = -2000*(x - cos(t)) - sin(t)", initial={"x": 1}, interval=(0, 20))
SWING = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 60))


def words(found: uh.Explanation) -> str:
    """Return all sentences on one line."""
    return " ".join(str(found).split())


def figures(run: uh.Run, about: str) -> dict:
    """Return the numbers of all sentences about something, after seeing that they stand in words, too."""
    found = uh.explain(run)
    assert len(found.frame()) == len(found.statements)
    assert all(statement.text in words(found) for statement in found.statements)
    return {key: value for statement in found.about(about) for key, value in statement.figures.items()}


def test_stability_limits_an_explicit_run() -> None:
    run = uh.integrate(SLOW, "dormand-prince-54", rtol=1e-5)
    report = run.explain()
    assert figures(run, "steps")["stability"] > 0.95
    assert figures(run, "steps")["accuracy"] < 0.05
    stiff = figures(run, "stiffness")
    # the implicit run takes steps so many times those that h lambda = 3.3 allows
    other = uh.integrate(SLOW, "radau-iia-5", rtol=1e-5)
    assert stiff["factor"] == pytest.approx(2000 * other.ledger.query("accepted")["step"].max() / 3.3066, rel=0.02)
    better = figures(run, "method")
    assert better["method"] in ("radau-iia-5", "radau-iia-variable", "backward-differentiation-variable")
    again = uh.integrate(SLOW, better["method"], rtol=1e-5)
    assert (again.tally.accepted, again.tally.rate_evaluations) == (better["steps"], better["rate evaluations"])
    assert better["times in steps"] == pytest.approx(run.tally.accepted / again.tally.accepted)
    assert better["method"] in worth_saying(run)
    assert f"{again.tally.accepted:,} steps" in worth_saying(run)
    assert "t = 0." in report.about("steps")[0].text


def test_accuracy_limits_a_swing() -> None:
    run = uh.integrate(SWING, "dormand-prince-54", rtol=1e-9)
    assert figures(run, "steps")["accuracy"] > 0.95
    assert figures(run, "stiffness")["factor"] < 5
    assert "not stiff" in words(run.explain())
    assert worth_saying(run) == ""
    # its error in tolerances, against the truth
    hardest = figures(run, "states")
    times = np.linspace(0, 60, 4001)
    truth = np.column_stack([np.cos(times), -np.sin(times)])
    allowed = run.options["rtol"] + run.options["atol"]
    misses = np.abs(run.at(times) - truth) / allowed
    assert hardest["error"] == pytest.approx(misses.max(), rel=0.1)
    assert hardest["state"] in ("x", "v")


def test_switches_and_events_limit_steps() -> None:
    gates = uh.Problem.from_text("x' = step(sin(3*t)) - 0.4*x", initial={"x": 0}, interval=(0, 100))
    run = uh.integrate(gates, "dormand-prince-54", rtol=1e-4)
    report = figures(run, "steps")
    assert report["landings"] == pytest.approx(len(run.switches) / run.tally.accepted)
    assert report["landings"] > 0.15
    assert "land on switches" in words(uh.explain(run))


def test_the_largest_step_limits_steps() -> None:
    run = uh.integrate(SWING, "verner-76", rtol=1e-4, largest_step=0.05)
    assert figures(run, "steps")["largest step"] > 0.98
    assert " to 59.9" in uh.explain(run).about("steps")[0].text
    # the same where states were kept at some times alone
    few = uh.integrate(SWING, "verner-76", rtol=1e-4, largest_step=0.05, record=5)
    assert figures(few, "steps") == pytest.approx(figures(run, "steps"), abs=1e-12)


def test_newton_and_refusals_cost() -> None:
    bloom = uh.Problem.from_file(demo_file("bloom"))
    run = uh.integrate(bloom, "radau-iia-5", rtol=1e-3)
    report = figures(run, "refused")
    assert report["refused"] == run.tally.refused
    assert report["newton"] == run.tally.newton_failures
    rows = run.ledger.query("not accepted")
    assert figures(run, "steps")["newton"] == pytest.approx(
        rows[rows["error"].isna()]["time"].nunique() / run.tally.accepted
    )
    assert report["share"] == pytest.approx(run.tally.refused / (run.tally.refused + run.tally.accepted))
    fine = uh.integrate(bloom, "radau-iia-5", rtol=1e-6)
    shares = figures(fine, "steps")
    assert shares["accuracy"] == pytest.approx(1.0 - shares["newton"] - shares["landings"] - shares["stability"])
    assert shares["newton"] < 0.1
    assert f"shortened {100 * shares['newton']:.2g} %" in words(uh.explain(fine))


def test_fixed_steps_are_held_against_the_region_and_half_the_step() -> None:
    decay = uh.Problem.from_text("x' = -30*x", initial={"x": 1}, interval=(0, 2))
    good, bad = (uh.integrate(decay, "euler", step=step) for step in (0.04, 0.08))
    assert figures(good, "steps")["outside"] == 0
    assert figures(bad, "steps")["outside"] == 1.0
    # the half step tells the error to first order
    fine = uh.integrate(decay, "euler", step=0.005)
    truth = np.abs(fine["x"] - np.exp(-30 * fine.times)).max()
    assert figures(fine, "states")["error"] == pytest.approx(truth, rel=0.25)


def test_a_budget_tells_what_the_rest_would_take() -> None:
    later = SWING.with_(interval=(100, 160))
    run = uh.integrate(later, "dormand-prince-54", rtol=1e-8, budget={"steps": 300})
    rest = figures(run, "budget")
    whole = uh.integrate(later, "dormand-prince-54", rtol=1e-8)
    assert run.tally.accepted + rest["steps"] == pytest.approx(whole.tally.accepted, rel=0.1)
    assert rest["done"] == pytest.approx((run.ending.time - 100) / 60)
    # what is not stiff is tried by methods for what is not
    [statement] = uh.explain(run).about("method")
    assert statement.figures["method"] in ("verner-76", "adams-variable")
    assert "up to where it ended" in statement.text


def test_whose_fault_an_error_is() -> None:
    # a swing carries on what it is given, one to one; what errs more adds up along the steps
    adds = figures(uh.integrate(SWING.with_(interval=(0, 100)), "heun-2", rtol=1e-6), "growth")
    assert adds["growth"] == pytest.approx(1.0, rel=0.1)
    assert adds["error"] > 10
    lorenz = uh.Problem.from_text("x' = 10*(y - x)\ny' = x*(28 - z) - y\nz' = x*y - 8/3*z",
                                  initial={"x": 1, "y": 1, "z": 1}, interval=(0, 25))  # fmt: skip
    run = uh.integrate(lorenz, "verner-76", rtol=1e-9)
    moved = lorenz.with_(initial=dict(zip("xyz", lorenz.start * (1 + 1e-9) + run.options["atol"], strict=True)))
    truth, other = uh.integrate(lorenz, "verner-76", rtol=1e-13), uh.integrate(moved, "verner-76", rtol=1e-13)
    times = np.linspace(0, 25, 2001)
    expected = np.abs(other.at(times) - truth.at(times)).max(axis=0) / (1e-9 * np.abs(truth.at(times)).max(axis=0))
    grows = figures(run, "growth")
    assert np.log10(grows["growth"]) == pytest.approx(np.log10(expected.max()), abs=0.7)
    assert "problem itself makes errors grow" in words(uh.explain(run))
    assert not uh.explain(uh.integrate(SWING, "verner-98", rtol=1e-8)).about("growth")


def test_tolerances_that_do_not_suit_a_state() -> None:
    small = uh.Problem.from_text("a' = -a\nb' = 1e-9*a - b", initial={"a": 1, "b": 0}, interval=(0, 3))
    report = figures(uh.integrate(small, "dormand-prince-54", rtol=1e-6, atol=1e-9), "tolerance")
    assert report["states"] == "'b'"
    assert report["largest"] == pytest.approx(1e-9 * np.exp(-1), rel=0.05)
    fine = uh.explain(uh.integrate(small, "dormand-prince-54", rtol=1e-6, atol={"a": 1e-9, "b": 1e-18}))
    assert "suit the size of every state" in fine.about("tolerance")[0].text
    # a family whose members are at rest, but for one
    family = uh.Problem.from_text(
        "u[i]' = -u[i] for i in 1..9", initial={"u[i]": "where(i < 2, 1, 1e-9)"}, interval=(0, 3)
    )
    assert "suit the size" in uh.explain(uh.integrate(family, rtol=1e-6, atol=1e-9)).about("tolerance")[0].text
    zero = uh.integrate(uh.Problem.from_text("x' = cos(t)", initial={"x": 0}, interval=(0, 1)), "heun-3", atol=0)
    assert "allows no error" in words(uh.explain(zero))


@pytest.mark.long
def test_a_better_method_is_better_where_it_says_so() -> None:
    # high accuracy, smooth: high order does it in fewer evaluations
    run = uh.integrate(SWING, "bogacki-shampine-32", rtol=1e-8)
    report = figures(run, "method")
    other = uh.integrate(SWING, report["method"], rtol=1e-8)
    assert other.tally.rate_evaluations == report["rate evaluations"] < 0.7 * run.tally.rate_evaluations
    assert report["error"] <= max(report["own error"], 1.0)
    assert report["own error"] == pytest.approx(figures(run, "states")["error"])
    truth = np.column_stack([np.cos(run.times), -np.sin(run.times)])
    allowed = 1e-8 + run.options["atol"]
    # as far as the tighter run is exact, of order 3 a hundred times closer
    missed = np.abs(other.at(run.times) - truth).max() / allowed
    assert report["error"] == pytest.approx(missed, rel=0.2, abs=0.02 * report["own error"])
    assert "Take another method" in words(uh.explain(run))
    # what is said follows from the counts and errors that stand beside it, whatever the clock says
    for method, rtol in (
        ("adams-variable", 1e-11),
        ("dormand-prince-54", 1e-6),
        ("verner-76", 1e-6),
        ("verner-65", 1e-8),
    ):
        own = uh.integrate(SWING.with_(interval=(0, 400)), method, rtol=rtol)
        [statement] = uh.explain(own).about("method")
        report, text = statement.figures, statement.text
        better = report["error"] <= max(report["own error"], 1.0) and report["times"] > 1 / 0.7
        assert text.startswith("Take another method" if better else "No method tried does clearly better")
    assert report["times"] == pytest.approx(own.tally.rate_evaluations / report["rate evaluations"])


@pytest.mark.parametrize("count", [300, 301])
@pytest.mark.parametrize("method", ["radau-iia-5", "dormand-prince-54", "backward-differentiation-variable"])
def test_which_methods_are_tried(count: int, method: str) -> None:
    text = "u[i]' = -i*u[i] for i in 1..n"
    problem = uh.Problem.from_text(text, initial={"u": 1}, parameters={"n": count}, interval=(0, 0.01))
    run = uh.integrate(problem, method, rtol=1e-3)
    stiff = {"radau-iia-5", "radau-iia-variable", "backward-differentiation-variable"}
    # a large one may do better without solving for its steps
    stiff |= {"runge-kutta-chebyshev-4"} if count > 300 else set()
    assert {each.method for each in candidates_for(run, stiff=True)} == stiff - {method}
    others = candidates_for(run, stiff=False)
    assert {each.method for each in others} == {"dormand-prince-54", "verner-76", "adams-variable"} - {method}
    assert all(each.done for each in others)
    assert [each.work for each in others] == sorted(each.work for each in others)


def test_what_cannot_be_told_is_said() -> None:
    recorded = uh.integrate(SLOW, "dormand-prince-54", rtol=1e-5, record=20)
    assert figures(recorded, "steps")["stability"] > 0.9
    failed = uh.Problem.from_text("x' = x^2", initial={"x": 1}, interval=(0, 2))
    with pytest.warns(uh.IncompleteRunWarning):
        run = uh.integrate(failed, "dormand-prince-54", rtol=1e-6)
    report = words(uh.explain(run))
    assert "did not end as asked" in report
    assert "None of the other methods tried came to the end" in report
    ended = figures(run, "ending")
    assert ended["size"] == pytest.approx(abs(run["x"][-1]))
    # 1/(1 - t) a hundredth before its end
    assert ended["before"] == pytest.approx(100, rel=0.2)
    still = uh.integrate(uh.Problem.from_text("x' = 0*x", initial={"x": 1}, interval=(0, 1)))
    assert uh.explain(still).statements
    with pytest.raises(uh.OptionError, match="no run"):
        uh.explain("run")


def test_what_a_function_refuses_beside_the_solution_is_told() -> None:
    def rest(t: float, x: float) -> list[float]:
        if x != 1:
            raise ValueError("at rest alone")
        return [0.0]

    run = uh.integrate(uh.Problem.from_rates(rest, initial={"x": 1}, interval=(0, 1)), "heun-3", largest_step=0.1)
    assert "what stability did could not be told (ValueError: at rest alone)" in words(uh.explain(run))
    assert figures(run, "steps")["stability"] == 0
    assert figures(run, "states")["error"] == 0


def test_a_function_that_refuses_other_methods_is_told_not_raised() -> None:
    def rates(t: float, x: float) -> list[float]:
        if abs(x - np.exp(-t)) > 0.01:
            raise ValueError("too far from what was measured")
        return [-x]

    problem = uh.Problem.from_rates(rates, initial={"x": 1}, interval=(0, 30))
    run = uh.integrate(problem, "bogacki-shampine-32", rtol=1e-9, largest_step=0.02)
    report = words(uh.explain(run))
    assert "largest step" in report
    # those that take long steps ask too far away, and are not there to be taken
    assert "too far" in report or "Take another method" in report or "No method tried does clearly better" in report
    with pytest.raises(ValueError, match="too far"):
        uh.integrate(problem, "radau-iia-5", rtol=1e-2, starting_step=3.0)
