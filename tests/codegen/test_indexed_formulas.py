"""Loops in machine code against the same formulas evaluated by NumPy, member by member."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron.codegen import compile_formulas, threads_ir
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.jacobians import with_jacobian
from unhurried_heron.codegen.system import native_derived, native_system

PLACES = ["u[i]", "u[i-1]", "u[i+1]", "v[i]", "v[n+1-i]", "u[1]", "v[n]", "w", "i", "k", "t", "2", "0.5"]
FORMULAS = st.recursive(
    st.sampled_from(PLACES),
    lambda inner: st.one_of(
        st.builds("({} + {})".format, inner, inner),
        st.builds("({} - {})".format, inner, inner),
        st.builds("({}*{})".format, inner, inner),
        st.builds("sin({})".format, inner),
        st.builds("max({}, {})".format, inner, inner),
        st.builds("where({} < {}, {}, 1)".format, inner, inner, inner),
        st.builds("sum({}*u[j]*v[n+1-j] for j in 1..n)".format, inner),
        st.builds("sum(v[j] + sum(u[m]*{} for m in 2..3) for j in 1..2)".format, inner),
    ),
    max_leaves=6,
)


def made(first: str, second: str, n: int) -> uh.Problem:
    text = f"""
    u[i]' = {first} + v[i] for i in 1..n
    v[i]' = {second} - k*i for i in 1..n
    u[0] = w*v[1]
    u[n+1] = half[2] + t
    half[i] = u[i]/2 for i in 1..n
    w' = sum(half[i]*i for i in 1..n) - w
    """
    initial = {"u[i]": "0.3*i", "v[i]": "1/i", "w": 0.7}
    return uh.Problem.from_text(text, initial=initial, parameters={"n": n, "k": 1.5}, interval=(0.5, 1))


@settings(max_examples=25, deadline=None)
@given(FORMULAS, FORMULAS, st.integers(3, 6))
@pytest.mark.long
def test_rates_and_jacobian(first: str, second: str, n: int) -> None:
    problem = made(first, second, n)
    size, start = 2 * n + 1, problem.start
    native = with_jacobian(native_system(problem, (), held=False), problem, held=False)
    # at one place, and at several at once
    times, states = np.array([0.5, 0.75]), np.vstack([start, 1.5 - start])
    rates = evaluate_rows(native.rates, times, states)
    assert rates == pytest.approx(problem.rates_at(times, states), rel=1e-11, abs=1e-11)
    assert rates[0] == pytest.approx(problem.rates_at(0.5, start), rel=1e-11, abs=1e-11)
    derivatives = evaluate_rows(native.jacobian, times, states).reshape(2, size, size)
    assert derivatives == pytest.approx(problem.jacobian_at(times, states), rel=1e-11, abs=1e-11)
    assert derivatives[1] == pytest.approx(problem.jacobian_at(0.75, states[1]), rel=1e-11, abs=1e-11)
    along = with_jacobian(native_system(problem, (), held=False), problem, held=False, matrix=False).product
    vector = np.cos(np.arange(size))
    products = evaluate_rows(along, times, np.hstack([states, np.tile(vector, (2, 1))]))
    assert products == pytest.approx(derivatives @ vector, rel=1e-9, abs=1e-9)
    outside = ~problem.jacobian_pattern().toarray()
    assert not derivatives[:, outside].any()


@pytest.mark.long
def test_threads_change_no_bit(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of loops that more threads share than there are cores, beside what one of them does alone."""
    text = """
    u[i,j]' = k*(u[i-1,j] + u[i+1,j] + u[i,j-1] + u[i,j+1] - 4*u[i,j]) + jump*inflow for i in 1..m, j in 1..n
    v[i]' = sin(v[i]) - w/u[i,2] - sum(u[i,j]*v[i] for j in 1..n) for i in 1..m
    jump = where(t < 0.1, 1/(t - 0.2), 0.5)
    w' = sum(u[i,3] for i in 1..m) - w
    u[0,j] = w for j in 1..n
    u[m+1,j] = u[m,j] for j in 1..n
    u[i,0] = 1 for i in 1..m
    u[i,n+1] = u[i,n] for i in 1..m
    """
    found = []
    for operations in (10**9, 1):
        monkeypatch.setattr(threads_ir, "_MANY", operations)
        monkeypatch.setattr(threads_ir, "cores", lambda: 3)
        compile_formulas._machine_code.cache_clear()
        problem = uh.Problem.from_text(
            text, initial={"u[i,j]": "1 + sin(i*j)/2", "v[i]": "1/i", "w": 2}, parameters={"m": 23, "n": 9, "k": 3.7},
            inputs={"inflow": uh.Measured([0, 1, 2], [1, 3, 2])}, interval=(0, 0.2),
        )  # fmt: skip
        native = with_jacobian(native_system(problem, ()), problem, full=False)
        assert len(threads_ir.shared_formulas(problem.model.rates.held)) == (0 if operations > 1 else 2)
        times, states = np.array([0.05, 0.2, 0.9]), problem.start * np.array([[1.0], [0.5], [3.0]])
        found.append([evaluate_rows(each, times, states) for each in (native.rates, native.jacobian)])
        run = uh.integrate(problem, "radau-iia-5", record=3)
        found[-1].append(run.states)
    compile_formulas._machine_code.cache_clear()
    for one, several in zip(*found, strict=True):
        np.testing.assert_array_equal(one, several)


def test_nothing_in_a_loop_is_computed_twice() -> None:
    from unhurried_heron.codegen.expression_ir import SymbolTable
    from unhurried_heron.codegen.modules import emit_module

    problem = uh.Problem.from_text(
        "u[i]' = exp(k)*u[i] + sin(t)*cos(u[i]) + cos(u[i])*sum(u[j] for j in 1..n) for i in 1..n",
        initial={"u": 1},
        parameters={"n": 9, "k": 2},
        interval=(0, 1),
    )
    text = emit_module(problem.model.rates.indexed_formulas, (), 9, SymbolTable((), (("n", 0), ("k", 1))))
    assert [text.count(f"call double @llvm.{f}.f64") for f in ("exp", "sin", "cos")] == [1, 1, 1]
    # what no index moves, and the sum over all, stand before the loop that uses them
    before_loop, _, loop = text.rpartition("phi i64")
    assert "llvm.exp.f64(double" in before_loop
    assert "llvm.cos.f64(double" in loop
    assert text.count("phi double") == 1


def test_loops_keep_to_their_own_memory() -> None:
    # the last members of one family and the first of the next are neighbours in memory
    problem = uh.Problem.from_text(
        "a[i]' = i for i in 1..n\nb[i]' = 100*i for i in 0..m\nc[i,j]' = 10*i + j for i in 2..3, j in 4..6\nd' = -1",
        initial={"a": 0, "b": 0, "c": 0, "d": 0},
        parameters={"n": 3, "m": 2},
        interval=(0, 1),
    )
    final = uh.integrate(problem).final
    wanted = {"a[1]": 1, "a[2]": 2, "a[3]": 3, "b[0]": 0, "b[1]": 100, "b[2]": 200, "c[2,4]": 24, "c[2,5]": 25}
    wanted |= {"c[2,6]": 26, "c[3,4]": 34, "c[3,5]": 35, "c[3,6]": 36, "d": -1}
    assert final == pytest.approx(wanted)
    assert list(final) == list(wanted)


def test_indices_of_sums_never_catch_each_other() -> None:
    # the same letter in sums within sums, and in a derived family whose own sum uses the letter of the sum around it
    problem = uh.Problem.from_text(
        """
        u[i]' = sum(sum(sum(u[j]*i for j in 1..n)*u[j] for j in 1..n)*u[j] for j in 1..n) for i in 1..n
        b[i] = sum(u[j]*i for j in 1..n) for i in 1..n
        total = sum(b[j] for j in 1..n)
        square = sum(u[i]*u[j] for i in 1..n for j in 1..n)
        """,
        initial={"u": [1.0, 2.0, 4.0]},
        parameters={"n": 3},
        interval=(0, 1),
    )
    rates = with_jacobian(native_system(problem, ()), problem)
    start = problem.start[None, :]
    assert evaluate_rows(rates.rates, np.array([0.0]), start)[0].tolist() == [343.0, 686.0, 1029.0]
    # d/du of i*(u1 + u2 + u3)^3
    derivatives = evaluate_rows(rates.jacobian, np.array([0.0]), start)[0].reshape(3, 3)
    assert derivatives == pytest.approx(3 * 49.0 * np.outer([1, 2, 3], [1, 1, 1]))
    derived = evaluate_rows(native_derived(problem), np.array([0.0]), start)[0]
    assert derived.tolist() == [42.0, 49.0, 7.0, 14.0, 21.0]
