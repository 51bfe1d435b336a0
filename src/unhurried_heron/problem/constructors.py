"""The ways to say a problem; each is a constructor of `Problem`."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, Unpack

from unhurried_heron.input.event import Event
from unhurried_heron.input.problem_input import (
    UNSAID,
    ProblemInput,
    SharedInput,
    WrittenInput,
    arguments_of,
    input_of,
)

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem

_Function = TypeVar("_Function", bound=Callable[..., Any])


def showing(names: Mapping[str, str], defaults: Mapping[str, Any]) -> Callable[[_Function], _Function]:
    """Return a decorator after which a function shows its keywords one by one to whoever asks for help.

    Parameters
    ----------
    names : mapping of str to str
        The arguments that there are, each with its field.
    defaults : mapping of str to object
        What a field is where nothing is said of it; None for others.

    Returns
    -------
    callable
    """

    def decorated(function: _Function) -> _Function:
        signature = inspect.signature(function)
        own = [each for each in signature.parameters.values() if each.kind is not each.VAR_KEYWORD]
        kind, taken = inspect.Parameter.KEYWORD_ONLY, {each.name for each in own}
        rest = [inspect.Parameter(key, kind, default=defaults.get(name)) for key, name in names.items()
                if key not in taken]  # fmt: skip
        function.__signature__ = signature.replace(parameters=own + rest)  # type: ignore[attr-defined]  # of any function
        return function

    return decorated


@showing(arguments_of("equations"), UNSAID)
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
        As `ProblemInput` describes them.

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
    given = {"equations": equations, "initial": initial, "interval": interval, **shared}
    return cls.of(input_of("equations", "from_text", given))


@showing(arguments_of("lagrangian"), UNSAID)
def from_lagrangian(
    cls: type[Problem],
    energies: str,
    coordinates: Sequence[str],
    *,
    forces: Mapping[str, str] | None = None,
    constraints: Sequence[str] | Mapping[str, str] = (),
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
    constraints : sequence of str, or mapping of str to str, optional
        Equations that the coordinates meet, such as ``x^2 + y^2 = l^2``; in a mapping by the names of their
        multipliers lambda, which are ``multiplier_1``, … otherwise. The force that keeps a constraint ``a = b`` is
        lambda d(a - b)/dq along each coordinate q.
    initial : mapping
        A value for each coordinate and for its first derivative; those that constraints tell may be left out.
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
    3rd ed. (2002), section 1.4, with multipliers section 2.4. The ``energy`` among the derived quantities is
    q' dL/dq' - L (section 2.7).
    """
    given = {"energies": energies, "coordinates": coordinates, "forces": forces, "constraints": constraints, **shared}
    return cls.of(input_of("lagrangian", "from_lagrangian", {"initial": initial, "interval": interval, **given}))


@showing(arguments_of("hamiltonian"), UNSAID)
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
    given = {"energies": energies, "coordinates": coordinates, "forces": forces, **shared}
    return cls.of(input_of("hamiltonian", "from_hamiltonian", {"initial": initial, "interval": interval, **given}))


@showing(arguments_of("rates"), UNSAID)
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
    algebraic: Iterable[str] = (),
    mass: Any = None,
    **shared: Unpack[SharedInput],
) -> Problem:
    """Say a problem by a Python function, or one compiled by Numba's ``njit``.

    Parameters
    ----------
    rates : callable
        Its arguments are matched by name: ``t`` is the time, ``y`` the whole state (an array of shape (n_states,)),
        ``p`` the parameters (``p.area``), any other the state or parameter of that name; a state whose starting value
        is an array comes in its shape. It returns a sequence of n_states numbers in the order of ``initial``, a dict
        by state name, or one part for each state, arrays in their shapes.
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
    algebraic : iterable of str, optional
        States that no rate tells: what the function returns for them is a constraint, which is to be zero.
    mass : array_like or sparse matrix, optional
        M where the function tells M y' and not y', shape (n_states, n_states), or (n_states,) for its diagonal. A row
        of zeros makes a constraint of its equation, 0 = f(t, y), which the starting values must meet. Implicit methods
        march such problems; the constraints must determine states whose rates M leaves open (index 1).

    Returns
    -------
    Problem

    Raises
    ------
    FormulationError
        One of its subclasses. The function is called at the start to check what it returns, that it leaves its
        arguments alone, and that it gives the same answer twice.
    """
    given = {
        "rates": rates,
        "derived": derived,
        "switches": switches,
        "jacobian": jacobian,
        "sparsity": sparsity,
        "algebraic": algebraic,
        "mass": mass,
    }
    return cls.of(input_of("rates", "from_rates", {"initial": initial, "interval": interval, **given, **shared}))


def from_residuals(
    cls: type[Problem],
    residuals: Callable[..., Any],
    *,
    initial: Mapping[str, Any],
    interval: tuple[Any, Any],
    algebraic: Iterable[str] = (),
    sparsity: Any = None,
    **shared: Unpack[SharedInput],
) -> Problem:
    """Say a problem by residuals F(t, y, y') that are zero: rates need not be told one by one.

    The rates become algebraic states of their own, ``x_rate`` of ``x``, found at the start and marched with the others;
    F must determine them and the algebraic states (index 1).

    Parameters
    ----------
    residuals : callable
        Its arguments are matched by name: ``t``, states and ``x_rate``, the rate of a state ``x``; ``y`` the whole
        state and ``y_rate`` all rates, arrays of shape (n_states,), zero for algebraic states; parameters, and ``p``
        for all. It returns as many residuals as there are numbers in the states, in their order, or a dict by state.
    initial, interval, parameters, events, units, title
        As for `from_rates`.
    guess : mapping of str, optional
        Values near which algebraic states and rates (``"x_rate"``) are looked for at the start; rates from zero.
    algebraic : iterable of str, optional
        States that have no rate. Where rates are asked for by name, those whose rate is not are found so.
    sparsity : array_like or sparse matrix, optional
        Nonzero where a residual can depend on a state or on its rate, shape (n_states, n_states).

    Returns
    -------
    Problem

    Raises
    ------
    FormulationError
        One of its subclasses: there are not as many residuals as states, or they do not determine the rates.
    """
    from unhurried_heron.problem.residuals import residuals_of

    rates, guesses, still = residuals_of(residuals, initial, shared.get("guess") or {}, algebraic)
    started = {name: value for name, value in initial.items() if name not in guesses}
    shared["guess"] = guesses
    pattern = None if sparsity is None else rates.pattern(sparsity)
    return from_rates(cls, rates, initial=started, interval=interval, algebraic=still, sparsity=pattern, **shared)


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
