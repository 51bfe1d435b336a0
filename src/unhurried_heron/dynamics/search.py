"""Equilibria: by Newton's method from many starts in a box, and by marching to rest."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final, overload

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.deadline import done_within, seconds_left
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.options import refuse_no_problem
from unhurried_heron.dynamics.algebra import all_solutions
from unhurried_heron.dynamics.branch import Branches
from unhurried_heron.dynamics.branches import follow_branches
from unhurried_heron.dynamics.equilibrium import Equilibria, Equilibrium, equilibrium_at
from unhurried_heron.dynamics.evaluation import Evaluation
from unhurried_heron.dynamics.march_options import march_options
from unhurried_heron.dynamics.newton import NEAR, ROUNDING, newton
from unhurried_heron.errors import OptionError, RunError, excerpt, listing, near_spelling
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.input.measured_rates import measured_names
from unhurried_heron.input.rules import FINITE, POSITIVE, POSITIVE_COUNT, whole
from unhurried_heron.problem.consistency import beginning_near
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.stability.eigenvalues import eigenvalues
from unhurried_heron.units.quantities import number_in

# Equilibria are one if they differ by no more than this share of the box.
_APART: Final = 1e-6
# How often the time of a march to rest is doubled.
_DOUBLINGS: Final = 16
# A march has come to rest where the equilibrium is no further from it than this share of its states.
_AT_REST: Final = 1e-4
_SEED: Final = whole(0)


@overload
def equilibria(
    problem: Problem, within: Mapping[str, tuple[Any, Any]], *, starts: int = ..., seed: int = ...,
    seconds: float = ...,
) -> Equilibria: ...  # fmt: skip
@overload
def equilibria(
    problem: Problem, within: Mapping[str, tuple[Any, Any]], *, over: Mapping[str, tuple[Any, Any]], starts: int = ...,
    seed: int = ..., seconds: float = ...,
) -> Branches: ...  # fmt: skip
def equilibria(
    problem: Problem, within: Mapping[str, tuple[Any, Any]], *, over: Mapping[str, tuple[Any, Any]] | None = None,
    starts: int = 256, seed: int = 0, seconds: float = 60.0,
) -> Equilibria | Branches:  # fmt: skip
    """Find where all rates vanish within a box, and what kind of equilibrium each is.

    Newton's method begins from the points of a Sobol sequence; jumps and kinks are heeded, for the rates are those of
    the equations everywhere. Where rates are quotients of polynomials, with few states, algebra finds all solutions,
    so that none is missed. P. Deuflhard, *Newton Methods for Nonlinear Problems* (2004), chapter 3.

    Parameters
    ----------
    problem : Problem
        Its rates must not depend on the time.
    within : mapping of str to (float, float)
        From where to where each state is searched, also with units.
    over : mapping of str to (float, float), optional
        A parameter, from where to where: branches of equilibria are followed over it.
    starts : int
        From how many points.
    seed : int
        Of these.
    seconds : float
        How long it may take; what was found by then is returned, and the table says so.

    Returns
    -------
    Equilibria, or Branches over a parameter

    Raises
    ------
    OptionError
        The box is none, the rates depend on the time, or there is no such parameter.

    Examples
    --------
    >>> pond = Problem.from_text("x' = x - x^3", initial={"x": 0.5}, interval=(0, 9))
    >>> [(round(each["x"], 12) + 0.0, each.words) for each in equilibria(pond, {"x": (-2, 2)})]
    [(-1.0, 'stable node'), (0.0, 'unstable node'), (1.0, 'stable node')]
    """
    refuse_no_problem(problem, "equilibria")
    problem.refuse_open()
    POSITIVE_COUNT(starts, "starts", "equilibria")
    _SEED(seed, "seed", "equilibria")
    POSITIVE(seconds, "seconds", "equilibria")
    low, high = _box(problem, within)
    _refuse_forced(problem)
    if over is not None:
        limits = _range(problem, over)
        with done_within(seconds):
            return follow_branches(problem, (low, high), limits, starts, seed)
    with done_within(seconds):
        return _within(problem, low, high, starts, seed)


def _within(problem: Problem, low: Array, high: Array, starts: int, seed: int) -> Equilibria:
    """Find equilibria within a box, until the deadline.

    Parameters
    ----------
    problem : Problem
    low, high : ndarray, shape (n_states,)
    starts, seed : int

    Returns
    -------
    Equilibria
    """
    from scipy.stats import qmc

    evaluation = Evaluation(problem)
    power = 1 << (starts - 1).bit_length()
    shares = qmc.Sobol(low.size, rng=np.random.default_rng(seed)).random(power)[:starts]
    # the corners and the middle are worth a look
    begins = np.vstack([low + shares * (high - low), 0.5 * (low + high), low, high])
    known = all_solutions(problem, np.maximum(np.abs(low), np.abs(high)))
    if known is not None:
        begins = np.vstack([begins, known[0]])
    states, errors = newton(evaluation, begins, high - low)
    slack = _APART * (high - low)
    inside = (errors <= NEAR) & (states >= low - slack).all(axis=1) & (states <= high + slack).all(axis=1)
    # what is so small beside the box is rounding of zero
    states[np.abs(states) <= ROUNDING * (high - low)] = 0.0
    states, errors = _apart(states[inside], errors[inside], high - low)
    sizes = np.abs(evaluation.jacobians(begins)).reshape(len(begins), -1).max(axis=1)
    typical = float(np.median(sizes[np.isfinite(sizes)])) if np.isfinite(sizes).any() else 0.0
    box = {name: (float(a), float(b)) for name, a, b in zip(problem.states, low, high, strict=True)}
    found = tuple(_with_kind(problem, state, error, typical) for state, error in zip(states, errors, strict=True))
    count = len(known[1].found) if known is not None and known[1].complete else None
    return Equilibria(problem, found, box, starts, count, seconds_left() >= 0.0)


def steady(problem: Problem, *, seconds: float = 10.0, **options: Any) -> Equilibrium:
    """March until the states rest, and prove it: by Newton's method to rounding, and by eigenvalues.

    Parameters
    ----------
    problem : Problem
        Its rates must not depend on the time.
    seconds : float
        How long the march may take in all.
    **options
        As for `integrate`.

    Returns
    -------
    Equilibrium

    Raises
    ------
    OptionError
        The rates depend on the time.
    RunError
        It does not come to rest within that time.

    Examples
    --------
    >>> tank = Problem.from_text("level' = inflow - leak*level", parameters={"inflow": 0.3, "leak": 0.1},
    ...                          initial={"level": 0}, interval=(0, 1))
    >>> round(steady(tank)["level"], 12)
    3.0
    """
    refuse_no_problem(problem, "steady")
    POSITIVE(seconds, "seconds", "steady")
    own = march_options(options, "steady")
    problem.refuse_open()
    _refuse_forced(problem)
    evaluation = Evaluation(problem)
    start, end = problem.interval
    length, here, spent = end - start, problem, 0.0
    for _ in range(_DOUBLINGS):
        with quietly():
            run = integrate(here, record=2, budget={"seconds": seconds - spent}, **own)
        spent += run.tally.seconds
        state = run.data.trajectory.end_state
        sizes = np.maximum(np.abs(state), np.abs(problem.start)) + np.abs(state).max(initial=0.0) * ROUNDING
        found, errors = newton(evaluation, state[None], np.where(sizes > 0.0, sizes, 1.0))
        near = np.abs(found[0] - state) <= _AT_REST * np.where(sizes > 0.0, sizes, 1.0)
        if errors[0] <= NEAR and near.all():
            return _with_kind(problem, found[0], float(errors[0]))
        if not run.ending.as_requested or spent >= seconds:
            break
        length *= 2.0
        with quietly():
            here = beginning_near(problem, state, {}).with_(interval=(start, start + length))
    raise RunError("it does not come to rest", name="steady", location="steady",
                   expected="a solution that settles; more seconds=…, or equilibria(…) within a box",
                   given=f"{run.ending} after {spent:.3g} s, {run.final_numbers}"[:300])  # fmt: skip


def _box(problem: Problem, within: Any) -> tuple[Array, Array]:
    """Return the lower and upper ends of a box.

    Raises
    ------
    OptionError
    """
    names = problem.states
    given = dict(within) if isinstance(within, Mapping) else {}
    unknown, missing = [name for name in given if name not in names], [name for name in names if name not in given]
    if unknown or missing:
        wrong = f"there is no state '{unknown[0]}'{near_spelling(unknown[0], names)}" if unknown else (
            "the box has no ends for " + listing(missing))  # fmt: skip
        raise OptionError(wrong, name="within", location="within", expected="(from, to) for each of " + listing(names),
                          given=excerpt(within))  # fmt: skip
    ends = np.empty((2, len(names)))
    for k, name in enumerate(names):
        ends[:, k] = _ends(problem, name, given[name], "within")
    return ends[0], ends[1]


def _ends(problem: Problem, name: str, given: Any, location: str) -> tuple[float, float]:
    """Return from where to where a state or parameter goes, in its unit.

    Parameters
    ----------
    problem : Problem
    name : str
    given : object
    location : str
        The option, for messages.

    Returns
    -------
    (float, float)

    Raises
    ------
    OptionError
    """
    try:
        low, high = given
    except (TypeError, ValueError):
        low = high = None
    unit = problem.units.get(name, "")
    low, high = (number_in(each, unit, f"{location}, '{name}'") if isinstance(each, str) else
                 FINITE(each, name, location, message=f"'{name}' has no ends")
                 for each in (low, high))  # fmt: skip
    if not low < high:
        raise OptionError(f"there is nothing between the ends of '{name}'", name=name, location=location,
                          expected="(from, to), from below to", given=excerpt(given))  # fmt: skip
    return float(low), float(high)


def _range(problem: Problem, over: Any) -> tuple[str, float, float]:
    """Return the parameter over which branches are followed, from where and to where.

    Parameters
    ----------
    problem : Problem
    over : object

    Returns
    -------
    (str, float, float)

    Raises
    ------
    OptionError
    """
    names = list(over) if isinstance(over, Mapping) else []
    if len(names) != 1:
        raise OptionError("branches are followed over one parameter", name="over", location="over",
                          expected="{'name': (from, to)}", given=excerpt(over))  # fmt: skip
    if names[0] not in problem.parameters:
        raise OptionError(f"there is no parameter '{names[0]}'{near_spelling(str(names[0]), problem.parameters)}",
                          name=str(names[0]), location="over", expected="one of " + listing(problem.parameters),
                          given=str(names[0]))  # fmt: skip
    return (names[0], *_ends(problem, names[0], over[names[0]], "over"))


def is_forced(problem: Problem) -> bool:
    """Whether rates depend on the time; of a function as far as five times tell."""
    if problem.model.rates.written:
        return bool({TIME, *measured_names(problem.inputs)} & problem.model.rates.names())
    start, end = problem.interval
    times = np.linspace(start, end, 5)
    rates = problem.rates_at(times, np.tile(problem.start, (5, 1)))
    return bool((rates != rates[0]).any())


def _refuse_forced(problem: Problem) -> None:
    """Refuse rates that depend on the time: nothing rests there.

    Raises
    ------
    OptionError
    """
    if is_forced(problem):
        raise OptionError("the rates depend on the time, so that nothing rests", name="problem",
                          location="equilibria", expected="rates of states and parameters alone",
                          given=problem.title or "rates that follow the time")  # fmt: skip


def _apart(states: Array, errors: Array, sizes: Array) -> tuple[Array, Array]:
    """Leave one of what is found several times, the most exact, in the order of the states.

    Parameters
    ----------
    states : ndarray, shape (n_rows, n_states)
    errors : ndarray, shape (n_rows,)
    sizes : ndarray, shape (n_states,)

    Returns
    -------
    (ndarray, ndarray)
    """
    kept: list[int] = []
    for row in np.argsort(errors, kind="stable"):
        far = [np.abs((states[row] - states[other]) / sizes).max() > _APART for other in kept]
        # a singular one is found less exactly
        if all(far) and not any(np.abs((states[row] - states[o]) / sizes).max() <= 1e3 * errors[row] for o in kept):
            kept.append(int(row))
    order = sorted(kept, key=lambda row: np.round(states[row] / (_APART * sizes)).tolist())
    return states[order], errors[order]


def _with_kind(problem: Problem, state: Array, error: float, typical: float = 0.0) -> Equilibrium:
    """Return an equilibrium with its eigenvalues and kind.

    Parameters
    ----------
    problem : Problem
    state : ndarray, shape (n_states,)
    error : float
    typical : float, optional
        The size of Jacobians around.

    Returns
    -------
    Equilibrium
    """
    values = eigenvalues(problem, np.array([problem.interval[0]]), state[None])[0]
    return equilibrium_at(problem, state, values, float(error), typical)
