"""Rates in Python and ``@njit``: arguments by name, results checked, exceptions kept."""

from __future__ import annotations

import math
import traceback

import numba
import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors

SAID = {"initial": {"x": 1.0, "v": 0.0}, "parameters": {"k": 4.0, "d": 0.5}, "interval": (0.0, 5.0)}
WRITTEN = uh.Problem.from_text("x' = v\nv' = -k*x - d*v", **SAID)


def by_time_and_state(t, y, p):
    return np.array([y[1], -p.k * y[0] - p.d * y[1]])


def by_names(d, x, v, k):
    return v, -k * x - d * v


def by_dict(v, x, p, t):
    return {"v": -p.k * x - p.d * v, "x": v}


def in_a_list(y, k, d, unused=3):
    return [y[1], -k * y[0] - d * y[1]]


@pytest.mark.parametrize(
    "rates",
    [by_time_and_state, by_names, by_dict, in_a_list, *map(numba.njit, (by_time_and_state, by_names))],
    ids=lambda f: f"{'njit ' if hasattr(f, 'py_func') else ''}{f.__name__}",
)
@pytest.mark.long
def test_every_way_of_saying_rates(rates) -> None:
    problem = uh.Problem.from_rates(rates, **SAID)
    expected = uh.integrate(WRITTEN, rtol=1e-9)
    assert uh.integrate(problem, rtol=1e-9).final["x"] == pytest.approx(expected.final["x"], rel=1e-12)
    other = uh.integrate(problem.with_(parameters={"k": 9.0}), rtol=1e-9)
    assert other.final["x"] == pytest.approx(
        uh.integrate(WRITTEN.with_(parameters={"k": 9.0}), rtol=1e-9).final["x"], rel=1e-12
    )


TURN = np.array([[0.0, 1.0, 0.0], [-1.0, 0.0, 0.3], [0.0, -0.2, 0.0]])
SHAPES = {
    "initial": {"s": 1.0, "u": np.linspace(0, 1, 5), "v": np.arange(9.0).reshape(3, 3)},
    "parameters": {"k": 2.0},
    "interval": (0.0, 3.0),
}


def of_whole(y, k):
    v = y[6:].reshape(3, 3)
    return np.concatenate([[-y[0] + y[1:6].sum()], -k * y[1:6], (TURN @ v).ravel()])


def of_shapes_by_name(t, v, u, k, s):
    return {"v": TURN @ v, "s": -s + u.sum(), "u": -k * u}


def of_shapes_in_order(s, u, v, k):
    return -s + u.sum(), -k * u, TURN @ v


def kept(u, v, s, k, seen=[]):  # noqa: B006  # what it keeps must stay what it was
    seen.append((u, u.copy()))
    assert all(np.array_equal(one, other) for one, other in seen)
    return [-s + u.sum(), (-k * u).tolist(), np.asfortranarray(TURN @ v)]


@pytest.mark.parametrize("rates", [of_shapes_by_name, of_shapes_in_order, kept, numba.njit(of_shapes_in_order)])
@pytest.mark.parametrize("method", ["auto", "radau-iia-5"])
@pytest.mark.long
def test_states_that_are_arrays_come_in_their_shapes(rates, method) -> None:
    problem, whole = (uh.Problem.from_rates(each, **SHAPES) for each in (rates, of_whole))
    assert np.array_equal(problem.rates_at(0, problem.start), whole.rates_at(0, whole.start))
    low = uh.Event(lambda y: y[1:6].sum() - 1, "low")
    run = uh.integrate(problem, method=method, events=[uh.Event(lambda u: u.sum() - 1, "low")])
    assert np.array_equal(run.states, uh.integrate(whole, method=method, events=[low]).states)
    assert run["v"].shape == (run.times.size, 3, 3)
    # u(t) = u(0) exp(-2t), whose sum is 2.5 at first
    assert run.events["time"].tolist() == pytest.approx([np.log(2.5) / 2], rel=1e-5)


@pytest.mark.parametrize(
    ("rates", "start"),
    [
        (lambda v: TURN @ v, np.eye(3)),
        (lambda z: -z, 1.0),
        (lambda z: np.array([-z[0]]), np.ones(1)),
    ],
)
@pytest.mark.long
def test_the_only_state_comes_back_in_its_shape(rates, start) -> None:
    name = rates.__code__.co_varnames[0]
    given = {"initial": {name: start}, "interval": (0.0, 1.0)}
    runs = [uh.integrate(uh.Problem.from_rates(each, **given), rtol=1e-9) for each in (rates, numba.njit(rates))]
    assert np.array_equal(runs[0].states, runs[1].states)
    exact = np.linalg.matrix_power(np.eye(3) + TURN / 2**20, 2**20) if np.ndim(start) == 2 else np.exp(-1)
    assert np.allclose(runs[0][name][-1], exact, rtol=1e-5)
    with pytest.raises(errors.RateFunctionError, match="returned"):
        uh.Problem.from_rates(lambda t: "text", **given)


@pytest.mark.parametrize(
    ("rates", "words"),
    [
        (lambda s, u, v: {"s": s, "u": u, "v": v[:2]}, "something for 'v' that does not fit"),
        (lambda s, u, v: (u, v, s), "something for 's'"),
        (lambda s, u, v: (s, u, 1j * v), "something for 'v'"),
        (lambda s, u: {"s": s, "u": u}, "a dict that does not fit the states"),
        (lambda w: w, "asks for 'w'"),
    ],
)
def test_parts_that_do_not_fit_their_states_are_named(rates, words) -> None:
    with pytest.raises(errors.RateFunctionError, match=words):
        uh.Problem.from_rates(rates, **SHAPES)


def test_an_array_that_changes_its_shape_during_a_run_is_told() -> None:
    rates = lambda t, u, v, s: {"s": s, "u": u, "v": v if t < 1 else v.T[:2]}  # noqa: E731
    with pytest.raises(errors.RateFunctionError, match="something unusable"):
        uh.integrate(uh.Problem.from_rates(rates, **SHAPES))


def wrong_length(t, y):
    return [1.0]


def wrong_keys(t, y):
    return {"x": 1.0, "w": 2.0}


def complex_rates(t, y):
    return y + 1j


def no_answer(t, y):
    return None


def unknown_argument(t, y, kk):
    return y


def star(t, *rest):
    return rest


def raising(t, y):
    return y.no_such_thing


@pytest.mark.parametrize("rates", [wrong_length, wrong_keys, complex_rates, no_answer, unknown_argument, star, raising])
def test_bad_functions_are_refused_at_formulation(rates) -> None:
    with pytest.raises(errors.RateFunctionError) as caught:
        uh.Problem.from_rates(rates, **SAID)
    assert caught.value.location
    assert caught.value.expected


@pytest.mark.parametrize("wrap", [lambda f: f, numba.njit])
def test_a_state_may_be_called_y(wrap) -> None:
    problem = uh.Problem.from_rates(wrap(lambda t, y, p: [p * 0 - y, y]), initial={"y": 1.0, "p": 2.0}, interval=(0, 1))
    assert uh.integrate(problem).final["y"] == pytest.approx(np.exp(-1), rel=1e-6)


def failing_late(t, y):
    if t > 1.0:
        raise LookupError("the gauge froze")
    return [y[1], -y[0]]


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_the_users_exception_keeps_its_traceback(method: str) -> None:
    problem = uh.Problem.from_rates(failing_late, initial={"x": 1.0, "v": 0.0}, interval=(0, 5))
    with pytest.raises(LookupError, match="the gauge froze") as caught:
        uh.integrate(problem, method)
    assert any(frame.name == "failing_late" for frame in traceback.extract_tb(caught.value.__traceback__))
    assert "raised by rates at t = 1." in caught.value.__notes__[0]


@numba.njit
def failing_njit(t, y):
    if t > 1.0:
        raise ValueError("the gauge froze")
    return y


@pytest.mark.long
def test_an_njit_exception_arrives_too() -> None:
    with pytest.raises(ValueError, match="the gauge froze"):
        uh.integrate(uh.Problem.from_rates(failing_njit, initial={"x": 1.0}, interval=(0, 5)))


def test_results_that_go_bad_during_the_run() -> None:
    problem = uh.Problem.from_rates(lambda t, y: [1.0] if t < 1 else ["x"], initial={"x": 1.0}, interval=(0, 5))
    with pytest.raises(errors.RateFunctionError, match="during the run"):
        uh.integrate(problem)


def test_the_state_handed_out_is_a_copy() -> None:
    kept, seen = [], []

    def keeping(t, y):
        kept.append(y)
        seen.append(y[0])
        return -y

    problem = uh.Problem.from_rates(keeping, initial={"x": 1.0}, interval=(0, 1))
    assert uh.integrate(problem).final["x"] == pytest.approx(np.exp(-1), rel=1e-6)
    assert [array[0] for array in kept] == seen


def test_functions_that_meddle_or_waver_are_refused() -> None:
    def meddling(t, y):
        y[1] = 99.0
        return [y[1], y[0]]

    answers = iter(range(10))
    for rates, words in ((meddling, "changes the state"), (lambda t, y: [next(answers), 0.0], "different answers")):
        with pytest.raises(errors.RateFunctionError, match=words):
            uh.Problem.from_rates(rates, **SAID)


def test_functions_wait_for_open_parameters() -> None:
    problem = uh.Problem.from_rates(
        lambda x, k: {"x": -k * x}, initial={"x": "start"}, parameters={"k": None, "start": 2}, interval=(0, 1)
    )
    assert problem.open == ("k",)
    # what the function returns is learnt when it can be called
    assert uh.integrate(problem, parameters={"k": 1}, rtol=1e-9).final["x"] == pytest.approx(2 * np.exp(-1), rel=1e-8)
    bad = uh.Problem.from_rates(lambda x, k: [k, x], initial={"x": 1}, parameters={"k": None}, interval=(0, 1))
    with pytest.raises(errors.RateFunctionError, match="not 1 real number"):
        bad.with_(parameters={"k": 1})


def test_event_functions() -> None:
    events = [
        uh.Event(lambda v: v, name="python"),
        uh.Event(numba.njit(lambda x, v: v), name="njit"),
        uh.Event("v = 0"),
    ]
    found = uh.integrate(uh.Problem.from_rates(by_names, events=events, **SAID), rtol=1e-9).events
    assert set(found["name"]) == {"python", "njit", "v = 0"}
    assert found.groupby("name")["time"].apply(tuple).nunique() == 1
    with pytest.raises(ZeroDivisionError):
        uh.integrate(WRITTEN, events=[uh.Event(lambda t, x: 1 / 0 if t > 1 else x)])


@pytest.mark.parametrize(
    "method",
    ["auto", "radau-iia-5", "esdirk-43", "backward-differentiation-variable", "dormand-prince-54", "adams-variable"],
)
@pytest.mark.parametrize("named", [{"algebraic": ["z"]}, {"mass": [1, 1, 0, 0]}], ids=lambda named: next(iter(named)))
@pytest.mark.parametrize(
    "answer",
    [dict, lambda parts: [*parts.values()], lambda parts: np.concatenate([*parts.values()]).tolist()],
    ids=["by name", "one by one", "flat"],
)
def test_algebraic_states_are_found_however_they_are_answered(answer, named, method) -> None:
    def rates(t, x, z):
        return answer({"x": -z, "z": z**3 + z - x})

    start = np.array([2.0, 10.0])
    problem = uh.Problem.from_rates(rates, initial={"x": start}, guess={"z": [0.8, 1.8]}, interval=(0, 2), **named)
    run = uh.integrate(problem, method, rtol=1e-8)
    assert run["z"][0] == pytest.approx([1.0, 2.0], rel=1e-12)
    # t = (3 z^2/2 + log z) at the start less that at t
    along = 1.5 * run["z"] ** 2 + np.log(run["z"])
    assert along[0] - along[-1] == pytest.approx([2.0, 2.0], rel=1e-6)
    assert run["x"] == pytest.approx(run["z"] ** 3 + run["z"], rel=1e-6)
    assert run.constraints["constraint"].tolist() == ["0 = rates of z"]
    assert run.constraints["missed by"].max() < 1e-6


@pytest.mark.parametrize("method", ["verner-98", "adams-variable", "runge-kutta-chebyshev-2"])
def test_explicit_methods_solve_constraints_of_functions_in_every_stage(method) -> None:
    """Flows between ponds in a row, by their pattern, against an implicit method; and what is raised on the way."""
    n, left = 30, [10**9]

    def rates(t, level, flow):
        left[0] -= 1
        if not left[0]:
            raise ZeroDivisionError("mine")
        between = np.append(flow, 0.02 * level[-1]) - np.append(0.1 * math.cos(t), flow)
        return -between, level[:-1] - level[1:] - 0.3 * flow - flow * abs(flow)

    each = np.arange(2 * n - 1)
    at = np.where(each < n, each, each - n + 0.5)
    rain = uh.Event(at=1, name="rain", then=lambda level: {"level": level + 0.1})
    problem = uh.Problem.from_rates(
        rates, initial={"level": np.linspace(2, 1, n)}, guess={"flow": np.full(n - 1, 0.1)}, algebraic=["flow"],
        interval=(0, 4), sparsity=abs(np.subtract.outer(at, at)) < 1, events=[rain],
    )  # fmt: skip
    near = uh.integrate(problem, "radau-iia-9", rtol=1e-10, record=3)
    left[0] = 10**9
    run = uh.integrate(problem, method, rtol=1e-6, record=3)
    assert run.states == pytest.approx(near.states, rel=1e-4)
    assert (10**9 - left[0]) / run.tally.rate_evaluations < 20, "columns differ together"
    for k in range(400, 430, 3):
        left[0] = k
        with pytest.raises(ZeroDivisionError, match="mine"):
            uh.integrate(problem, method, rtol=1e-6, record=50)


def failing(t, x, z):
    raise KeyError("mine")


@pytest.mark.parametrize(
    ("rates", "words"),
    [
        (failing, "failed in a trial call: KeyError"),
        (lambda t, x, z: [1.0], "not 2 real numbers"),
        (lambda t, x, z: {"x": 1.0}, "does not fit the states"),
        (lambda t, x, z: ["a", 1.0], "not 2 real numbers"),
    ],
)
def test_answers_are_looked_at_before_constraints_are_met(rates, words) -> None:
    with pytest.raises(errors.RateFunctionError, match=words):
        uh.Problem.from_rates(rates, initial={"x": 1.0}, guess={"z": 0.4}, algebraic=["z"], interval=(0, 1))
