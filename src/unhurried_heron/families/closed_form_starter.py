"""A starter for multistep methods that takes the first values from the closed forms of a problem."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import OptionError
from unhurried_heron.families.family import Member, WorkSpace
from unhurried_heron.kernels.closed_form_starter_work import ClosedFormWork
from unhurried_heron.problem.problem import Problem

EXACT: Final = "exact"
# Degree of the polynomial through a closed form on a step.
_DEGREE: Final = 8


@dataclass(frozen=True)
class ClosedFormStarter:
    """Closed forms, to start a method from.

    Raises
    ------
    OptionError
        A state has none.
    """

    problem: Problem
    name: str = EXACT
    implicit: bool = False

    def __post_init__(self) -> None:
        model = self.problem.model
        missing = [name for name in self.problem.states if name not in model.exact]
        if missing:
            raise OptionError("the first values cannot be taken from closed forms", name="starter", location="starter",
                              expected="exact=… for every state of the problem, or the name of a one-step method",
                              given="none for " + ", ".join(f"'{name}'" for name in missing[:4]))  # fmt: skip

    def member(self, n: int, kernel: Any) -> Member:
        """Lay it out."""
        # Modules that compile are loaded only when something runs.
        from unhurried_heron.codegen.system import native_exact

        function = native_exact(self.problem)
        given = list(self.problem.model.exact)
        theta = np.linspace(0.0, 1.0, _DEGREE + 1)
        work = ClosedFormWork(
            function=function.address,
            context=function.context_address,
            degree=_DEGREE,
            order=np.array([given.index(name) for name in self.problem.states], dtype=np.int64),
            values=np.zeros(n),
            theta=theta,
            inverse=np.linalg.inv(theta[:, None] ** np.arange(_DEGREE + 1)),
        )
        return Member(kernel, WorkSpace(work, np.zeros(n), _DEGREE, (function,)))
