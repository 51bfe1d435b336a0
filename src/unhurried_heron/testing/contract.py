"""Checks that hold for every method, against exact solutions only.

Each check takes a method and raises `ContractError` if the method (or the library under it) does not keep it.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, Final

import numpy as np

from unhurried_heron.march.integrate import integrate
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.run.trajectory import Array


class ContractError(AssertionError):
    """A method does not keep the contract."""


def _expect(condition: bool, message: str) -> None:
    if not condition:
        raise ContractError(message)


def growth() -> tuple[Problem, Callable[[Array], Array]]:
    """Logistic growth, which has a closed form."""
    problem = Problem.from_text(
        "mass' = mass/4*(1 - mass/20)", initial={"mass": 1.0}, interval=(0.0, 10.0), title="growth"
    )
    return problem, lambda t: 20.0 / (1.0 + 19.0 * np.exp(-t / 4.0))


def swing() -> tuple[Problem, Callable[[Array], Array]]:
    """A rate that depends on time: y' = y cos t."""
    problem = Problem.from_text("mass' = mass*cos(t)", initial={"mass": 1.0}, interval=(0.0, 10.0), title="swing")
    return problem, lambda t: np.exp(np.sin(t))


def _run(method: Method, problem: Problem, **options: Any) -> Run:
    """Run with the method's own steps if it can choose them, else with a fixed one."""
    if method.adaptive:
        return integrate(problem, method, **{"rtol": 1e-6, **options})
    length = abs(problem.interval[1] - problem.interval[0])
    return integrate(problem, method, **{"step": length / 300.0, **options})


def start_is_kept(method: Method) -> None:
    """The first record is the initial state itself."""
    run = _run(method, growth()[0])
    _expect(run.times[0] == 0.0 and run.states[0, 0] == 1.0, f"started at {run.times[0]}, {run.states[0]}")


def end_is_met(method: Method) -> None:
    """The last record lies on the end exactly, also where the step does not divide the interval."""
    problem = growth()[0]
    for run in (_run(method, problem), integrate(problem, method, step=0.3)):
        _expect(run.times[-1] == 10.0, f"ended at {run.times[-1]!r}")
        _expect(run.ending.reason == "end", run.ending.message)


def order_is_observed(method: Method) -> None:
    """Halving a fixed step divides the largest error by two to the order, on two problems."""
    observed = []
    for problem, exact in (growth(), swing()):
        errors = []
        for halvings in range(4):
            run = integrate(problem, method, step=10.0 / (20 * 2**halvings))
            # over the whole run: at a single time leading errors may cancel
            errors.append(float(np.abs(run["mass"] - exact(run.times)).max()))
        slopes = [math.log2(a / b) for a, b in zip(errors, errors[1:], strict=False) if b > 2e-12]
        _expect(bool(slopes), f"errors at rounding level from the start: {errors}")
        _expect(slopes[-1] > method.order - 0.35, f"{problem.title}: stated {method.order}, observed {slopes}")
        observed.append(slopes[-1])
    # one problem may happen to flatter a method, two will not
    _expect(min(observed) < method.order + 0.5, f"stated order {method.order}, observed {observed}")


def order_between_steps(method: Method) -> None:
    """Values between the steps converge at the stated order of the interpolant."""
    problem, exact = swing()
    times = np.linspace(0.0, 10.0, 997)
    errors = [
        float(np.abs(integrate(problem, method, step=10.0 / n).at(times)[:, 0] - exact(times)).max())
        for n in (40, 80, 160)
    ]
    slope = math.log2(errors[1] / errors[2])
    _expect(slope > method.interpolant_order - 0.35, f"stated {method.interpolant_order}, observed {slope:.2f}")


def steps_join(method: Method) -> None:
    """The solution is continuous where one step meets the next."""
    run = _run(method, swing()[0])
    before = run.at(np.nextafter(run.times[1:-1], -np.inf))
    gap = float(np.abs(before - run.states[1:-1]).max())
    _expect(gap < 1e-12, f"gap of {gap:.1e}")


def backward_undoes_forward(method: Method) -> None:
    """Integrating back from the end returns to the start, to a few times the error of one way."""
    problem, exact = swing()
    forward = _run(method, problem)
    reverse = problem.with_(initial={"mass": forward.final["mass"]}, interval=(10.0, 0.0))
    backward = _run(method, reverse)
    error = abs(forward.states[-1, 0] - float(exact(np.array(10.0))))
    _expect(backward.times[-1] == 0.0 and bool((np.diff(backward.times) < 0).all()), "times do not run back")
    miss = abs(backward.states[-1, 0] - 1.0)
    _expect(miss < 20.0 * error + 1e-5, f"missed the start by {miss:.1e}, error one way {error:.1e}")


def tally_is_true(method: Method) -> None:
    """The tally counts the calls that were made, and the ledger every attempt."""
    calls = 0

    def rates(t: float, y: Array) -> Array:
        nonlocal calls
        calls += 1
        return y * math.cos(t)

    problem = Problem.from_rates(rates, initial={"mass": 1.0}, interval=(0.0, 10.0))
    # a first step that is far too long is refused, and its error may be looked at twice
    for options in ({"starting_step": 10.0}, {}) if method.adaptive else ({},):
        calls = 0
        run = _run(method, problem, **options)
        _expect(calls == run.tally.rate_evaluations, f"{calls} calls, tally {run.tally.rate_evaluations}")
    ledger = run.ledger
    _expect(int(ledger["accepted"].sum()) == run.tally.accepted, "ledger and tally differ in accepted steps")
    _expect(int((~ledger["accepted"]).sum()) == run.tally.refused, "ledger and tally differ in refused steps")
    _expect(run.tally.accepted == run.times.size - 1, "accepted steps and recorded steps differ")


def recording_is_faithful(method: Method) -> None:
    """Asked-for times hold what the solution as a function gives there."""
    problem = swing()[0]
    run, recorded = _run(method, problem), _run(method, problem, record=37)
    gap = float(np.abs(run.at(recorded.times) - recorded.states).max())
    _expect(recorded.times.size == 37 and gap < 1e-13, f"{recorded.times.size} times, gap {gap:.1e}")


def stability_function_is_true(method: Method) -> None:
    """One step on y' = k y multiplies by the stability function at h k."""
    for z in (-0.7, -2.5, 0.4):
        problem = Problem.from_text("mass' = k*mass", initial={"mass": 1.0}, parameters={"k": z}, interval=(0.0, 1.0))
        value = integrate(problem, method, step=1.0).states[-1, 0]
        numerator, denominator = (np.polyval([float(x) for x in p][::-1], z) for p in method.stability)
        _expect(
            abs(value - numerator / denominator) < 1e-9,
            f"at {z}: {value} instead of {numerator / denominator}",
        )


def error_follows_tolerance(method: Method) -> None:
    """A method that adapts its steps errs by no more than a modest multiple of the tolerance."""
    if not method.adaptive:
        return
    for problem, exact in (growth(), swing()):
        for rtol in (1e-4, 1e-6, 1e-8):
            if method.order < 3 and rtol < 1e-6:
                continue
            run = integrate(problem, method, rtol=rtol)
            miss = float(np.abs(run["mass"] / exact(run.times) - 1.0).max())
            _expect(miss < 300.0 * rtol, f"{problem.title}: error {miss:.1e} at rtol {rtol:g}")


def steps_become_equal(method: Method) -> None:
    """Where every step is like the one before, steps that are chosen become equal."""
    if not method.adaptive:
        return
    problem = Problem.from_text("mass' = mass", initial={"mass": 1.0}, interval=(0.0, 40.0))
    lengths = np.diff(integrate(problem, method, rtol=1e-4, atol=0.0).times)[-12:-2]
    spread = float(lengths.max() / lengths.min())
    _expect(spread < 1.02, f"the longest of the last ten steps is {spread:.3f} times the shortest")


def states_march_alike(method: Method) -> None:
    """Several states, each a multiple of the first, march as one does: with its steps, and each as its multiple."""
    options: dict[str, Any] = {"rtol": 1e-6, "atol": 0.0} if method.adaptive else {}
    alone = _run(method, swing()[0], **options)
    for n in (2, 3, 4, 5, 6, 7, 8, 9, 13):
        problem = Problem.from_text(
            f"mass[i]' = mass[i]*cos(t) for i in 1..{n}", initial={"mass[i]": "i"}, interval=(0.0, 10.0)
        )
        run = _run(method, problem, **options)
        _expect(
            run.times.size == alone.times.size, f"{run.times.size} times for {n} states, {alone.times.size} for one"
        )
        wanted = alone.states[-1] * np.arange(1.0, n + 1.0)
        gap = float(np.abs(run.states[-1] / wanted - 1.0).max())
        middle = float(np.abs(run.at(3.3) / (alone.at(3.3) * np.arange(1.0, n + 1.0)) - 1.0).max())
        _expect(max(gap, middle) < 1e-9, f"{n} states: {gap:.1e} apart at the end, {middle:.1e} at t = 3.3")


CHECKS: Final[tuple[Callable[[Method], None], ...]] = (
    start_is_kept,
    end_is_met,
    order_is_observed,
    order_between_steps,
    steps_join,
    backward_undoes_forward,
    tally_is_true,
    recording_is_faithful,
    stability_function_is_true,
    error_follows_tolerance,
    steps_become_equal,
    states_march_alike,
)


def check_method(method: str | Method) -> None:
    """Run every check on a method, by name or of your own.

    Raises
    ------
    ContractError
        A check fails; the message names it.
    """
    chosen = find_method(method)
    for check in CHECKS:
        try:
            check(chosen)
        except ContractError as error:
            raise ContractError(f"{chosen.name}, {check.__name__}: {error}") from None
