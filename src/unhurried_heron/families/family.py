"""The record that says what a family of methods is, which is all that the rest of the house knows of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Final, Literal, NamedTuple

from unhurried_heron.arrays import Array, IntArray, Records
from unhurried_heron.families.controller import Controller
from unhurried_heron.families.error_scale import ErrorScale, proportional
from unhurried_heron.families.linear import LinearSolver
from unhurried_heron.problem.problem import Problem

# Which mass matrices a method takes: none but the identity, regular ones, those with constraints too.
MassKind = Literal["identity", "regular", "with constraints"]
NO_MASS: Final[MassKind] = "identity"
REGULAR: Final[MassKind] = "regular"
WITH_CONSTRAINTS: Final[MassKind] = "with constraints"


def of_stiff_ends(method: Any) -> MassKind:
    """Return which mass matrices a Runge-Kutta method takes: constraints hold at its end if that is a stage."""
    return WITH_CONSTRAINTS if method.ends_in_a_stage else REGULAR


class Member(NamedTuple):
    """A family within another: its loaded kernel, its work space, and what its view of the problem has for its own.

    ``fields``: of `System` by name, where they differ from the march's.
    """

    kernel: Any
    work: WorkSpace
    fields: Mapping[str, Any] = MappingProxyType({})


class SetupRequest(NamedTuple):
    """What a family is to lay out its work space for.

    ``n`` states of a ``problem``; ``control`` (1,), the march's control record; ``scales`` of the error estimate;
    ``fixed``: whether the steps are; ``linear``: linear algebra for an implicit family; ``starter``: what a multistep
    method is to be started by; ``controller``: how the steps are to follow the error, where that was said; ``member``:
    lays out another method beside it, ``degree_of``: tells the degree of its polynomials; ``rates_of``: makes the
    native function that writes the rates of some of the states, by their indices, and may write others; ``parts``:
    those of the implicit and the explicit part of the rates, for an additive family.
    """

    n: int
    control: Records
    scales: ErrorScale
    fixed: bool
    linear: LinearSolver | None = None
    starter: Any = None
    controller: Controller | None = None
    problem: Problem | None = None
    member: Callable[[Any], Member] | None = None
    degree_of: Callable[[Any], int] | None = None
    rates_of: Callable[[IntArray], Any] | None = None
    parts: tuple[Any, Any] = (None, None)


class WorkSpace(NamedTuple):
    """What a family lays out.

    ``bundle``: a named tuple of arrays, records, whole numbers and addresses, which its kernel decodes (`bundles`).
    ``rates_at_state`` (n,): where its kernel keeps the rates at the present state. ``degree`` of its step polynomials.
    ``keep``: what else must stay alive. ``members``: other families that it asks, by ``links`` int64 (3 * members,),
    which the march fills (`kernels.march.members`).
    """

    bundle: Any
    rates_at_state: Array
    degree: int
    keep: tuple[Any, ...] = ()
    members: tuple[Member, ...] = ()
    links: Any = None


def _rows_of_interpolant(method: Any) -> int:
    return len(method.interpolant)


def _no_others(method: Any, relative: Array) -> tuple[Any, ...]:
    return ()


def _no_mass(method: Any) -> MassKind:
    return NO_MASS


def _always(method: Any, problem: Problem) -> str:
    return ""


@dataclass(frozen=True)
class Family:
    """A family of methods.

    Parameters
    ----------
    name : str
        What its methods have as their ``family``.
    kernel : str
        The compiled part, ``module.function``, which answers what `kernels.march` asks: of the package's kernels, or,
        written ``package.module:function``, from anywhere.
    lay_out : callable
        Makes a `WorkSpace` of a method and a `SetupRequest`.
    implicit : bool
        Whether its steps solve systems with the Jacobian, which is found for it.
    time_derivative : bool
        Whether its steps need the partial derivative of the rates by the time.
    scale : callable
        Translates the user's tolerances into those of the error estimate:
        ``scale(method, relative, absolute, state, fixed)``.
    reference : str
        The method that makes references for comparisons, "" where none is fit for it.
    beside : tuple of str
        Kernels that it calls as a rule, to be compiled at the same time where they are missing.
    takes_mass : callable
        Which mass matrices a method of it takes, `NO_MASS`, `REGULAR` or `WITH_CONSTRAINTS`.
    fits : callable
        Says why a method of it cannot march a problem, ``fits(method, problem)``; an empty text where it can.
    starts_by : callable, optional
        Of methods that others must start: the name of the one that starts a method where nothing is said.
    degree : callable, optional
        The degree of a method's step polynomials; by default as its ``interpolant`` has rows.
    takes_controller : bool
        Whether its steps follow a `Controller`, so that another can be asked for.
    members : callable, optional
        The methods that a method chooses among along the run, for the user's relative tolerances.
    second_later : bool
        Whether the second of them is laid out when it is first needed.
    first_steps : int
        How many steps are shorter, where it begins, than the error allows later.
    additive : bool
        Whether the Jacobian is that of the implicit part of the rates alone.
    strides : bool
        Whether its kernel answers STRIDE too.
    group_steps : callable, or None
        The address of a method's batches of steps for any number of states, and its rows of stages, where members of a
        sweep can take them together.
    """

    name: str
    kernel: str
    lay_out: Callable[[Any, SetupRequest], WorkSpace]
    implicit: bool = False
    time_derivative: bool = False
    scale: Callable[[Any, Array, Array, Array, bool], ErrorScale] = proportional
    reference: str = ""
    beside: tuple[str, ...] = ()
    takes_mass: Callable[[Any], MassKind] = _no_mass
    fits: Callable[[Any, Problem], str] = _always
    starts_by: Callable[[Any], Any] | None = None
    degree: Callable[[Any], int] = _rows_of_interpolant
    takes_controller: bool = False
    members: Callable[[Any, Array], tuple[Any, ...]] = _no_others
    second_later: bool = False
    first_steps: int = 0
    additive: bool = False
    strides: bool = False
    group_steps: Callable[[Any], tuple[int, int]] | None = None
