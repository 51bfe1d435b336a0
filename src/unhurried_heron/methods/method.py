"""What every method says of itself, whatever its family."""

from __future__ import annotations

from typing import Any, Final, NamedTuple, Protocol, cast

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


# what every method must say; one without a characteristic polynomial has no region, which is told when asked for
FACTS: Final = tuple(
    name for name, fact in vars(Method).items() if isinstance(fact, property) and name != "characteristic"
)


class Capabilities(NamedTuple):
    """What a method can do beyond the facts that every method has.

    Attributes
    ----------
    several_orders : bool
        Whether it holds a method for each order, `of_order`.
    several_stages : bool
        Whether it holds a method for each number of stages, `of_stages`.
    reaches_back : bool
        Whether its steps use states and rates of earlier steps, ``steps`` of them where the number is fixed.
    fixed_reach : bool
        Whether that number is fixed.
    extrapolates : bool
        Whether either order of a pair can be carried on, `extrapolating`.
    changes_method : bool
        Whether another method takes its fixed steps, `at_fixed_steps`.
    has_tableau : bool
        Whether it has the coefficients ``a`` of a Runge-Kutta method: implicit stages are solved for by iterations.
    doubles : bool
        Whether it can estimate its error by doubling its steps, `doubled`.
    takes_fixed_steps : bool
        Whether its steps can be fixed.
    paired : bool
        Whether a second solution estimates its error.
    """

    several_orders: bool
    several_stages: bool
    reaches_back: bool
    fixed_reach: bool
    extrapolates: bool
    changes_method: bool
    has_tableau: bool
    doubles: bool
    takes_fixed_steps: bool
    paired: bool


# the members by which a method shows what it can do, in the order of the first fields
_MEMBERS: Final = ("of_order", "of_stages", "recurrence", "steps", "extrapolating", "at_fixed_steps", "a", "doubled")
# facts that are true of a method that does not state them
_UNLESS_STATED: Final = ("fixed_steps", "paired")


def capabilities(method: Any) -> Capabilities:
    """Return what a method can do beyond the facts that every method has."""
    own = getattr(method, "__dict__", ())
    # the type is asked: a property may have no value for this method, and say why where it is read
    found = [hasattr(type(method), member) or member in own for member in _MEMBERS]
    return Capabilities(*found, *(bool(getattr(method, fact, True)) for fact in _UNLESS_STATED))


def is_method(given: object) -> bool:
    """Whether something is meant as a method; `catalogue.find_method` tells whether it states all facts of one."""
    return hasattr(given, "family") and not isinstance(given, type)


def in_use(method: Method, *, fixed: bool, local_extrapolation: bool | None) -> Method:
    """Return a method as a run uses it: with or without local extrapolation, or with its error by step doubling.

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
