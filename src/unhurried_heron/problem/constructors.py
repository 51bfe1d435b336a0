"""The ways to say a problem; each is a constructor of `Problem`."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final, TypeVar, Unpack

from unhurried_heron.input.event import Event
from unhurried_heron.input.problem_input import (
    ProblemInput,
    SharedInput,
    WrittenInput,
    as_tuple,
    by_name,
    shared_fields,
)

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

_SHARED: Final = tuple(SharedInput.__annotations__)
_WRITTEN: Final = tuple(WrittenInput.__annotations__)
_DEFAULTS: Final = {"title": "", "check_units": True, **dict.fromkeys(("events", "conserved", "never_negative"), ())}
_Constructor = TypeVar("_Constructor", bound=Callable[..., Any])


def _showing(names: Iterable[str]) -> Callable[[_Constructor], _Constructor]:
    """Return a decorator after which a constructor shows the shared keywords one by one to whoever asks for help."""

    def decorated(constructor: _Constructor) -> _Constructor:
        signature = inspect.signature(constructor)
        own = [each for each in signature.parameters.values() if each.kind is not each.VAR_KEYWORD]
        kind = inspect.Parameter.KEYWORD_ONLY
        shared = [inspect.Parameter(name, kind, default=_DEFAULTS.get(name)) for name in names]
        constructor.__signature__ = signature.replace(parameters=own + shared)  # type: ignore[attr-defined]  # of any function
        return constructor

    return decorated


@_showing(_WRITTEN)
def from_text(
    cls: type[Problem],
    equations: str,
    *,
    initial: Mapping[str, Any],
    interval: tuple[Any, Any],
    **shared: Unpack[WrittenInput],
) -> Problem:
    """Say a problem as on paper.

    Parameters
    ----------
    equations : str
        Equations in any order and arrangement, of any order of derivative (``z''``); ``name = formula`` for derived
        quantities; ``u[i]' = … for i in 1..n`` for indexed states. Formulas use ``+ - * / ^``, parentheses,
        comparisons, ``and or not``, the time ``t`` and the functions listed in the documentation.
    initial : mapping of str to float, str or array
        A value for every state (``z``, ``z'``): a number, a quantity such as ``"80 cm"``, or a formula of parameters;
        for indexed states also an array, or ``"u[i]": "formula of i"``.
    interval : (from, to)
        Two different times; ``from`` may be the later one.
    parameters, inputs, events, exact, units, conserved, never_negative, title, check_units : optional
        As `SharedInput` and `WrittenInput` describe them.

    Returns
    -------
    Problem

    Raises
    ------
    FormulationError
        One of its subclasses, with ``name``, ``location``, ``expected`` and ``given``.

    Examples
    --------
    >>> from unhurried_heron import Problem
    >>> slosh = Problem.from_text("m*z'' + k*z = 0", initial={"z": 0.1, "z'": 0}, parameters={"m": 2, "k": 8},
    ...                           interval=(0, 10))
    >>> slosh.states
    ('z', "z'")
    """
    more = shared_fields(shared, _WRITTEN, "from_text")
    return cls.of(ProblemInput(form="equations", text=equations, initial=initial, interval=interval, **more))


@_showing(_WRITTEN)
def from_lagrangian(
    cls: type[Problem],
    energies: str,
    coordinates: Sequence[str],
    *,
    forces: Mapping[str, str] | None = None,
    initial: Mapping[str, Any],
    interval: tuple[Any, Any],
    **shared: Unpack[WrittenInput],
) -> Problem:
    """Say a problem by its energies; the equations of motion are derived.

    Parameters
    ----------
    energies : str
        Lines ``kinetic = …`` and ``potential = …`` (or ``lagrangian = …``) in the coordinates and their first
        derivatives, and formulas they use.
    coordinates : sequence of str
        Generalised coordinates.
    forces : mapping of str to str, optional
        Forces along coordinates that do not come from the potential, friction for one.
    initial : mapping
        A value for each coordinate and for its first derivative.
    interval, parameters, inputs, events, exact, units, conserved, never_negative, title, check_units
        As for `from_text`.

    Returns
    -------
    Problem

    Raises
    ------
    FormulationError
        One of its subclasses.

    Notes
    -----
    Lagrange's equations d/dt(dL/dq') - dL/dq = Q: H. Goldstein, C. Poole and J. Safko, *Classical Mechanics*,
    3rd ed. (2002), section 1.4. The ``energy`` among the derived quantities is q' dL/dq' - L (section 2.7).
    """
    more = shared_fields(shared, _WRITTEN, "from_lagrangian") | {"text": energies, "forces": by_name(forces)}
    more |= {"coordinates": tuple(coordinates)}
    return cls.of(ProblemInput(form="lagrangian", initial=initial, interval=interval, **more))


@_showing(_WRITTEN)
def from_hamiltonian(
    cls: type[Problem],
    energies: str,
    coordinates: Mapping[str, str],
    *,
    forces: Mapping[str, str] | None = None,
    initial: Mapping[str, Any],
    interval: tuple[Any, Any],
    **shared: Unpack[WrittenInput],
) -> Problem:
    """Say a problem by its Hamiltonian; Hamilton's equations are derived.

    Parameters
    ----------
    energies : str
        A line ``hamiltonian = …`` (or ``kinetic`` and ``potential``), and formulas it uses.
    coordinates : mapping of str to str
        The momentum of each coordinate, as in ``{"z": "p"}``.
    forces : mapping of str to str, optional
        Forces along coordinates, added to the rates of their momenta.
    initial, interval, parameters, inputs, events, exact, units, conserved, never_negative, title, check_units
        As for `from_text`.

    Returns
    -------
    Problem

    Raises
    ------
    FormulationError
        One of its subclasses.

    Notes
    -----
    H. Goldstein, C. Poole and J. Safko, *Classical Mechanics*, 3rd ed. (2002), section 8.1.
    """
    more = shared_fields(shared, _WRITTEN, "from_hamiltonian") | {"text": energies, "forces": by_name(forces)}
    more |= {"coordinates": tuple(coordinates), "momenta": tuple(coordinates.values())}
    return cls.of(ProblemInput(form="hamiltonian", initial=initial, interval=interval, **more))


@_showing(_SHARED)
def from_rates(
    cls: type[Problem],
    rates: Callable[..., Any],
    *,
    initial: Mapping[str, Any],
    interval: tuple[Any, Any],
    derived: Mapping[str, str | Callable[..., Any]] | None = None,
    switches: Iterable[str | Callable[..., Any]] = (),
    jacobian: Callable[..., Any] | None = None,
    sparsity: Any = None,
    **shared: Unpack[SharedInput],
) -> Problem:
    """Say a problem by a Python function, or one compiled by Numba's ``njit``.

    Parameters
    ----------
    rates : callable
        Its arguments are matched by name: ``t`` is the time, ``y`` the whole state (an array of shape (n_states,)),
        ``p`` the parameters (``p.area``), any other the state or parameter of that name. It returns a sequence of
        n_states numbers in the order of ``initial``, or a dict by state name.
    initial, interval, parameters, events, exact, units, conserved, never_negative, title, check_units
        As for `from_text`; the order of ``initial`` is the order of the states.
    derived : mapping of str to str or callable, optional
        Formulas of states, parameters and ``t``, or functions of them, that appear in every table and figure.
    switches : iterable of str or callable
        Where the function jumps or has a kink: equations such as ``"t = 6"`` or ``"level = crest"``, or functions that
        are zero there.
    jacobian : callable, optional
        d rates / d states, shape (n_states, n_states), its arguments matched like those of ``rates``.
    sparsity : array_like, optional
        Nonzero where that matrix can be, shape (n_states, n_states).

    Returns
    -------
    Problem

    Raises
    ------
    FormulationError
        One of its subclasses. The function is called at the start to check what it returns, that it leaves its
        arguments alone, and that it gives the same answer twice.
    """
    more = shared_fields(shared, _SHARED, "from_rates") | {"switches": as_tuple(switches, "switches")}
    more |= {"derived": by_name(derived), "jacobian": jacobian, "sparsity": sparsity}
    return cls.of(ProblemInput(form="rates", function=rates, initial=initial, interval=interval, **more))


def from_file(cls: type[Problem], path: str | Path, *, events: Iterable[Event] = ()) -> Problem:
    """Read a problem file (TOML); ``events`` are looked for besides those of the file.

    Raises
    ------
    DocumentError
        The file cannot be read, or a key is unknown, missing or of the wrong type.
    FormulationError
        What it says is no problem that can be integrated.
    """
    from unhurried_heron.input.file_reader import read_document

    return cls.from_content(read_document(Path(path)), events=events)


def from_content(cls: type[Problem], user_input: ProblemInput, *, events: Iterable[Event] = ()) -> Problem:
    """Make a problem of what `file_reader.parse_document` returns."""
    return cls.of(replace(user_input, events=(*user_input.events, *events)))
