"""The kernels' arithmetic against naive, independent versions."""

from __future__ import annotations

import numba
import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.kernels.linear_algebra.dense_lu import factor_complex, factor_real, solve_complex, solve_real
from unhurried_heron.kernels.machine_code.loading import evaluate_at
from unhurried_heron.kernels.memory.call import as_control, as_doubles, as_longs
from unhurried_heron.kernels.memory.control import CONTROL
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.methods.method import Method
from unhurried_heron.quiet import quietly

GO = np.zeros(1, CONTROL)


@numba.njit(error_model="numpy")
def compiled_real(a, pivots, n, b, control):
    good = factor_real(as_doubles(a), as_longs(pivots), n, as_control(control))
    solve_real(as_doubles(a), as_longs(pivots), n, as_doubles(b))
    return good


@numba.njit(error_model="numpy")
def compiled_complex(re, im, pivots, n, b, d, control):
    good = factor_complex(as_doubles(re), as_doubles(im), as_longs(pivots), n, as_control(control))
    solve_complex(as_doubles(re), as_doubles(im), as_longs(pivots), n, as_doubles(b), as_doubles(d))
    return good


def solved_real(a: np.ndarray, b: np.ndarray) -> bool:
    pivots = np.zeros(b.size, np.int64)
    return compiled_real(a.ctypes.data, pivots.ctypes.data, b.size, b.ctypes.data, GO.ctypes.data)


def solved_complex(re: np.ndarray, im: np.ndarray, b: np.ndarray, d: np.ndarray) -> bool:
    pivots = np.zeros(b.size, np.int64)
    arrays = (re.ctypes.data, im.ctypes.data, pivots.ctypes.data)
    return compiled_complex(*arrays, b.size, b.ctypes.data, d.ctypes.data, GO.ctypes.data)


@pytest.mark.parametrize("n", [1, 2, 3, 8, 17, 40])
@pytest.mark.long
def test_linear_systems(n: int) -> None:
    random = np.random.default_rng(n)
    a, b = random.normal(size=(n, n)), random.normal(size=n)
    # a zero in the first place cannot be had without pivoting
    if n > 1:
        a[0, 0] = 0.0
    x = b.copy()
    assert solved_real(a.copy(), x)
    assert np.allclose(a @ x, b, atol=1e-10)
    c, d = random.normal(size=(n, n)), random.normal(size=n)
    re, im = b.copy(), d.copy()
    assert solved_complex(a.copy(), c.copy(), re, im)
    assert np.allclose((a + 1j * c) @ (re + 1j * im), b + 1j * d, atol=1e-10)


@pytest.mark.parametrize("spoil", [0.0, np.nan, np.inf])
def test_unusable_matrices_are_noticed(spoil: float) -> None:
    a = np.eye(4)
    a[2, 2] = spoil
    assert not solved_real(a.copy(), np.ones(4))
    assert not solved_complex(a.copy(), np.zeros((4, 4)), np.ones(4), np.ones(4))


def test_step_polynomials_against_numpy() -> None:
    random = np.random.default_rng(5)
    coefficients = random.normal(size=(6, 5, 3))
    starts, steps = np.arange(6.0), np.full(6, 1.0)
    times = np.sort(random.uniform(0, 6, 50))
    index = np.floor(times).astype(np.int64)
    out = np.empty((50, 3))
    evaluate_at(starts, steps, coefficients, index, times, out)
    for row, time, j in zip(out, times, index, strict=True):
        expected = [np.polyval(coefficients[j, ::-1, k], time - j) for k in range(3)]
        assert row == pytest.approx(expected, rel=1e-13)


def naive_step(method: uh.RungeKutta, rates, t: float, y: np.ndarray, h: float) -> np.ndarray:
    """A Runge-Kutta step as in any textbook."""
    k: list[np.ndarray] = []
    for row, node in zip(method.a, method.c, strict=True):
        so_far = sum((float(x) * s for x, s in zip(row, k, strict=False)), 0 * y)
        k.append(rates(t + float(node) * h, y + h * so_far))
    return y + h * sum(float(w) * s for w, s in zip(method.b, k, strict=True))


@pytest.mark.parametrize("n", [1, 3, 4, 5, 8, 11])
@pytest.mark.parametrize(
    "method", [m for m in all_methods() if m.family == "explicit Runge-Kutta"], ids=lambda m: m.name
)
def test_steps_against_the_textbook(method: uh.RungeKutta, n: int) -> None:
    # every remainder of the groups of four in which the compiled step runs through the states
    def rates(t: float, y: np.ndarray) -> np.ndarray:
        return np.sin(y) * np.arange(1, n + 1) + np.roll(y, 1) * t

    initial = {f"x{i}": 0.1 * (i + 1) for i in range(n)}
    problem = uh.Problem.from_rates(rates, initial=initial, interval=(0.5, 1.1))
    run = uh.integrate(problem, method, step=0.2)
    y = np.array([*initial.values()])
    for count, state in enumerate(run.states):
        # weights of up to 176 cancel in one of them
        assert state == pytest.approx(y, rel=1e-11 if method.name == "verner-65" else 1e-13)
        y = naive_step(method, rates, 0.5 + 0.2 * count, y, 0.2)


# with values of the past, and of another number of steps than its order
LEAPFROG = uh.Multistep("leapfrog", a=[0, 1], b=[0, 2])
STRIDING = [m for m in [*all_methods(), LEAPFROG] if "explicit" in m.family or m.name.startswith("adams-pece")]


@pytest.mark.parametrize("ends", ["well", "raises", "not finite"])
@pytest.mark.parametrize("n", [1, 11])
@pytest.mark.parametrize("method", STRIDING, ids=lambda m: m.name)
def test_looking_changes_nothing(method: Method, n: int, ends: str) -> None:
    # steps that nobody sees are taken by other code, many at once; the last of them are not
    calls = 0

    def rates(t: float, y: np.ndarray) -> np.ndarray:
        nonlocal calls
        calls += 1
        if t > 1.1 and ends == "raises":
            raise ValueError("beyond 1.1")
        return np.sin(y) * np.arange(1, n + 1) + np.roll(y, 1) * (np.nan if t > 1.1 and ends == "not finite" else t)

    problem = uh.Problem.from_rates(rates, initial={f"x{i}": 0.1 * (i + 1) for i in range(n)}, interval=(0.5, 2))
    seen = []
    for record in ("steps", [0.5, 0.92, 0.95, 2.0]):
        calls = 0
        try:
            with quietly():
                run = uh.integrate(problem, method, count=150, record=record)
        except ValueError as error:
            seen.append([str(error), *error.__notes__])
            continue
        assert calls == run.tally.rate_evaluations
        within = run.states[run.times == 0.92][0] if record != "steps" else run.at(0.92)
        seen.append([run.tally.accepted, run.ending.time, run.ending.reason, *run.final.values(), *within.round(12)])
    assert seen[0] == seen[1]


def test_error_estimate_against_its_definition() -> None:
    method = next(m for m in all_methods() if m.name == "fehlberg-45")
    text = "a' = -3*a + b\nb' = cos(t) - b*a\nc' = a*b\nd' = a - d\nf' = d"
    problem = uh.Problem.from_text(text, initial=dict.fromkeys("abcdf", 0.4), interval=(0, 2))
    # the order that is carried on is that of the estimate: each step gets less, so that the whole keeps the tolerance
    run, share = uh.integrate(problem, method, rtol=1e-5, atol=1e-7), 1e-5**0.25
    k: list[np.ndarray] = []

    def rates(t: float, y: np.ndarray) -> np.ndarray:
        a, b, _, d, _ = y
        k.append(np.array([-3 * a + b, np.cos(t) - b * a, a * b, a - d, d]))
        return k[-1]

    for row, y, after in zip(run.ledger.itertuples(), run.states, run.states[1:], strict=False):
        if not row.accepted:
            break
        k.clear()
        naive_step(method, rates, row.time, y, row.step)
        defect = row.step * sum(float(w) * s for w, s in zip(method.error_weights[0], k, strict=True))
        allowed = 1e-7 * share + 1e-5 * share * np.maximum(np.abs(y), np.abs(after))
        assert row.error == pytest.approx(np.sqrt(np.mean((defect / allowed) ** 2)), rel=1e-6)
