"""What a run is asked to do, checked: tolerances or step, recording, budgets."""

from __future__ import annotations

import math
from typing import Any, Final

from unhurried_heron.arrays import Array
from unhurried_heron.driver.option_values import in_time
from unhurried_heron.driver.tolerances import Tolerance
from unhurried_heron.errors import MethodError, OptionError, UnfitProblemError, excerpt
from unhurried_heron.families.family import NO_MASS, WITH_CONSTRAINTS
from unhurried_heron.families.linear_choice import MANY_SPARSE, Entries, choose_linear, entries_with
from unhurried_heron.families.registry import family_of
from unhurried_heron.input.rules import POSITIVE, POSITIVE_COUNT, instance
from unhurried_heron.kernels.memory.control import SMALLEST_RELATIVE_STEP
from unhurried_heron.methods.catalogue import FOR_SMOOTH, FOR_STIFF, find_method
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.problem.consistency import with_rates_for_all
from unhurried_heron.problem.problem import Problem

_A_PROBLEM: Final = instance(Problem, "a Problem: Problem.from_text(…), from_rates(…) or from_file(…)")


# What marches large systems with a mass matrix, with real factors.
_FOR_LARGE_MASS: Final = "backward-differentiation-variable"


def refuse_unfit(method: Method, problem: Problem) -> None:
    """Refuse a method for a problem that its family cannot march.

    Raises
    ------
    UnfitProblemError
    """
    _refuse_mass(method, problem)
    reason = family_of(method).fits(method, problem)
    if reason:
        raise UnfitProblemError(
            f"{method.name} cannot march this problem: {reason}",
            name=method.name,
            location="method",
            expected=f"a problem that fits it, or another method such as {FOR_SMOOTH}",
            given=f"a problem of {problem.model.layout.size:,} states",
        )


def _refuse_mass(method: Method, problem: Problem) -> None:
    """Refuse a method that does not take the mass matrix of a problem.

    Raises
    ------
    UnfitProblemError
    """
    mass = problem.model.mass
    # one that chooses for itself takes a method that can
    if mass is None or capabilities(method).changes_method:
        return
    takes = family_of(method).takes_mass(method)
    if takes == WITH_CONSTRAINTS:
        return
    n = problem.model.layout.size
    constraints = mass.constraints(n)
    if constraints or takes == NO_MASS:
        are = "is a constraint" if constraints == 1 else "are constraints"
        what = f"{constraints} of its {n} equations {are}" if constraints else "it has a mass matrix"
        raise UnfitProblemError(
            f"{method.name} cannot march this problem: {what}",
            name=method.name,
            location="method",
            expected=f"auto, or a method that takes them, such as {FOR_STIFF} or backward-differentiation-variable",
            given=f"{method.name}, which takes "
            + ("no mass matrix" if takes == NO_MASS else "only mass matrices without rows of zeros"),
        )


def taken_by(method: Method, problem: Problem) -> Problem:
    """Return a problem as a method takes it: where it takes no constraints, with rates for algebraic states."""
    if problem.model.mass is None:
        return problem
    if capabilities(method).changes_method:
        return with_rates_for_all(problem, by_numbers=True) or problem if _held_and_smooth(problem) else problem
    if family_of(method).takes_mass(method) == WITH_CONSTRAINTS:
        return problem
    return with_rates_for_all(problem, by_numbers=not family_of(method).implicit) or problem


def hands_over(method: Method, problem: Problem) -> bool:
    """Whether a pair begins with rates for algebraic states, and goes on with constraints where stiffness begins."""
    return taken_by(method, problem) is not problem and capabilities(method).changes_method


def _held_and_smooth(problem: Problem) -> bool:
    """Whether constraints hold what moves, and there is no switch in its rates: such motions are seldom stiff."""
    return bool(problem.model.manifold) and not problem.model.rates.switches


def able_with_mass(method: Method, problem: Problem, relative: Array, *, free: bool = False) -> Method:
    """Return the method that marches: of a pair the stiff one where there is a mass matrix, which the other takes not.

    Parameters
    ----------
    method : Method
    problem : Problem
    relative : ndarray, shape (n_states,)
        Relative tolerances.
    free : bool, optional
        Whether a pair may begin with the other one all the same (`hands_over`).

    Returns
    -------
    Method
    """
    if problem.model.mass is None or not capabilities(method).changes_method or (free and hands_over(method, problem)):
        return method
    if problem.model.layout.size >= MANY_SPARSE and not _moves_in_a_band(problem):
        return find_method(_FOR_LARGE_MASS)
    stiff: Method = family_of(method).members(method, relative)[-1]
    return stiff


def _moves_in_a_band(problem: Problem) -> bool:
    """Whether constraints hold what moves, as links do, and complex factors are cheap.

    Such motions swing, which backward differentiation of a high order damps or follows in short steps.
    """
    model = problem.model
    if not model.manifold:
        return False

    def found() -> bool:
        # what compiles is loaded only when something runs
        from unhurried_heron.codegen.jacobians import jacobian_entries

        known = jacobian_entries(problem)
        entries = known and entries_with(Entries(*known), model.mass)
        return choose_linear(model.layout.size, entries, None, fixed=False) == "banded"

    return bool(model.remembered(("moves in a band",), found))


def check_fits(method: Method, step: Any, rtol: Tolerance, atol: Tolerance) -> None:
    """Refuse a method without error estimate where one is needed, and a step together with tolerances.

    Parameters
    ----------
    method : Method
    step : float, str or None
    rtol : float, mapping of str to float, or None
    atol : float, mapping of str to float, or None

    Raises
    ------
    MethodError, OptionError
    """
    if step is None and not method.adaptive:
        raise MethodError(
            f"{method.name} has no error estimate, so it cannot choose its steps",
            name=method.name,
            location="method",
            expected=f"step=… or count=… for fixed steps, or a method that estimates its error, such as {FOR_SMOOTH}",
            given="no step",
        )
    if step is not None and not capabilities(method).takes_fixed_steps:
        raise MethodError(
            f"{method.name} is made for steps of its own choice",
            name=method.name,
            location="method",
            expected="tolerances, or a method of one order such as adams-pece-4 or backward-differentiation-2",
            given=f"{method.name} with fixed steps",
        )
    if step is not None:
        if not isinstance(step, str):
            POSITIVE(step, "step")
        if rtol is not None or atol is not None:
            raise OptionError(
                "a fixed step and a tolerance exclude each other",
                name="step",
                location="step",
                expected="either step=… or rtol=… and atol=…",
                given=f"step={excerpt(step)}, rtol={excerpt(rtol)}, atol={excerpt(atol)}",
            )


def step_for_count(problem: Problem, step: Any, count: Any) -> Any:
    """Return the fixed step that is requested, as a size or as a count.

    Parameters
    ----------
    problem : Problem
    step : float, str or None
    count : int or None

    Returns
    -------
    float, str or None

    Raises
    ------
    OptionError
        Both are given, or the count is no positive whole number.
    """
    if count is None:
        return step
    if step is not None:
        raise OptionError("a step and a count of steps exclude each other", name="count", location="count",
                          expected="either step=… or count=…",
                          given=f"step={excerpt(step)}, count={excerpt(count)}")  # fmt: skip
    start, end = problem.interval
    return abs(end - start) / POSITIVE_COUNT(count, "count", message="the count of steps is not usable")


def steps_wanted(
    problem: Problem, *, step: Any, starting_step: Any, largest_step: Any
) -> tuple[float | None, float | None, float]:
    """Return the fixed step, the first step and the bound on all steps, each a size; None and infinity where not given.

    Parameters
    ----------
    problem : Problem
    step : float, str or None
    starting_step : float, str or None
    largest_step : float, str or None

    Returns
    -------
    tuple[float | None, float | None, float]

    Raises
    ------
    OptionError, UnitError
        One is not positive, or below the spacing of the times; or a fixed step is given with one of the others.
    """
    interval = problem.interval
    named = {"step": step, "starting_step": starting_step, "largest_step": largest_step}
    named = {name: in_time(problem, value, name) for name, value in named.items()}
    given = {name: POSITIVE(value, name) for name, value in named.items() if value is not None}
    beside = [name for name in given if name != "step"]
    if step is not None and beside:
        raise OptionError(
            f"a fixed step and {beside[0]} exclude each other",
            name=beside[0],
            location=beside[0],
            expected="step=… alone, or tolerances with starting_step=… and largest_step=…",
            given=f"step={excerpt(step)}, {beside[0]}={excerpt(named[beside[0]])}",
        )
    smallest = SMALLEST_RELATIVE_STEP * max(map(abs, interval))
    for name, size in given.items():
        if size < smallest:
            raise OptionError(
                f"{name} is below the spacing of floating-point times",
                name=name,
                location=name,
                expected=f"at least {smallest:.3g} for times up to {max(map(abs, interval)):g}",
                given=excerpt(named[name]),
            )
    return given.get("step"), given.get("starting_step"), given.get("largest_step", math.inf)


def refuse_control(method: Method, control: Any, *, fixed: bool) -> None:
    """Refuse step control for steps that follow no error, or a rule of their own.

    Parameters
    ----------
    method : Method
    control : object
        What was given as step control.
    fixed : bool
        Whether steps are fixed.

    Raises
    ------
    OptionError
    """
    if control is not None and (fixed or not family_of(method).takes_controller):
        what = "fixed steps follow no error" if fixed else f"{method.name} chooses step and order together"
        raise OptionError(what, name="step_control", location="step_control",
                          expected="no step_control=…, or a one-step method with tolerances",
                          given=excerpt(control))  # fmt: skip


def refuse_no_problem(problem: Any, location: str) -> None:
    """Refuse what is no problem.

    Raises
    ------
    OptionError
    """
    _A_PROBLEM(problem, "problem", location, message="a problem is wanted")
