"""How much work a run may be."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

from unhurried_heron.errors import OptionError, as_text, excerpt
from unhurried_heron.input.rules import POSITIVE, POSITIVE_COUNT, among

_LIMITS: Final = {"steps": POSITIVE_COUNT, "rate_evaluations": POSITIVE_COUNT, "seconds": POSITIVE}


@dataclass(frozen=True)
class Budget:
    """The most a run may use; whatever is left out is unlimited.

    Parameters
    ----------
    steps : int, optional
        Attempted steps.
    rate_evaluations : int, optional
        Calls of the rates; the run ends before the first step that would begin beyond it.
    seconds : float, optional
        Wall-clock time.

    Raises
    ------
    OptionError
        A limit is not positive.
    """

    steps: int | None = None
    rate_evaluations: int | None = None
    seconds: float | None = None

    def __post_init__(self) -> None:
        for name, rule in _LIMITS.items():
            value = getattr(self, name)
            if value is not None:
                # Numbers of NumPy become plain numbers, so that equal budgets are equal.
                plain = rule(value, name, "budget", message=f"the budget of {name} is not usable")
                object.__setattr__(self, name, plain)


_UNBOUNDED: Final = Budget()


def budget_of(budget: Any) -> Budget:
    """Return the limits of a run.

    Raises
    ------
    OptionError
        It is neither a `Budget` nor a mapping, or limits something unknown.
    """
    if budget is None or isinstance(budget, Budget):
        return budget or _UNBOUNDED
    known = among(Budget.__dataclass_fields__)
    if not isinstance(budget, Mapping):
        raise OptionError(
            "this is no budget",
            name="budget",
            location="budget",
            expected="a mapping such as {'seconds': 10}, or a Budget",
            given=excerpt(budget),
        )
    for name in budget:
        known(name, "budget", message=f"a run has no budget of '{as_text(name)}'")
    return Budget(**budget)
