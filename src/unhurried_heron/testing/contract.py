"""Checks that hold for every method, against exact solutions only.

Each check takes a method and raises `ContractError` if the method (or the library under it) does not keep it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any, Final, cast

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.errors import UnfitProblemError
from unhurried_heron.input.event import Event
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.ending import EndingReason
from unhurried_heron.run.run import Run
from unhurried_heron.testing.memory import damaged, margins
from unhurried_heron.testing.problems import (
    across,
    constant,
    constrained,
    growth,
    multiples,
    relay,
    shape_of,
    swing,
    turned,
    weighted,
)


class ContractError(AssertionError):
    """A method does not keep the contract."""


def _expect(condition: bool, message: str) -> None:
    if not condition:
        raise ContractError(message)


def takes_fixed_steps(method: Method) -> bool:
    """Whether a method runs with fixed steps as itself."""
    return getattr(method, "fixed_steps", True) and not capabilities(method).changes_method


def _run(method: Method, problem: Problem, **options: Any) -> Run:
    """Run with the method's own steps if it can choose them, else with a fixed one.

    Parameters
    ----------
    method : Method
    problem : Problem
    **options : object
        As for `integrate`.

    Returns
    -------
    Run
    """
    if method.adaptive:
        return integrate(problem, method, **{"rtol": 1e-6 if method.order > 1 else 1e-3, **options})
    return integrate(problem, method, **{"step": abs(problem.interval[1] - problem.interval[0]) / 300.0, **options})


def start_is_kept(method: Method) -> None:
    """The first record is the initial state itself."""
    run = _run(method, growth(shape_of(method))[0])
    _expect(run.times[0] == 0.0 and run.states[0, 0] == 1.0, f"started at {run.times[0]}, {run.states[0]}")


def end_is_met(method: Method) -> None:
    """The last record lies on the end exactly, also where the step does not divide the interval."""
    problem = growth(shape_of(method))[0]
    runs = [_run(method, problem)]
    if takes_fixed_steps(method):
        runs += [integrate(problem, method, step=0.3), integrate(problem, method, count=13)]
        _expect(runs[-1].tally.accepted == 13, f"{runs[-1].tally.accepted} of 13 steps")
    for run in runs:
        _expect(run.times[-1] == 10.0, f"ended at {run.times[-1]!r}")
        _expect(run.ending.reason is EndingReason.END, run.ending.message)


def _observed(errors: Mapping[int, float]) -> list[float]:
    """Return the orders that halved steps show, below a coarse step's errors and above rounding."""
    found = [(errors[n], errors[2 * n]) for n in errors if 2 * n in errors]
    return [math.log2(a / b) for a, b in found if b > 3e-12 and a < 0.3]


def _errors(run_of: Callable[[int], float | None]) -> dict[int, float]:
    """Return errors by the number of steps, until they come down to rounding."""
    errors: dict[int, float] = {}
    for n in (3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96, 128, 192, 256, 384, 512, 768, 1024, 1536):
        error = run_of(n)
        if error is not None:
            errors[n] = error
        if list(errors.values())[-2:] and max(list(errors.values())[-2:]) < 3e-12:
            break
    return errors


def order_is_observed(method: Method) -> None:
    """Halving a fixed step divides the largest error by two to the order: also across a switch, and a jump."""
    if not takes_fixed_steps(method):
        return
    observed = []
    # the highest orders of multistep methods are seen just above rounding only
    slack = (0.3 if method.order < 7 else 0.5) if capabilities(method).reaches_back else 0.2
    shape = shape_of(method)
    for make in (growth, swing, across, turned):
        try:
            problem, exact = make(shape)
        except UnfitProblemError:
            continue

        def largest(n: int, problem: Problem = problem, exact: Any = exact) -> float | None:
            with quietly():
                run = integrate(problem, method, count=n)
            # over the whole run: at a single time leading errors may cancel; a step may be too long to be solved for
            # at a jump the first row is that before it
            after = np.append(np.diff(run.times) != 0.0, True)
            return float(np.abs(run["mass"] - exact(run.times))[after].max()) if run.ending.as_requested else None

        errors = _errors(largest)
        observed_orders = _observed(errors)
        if not observed_orders:
            # so high an order comes down to rounding within two halvings
            _expect(method.order >= 7, f"{problem.title}: no order to be seen in {errors}")
            continue
        # near to rounding the order is lost again
        best = max(observed_orders[-3:])
        _expect(best > method.order - slack, f"{problem.title}: stated {method.order}, observed {observed_orders}")
        observed.append(min(observed_orders[-3:]))
    # one problem may happen to flatter a method, four will not; but leading errors may be very small where many meet
    if method.order <= 5:
        _expect(min(observed) < method.order + 0.5, f"stated order {method.order}, observed {observed}")


def order_between_steps(method: Method) -> None:
    """Values between the steps converge at the stated order of the interpolant."""
    if not takes_fixed_steps(method):
        return
    problem, exact = swing(shape_of(method))
    times = np.linspace(0.0, 10.0, 997)

    def largest(n: int) -> float | None:
        with quietly():
            run = integrate(problem, method, count=n)
        return float(np.abs(run.at(times)[:, 0] - exact(times)).max()) if run.ending.as_requested else None

    observed_orders, stated = _observed(_errors(largest)), method.interpolant_order
    _expect(
        bool(observed_orders) and max(observed_orders[-3:]) > stated - 0.35,
        f"stated {stated}, observed {observed_orders}",
    )


def steps_join(method: Method) -> None:
    """The solution is continuous where one step meets the next."""
    run = _run(method, swing(shape_of(method))[0])
    before = run.at(np.nextafter(run.times[1:-1], -np.inf))
    gap = float(np.abs(before - run.states[1:-1]).max())
    _expect(gap < 1e-12, f"gap of {gap:.1e}")


def backward_undoes_forward(method: Method) -> None:
    """Integrating back from the end returns to the start, to a few times the error of one way."""
    problem, exact = swing(shape_of(method))
    forward = _run(method, problem)
    reverse = problem.with_(initial=forward.final, interval=(10.0, 0.0))
    backward = _run(method, reverse)
    error = abs(forward.states[-1, 0] - float(exact(np.array(10.0))))
    _expect(backward.times[-1] == 0.0 and bool((np.diff(backward.times) < 0).all()), "times do not run back")
    miss = abs(backward.states[-1, 0] - 1.0)
    _expect(miss < 20.0 * error + 1e-5, f"missed the start by {miss:.1e}, error one way {error:.1e}")


def tally_is_true(method: Method) -> None:
    """The tally counts the calls that were made, and the ledger every attempt."""
    calls, shape = 0, shape_of(method)

    def rates(t: float, y: Array) -> Array:
        nonlocal calls
        calls += 1
        return y[::-1] * math.cos(t)

    initial = {"mass": 1.0} if shape == "plain" else {"mass": 1.0, "other": 1.0}
    sparsity = None if shape == "plain" else [[0, 1], [1, 0]]
    interval = (0.0, 10.0 if method.order > 1 else 2.0)
    problem = Problem.from_rates(rates, initial=initial, sparsity=sparsity, interval=interval)
    # a first step that is far too long is refused, and its error may be looked at twice
    for options in ({"starting_step": 10.0}, {}) if method.adaptive else ({},):
        calls = 0
        run = _run(method, problem, **options)
        _expect(calls == run.tally.rate_evaluations, f"{calls} calls, tally {run.tally.rate_evaluations}")
    ledger = run.ledger
    for taken, count in ((ledger["accepted"], run.tally.accepted), (~ledger["accepted"], run.tally.refused)):
        _expect(int(taken.sum()) == count, "ledger and tally differ in accepted or refused steps")
    _expect(run.tally.accepted == run.times.size - 1, "accepted steps and recorded steps differ")


def recording_is_faithful(method: Method) -> None:
    """Asked-for times hold what the solution as a function gives there."""
    problem = swing(shape_of(method))[0]
    run, recorded = _run(method, problem), _run(method, problem, record=37)
    gap = float(np.abs(run.at(recorded.times) - recorded.states).max())
    _expect(recorded.times.size == 37 and gap < 1e-13, f"{recorded.times.size} times, gap {gap:.1e}")


def stability_function_is_true(method: Method) -> None:
    """One step on y' = k y multiplies by the stability function; steps of a multistep method follow its recurrence."""
    if not takes_fixed_steps(method):
        return
    for z in (-0.7, -2.5, 0.4):
        if capabilities(method).reaches_back:
            mass = integrate(constant(z, 12.0, exact=True), method, step=1.0, starter="exact")["mass"]
            weights = cast("Any", method).recurrence(z)
            steps = len(weights)
            for n in range(steps, 12):
                # what a past of this size loses by rounding
                size = float(np.abs(weights * mass[n - 1 :: -1][:steps]).max())
                miss = mass[n] - float(weights @ mass[n - 1 :: -1][:steps])
                _expect(abs(miss) < 1e-9 * max(size, abs(mass[n])), f"at {z}: step {n} misses by {miss}")
        elif shape_of(method) == "plain":
            run, function = integrate(constant(z, 1.0), method, step=1.0), cast("Any", method)
            if capabilities(method).several_stages:
                # as many as the step took
                function = function.of_stages(int(run.ledger["iterations"].iloc[0]))
            top, bottom = (np.polyval([float(x) for x in p][::-1], z) for p in function.stability)
            value = run.states[-1, 0]
            _expect(abs(value - top / bottom) < 1e-9, f"at {z}: {value} instead of {top / bottom}")
        else:
            problem = constant(z, 1.0, shape_of(method))
            starts = [dict(zip(problem.states, row, strict=True)) for row in np.eye(2)]
            matrix = [integrate(problem, method, step=1.0, initial=start).states[-1] for start in starts]
            terms = np.polynomial.polynomial.polyval(z, method.characteristic.T)
            found = np.array([np.linalg.det(matrix), -np.trace(matrix), 1.0])
            _expect(bool((np.abs(found - terms) < 1e-9).all()), f"at {z}: {found} instead of {terms}")


def error_follows_tolerance(method: Method) -> None:
    """A method that adapts its steps errs by no more than a modest multiple of the tolerance, also between them."""
    if not method.adaptive:
        return
    exponents = range(3, 13 if method.order >= 4 else 7 if method.order > 1 else 6)
    for problem, exact in (growth(), swing()):
        times, before = np.linspace(0.0, 10.0, 1501), math.inf
        for exponent in exponents:
            rtol = 10.0**-exponent
            run = integrate(problem, method, rtol=rtol, record=times)
            miss = float(np.abs(run["mass"] / exact(times) - 1.0).max())
            # with order 1 the tolerance is that of each step
            allowed = 30.0 * rtol if method.order > 1 else 60.0 * rtol**0.5
            _expect(miss < allowed + 3e-13, f"{problem.title}: error {miss:.1e} at rtol {rtol:g}")
            _expect(
                miss < 3.0 * before or miss < rtol,
                f"{problem.title}: no better at rtol {rtol:g} than at ten times that",
            )
            before = miss


def steps_become_equal(method: Method) -> None:
    """Where every step is like the one before, steps that are chosen become equal."""
    if not method.adaptive or not takes_fixed_steps(method):
        return
    problem = constant(1.0, 40.0)
    # so small a tolerance that what is estimated is the leading term, and so large that few steps are not all
    lengths = np.diff(integrate(problem, method, rtol=1e-5 if method.order < 8 else 1e-9, atol=0.0).times)[-12:-2]
    spread = float(lengths.max() / lengths.min())
    _expect(spread < 1.02, f"the longest of the last ten steps is {spread:.3f} times the shortest")


def states_march_alike(method: Method) -> None:
    """Several states, each a multiple of the first, march as one does: with its steps, and each as its multiple."""
    options: dict[str, Any] = {"atol": 0.0} if method.adaptive else {}
    shape = shape_of(method)
    alone = _run(method, swing(shape)[0], **options)
    # up to eight and beyond, kernels differ
    for n in (2, 3, 5, 8, 9, 13):
        run = _run(method, multiples(n, shape), **options)
        # rounding decides now and then between two orders
        slack = 0 if takes_fixed_steps(method) else 0.03 * alone.times.size
        _expect(
            abs(run.times.size - alone.times.size) <= slack,
            f"{run.times.size} times for {n} states, {alone.times.size} for one",
        )
        times = np.arange(1.0, n + 1.0)
        gap = float(np.abs(run.states[-1, :n] / (alone.states[-1, 0] * times) - 1.0).max())
        middle = float(np.abs(run.at(3.3)[:n] / (alone.at(3.3)[0] * times) - 1.0).max())
        _expect(
            max(gap, middle) < (1e-9 if slack == 0 else 1e-5),
            f"{n} states: {gap:.1e} apart at the end, {middle:.1e} at t = 3.3",
        )


def events_act(method: Method) -> None:
    """A relay between two levels, halved and doubled at known times, follows its closed form in both directions."""
    for sign in (1.0, -1.0):
        problem = relay(sign, shape_of(method))
        run = _run(method, problem)
        half = np.log(2.0) / 0.25
        # mirrored at the known time, it comes from the other side of the middle and goes on down
        known = 3.0 - 2.0 * np.exp(-0.25 * (4.0 - half))
        low = 4.0 + np.log(known) / 0.25
        wanted = sign * np.array([half, 4.0, low, low + half])
        found = run.events["time"].to_numpy()
        near = 0.05 if method.order == 1 else 2e-3
        fits = found.size == wanted.size and bool((np.abs(found - wanted) < near).all())
        _expect(fits, f"events at {found.tolist()}, and not {wanted.tolist()}")
        after, before = float(run.at(sign * 4.0, "mass")), float(run.at(sign * 4.0, "mass", side="before"))
        _expect(abs(after + before - 3.0) < 1e-12, f"a jump from {before} to {after}")
        rows = [np.flatnonzero(run.times == time) for time in found]
        _expect(all(row.size == 2 for row in rows), "a jump without two rows of its time")
        messages = [(run["rate"][row[0]], run["rate"][row[1]]) for row in rows]
        turns = [sign * 0.25, -sign * 0.25, -sign * 0.25, sign * 0.25, -sign * 0.25]
        _expect(messages == list(zip(turns[:-1], turns[1:], strict=True)), f"the mode went as {messages}")
        _expect(set(np.abs(run["rate"])) == {0.25}, "the mode is not what events make of it")


def mass_is_heeded(method: Method) -> None:
    """A run with a mass matrix, or with a constraint, is as good as one without, or it is refused."""
    plain = _run(method, growth(shape_of(method))[0])
    allowed = 30.0 * np.abs(plain["mass"] - growth()[1](plain.times)).max() + 1e-5
    for problem, solution in (weighted(), constrained()):
        with suppress(UnfitProblemError):
            run = _run(method, problem)
            error = max(np.abs(run[name] - values).max() for name, values in solution(run.times).items())
            _expect(error < allowed, f"{problem.title}: {error:.1e} off, above {allowed:.1e}")


def arrays_are_respected(method: Method) -> None:
    """Nothing is written beyond the arrays that were laid out, for systems of one state, of two and of three."""
    for n in (1, 2, 3):
        for sign, record in ((1.0, "steps"), (-1.0, 7)):
            with margins():
                met = Event("mass[1] = 1.1 + 0.05*sin(40*t)", name="met")
                events = [met, Event(at=0.3 * sign, then="mass[1] = 1")]
                problem = multiples(n, shape_of(method)).with_(interval=(0.0, sign), events=events)
                _run(method, problem, record=record, ledger=True)
            for march in [march for waiting in problem.model.kept.values() for march, _ in waiting]:
                bundles = [march.system, march.watch, march.output, march.crossing, march.own]
                bundles += [member.work.bundle for member in march.members]
                named = [
                    (type(bundle).__name__, name, array)
                    for bundle in bundles
                    for name, array in zip(bundle._fields, bundle, strict=True)
                    if isinstance(array, np.ndarray)
                ]
                for index in damaged(each for *_, each in named):
                    bundle, name, array = named[index]
                    _expect(False, f"{n} state{'s' * (n > 1)}: beyond '{name}' of {bundle}, {array.shape}, was written")


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
    events_act,
    mass_is_heeded,
    arrays_are_respected,
)


def check_method(method: str | Method) -> None:
    """Run every check on a method, by name or of your own; problems that its family refuses are left out.

    Raises
    ------
    ContractError
        A check fails, or what it runs raises anything; the message names it. Or the family refuses all problems.
    """
    chosen = find_method(method)
    marched = 0
    for check in CHECKS:
        try:
            check(chosen)
            marched += 1
        except UnfitProblemError:
            continue
        except ContractError as error:
            raise ContractError(f"{chosen.name}, {check.__name__}: {error}") from None
        except Exception as error:
            raise ContractError(f"{chosen.name}, {check.__name__}: {type(error).__name__}: {error}") from error
    _expect(marched > 0, f"{chosen.name} fits none of the problems of the contract")
