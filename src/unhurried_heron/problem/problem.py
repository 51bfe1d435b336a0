"""The immutable `Problem`: equations, starting values, parameters, interval, and what to look for."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.problem_input import ProblemInput, by_name, listed
from unhurried_heron.model.model import Model
from unhurried_heron.problem.assembly import settle
from unhurried_heron.problem.pointwise import PointwiseProblem
from unhurried_heron.problem.replacement import changed


@dataclass(frozen=True, repr=False, eq=False)
class Problem(PointwiseProblem):
    """An initial-value problem: equations, initial values, parameters and an interval.

    Make one with `from_text`, `from_lagrangian`, `from_hamiltonian`, `from_file` or `from_rates`; change one with
    `with_`, which gives a copy.

    Attributes
    ----------
    initial : mapping of str to float
        Starting value of each state, in the order of the states; NaN where a parameter is still open.
    parameters : mapping of str to float
        Value of each parameter that has one.
    open : tuple of str
        Parameters that still need a value.
    interval : tuple of float
        Times from which and to which to integrate; it may run backwards.
    events : tuple of Event
        What every run of this problem looks for.
    inputs : mapping of str to Measured
        Measured quantities that the equations use.
    units : mapping of str to str
        Units by name (``t`` for the time).
    title : str
        What figures and tables call the problem.
    integrate_options : mapping of str to object
        What a problem file says under ``[integrate]``.
    """

    @classmethod
    def of(cls, user_input: ProblemInput, model: Model | None = None) -> Problem:
        """Make a problem of everything said; a ``model`` made before for the same structure is used again."""
        made = cls(user_input, settle(user_input, ErrorCollector(), model))
        made.refuse_disagreements()
        return made

    def __reduce__(self) -> Any:
        return Problem, (self.user_input, self.assembled)

    @classmethod
    def from_text(
        cls,
        equations: str,
        *,
        initial: Mapping[str, Any],
        interval: tuple[Any, Any],
        parameters: Mapping[str, Any] | None = None,
        inputs: Mapping[str, Measured] | None = None,
        events: Iterable[Event] = (),
        exact: Mapping[str, str] | None = None,
        units: Mapping[str, str] | None = None,
        conserved: Iterable[str] = (),
        never_negative: Iterable[str] = (),
        title: str = "",
        check_units: bool = True,
    ) -> Problem:
        """Say a problem as on paper.

        Parameters
        ----------
        equations : str
            Equations in any order and arrangement, of any order of derivative (``z''``); ``name = formula`` for derived
            quantities; ``u[i]' = … for i in 1..n`` for indexed states. Formulas use ``+ - * / ^``, parentheses,
            comparisons, ``and or not``, the time ``t`` and the functions listed in the documentation.
        initial : mapping of str to float, str or array
            A value for every state (``z``, ``z'``): a number, a quantity such as ``"80 cm"``, or a formula of
            parameters; for indexed states also an array, or ``"u[i]": "formula of i"``.
        parameters : mapping of str to float, str or None
            A value for every constant: a number, a quantity, a formula of others, or None where it is left open.
        interval : (from, to)
            Two different times; ``from`` may be the later one.
        inputs : mapping of str to Measured, optional
            Measured quantities, by the names they have in the equations.
        events : iterable of Event
            What to look for in every run.
        exact : mapping of str to str, optional
            Closed forms of states in terms of ``t`` and parameters, used to measure errors.
        units : mapping of str to str, optional
            Units by name (``t`` for the time), to which the equations are held.
        conserved : iterable of str
            Derived quantities, states or formulas that should keep their value: comparisons tell how far they drift.
        never_negative : iterable of str
            States, indexed ones too, that are never negative: adaptive steps keep them so, comparisons tell how low
            fixed ones let them fall.
        title : str
            What figures and tables call the problem.
        check_units : bool
            Whether units that disagree are refused; `check_units` tells of them in any case.

        Raises
        ------
        FormulationError
            One of its subclasses, with ``name``, ``location``, ``expected`` and ``given``.

        Examples
        --------
        >>> slosh = Problem.from_text("m*z'' + k*z = 0", initial={"z": 0.1, "z'": 0}, parameters={"m": 2, "k": 8},
        ...                           interval=(0, 10))
        >>> slosh.states
        ('z', "z'")
        """
        return cls.of(
            ProblemInput(
                form="equations",
                text=equations,
                initial=initial,
                parameters=parameters,
                interval=interval,
                inputs=by_name(inputs),
                events=listed(events, "events"),
                exact=by_name(exact),
                units=by_name(units),
                conserved=listed(conserved, "conserved"),
                never_negative=listed(never_negative, "never_negative"),
                title=title,
                check_units=check_units,
            )
        )

    @classmethod
    def from_lagrangian(
        cls,
        energies: str,
        coordinates: Sequence[str],
        *,
        forces: Mapping[str, str] | None = None,
        initial: Mapping[str, Any],
        interval: tuple[Any, Any],
        parameters: Mapping[str, Any] | None = None,
        inputs: Mapping[str, Measured] | None = None,
        events: Iterable[Event] = (),
        exact: Mapping[str, str] | None = None,
        units: Mapping[str, str] | None = None,
        conserved: Iterable[str] = (),
        never_negative: Iterable[str] = (),
        title: str = "",
        check_units: bool = True,
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

        Raises
        ------
        FormulationError
            One of its subclasses.

        Notes
        -----
        Lagrange's equations d/dt(dL/dq') - dL/dq = Q: H. Goldstein, C. Poole and J. Safko, *Classical Mechanics*,
        3rd ed. (2002), section 1.4. The ``energy`` among the derived quantities is q' dL/dq' - L (section 2.7).
        """
        return cls.of(
            ProblemInput(
                form="lagrangian",
                text=energies,
                coordinates=tuple(coordinates),
                forces=by_name(forces),
                initial=initial,
                parameters=parameters,
                interval=interval,
                inputs=by_name(inputs),
                events=listed(events, "events"),
                exact=by_name(exact),
                units=by_name(units),
                conserved=listed(conserved, "conserved"),
                never_negative=listed(never_negative, "never_negative"),
                title=title,
                check_units=check_units,
            )
        )

    @classmethod
    def from_hamiltonian(
        cls,
        energies: str,
        coordinates: Mapping[str, str],
        *,
        forces: Mapping[str, str] | None = None,
        initial: Mapping[str, Any],
        interval: tuple[Any, Any],
        parameters: Mapping[str, Any] | None = None,
        inputs: Mapping[str, Measured] | None = None,
        events: Iterable[Event] = (),
        exact: Mapping[str, str] | None = None,
        units: Mapping[str, str] | None = None,
        conserved: Iterable[str] = (),
        never_negative: Iterable[str] = (),
        title: str = "",
        check_units: bool = True,
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

        Raises
        ------
        FormulationError
            One of its subclasses.

        Notes
        -----
        H. Goldstein, C. Poole and J. Safko, *Classical Mechanics*, 3rd ed. (2002), section 8.1.
        """
        return cls.of(
            ProblemInput(
                form="hamiltonian",
                text=energies,
                coordinates=tuple(coordinates),
                momenta=tuple(coordinates.values()),
                forces=by_name(forces),
                initial=initial,
                parameters=parameters,
                interval=interval,
                inputs=by_name(inputs),
                events=listed(events, "events"),
                exact=by_name(exact),
                units=by_name(units),
                conserved=listed(conserved, "conserved"),
                never_negative=listed(never_negative, "never_negative"),
                title=title,
                check_units=check_units,
            )
        )

    @classmethod
    def from_rates(
        cls,
        rates: Callable[..., Any],
        *,
        initial: Mapping[str, Any],
        interval: tuple[Any, Any],
        parameters: Mapping[str, Any] | None = None,
        derived: Mapping[str, str | Callable[..., Any]] | None = None,
        switches: Iterable[str | Callable[..., Any]] = (),
        jacobian: Callable[..., Any] | None = None,
        sparsity: Any = None,
        events: Iterable[Event] = (),
        exact: Mapping[str, str] | None = None,
        units: Mapping[str, str] | None = None,
        conserved: Iterable[str] = (),
        never_negative: Iterable[str] = (),
        title: str = "",
        check_units: bool = True,
    ) -> Problem:
        """Say a problem by a Python function, or one compiled by Numba's ``njit``.

        Parameters
        ----------
        rates : callable
            Its arguments are matched by name: ``t`` is the time, ``y`` the whole state (an array of shape
            (n_states,)), ``p`` the parameters (``p.area``), any other the state or parameter of that name. It
            returns a sequence of n_states numbers in the order of ``initial``, or a dict by state name.
        derived : mapping of str to str or callable, optional
            Formulas of states, parameters and ``t``, or functions of them, that appear in every table and figure.
        switches : iterable of str or callable
            Where the function jumps or has a kink: equations such as ``"t = 6"`` or ``"level = crest"``, or functions
            that are zero there.
        jacobian : callable, optional
            d rates / d states, shape (n_states, n_states), its arguments matched like those of ``rates``.
        sparsity : array_like, optional
            Nonzero where that matrix can be, shape (n_states, n_states).
        initial, interval, parameters, events, exact, units, conserved, never_negative, title, check_units
            As for `from_text`; the order of ``initial`` is the order of the states.

        Raises
        ------
        FormulationError
            One of its subclasses. The function is called at the start to check what it returns, that it leaves its
            arguments alone, and that it gives the same answer twice.
        """
        return cls.of(
            ProblemInput(
                form="rates",
                function=rates,
                initial=initial,
                parameters=parameters,
                interval=interval,
                events=listed(events, "events"),
                exact=by_name(exact),
                units=by_name(units),
                derived=by_name(derived),
                switches=listed(switches, "switches"),
                jacobian=jacobian,
                sparsity=sparsity,
                conserved=listed(conserved, "conserved"),
                never_negative=listed(never_negative, "never_negative"),
                title=title,
                check_units=check_units,
            )
        )

    @classmethod
    def from_file(cls, path: str | Path, *, events: Iterable[Event] = ()) -> Problem:
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

    @classmethod
    def from_content(cls, user_input: ProblemInput, *, events: Iterable[Event] = ()) -> Problem:
        """Make a problem of what `document.parse_document` returns."""
        return cls.of(replace(user_input, events=(*user_input.events, *events)))

    def to_file(self, path: str | Path) -> None:
        """Write the problem as `from_file` reads it, as it was said; a table that stands elsewhere becomes part of it.

        Raises
        ------
        DocumentError
            The problem holds Python functions, which no file can.
        OSError
            The file cannot be written.
        """
        from unhurried_heron.disk import write_whole
        from unhurried_heron.input.file_writer import write_document

        content = write_document(self.user_input, Path(path).parent)
        write_whole(path, lambda file: file.write(content))

    def with_(
        self,
        *,
        parameters: Mapping[str, Any] | None = None,
        initial: Mapping[str, Any] | None = None,
        interval: tuple[Any, Any] | None = None,
        events: Iterable[Event] | None = None,
        conserved: Iterable[str] | None = None,
        never_negative: Iterable[str] | None = None,
    ) -> Problem:
        """Return a copy with some values changed; nothing is compiled again unless a size changes.

        Raises
        ------
        UnusedValueError
            A name is no parameter or no state.
        """
        words = {"interval": interval, "events": events, "conserved": conserved, "never_negative": never_negative}
        made = Problem(*changed(self, {"parameters": parameters, "initial": initial}, **words))
        if events is not None or conserved is not None:
            made.refuse_disagreements()
        return made
