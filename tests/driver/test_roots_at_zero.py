"""Right-hand sides whose slope is infinite at zero: the solution comes there in finite time, and rests or passes."""

import math
import warnings
from functools import cache

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import find_method

ADAPTIVE = representatives()
SHARP = representatives(lambda method: method.stiff and method.order > 2)

# text, when it comes to rest from 1, the solution before
RESTING = {
    "orifice": ("h' = -0.5*sign(h)*sqrt(abs(h))", 4.0, lambda t: (1 - t / 4) ** 2),
    "drain": ("h' = -0.5*sqrt(max(h, 0))", 4.0, lambda t: (1 - t / 4) ** 2),
    "bare root": ("h' = -0.5*sqrt(h)", 4.0, lambda t: (1 - t / 4) ** 2),
    "cube root": ("h' = -h^(1/3)", 1.5, lambda t: (1 - t / 1.5) ** 1.5),
    "power": ("h' = -max(h, 0)^0.4", 1 / 0.6, lambda t: (1 - 0.6 * t) ** (1 / 0.6)),
    "named power": ("h' = -max(h, 0)^p", 1 / 0.6, lambda t: (1 - 0.6 * t) ** (1 / 0.6)),
}


@pytest.mark.parametrize("case", RESTING)
@pytest.mark.parametrize("method", ADAPTIVE)
def test_it_comes_to_rest(method: str, case: str) -> None:
    text, rest, exact = RESTING[case]
    parameters = {"p": 0.4} if case == "named power" else {}
    problem = uh.Problem.from_text(text, initial={"h": 1.0}, interval=(0, 10), parameters=parameters)
    order = find_method(method).order
    low = order < 4
    run = uh.integrate(problem, method, rtol=1e-4 if low else 1e-6)
    assert run.ending.reason == "end", run.ending.message
    assert run.tally.accepted < (100_000 if order == 1 else 4000 if low else 400)
    true = np.where(run.times < rest, exact(np.minimum(run.times, rest)), 0.0)
    assert np.abs(run["h"] - true).max() < (2e-2 if low else 1e-4)
    assert abs(run.final["h"]) < 1e-9


@pytest.mark.parametrize("method", ADAPTIVE)
def test_an_event_on_the_border_of_a_domain_is_found(method: str) -> None:
    for text, time in (("h' = -0.5*sqrt(h)", 4.0), ("h' = -0.1 - 0.5*sqrt(h)", 4 - 0.8 * math.log(6))):
        problem = uh.Problem.from_text(
            text, initial={"h": 1.0}, interval=(0, 10), events=[uh.Event("h = 0", stop=True)]
        )
        run = uh.integrate(problem, method, rtol=1e-4)
        assert run.ending.reason == "event"
        assert run.ending.time == pytest.approx(time, abs=0.05)


@pytest.mark.parametrize("method", SHARP)
def test_a_solution_passes_a_root(method: str) -> None:
    """From an empty tank, back and forth through a level, beside a stiff follower."""
    problem = uh.Problem.from_text(
        "a' = cos(t) - 0.3*sign(a)*sqrt(abs(a))\nb' = 0.1 - 0.3*sqrt(max(b, 0))\nf' = -1e5*(f - b)",
        initial={"a": 0.5, "b": 0.0, "f": 0.0}, interval=(0, 30),
    )  # fmt: skip
    run = uh.integrate(problem, method, rtol=1e-6)
    assert run.ending.reason == "end"
    assert run.final["b"] == pytest.approx(1 / 9, rel=1e-4)
    assert run.final["f"] == pytest.approx(1 / 9, rel=1e-4)
    other = uh.integrate(problem.with_(interval=(0, 30)), "radau-iia-9", rtol=1e-9)
    assert run.final["a"] == pytest.approx(other.final["a"], abs=1e-3)


@pytest.mark.parametrize("method", [name for name in ADAPTIVE if find_method(name).order > 1])
def test_an_inflow_that_fades_holds_a_root_near_zero(method: str) -> None:
    """What flows out follows what flows in: level (inflow/0.5)^2, at last below the tolerance."""
    text = "h' = 0.1*exp(-{}) - 0.5*sign(h)*sqrt(abs(h))\nv' = 0.5*sign(h)*sqrt(abs(h))"
    fading = uh.Problem.from_text(text.format("t"), initial={"h": 1, "v": 0}, interval=(0, 20))
    run = uh.integrate(fading, method, rtol=1e-4, atol=1e-8)
    assert run.ending.reason == "end"
    assert run.tally.accepted < (1000 if method in SHARP else 20_000)
    assert abs(run.final["h"]) <= 2e-8
    assert run.final["v"] == pytest.approx(1 + 0.1 * (1 - math.exp(-20)), abs=1e-3)
    assert "never came above" not in run.ending.advice
    # and again, where more flows in
    again = uh.Problem.from_text(text.format("min(t, 25 - t)"), initial={"h": 1, "v": 0}, interval=(0, 27))
    last = uh.integrate(again, method, rtol=1e-4, atol=1e-8).final
    assert last["h"] + last["v"] == pytest.approx(1.1 + 0.1 * math.exp(2) - 0.2 * math.exp(-12.5), abs=1e-3)
    assert last["h"] > 0.1


def network(seed: int) -> uh.Problem:
    """Return random tanks joined by orifices, some of which drain or are filled in turns."""
    random = np.random.default_rng(seed)
    n, lines = int(random.integers(2, 6)), []
    joined = random.random((n, n)) < 0.6
    for i in range(n):
        flows = [f"- {0.1 + 0.05 * ((i + j) % 8):.2f}*sign(h{i} - h{j})*sqrt(abs(h{i} - h{j}))"
                 for j in range(n) if i != j and joined[min(i, j), max(i, j)]]  # fmt: skip
        flows += [f"- {random.uniform(0.1, 0.4):.3f}*sqrt(max(h{i}, 0))"] if random.random() < 0.5 else []
        flows += [f"+ {random.uniform(0, 0.1):.3f}*max(sin(t), 0)"] if random.random() < 0.3 else []
        lines.append(f"h{i}' = " + (" ".join(flows) or f"0*h{i}"))
    levels = {f"h{i}": float(random.choice([0.0, 0.5, random.random()])) for i in range(n)}
    return uh.Problem.from_text("\n".join(lines), initial=levels, interval=(0, 25))


@cache
def solved(seed: int) -> uh.Run:
    return uh.integrate(network(seed), "dormand-prince-54", rtol=1e-8, record=20)


@pytest.mark.parametrize("method", SHARP)
def test_random_networks_of_tanks(method: str) -> None:
    """At least one of two comes through, and none is wrong in silence."""
    ended, count = 0, 2
    for seed in range(count):
        problem = network(seed)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", uh.IncompleteRunWarning)
            run = uh.integrate(problem, method, rtol=1e-5, record=20, budget={"steps": 100_000})
        if run.ending.reason != "end":
            continue
        ended += 1
        assert np.abs(run.states - solved(seed).states).max() < 1e-4, seed
    assert ended >= count - 1


@pytest.mark.parametrize("method", SHARP)
def test_members_of_a_chain_have_switches_of_their_own(method: str) -> None:
    """Tanks in a row, written over an index, from full and empty in turns to rest."""
    chain = uh.Problem.from_text(
        "h[i]' = (flow[i] - flow[i+1])/area for i in 1..n\nh[0] = 0\nh[n+1] = 0.5\n"
        "flow[i] = -0.3*sign(h[i] - h[i-1])*sqrt(abs(h[i] - h[i-1])) for i in 1..n+1",
        initial={"h": [0.5 + 0.5 * (k % 3) for k in range(6)]}, parameters={"n": 6, "area": 1}, interval=(0, 150),
    )  # fmt: skip
    run = uh.integrate(chain, method, rtol=1e-5)
    assert run.ending.reason == "end", run.ending.message
    assert run.tally.accepted < 3000
    assert run.states[-1] == pytest.approx(0.5 / 7 * np.arange(1, 7), abs=2e-3)


def test_what_leaves_its_domain_is_named() -> None:
    problem = uh.Problem.from_text("level' = -0.1 - 0.5*sqrt(level)", initial={"level": 1}, interval=(0, 10))
    for method in ("auto", "euler", "radau-iia-5", "adams-variable"):
        with pytest.warns(uh.IncompleteRunWarning):
            run = uh.integrate(problem, method, rtol=1e-5)
        assert run.ending.reason in ("not finite", "Newton failed", "step too small")
        assert "sqrt(max(level, 0))" in run.ending.advice


@pytest.mark.parametrize("method", ADAPTIVE)
def test_no_step_crosses_a_pole(method: str) -> None:
    problem = uh.Problem.from_text(
        "S' = -S/(K + S)*X\nX' = S/(K + S)*X/2", initial={"S": 5, "X": 1}, parameters={"K": 0.02}, interval=(0, 30)
    )
    for rtol in (1e-2, 1e-4, 1e-6):
        run = uh.integrate(problem, method, rtol=max(rtol, 1e-4) if find_method(method).order < 3 else rtol)
        assert run.ending.reason == "end"
        assert run["S"].min() > -0.01


BRANCHES = ["{}", "where(x > -1, {}, 0)", "where(x > 5, 7, where(x < -1, 0, {}))", "where(x <= 5, 1 + {}, 1/(x - 9))"]


@pytest.mark.filterwarnings("ignore::unhurried_heron.errors.IncompleteRunWarning")
@pytest.mark.parametrize("branch", BRANCHES)
@pytest.mark.parametrize("method", ADAPTIVE)
def test_a_pole_in_a_branch_ends_the_run_and_one_that_is_not_chosen_does_not(method: str, branch: str) -> None:
    for quotient, meets in (("1/(x - 2)", True), ("1/(x + 0.3)", False)):
        problem = uh.Problem.from_text(
            f"x' = 1\nz' = {branch.format(quotient)}", initial={"x": 0, "z": 0}, interval=(0, 4)
        )
        run = uh.integrate(problem, method, rtol=1e-4)
        assert (run.ending.reason != "end") == meets
        if meets:
            assert run.ending.time == pytest.approx(2, abs=1e-3)
            assert "'x - 2'" in run.ending.advice


def test_fixed_steps_end_before_a_pole_and_pass_what_is_none() -> None:
    problem = uh.Problem.from_text("S' = -S/(0.5 + S)", initial={"S": 5}, interval=(0, 30))
    with pytest.warns(uh.IncompleteRunWarning, match="would cross a pole"):
        assert "'0.5 + S'" in uh.integrate(problem, "euler", step=8).ending.advice
    removable = uh.Problem.from_text("x' = 1\ny' = sin(x)/x", initial={"x": -2, "y": 0}, interval=(0, 4))
    for options in ({"step": 0.3}, {"rtol": 1e-8}):
        run = uh.integrate(removable, "classical-rk-4", **options)
        assert run.final["y"] == pytest.approx(2 * 1.6054129768026948, abs=1e-3)


def test_a_quotient_without_a_value_at_the_start() -> None:
    """A condition that avoids it decides; where none does, the run says what to write."""
    exact = 1.6054129768026948
    for method in ("auto", "radau-iia-5", "adams-variable"):
        guarded = uh.Problem.from_text("y' = where(t > 0, sin(t)/t, 1)", initial={"y": 0}, interval=(0, 2))
        assert uh.integrate(guarded, method).final["y"] == pytest.approx(exact, abs=1e-6)
        bare = uh.Problem.from_text("u'' + 2/t*u' + u = 0", initial={"u": 1, "u'": 0}, interval=(0, 2))
        with pytest.warns(uh.IncompleteRunWarning):
            run = uh.integrate(bare, method)
        assert "where(abs(t) > 0, …, limit)" in run.ending.advice
        assert "where(abs(t) > 0, …, limit)" in str(uh.check(bare))
        written = uh.Problem.from_text(
            "u'' = where(t > 0, -2/t*u' - u, -u/3)", initial={"u": 1, "u'": 0}, interval=(0, 2)
        )
        assert uh.integrate(written, method).final["u"] == pytest.approx(math.sin(2) / 2, abs=1e-6)


@pytest.mark.parametrize("rate", ["2*sqrt(abs(x))", "a*x^(1/3)"])
def test_no_digit_is_certain_where_many_solutions_begin(rate: str) -> None:
    user_input = {"initial": {"x": 0.0}, "interval": (0, 1), "parameters": {"a": 1.0} if "a*" in rate else {}}
    found = uh.certify(uh.Problem.from_text(f"x' = {rate}", **user_input), 4)
    assert not found.certified
    assert "more than one solution may begin there" in found.reason
