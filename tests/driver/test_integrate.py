"""The driver: sizes, memory, threads, first steps, and exact solutions of random linear systems."""

from __future__ import annotations

import dataclasses
import pickle
import tracemalloc
from concurrent.futures import ThreadPoolExecutor

import mpmath
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from representatives import representatives

import unhurried_heron as uh
from unhurried_heron.methods.catalogue import find_method


@settings(max_examples=25, deadline=None)
@given(
    n=st.integers(1, 5),
    seed=st.integers(0, 10**6),
    method=st.sampled_from(["dormand-prince-54", "fehlberg-45", "radau-iia-5"]),
    backward=st.booleans(),
)
def test_random_linear_systems(n: int, seed: int, method: str, backward: bool) -> None:
    random = np.random.default_rng(seed)
    a, start = random.normal(size=(n, n)), random.normal(size=n)
    lines = [f"x{i}' = " + " + ".join(f"({float(a[i, j])!r})*x{j}" for j in range(n)) for i in range(n)]
    end = -1.0 if backward else 1.0
    problem = uh.Problem.from_text("\n".join(lines), initial={f"x{i}": start[i] for i in range(n)}, interval=(0.0, end))
    run = uh.integrate(problem, method, rtol=1e-9)
    exact = mpmath.expm(mpmath.matrix((end * a).tolist())) * mpmath.matrix(start.tolist())
    truth = np.array([float(x) for x in exact])
    assert np.abs(run.states[-1] - truth).max() < 1e-6 * max(1.0, np.abs(truth).max())
    # what was recorded is what the solution as a function says
    assert np.allclose(run.at(run.times), run.states, rtol=1e-12, atol=1e-12)


def ring(n: int) -> uh.Problem:
    """Water passed round a ring of pools; the total is conserved."""
    return uh.Problem.from_rates(
        lambda y: np.roll(y, 1) - y, initial={f"p{i}": float(i % 7) for i in range(n)}, interval=(0, 3)
    )


def test_many_states() -> None:
    # so many that a chunk holds a few steps only
    n = 3000
    run = uh.integrate(ring(n), rtol=1e-6)
    assert run.states.shape == (run.tally.accepted + 1, n)
    totals = run.states.sum(axis=1)
    assert np.abs(totals / totals[0] - 1).max() < 1e-12
    small = uh.integrate(ring(21), rtol=1e-6)
    # the start repeats every seven pools, and 21 divides 3000 into whole periods up to a remainder far away
    assert np.allclose(run.at(1.0)[700:721], small.at(1.0), rtol=1e-4)


def test_implicit_with_many_states() -> None:
    run = uh.integrate(ring(70), "radau-iia-5", rtol=1e-6)
    assert run.ending.reason == "end"
    assert run.tally.rate_evaluations > 70 * run.tally.jacobians
    assert np.allclose(run.states[-1], uh.integrate(ring(70), rtol=1e-9).states[-1], atol=1e-5)


def test_memory_does_not_grow_with_the_steps() -> None:
    peaks = []
    for length in (100, 20_000):
        problem = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, length))
        uh.integrate(problem, record=11)
        tracemalloc.start()
        run = uh.integrate(problem, record=11)
        peaks.append(tracemalloc.get_traced_memory()[1])
        tracemalloc.stop()
        assert run.times.size == 11
    # one number for each step would be more
    assert peaks[1] < peaks[0] + 8 * run.tally.accepted / 4


def test_threads_do_not_disturb_each_other() -> None:
    problem = uh.Problem.from_text(
        "x' = v\nv' = -w^2*x", initial={"x": 1, "v": 0}, parameters={"w": 1}, interval=(0, 200)
    )
    frequencies = [1.0 + 0.1 * i for i in range(8)]

    def final(w: float) -> float:
        return uh.integrate(problem.with_(parameters={"w": w}), rtol=1e-10).final["x"]

    with ThreadPoolExecutor(4) as pool:
        together = list(pool.map(final, frequencies))
    assert together == [final(w) for w in frequencies]
    assert together == pytest.approx(np.cos(200 * np.array(frequencies)), abs=1e-5)


def test_problems_travel_between_processes(pond: uh.Problem) -> None:
    copy = pickle.loads(pickle.dumps(pond.with_(events=[uh.Event("level = 1")])))
    assert uh.integrate(copy).final == uh.integrate(pond).final
    assert copy.fingerprint == pond.fingerprint
    assert copy.events[0].name == "level = 1"


@pytest.mark.parametrize("method", ["heun-2", "dormand-prince-54", "radau-iia-5"])
@pytest.mark.parametrize("sign", [1.0, -1.0])
@pytest.mark.parametrize("scale", [1e-9, 1.0, 1e9])
def test_the_first_step_follows_the_scale_of_time(scale: float, sign: float, method: str) -> None:
    user_input = {"initial": {"x": 1, "v": 0}, "interval": (0, sign * 20 * scale)}
    problem = uh.Problem.from_text("x' = v/s\nv' = -x/s", parameters={"s": scale}, **user_input)
    run = uh.integrate(problem, method, rtol=1e-6, atol=1e-6)
    assert 1e-4 < sign * run.ledger["step"][0] / scale < 0.2
    # it is within the tolerance, and not far below what comes after it
    assert run.ledger["accepted"][0]
    assert run.ledger["step"][0] / run.ledger["step"][3] > 0.05


@pytest.mark.parametrize("method", ["heun-2", "dormand-prince-54", "radau-iia-5"])
def test_the_first_step_where_the_rates_fail(method: str) -> None:
    # all beyond the start is out of bounds, or cannot be had at all
    for rate in ("exp(1000*ceil(t))", "sqrt(-t) + 1"):
        with pytest.warns(uh.IncompleteRunWarning):
            run = uh.integrate(uh.Problem.from_text(f"x' = {rate}", initial={"x": 1}, interval=(0, 1)), method,
                               switches=False)  # fmt: skip
        assert run.ending.reason == "not finite"
        assert run.ending.time < 1e-2
    # a step never falls below the spacing of the times
    fast = uh.Problem.from_text("x' = 1e12", initial={"x": 1}, interval=(1e6, 2e6))
    assert uh.integrate(fast, method, atol=1e-6).ledger["step"][0] >= np.spacing(1e6)


def test_a_fast_start_is_not_stepped_over() -> None:
    problem = uh.Problem.from_text(
        "x' = -1e6*(x - 1)", initial={"x": 0}, interval=(0, 1), exact={"x": "1 - exp(-1e6*t)"}
    )
    table = uh.compare(problem, ["radau-iia-5"], rtol=[1e-4, 1e-6]).frame()
    # the error is looked for within the first millionths, where the solution happens
    assert table["largest error"][0] < 2e-2
    assert table["largest error"][1] < table["largest error"][0] / 5


def test_tolerances_are_met_whatever_the_unit() -> None:
    for unit in (1e-12, 1.0, 1e12):
        problem = uh.Problem.from_text("x' = -x", initial={"x": unit}, interval=(0, 5))
        for method in ("dormand-prince-54", "radau-iia-5"):
            run = uh.integrate(problem, method, rtol=1e-8, atol=1e-10 * unit)
            assert run.final["x"] == pytest.approx(unit * np.exp(-5), rel=1e-6)


def test_the_same_run_twice_is_the_same(pond: uh.Problem) -> None:
    for method in ("dormand-prince-54", "radau-iia-5"):
        first, second = uh.integrate(pond, method), uh.integrate(pond, method)
        assert np.array_equal(first.states, second.states)
        assert np.array_equal(first.times, second.times)


def test_conserved_totals_of_the_chemistry_are_kept() -> None:
    from unhurried_heron.demo import demo_file

    chemistry = uh.Problem.from_file(demo_file("carbonate"))
    run = uh.integrate(chemistry, "radau-iia-5", rtol=1e-6)
    # linear invariants are kept by every Runge-Kutta method to rounding
    for total in ("carbon", "alkalinity"):
        assert np.abs(run[total] / run[total][0] - 1).max() < 1e-12


@pytest.mark.parametrize("method", ["heun-2", "fehlberg-45", "dormand-prince-54", "radau-iia-5"])
def test_the_ledger_tells_the_whole_march(method: str) -> None:
    problem = uh.Problem.from_text(
        "x' = v\nv' = 9*(1 - x^2)*v - x", initial={"x": 2, "v": 0}, interval=(0, 20), title="relaxation"
    )
    run = uh.integrate(problem, method, rtol=1e-5, starting_step=1.0)
    ledger = run.ledger
    good = ledger["accepted"]
    assert run.tally.refused > 0
    assert np.array_equal(ledger["time"][good], run.times[:-1])
    assert ledger["step"][good].sum() == pytest.approx(20.0, rel=1e-12)
    assert (ledger["error"][good] <= 1).all()
    assert not (ledger["error"][~good] <= 1).any()
    # after a refusal the next attempt starts at the same time with a shorter step
    for i in np.flatnonzero(~good.to_numpy()):
        assert ledger["time"][i + 1] == ledger["time"][i]
        assert ledger["step"][i + 1] < ledger["step"][i]
    iterations = ledger["iterations"].sum()
    assert iterations == run.tally.iterations
    assert (iterations > 0) == (method == "radau-iia-5")
    known = uh.methods().loc[method]
    assert (ledger["order"] == known["order"]).all()
    # the steps settle at a share of the length that would use up the tolerance
    share = ledger["error"][good].median() ** (1 / (min(known["order"], known["embedded order"]) + 1))
    assert 0.7 < share < 0.86


def test_absolute_tolerance_alone() -> None:
    problem = uh.Problem.from_text("x' = cos(t)", initial={"x": 0}, interval=(0, 10))
    for method in ("dormand-prince-54", "radau-iia-5"):
        run = uh.integrate(problem, method, rtol=0, atol=1e-9)
        assert np.abs(run["x"] - np.sin(run.times)).max() < 1e-7


def test_work_of_an_implicit_march_is_counted() -> None:
    linear = uh.Problem.from_text("x' = -100*(x - 1)", initial={"x": 0}, interval=(0, 10))
    tally = uh.integrate(linear, "radau-iia-5", step=0.1).tally
    # a linear problem at a fixed step: its one Jacobian serves nearly all the way
    assert tally.jacobians <= 5
    assert tally.factorisations <= 6
    assert tally.solves == tally.iterations
    assert tally.rate_evaluations == 3 * tally.iterations + tally.accepted + 1
    tally = uh.integrate(linear, "radau-iia-5", rtol=1e-6).tally
    assert tally.accepted < tally.iterations <= 3 * (tally.accepted + tally.refused)
    # one solve for each estimate besides, and two where the error between the steps is measured
    attempts = tally.accepted + tally.refused
    assert tally.iterations + attempts <= tally.solves <= tally.iterations + 4 * attempts
    assert tally.rate_evaluations >= 3 * tally.iterations + tally.accepted


@pytest.mark.parametrize("record", ["steps", 7])
@pytest.mark.parametrize("method", [*representatives(), "adams-bashforth-3", "adams-moulton-3"])
def test_a_run_knows_nothing_of_the_run_before(method: str, record: str | int) -> None:
    problem = uh.Problem.from_text(
        "x' = v\nv' = m*(1 - x^2)*v - x + max(x - k, 0)",
        parameters={"m": 4, "k": 1.2},
        initial={"x": 2, "v": 0},
        interval=(0, 9),
        events=[uh.Event("x = 0.3*k"), uh.Event("v = 50", stop=True)],
    )
    options = {"record": record, **({"rtol": 1e-6} if find_method(method).adaptive else {"step": 0.01})}
    if find_method(method).order == 1 and "rtol" in options:
        options["rtol"] = 1e-3

    def report(problem: uh.Problem) -> str:
        run = uh.integrate(problem, method, **options)
        counts = {**vars(run.tally), "seconds": 0}
        return repr([run.times.tolist(), run.states.tolist(), counts, run.switches, run.events, str(run.ending)])

    first, other = report(problem), problem.with_(parameters={"m": 9, "k": 0.7}, initial={"x": 0.1}, interval=(1, 5))
    assert report(other) != first == report(problem)
    # also after one that was stopped on the way, and after one of the other direction
    report(problem.with_(initial={"v": 49.999}))
    uh.integrate(problem.with_(interval=(3, 0)), method, **options)
    assert report(problem) == first
    assert report(pickle.loads(pickle.dumps(other))) == report(other)


# the order of the estimate plus one, the aim, and the exponents of the error now, of the one before, and of the steps
CONTROL = {"dormand-prince-54": (5, 0.77**5, 0.8, -0.2, 0), "heun-2": (2, 0.77**2, 0.8, -0.2, 0),
           "radau-iia-5": (4, 0.5, 2, -1, 1)}  # fmt: skip


@pytest.mark.parametrize("method", CONTROL)
def test_the_step_follows_the_errors_as_the_controller_says(method: str) -> None:
    problem = uh.Problem.from_text("x' = v\nv' = 4*(1 - x^2)*v - x", initial={"x": 2, "v": 0}, interval=(0, 20))
    ledger = uh.integrate(problem, method, rtol=1e-5).ledger
    k, aim, now, before, steps = CONTROL[method]
    step, error, good = (ledger[name].to_numpy() for name in ("step", "error", "accepted"))
    seen = [i for i in range(2, len(step) - 2) if good[i - 2 : i + 1].all()]
    assert len(seen) > 40
    for i in seen:
        e, last = (max(error[j] / aim, 6.0**-k if k == 4 else 5.0**-k) for j in (i, i - 1))
        factor = e ** (-now / k) * last ** (-before / k) * (step[i] / step[i - 1]) ** steps
        if k == 4:
            # the smaller one of two, and no longer where old factors do
            factor = min(factor, e ** (-1 / k))
            factor = 1.0 if step[i + 1] == pytest.approx(step[i]) and 1.0 <= factor <= 1.25 else factor
        bounds = (1 / 6, 6) if k == 4 else (0.2, 5)
        assert step[i + 1] / step[i] == pytest.approx(np.clip(factor, *bounds), rel=1e-9)
    # after a refusal the error alone tells
    for i in np.flatnonzero(~good):
        if np.isfinite(error[i]):
            assert step[i + 1] / step[i] == pytest.approx(max((error[i] / aim) ** (-1 / k), 0.2 if k != 4 else 1 / 6))


def test_steps_longer_than_the_unit_of_time_are_taken_together_as_one_by_one() -> None:
    # so many at once that what is counted in steps, and not in time, matters
    slow = uh.Problem.from_text("x' = -x/400 + sin(t/90)", initial={"x": 1}, interval=(0, 3000))
    for step in (2.5, 0.25):
        whole = uh.integrate(slow, "classical-rk-4", step=step)
        few = uh.integrate(slow, "classical-rk-4", step=step, record=[777.5, 1500, 3000])
        assert few.tally == dataclasses.replace(whole.tally, seconds=few.tally.seconds)
        assert few.states[1:].tolist() == [whole.states[round(t / step)].tolist() for t in (1500, 3000)]


def test_where_rates_stop_a_march_of_many_steps_at_once() -> None:
    def rates(t: float, x: float) -> list[float]:
        if t > 40.0:
            raise ValueError("dry")
        return [-x]

    problem = uh.Problem.from_rates(rates, initial={"x": 1}, interval=(0, 100))
    with pytest.raises(ValueError, match="dry") as caught:
        uh.integrate(problem, "classical-rk-4", step=0.5, record=2)
    assert "at t = 40." in caught.value.__notes__[0]


def test_a_budget_of_seconds_lets_large_systems_march() -> None:
    text = "u[i]' = u[i-1] - 2*u[i] + u[i+1] for i in 1..n\nu[0] = 0\nu[n+1] = 0"
    large = uh.Problem.from_text(text, initial={"u": 1}, parameters={"n": 310}, interval=(0, 1))
    run = uh.integrate(large, "radau-iia-5", rtol=1e-3, linear="dense", budget={"seconds": 60}, record=2)
    assert run.ending.reason == "end"
