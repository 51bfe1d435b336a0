"""Families of states: loops against plain loops in NumPy, patterns against differences, and indices that go astray."""

from __future__ import annotations

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.jacobians import with_jacobian
from unhurried_heron.codegen.system import native_derived, native_system

HEAT = """
u[i]' = k*(u[i-1] - 2*u[i] + u[i+1])/dx^2 for i in 1..n
u[0] = 0
u[n+1] = 0
dx = 1/(n + 1)
"""
COUPLED = """
a[i]' = b[i] - a[i]^2*total/n + wave[i+1] for i in 2..n-1
a[1]' = -a[n]*b[1]
a[n]' = a[1] + t
b[j]' = sum(a[k]*sin(k*c) for k in 1..n) - b[j]*a[n+1-j] for j in 1..n
total = sum(b[i] for i in 1..n) + 2*c'
c'' = a[2]*c - where(t < 0.5, c', b[n])
wave[i] = a[i-1]*b[2*i-3] for i in 2..3
wave[i] = i*c for i in 4..n
"""
PLATE = """
c[i,j]' = d*(c[i-1,j] + c[i+1,j] + c[i,j-1] + c[i,j+1] - 4*c[i,j]) for i in 1..n, j in 1..m
c[0,j] = warm for j in 1..m
c[n+1,j] = c[n,j] for j in 1..m
c[i,0] = c[i,1]*c[1,j0] for i in 1..n
c[i,m+1] = i for i in 1..n
mean = sum(c[i,j]/(n*m) for i in 1..n for j in 1..m)
"""


def heat(n: int) -> uh.Problem:
    return uh.Problem.from_text(
        HEAT, initial={"u[i]": "sin(pi*i/(n + 1))"}, parameters={"k": 0.5, "n": n}, interval=(0, 1)
    )


def coupled(n: int = 6) -> uh.Problem:
    initial = {"a[i]": "0.3*i", "b": np.linspace(1, 2, n), "b[2]": 0.25, "c": 0.4, "c'": "1/n"}
    return uh.Problem.from_text(COUPLED, initial=initial, parameters={"n": n}, interval=(0, 1))


def plate(n: int = 3, m: int = 4) -> uh.Problem:
    parameters = {"d": 0.7, "n": n, "m": m, "warm": 2.0, "j0": 2}
    return uh.Problem.from_text(PLATE, initial={"c[i,j]": "i + j/10"}, parameters=parameters, interval=(0, 1))


def call(function, t: float, state: np.ndarray) -> np.ndarray:
    return evaluate_rows(function, np.array([t]), state[None, :])[0]


def test_indices_may_be_divided_where_that_is_exact() -> None:
    text = "u[i]' = u[(6*i - 2*n)/6 + n/3] - 2*u[(n + 2)/2] for i in 1..n"
    problem = uh.Problem.from_text(text, initial={"u[i]": "i"}, parameters={"n": 6}, interval=(0, 1))
    rates = native_system(problem, ()).rates
    assert call(rates, 0.0, problem.start).tolist() == [i - 2.0 * 4 for i in range(1, 7)]


def test_the_discrete_mode_decays_at_its_own_rate() -> None:
    # sin(pi i/(n+1)) is an eigenvector of the second difference: lambda = -4 k (n+1)^2 sin^2(pi/(2(n+1)))
    n = 30
    decay = 0.5 * 4 * (n + 1) ** 2 * np.sin(np.pi / (2 * (n + 1))) ** 2
    for method in ("dormand-prince-54", "radau-iia-5"):
        run = uh.integrate(heat(n), method, rtol=1e-9)
        wanted = np.sin(np.pi * np.arange(1, n + 1) / (n + 1)) * np.exp(-decay)
        assert run["u"].shape == (run.times.size, n)
        assert run["u"][-1] == pytest.approx(wanted, rel=1e-6)
        assert run["u[7]"][-1] == run["u"][-1, 6] == run.final["u[7]"]


def test_loops_against_numpy() -> None:
    problem, n = coupled(), 6
    rng = np.random.default_rng(3)
    assert problem.states[-2:] == ("c", "c'")
    assert problem.initial["b[2]"] == 0.25
    for t in (0.2, 0.8):
        state = rng.uniform(0.5, 1.5, 2 * n + 2)
        a, b, c, c1 = state[:n], state[n : 2 * n], state[-2], state[-1]
        total = b.sum() + 2 * c1
        wave = {2: a[0] * b[0], 3: a[1] * b[2], **{i: i * c for i in range(4, n + 1)}}
        da = [-a[n - 1] * b[0]]
        da += [b[i - 1] - a[i - 1] ** 2 * total / n + wave[i + 1] for i in range(2, n)]
        da += [a[0] + t]
        s = sum(a[k - 1] * np.sin(k * c) for k in range(1, n + 1))
        db = [s - b[j - 1] * a[n - j] for j in range(1, n + 1)]
        wanted = [*da, *db, c1, a[1] * c - (c1 if t < 0.5 else b[n - 1])]
        rates = native_system(problem, (), held=False).rates
        assert call(rates, t, state) == pytest.approx(wanted, rel=1e-13)
        derived = call(native_derived(problem), t, state)
        assert problem.derived == ("total", *(f"wave[{i}]" for i in range(2, n + 1)))
        assert derived == pytest.approx([total, *wave.values()], rel=1e-14)


def test_two_indices_against_numpy() -> None:
    problem, n, m = plate(), 3, 4
    state = np.random.default_rng(5).uniform(0, 2, n * m)
    c = np.zeros((n + 2, m + 2))
    c[1:-1, 1:-1] = state.reshape(n, m)
    c[0], c[n + 1] = 2.0, c[n]
    c[1:-1, 0] = c[1:-1, 1] * c[1, 2]
    c[1:-1, m + 1] = np.arange(1, n + 1)
    wanted = 0.7 * (c[:-2, 1:-1] + c[2:, 1:-1] + c[1:-1, :-2] + c[1:-1, 2:] - 4 * c[1:-1, 1:-1])
    rates = native_system(problem, ()).rates
    assert call(rates, 0.0, state) == pytest.approx(wanted.ravel(), rel=1e-13)
    assert call(native_derived(problem), 0.0, state) == pytest.approx([state.mean()])
    assert problem.initial["c[2,3]"] == 2.3
    assert uh.integrate(problem)["c"].shape[1:] == (n, m)


@pytest.mark.parametrize(
    "problem", [heat(5), coupled(), coupled(9), plate(), plate(2, 2)], ids=lambda p: str(len(p.states))
)
def test_jacobian_and_its_pattern_against_differences(problem: uh.Problem) -> None:
    n = len(problem.states)
    native = with_jacobian(native_system(problem, (), held=False), problem, held=False)
    rng = np.random.default_rng(1)
    seen = np.zeros((n, n), dtype=bool)
    for t in (0.2, 0.8):
        state = rng.uniform(0.5, 1.5, n)
        matrix = call(native.jacobian, t, state).reshape(n, n)
        steps = 1e-6 * np.eye(n)
        differences = np.array(
            [(call(native.rates, t, state + h) - call(native.rates, t, state - h)) / 2e-6 for h in steps]
        ).T
        assert matrix == pytest.approx(differences, rel=1e-6, abs=1e-6)
        seen |= matrix != 0
    # nothing nonzero outside the pattern, and nothing in it that is never so
    assert np.array_equal(problem.jacobian_pattern().toarray(), seen)


def test_many_members_are_loops_and_not_lines() -> None:
    problem = heat(200_000)
    indexed_formulas = problem.model.rates.indexed_formulas
    assert len(indexed_formulas) == 3
    assert problem.jacobian_pattern().nnz == 3 * 200_000 - 2
    assert (problem.states[0], problem.states[-1]) == ("u[1]", "u[200000]")
    with pytest.raises(uh.MethodError, match="full matrices"):
        uh.integrate(problem, "radau-iia-5", linear="dense")


def test_changing_a_size_makes_the_problem_anew() -> None:
    small, large = heat(4), heat(4).with_(parameters={"n": 8})
    assert (len(small.states), len(large.states)) == (4, 8)
    assert small.with_(parameters={"k": 3.0}).model is small.model
    with pytest.raises(errors.ValueGivenError, match="another shape"):
        coupled().with_(parameters={"n": 7})


def test_families_of_second_order() -> None:
    n = 12
    wave = uh.Problem.from_text(
        "y[i]'' = c^2*(y[i-1] - 2*y[i] + y[i+1]) - f*y[i]' for i in 1..n\ny[0] = 0\ny[n+1] = 0",
        initial={"y[i]": "sin(pi*i/(n + 1))", "y[i]'": 0},
        parameters={"c": 1.5, "n": n, "f": 0},
        interval=(0, 3),
    )
    assert wave.states[n] == "y'[1]"
    speed = 2 * 1.5 * np.sin(np.pi / (2 * (n + 1)))
    run = uh.integrate(wave, rtol=1e-10)
    assert run["y"][-1] == pytest.approx(np.sin(np.pi * np.arange(1, n + 1) / (n + 1)) * np.cos(3 * speed), abs=1e-8)


def test_events_and_tolerances_know_members() -> None:
    event = uh.Event("sum(u[i] for i in 1..n) = 3*u[2]", name="even")
    run = uh.integrate(heat(5), events=[uh.Event("u[3] = 0.5", going="down"), event], atol={"u": 1e-9, "u[1]": 1e-12})
    decay = 0.5 * 4 * 36 * np.sin(np.pi / 12) ** 2
    assert run.events["time"].tolist() == pytest.approx([np.log(2) / decay], rel=1e-6)
    assert run.options["atol"]["u[1]"] == 1e-12


WRONG = [
    ("u[i]' = u[i-1] for i in 1..n", errors.IndexedStateError, r"'u\[i-1\]' reaches u\[0\]"),
    ("u[i]' = u[i+2] for i in 1..n-1\nu[n]' = 0", errors.IndexedStateError, r"u\[6\]"),
    ("u[i]' = 1 for i in 1..n\nu[3]' = 2", errors.IndexedStateError, r"'u\[3\]' is defined twice"),
    ("u[1]' = 1\nu[i]' = 2 for i in 3..n", errors.IndexedStateError, r"'u\[2\]'"),
    ("u[i]' = 1", errors.UndefinedNameError, "'i'"),
    ("u[i]' = 1 for i in 1..n, j in 1..n", errors.IndexedStateError, "its index on the left"),
    ("u[i]' = 1 for i in n..1", errors.IndexedStateError, "empty"),
    ("u[i]' = 1 for i from 1 to n", errors.ExpressionError, "range of an index"),
    ("u[i+1]' = 1 for i in 1..n", errors.IndexedStateError, "more than a plain"),
    ("u[i]' = u[i*i] for i in 1..n", errors.IndexedStateError, "cannot be followed"),
    ("u[i]' = u[i/2] for i in 1..n", errors.IndexedStateError, "cannot be followed"),
    ("u[i]' = u[1.5] for i in 1..n", errors.IndexedStateError, "whole number"),
    ("u[i]' = u[k] for i in 1..n", errors.UndefinedNameError, "'k'"),
    ("u[i]' = u[i,1] for i in 1..n", errors.IndexedStateError, "1 indices"),
    ("u[i]' = v[i] for i in 1..n\nv' = 1", errors.IndexedStateError, "no indexed state"),
    ("u[i]' = w[i] for i in 1..n\nw[i] = w[i] + 1 for i in 1..n", errors.CircularDerivedError, "circle"),
    ("u[i]' = sum(u[k] for k in 1..i) for i in 1..n", errors.IndexedStateError, "ends of a sum"),
    ("u[i]' = sum(u[k]) for i in 1..n", errors.ExpressionError, "this sum"),
    ("u[i]' = 1 for i in 1..1e9", errors.IndexedStateError, "too many"),
    ("u[i]' = u[j]' for i in 1..n", errors.UndefinedNameError, "'j'"),
    ("u[i]' = 2 for i in 1..x\nx' = 1", errors.UndefinedNameError, "no parameter"),
    ("x' = 1 for i in 1..n", errors.IndexedStateError, "index on the left"),
]


@pytest.mark.parametrize(("text", "kind", "words"), WRONG, ids=[text.replace("\n", "; ") for text, _, _ in WRONG])
def test_indices_that_go_astray(text: str, kind: type, words: str) -> None:
    with pytest.raises(kind, match=words) as caught:
        uh.Problem.from_text(text, initial={"u": 1.0}, parameters={"n": 5}, interval=(0, 1))
    assert (
        "line 1" in caught.value.location
        or "line 2" in caught.value.location
        or caught.value.location == "the equations"
    )


def test_sizes_must_be_known() -> None:
    with pytest.raises(errors.OpenParameterError, match="'n'"):
        uh.Problem.from_text(HEAT, initial={"u": 1.0}, parameters={"k": 1, "n": None}, interval=(0, 1))
    for size in (2.5, -3, 0):
        with pytest.raises(errors.IndexedStateError):
            uh.Problem.from_text(HEAT, initial={"u": 1.0}, parameters={"k": 1, "n": size}, interval=(0, 1))
