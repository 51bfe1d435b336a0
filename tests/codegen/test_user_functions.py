"""Functions of the user's: whatever they do or raise, wherever they are called, it surfaces and harms nothing."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import replace

import numba
import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.driver import setup
from unhurried_heron.kernels.machine_code.jit import compile_module
from unhurried_heron.kernels.machine_code.signature import NativeFunction

METHODS = ("classical-rk-4", "dormand-prince-54", "radau-iia-5")
PLACES = ("rates", "jacobian", "event", "switch", "derived")
KINDS = (ValueError, KeyboardInterrupt, SystemExit, MemoryError, RecursionError, GeneratorExit)


def run_with(location: str, strange: Callable[[float], object], method: str) -> uh.Run:
    """Run with functions of every kind, one of which does something strange first."""

    def at(this: str, answer: Callable) -> Callable:
        def function(t, y):
            if this == location:
                strange(t)
            return answer(t, y)

        return function

    problem = uh.Problem.from_rates(
        at("rates", lambda t, y: [y[1], -y[0]]),
        initial={"x": 1.0, "v": 0.0},
        interval=(0, 3),
        jacobian=at("jacobian", lambda t, y: np.array([[0.0, 1.0], [-1.0, 0.0]])),
        derived={"energy": at("derived", lambda t, y: float(y[0] ** 2 + y[1] ** 2))},
        switches=[at("switch", lambda t, y: float(y[0] - 0.1))],
        events=[uh.Event(at("event", lambda t, y: float(y[1] + 0.5)), name="half")],
    )
    fixed = {"step": 0.01} if method == "classical-rk-4" else {"rtol": 1e-6}
    run = uh.integrate(problem, method, **fixed)
    assert run["energy"] == pytest.approx(1.0, abs=1e-4)
    return run


@pytest.mark.parametrize(("location", "method", "kind"), list(itertools.product(PLACES, METHODS, KINDS)))
def test_every_exception_surfaces_whole(location: str, method: str, kind: type[BaseException]) -> None:
    # at a time that no trial call has; a Jacobian is asked only now and then
    window = {"jacobian": (1e-9, 9.0)}.get(location, (1.0, 1.4))

    def raising(t: float) -> None:
        if window[0] < t < window[1]:
            raise kind("the gauge froze")

    if location == "jacobian" and method != "radau-iia-5":
        assert run_with(location, raising, method).ending.reason == "end"
        return
    with pytest.raises(kind, match="the gauge froze"):
        run_with(location, raising, method)


@numba.njit
def narrow(t, y):
    if 0.51 < t < 0.53:
        raise LookupError("in a narrow window")
    return -y


@numba.njit
def divided(t, y, p):
    return -y * (1 / (p.k if t < 1 else 0 * p.k))


@numba.njit
def short(t, y):
    return y[:1] * 1.0 if t > 1 else y * 1.0


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize(
    ("function", "kind"), [(narrow, LookupError), (divided, ZeroDivisionError), (short, errors.RateFunctionError)]
)
@pytest.mark.long
def test_an_njit_function_keeps_its_own_ways(method: str, function, kind) -> None:
    fixed = {"step": 0.01} if method == "classical-rk-4" else {"rtol": 1e-6, "largest_step": 0.01}
    problem = uh.Problem.from_rates(
        function,
        initial={"x": 1.0, "v": 0.5},
        parameters={"k": 2.0} if function is divided else None,
        interval=(0, 2),
    )
    with pytest.raises(kind) as caught:
        uh.integrate(problem, method, **fixed)
    assert "raised by rates at t = " in caught.value.__notes__[0]


@numba.njit
def several_kinds(t, y):
    return 2, -y[1], t


def test_an_njit_function_may_answer_with_numbers_of_several_kinds() -> None:
    problem = uh.Problem.from_rates(several_kinds, initial={"a": 1.0, "b": 1.0, "c": 0.0}, interval=(0, 1))
    run = uh.integrate(problem, "dormand-prince-54", rtol=1e-9, atol=1e-12)
    assert run.states[-1] == pytest.approx([3.0, np.exp(-1.0), 0.5], rel=1e-7)


def test_arrays_handed_out_cannot_be_resized() -> None:
    def resizing(t, y):
        answer = [y[1], -y[0]]
        if t > 0:
            y.resize(1_000_000, refcheck=False)
        return answer

    with pytest.raises(ValueError, match="does not own its data"):
        uh.integrate(uh.Problem.from_rates(resizing, initial={"x": 1.0, "v": 0.0}, interval=(0, 3)))


def test_a_jacobian_of_another_shape_midway() -> None:
    problem = uh.Problem.from_rates(
        lambda t, y: [y[0] ** 2 - 2 * y[0], -y[1]],
        initial={"x": 1.0, "v": 0.0},
        interval=(0, 3),
        jacobian=lambda t, y: np.ones(4) if t > 0 else np.array([[2 * y[0] - 2, 0], [0, -1]]),
    )
    with pytest.raises(errors.RateFunctionError, match="during the run"):
        uh.integrate(problem, "radau-iia-5")


def test_a_differenced_jacobian_is_not_transposed() -> None:
    # y1 drives y2 and not the other way: with rows for columns Newton's iteration would need far more steps
    def rates(t, y):
        return [-1e4 * (y[0] - np.cos(t)), 1e4 * (y[0] ** 2 - y[1]), 1e4 * (y[1] - y[2] ** 3)]

    problem = uh.Problem.from_rates(rates, initial={"a": 1.0, "b": 1.0, "c": 1.0}, interval=(0, 1))
    run = uh.integrate(problem, "radau-iia-5", rtol=1e-6, budget={"steps": 2000})
    assert run.ending.reason == "end"
    assert run.tally.refused < 10
    assert run.final["c"] == pytest.approx(np.cos(1) ** (2 / 3), rel=1e-3)


def test_fingerprints_tell_functions_apart() -> None:
    def made(k: float) -> uh.Problem:
        return uh.Problem.from_rates(lambda t, x: [-k * x], initial={"x": 1.0}, interval=(0, 1))

    assert made(1.0).fingerprint != made(2.0).fingerprint
    assert made(1.0).fingerprint == made(1.0).fingerprint
    assert made(1.0).with_(interval=(0, 2)).fingerprint != made(1.0).fingerprint


class Above:
    """An event function that can be compared, and so has no hash."""

    def __call__(self, x: float) -> float:
        return x - 1.5

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Above)


def test_functions_without_a_hash() -> None:
    problem = uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 2), events=[uh.Event(Above(), name="up")])
    for _ in range(2):
        assert uh.integrate(problem, record=2).events["time"].tolist() == pytest.approx([1.5])


DOMAIN = """
define i32 @evaluate(double %t, ptr %y, ptr %out, ptr %p) nounwind {
  %x = load double, ptr %y
  %outside = fcmp ogt double %x, 1.0
  br i1 %outside, label %no, label %yes
no:
  ret i32 2
yes:
  store double 1.0, ptr %out
  ret i32 1
}
"""


@pytest.mark.parametrize("method", ["dormand-prince-54", "radau-iia-5"])
def test_outside_the_domain_the_step_is_shortened(method: str, monkeypatch: pytest.MonkeyPatch) -> None:
    real = setup.native_system

    def limited(*arguments, **options):
        address, engine = compile_module(DOMAIN)
        rates = NativeFunction(address, 1, np.zeros(1), (engine,))
        return replace(real(*arguments, **options), rates=rates, jacobian=None)

    monkeypatch.setattr(setup, "native_system", limited)
    problem = uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 5))
    # a first step far beyond the domain: the answer 2 is no exception, and no rates either
    stop = [uh.Event("x = 0.99", stop=True)]
    run = uh.integrate(problem, method, starting_step=3.0, budget={"steps": 500}, events=stop)
    assert run.ending.reason == "event"
    assert run.tally.refused > 0
    assert run.final["x"] == pytest.approx(0.99, rel=1e-9)
