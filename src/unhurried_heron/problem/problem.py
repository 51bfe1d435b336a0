"""The immutable `Problem`: equations, starting values, parameters, interval, and what to look for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, Unpack

from unhurried_heron.arrays import Array
from unhurried_heron.equality import same
from unhurried_heron.errors import OpenParameterError, listing
from unhurried_heron.formulas.narrow_features import StepLimitWindow, narrow_windows
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.event import Event
from unhurried_heron.input.input_field import EVERY
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.problem_input import ChangedInput, ProblemInput, changes_of
from unhurried_heron.model.action import modes_of
from unhurried_heron.model.first_order import FirstOrder
from unhurried_heron.model.model import Model
from unhurried_heron.model.switch_types import Switch, input_switch
from unhurried_heron.model.time_switches import TimeSwitch, time_switches, with_times
from unhurried_heron.problem import constructors, fingerprint, pointwise
from unhurried_heron.problem.assembly import AssembledProblem, assemble, without_unused
from unhurried_heron.problem.invariants import conserved_quantities, never_negative_states
from unhurried_heron.problem.replacement import changed

if TYPE_CHECKING:
    from unhurried_heron.problem.measures import Disagreement


@dataclass(frozen=True, repr=False, eq=False)
class Problem:
    """An initial-value problem: equations, initial values, parameters and an interval.

    Make one with `from_text`, `from_lagrangian`, `from_hamiltonian`, `from_file`, `from_rates` or `from_residuals`;
    change one with `with_`, which gives a copy.

    Attributes
    ----------
    user_input : ProblemInput
        What was said, word for word.
    assembled : AssembledProblem
        The model and the values that it comes to.
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

    user_input: ProblemInput = field(repr=False)
    assembled: AssembledProblem = field(repr=False)

    @classmethod
    def of(cls, user_input: ProblemInput, model: Model | None = None) -> Problem:
        """Make a problem of everything said; a ``model`` made before for the same structure is used again.

        Parameters
        ----------
        user_input : ProblemInput
        model : Model or None
            One made before for the same structure, which is used again.

        Returns
        -------
        Problem
        """
        made = cls(user_input, assemble(user_input, ErrorCollector(), model))
        made.refuse_disagreements()
        return made

    from_text = classmethod(constructors.from_text)
    from_lagrangian = classmethod(constructors.from_lagrangian)
    from_hamiltonian = classmethod(constructors.from_hamiltonian)
    from_rates = classmethod(constructors.from_rates)
    from_residuals = classmethod(constructors.from_residuals)
    from_file = classmethod(constructors.from_file)
    from_content = classmethod(constructors.from_content)
    rates_at = pointwise.rates_at
    jacobian_at = pointwise.jacobian_at
    eigenvalues_at = pointwise.eigenvalues_at

    def __reduce__(self) -> Any:
        return Problem, (self.user_input, self.assembled)

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Problem):
            return NotImplemented
        # the order of the states of a function is that of their values, in which mappings do not differ
        pairs = zip(fingerprint.decisive(self), fingerprint.decisive(other), strict=True)
        return self.user_input == other.user_input and all(same(mine, its) for mine, its in pairs)

    def __hash__(self) -> int:
        return hash(self.fingerprint)

    @property
    def fingerprint(self) -> str:
        """A hash of all that decides the solution: equations, values and interval (64 hexadecimal digits)."""
        return fingerprint.fingerprint(self)

    def __repr__(self) -> str:
        kept = {"initial": self.initial, "parameters": dict(self.parameters), "interval": self.interval}
        return f"Problem({self.title!r}, " + ", ".join(f"{key}={value!r}" for key, value in kept.items()) + ")"

    def __str__(self) -> str:
        """The equations, values with their units, the interval and the events."""
        from unhurried_heron.problem.printing import in_text

        return in_text(self)

    def to_file(self, path: str | Path) -> None:
        """Write the problem as `from_file` reads it, as it was said; a table that stands elsewhere becomes part of it.

        Parameters that a change left without use are not written.

        Parameters
        ----------
        path : str or Path

        Raises
        ------
        DocumentError
            The problem holds Python functions, which no file can.
        OSError
            The file cannot be written.
        """
        from unhurried_heron.disk import write_whole
        from unhurried_heron.input.file_writer import write_document

        content = write_document(without_unused(self.user_input, self.assembled), Path(path).parent)
        write_whole(path, lambda file: file.write(content))

    @constructors.showing({key: name for form in EVERY for key, name in changes_of(form).items()}, {})
    def with_(self, **changes: Unpack[ChangedInput]) -> Problem:
        """Return a copy with some of what was said changed; nothing is compiled again unless the structure changes.

        Parameters
        ----------
        **changes
            What the constructor takes, by its names. Of what is given by name (``parameters``, ``initial``,
            ``units``, ``inputs``, ``exact``, ``forces``, ``derived``) single names change, and the others stay as they
            are; None there takes one away, and leaves a parameter open. Lists and texts are given whole. An argument
            that is None changes nothing.

        Returns
        -------
        Problem

        Raises
        ------
        UnusedValueError
            A name is no parameter or no state.
        ValueGivenError
            A problem of this form has no such argument.
        FormulationError
            One of its other subclasses: what was said no longer fits together.

        Examples
        --------
        >>> from unhurried_heron import Problem
        >>> slosh = Problem.from_text("z'' + 4*z = 0", initial={"z": 0.1, "z'": 0}, interval=(0, 10))
        >>> slosh.with_(initial={"z": 0.2}, interval=(0, 1)).start
        array([0.2, 0. ])
        """
        user_input, assembled, again = changed(self, changes)
        made = Problem(user_input, assembled)
        if again:
            made.refuse_disagreements()
        return made

    @property
    def model(self) -> Model:
        """The structure without values."""
        return self.assembled.model

    @property
    def initial(self) -> Mapping[str, float]:
        """Starting value of each state."""
        return self.assembled.initial

    @property
    def start(self) -> Array:
        """Starting values as an array of the caller's own, shape (n_states,)."""
        return self.assembled.initial.array.copy()

    @property
    def parameters(self) -> Mapping[str, float]:
        """Value of each parameter that has one."""
        return MappingProxyType(self.assembled.values)

    @property
    def open(self) -> tuple[str, ...]:
        """Parameters that were left open, and so still need a value."""
        return self.assembled.open

    @property
    def interval(self) -> tuple[float, float]:
        """From when to when."""
        return self.assembled.interval

    @property
    def units(self) -> Mapping[str, str]:
        """Units by name."""
        return MappingProxyType(dict(self.assembled.units))

    @cached_property
    def checked(self) -> dict[tuple[int, ...], tuple[Any, ...]]:
        """Events that were given to runs and checked, by their identities; neither pickled nor copied."""
        return {}

    @property
    def events(self) -> tuple[Event, ...]:
        """What every run looks for."""
        return self.user_input.events

    @property
    def inputs(self) -> Mapping[str, Measured]:
        """Measured quantities by name."""
        return MappingProxyType(dict(self.user_input.inputs))

    @property
    def title(self) -> str:
        """What figures and tables call the problem."""
        return self.user_input.title

    @property
    def integrate_options(self) -> Mapping[str, Any]:
        """What a problem file says under ``[integrate]``."""
        return MappingProxyType(dict(self.user_input.integrate_options))

    @property
    def states(self) -> tuple[str, ...]:
        """Names of the states, in order; members of an indexed state one by one."""
        return self.model.layout.names

    @property
    def derived(self) -> tuple[str, ...]:
        """Names of the derived quantities, in order."""
        return (*self.model.derived_layout.names, *self.model.functions)

    @cached_property
    def conserved(self) -> tuple[str, ...]:
        """Quantities that should keep their value: those declared, and the energy of a system without forces."""
        return conserved_quantities(self.user_input, self.model, self.derived)

    @property
    def never_negative(self) -> tuple[str, ...]:
        """States that are never negative, members of indexed states one by one."""
        return never_negative_states(self.user_input, self.model)

    @cached_property
    def modes(self) -> tuple[str, ...]:
        """Parameters that its events change during a run; all of them, where a function says what changes."""
        return modes_of(self.model, self.events, self.units) if self.events else ()

    @cached_property
    def switches(self) -> tuple[Switch, ...]:
        """Jumps and kinks that a run treats one by one: those of known times lands on, the others it locates."""
        return self._switches(self.modes)

    def switches_beside(self, modes: tuple[str, ...]) -> tuple[Switch, ...]:
        """Return the switches of a run in which some parameters change, so that times that need them are not known.

        Parameters
        ----------
        modes : tuple of str
            Parameters that change in the run.

        Returns
        -------
        tuple[Switch, ...]
        """
        return self.switches if modes == self.modes else self._switches(modes)

    def time_switches(self, modes: tuple[str, ...]) -> tuple[TimeSwitch | None, ...]:
        """Return how the times of the switches in the rates follow from parameters.

        Parameters
        ----------
        modes : tuple of str
            Parameters that change in the run.

        Returns
        -------
        tuple of TimeSwitch or None
        """
        names = tuple(name for name in self.parameters if name not in modes)
        switches = self.model.rates.switches
        made: tuple[TimeSwitch | None, ...] = self.model.remembered(
            ("known times", names), lambda: time_switches(switches, names)
        )
        return made

    def _switches(self, modes: tuple[str, ...]) -> tuple[Switch, ...]:
        values = {name: value for name, value in self.parameters.items() if name not in modes}
        found = [*with_times(self.model.rates.switches, self.time_switches(modes), values, self.interval)]
        for name, table in self.user_input.inputs.items():
            found.append(input_switch(name, table.kinks, table.interpolation == "previous", self.interval))
        return tuple(found)

    @cached_property
    def narrow(self) -> tuple[StepLimitWindow, ...]:
        """Where formulas of time alone vary within a small part of the interval, and how long steps may be there."""
        formulas, values = self.model.of_time, self.parameters
        if not formulas:
            return ()
        follow = [values[name] for name in self.model.names_of_time if name in values]
        ends = min(self.interval), max(self.interval)
        found: tuple[StepLimitWindow, ...] = self.model.lately(
            ("narrow", *follow, self.interval), lambda: narrow_windows(formulas, values, *ends)[0]
        )
        return found

    def first_order(self) -> FirstOrder:
        """Return the first-order equations that are integrated, to be printed or put into LaTeX.

        Raises
        ------
        OrderError
            The rates are a Python function.
        """
        return FirstOrder.of(self.model)

    def jacobian_pattern(self) -> Any:
        """Return where d rates / d states can be nonzero, a SciPy sparse matrix of booleans, shape (n, n).

        It is exact for written equations; for a Python function it is the ``sparsity`` given, or everything.
        """
        return self.model.rates.pattern()

    def refuse_open(self) -> None:
        """Refuse to run with open parameters.

        Raises
        ------
        OpenParameterError
            All of them are named.
        """
        if self.open:
            raise OpenParameterError(
                "parameters are still open: " + listing(self.open, quoted=True),
                names=self.open,
                location="parameters",
                expected="a value for each: integrate(…, parameters={…}) or problem.with_(parameters={…})",
            )

    def check_units(self) -> tuple[Disagreement, ...]:
        """Hold every term of every equation to the declared units; empty where all agree.

        Raises
        ------
        UnitError
            A declared unit is none.
        """
        from unhurried_heron.problem.dimensions import disagreements

        return disagreements(self)

    def refuse_disagreements(self) -> None:
        """Refuse units that disagree, where it was not said that they may.

        Raises
        ------
        UnitError
            All disagreements, or the first dozen of them.
        """
        if self.user_input.check_units and any(self.units.values()):
            from unhurried_heron.problem.dimensions import refuse_disagreements

            refuse_disagreements(self)
