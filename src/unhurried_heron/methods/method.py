"""What every method says of itself, whatever its family."""

from __future__ import annotations

from typing import Any, Final, Protocol, cast

import numpy as np

from unhurried_heron.errors import MethodError, excerpt
from unhurried_heron.methods.coefficients import Matrix
from unhurried_heron.methods.stability import Region


class Method(Protocol):
    """A method for initial-value problems."""

    @property
    def name(self) -> str:
        """What tables call it."""

    @property
    def family(self) -> str:
        """The family it belongs to."""

    @property
    def source(self) -> str:
        """Where it comes from."""

    @property
    def stiff(self) -> bool:
        """Whether it is meant for stiff problems."""

    @property
    def adaptive(self) -> bool:
        """Whether it estimates its own error, and so can choose its steps."""

    @property
    def stages(self) -> int:
        """Number of stages of a step."""

    @property
    def evaluations(self) -> int:
        """Evaluations of the rates in a step, of a method that is solved for in one iteration."""

    @property
    def implicit(self) -> bool:
        """Whether its steps are solved for."""

    @property
    def order(self) -> int:
        """Order of the solution."""

    @property
    def embedded_order(self) -> int:
        """Order of the second solution that estimates the error; 0 without."""

    @property
    def estimate_order(self) -> int:
        """Order of the error estimate: it goes with the next power of the step."""

    @property
    def interpolant_order(self) -> int:
        """Order at which values between the steps converge."""

    @property
    def region(self) -> Region:
        """What its region of stability is like."""

    @property
    def characteristic(self) -> Matrix:
        """The polynomial of x whose roots a step multiplies by for h lambda = z, by rising powers of x (rows) and z."""

    @property
    def real_stability_limit(self) -> float:
        """The largest x for which a decay is stable up to h lambda = -x; infinite where there is none."""


# The facts that every method must state. A method without a characteristic polynomial has no region, which is
# reported when the region is read.
FACTS: Final = tuple(
    name for name, fact in vars(Method).items() if isinstance(fact, property) and name != "characteristic"
)


class Capabilities:
    """What a method can do beyond the facts that every method has; each is looked up when it is asked for."""

    __slots__ = ("_method",)

    def __init__(self, method: Any) -> None:
        self._method = method

    def _has(self, member: str) -> bool:
        # the type is asked: a property may have no value for this method, and say why where it is read
        return hasattr(type(self._method), member) or member in getattr(self._method, "__dict__", ())

    @property
    def several_orders(self) -> bool:
        """Whether it holds a method for each order, `of_order`."""
        return self._has("of_order")

    @property
    def several_stages(self) -> bool:
        """Whether it holds a method for each number of stages, `of_stages`."""
        return self._has("of_stages")

    @property
    def reaches_back(self) -> bool:
        """Whether its steps use states and rates of earlier steps."""
        return self._has("recurrence")

    @property
    def fixed_reach(self) -> bool:
        """Whether the number of these steps is fixed, `steps`."""
        return self._has("steps")

    @property
    def extrapolates(self) -> bool:
        """Whether a choice between the orders of a pair can be asked for, `extrapolating`, which may refuse it."""
        return self._has("extrapolating")

    @property
    def changes_method(self) -> bool:
        """Whether another method takes its fixed steps, `at_fixed_steps`."""
        return self._has("at_fixed_steps")

    @property
    def has_tableau(self) -> bool:
        """Whether it has coefficients ``a``, of stages or of earlier states: implicit steps are found by iterations."""
        return self._has("a")

    @property
    def explicit_limit(self) -> float:
        """The limit of stability of a method's explicit part; infinite where it has none."""
        return float(getattr(self._method, "explicit_limit", np.inf))

    @property
    def doubles(self) -> bool:
        """Whether it can estimate its error by doubling its steps, `doubled`."""
        return self._has("doubled")

    @property
    def takes_fixed_steps(self) -> bool:
        """Whether its steps can be fixed, as those of most methods can."""
        return bool(getattr(self._method, "fixed_steps", True))

    @property
    def paired(self) -> bool:
        """Whether a second solution estimates its error, as of most methods that estimate it."""
        return bool(getattr(self._method, "paired", True))


def capabilities(method: Any) -> Capabilities:
    """Return what a method can do beyond the facts that every method has."""
    return Capabilities(method)


def is_method(given: object) -> bool:
    """Whether something is meant as a method; `catalogue.find_method` tells whether it states all facts of one."""
    return hasattr(given, "family") and not isinstance(given, type)


def in_use(method: Method, *, fixed: bool, local_extrapolation: bool | None) -> Method:
    """Return a method as a run uses it: with or without local extrapolation, or with its error by step doubling.

    Parameters
    ----------
    method : Method
    fixed : bool
        Whether steps are fixed.
    local_extrapolation : bool or None
        Which solution of a pair is carried on; None for the method's own choice.

    Returns
    -------
    Method

    Raises
    ------
    MethodError
        The method has no choice of orders.
    """
    can = capabilities(method)
    if local_extrapolation is not None:
        if not can.extrapolates:
            raise MethodError(
                f"{method.name} is no pair of an explicit method",
                name="local_extrapolation",
                location="local_extrapolation",
                expected="an explicit Runge-Kutta method, or no local_extrapolation=…",
                given=excerpt(local_extrapolation),
            )
        chosen: Method = cast("Any", method).extrapolating(local_extrapolation)
        return chosen
    if fixed:
        taken: Method = cast("Any", method).at_fixed_steps if can.changes_method else method
        return taken
    if can.paired:
        return method
    doubled: Method | None = cast("Any", method).doubled if can.doubles else None
    if doubled is None:
        raise MethodError(f"{method.name} neither is a pair nor doubles its steps", name="paired", location="method",
                          expected="doubled, or paired = True", given="paired = False")  # fmt: skip
    return doubled
