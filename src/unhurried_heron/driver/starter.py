"""What starts a multistep method."""

from __future__ import annotations

from typing import Any

from unhurried_heron.driver.options import refuse_unfit
from unhurried_heron.errors import MethodError, OptionError, excerpt
from unhurried_heron.families.closed_form_starter import EXACT, ClosedFormStarter
from unhurried_heron.families.registry import family_of
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem


def started_by(problem: Problem, method: Method, starter: Any) -> Any:
    """Return the one-step method, or closed forms, that start a method; None for a method that starts by itself.

    Parameters
    ----------
    problem : Problem
    method : Method
    starter : str, Method or None
        What was asked for.

    Returns
    -------
    Method, ClosedFormStarter or None

    Raises
    ------
    OptionError, MethodError
        What is wanted is no one-step method, or the problem has no closed forms, or the method needs none.
    """
    usual = family_of(method).starts_by
    if usual is None:
        if starter is not None:
            raise OptionError(f"{method.name} starts by itself", name="starter", location="starter",
                              expected="a multistep method, or no starter=…", given=excerpt(starter))  # fmt: skip
        return None
    if isinstance(starter, str) and starter == EXACT:
        if problem.model.mass is not None:
            raise OptionError("closed forms start no problem with a mass matrix", name="starter", location="starter",
                              expected="a one-step method that takes it, or no starter=…",
                              given=excerpt(starter))  # fmt: skip
        return ClosedFormStarter(problem)
    chosen = find_method(usual(method) if starter is None else starter)
    if family_of(chosen).starts_by is not None:
        raise MethodError(f"{chosen.name} needs to be started itself", name="starter", location="starter",
                          expected='a one-step method such as classical-rk-4, or "exact"',
                          given=excerpt(chosen.name))  # fmt: skip
    refuse_unfit(chosen, problem)
    return chosen
