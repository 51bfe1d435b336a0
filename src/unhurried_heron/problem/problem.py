"""The immutable `Problem`: equations, starting values, parameters, interval, and what to look for."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import MappingProxyType
from typing import Any

from unhurried_heron.errors import NameClashError, UnusedValueError, ValueGivenError, near_spelling
from unhurried_heron.problem.equations import check_defined, check_name, read_equations
from unhurried_heron.problem.event import Event
from unhurried_heron.problem.expression import TIME, Node, names_in, replace_names
from unhurried_heron.problem.functions import NamedFunction, match_arguments, try_rates, try_value
from unhurried_heron.problem.grammar import Source, read
from unhurried_heron.problem.model import Model, read_exact, refuse_clashes, refuse_missing_rates, write_out
from unhurried_heron.problem.values import finite_values, initial_for, interval_ends, refuse_unused


@dataclass(frozen=True)
class Problem:
    """An initial-value problem: first-order equations, initial values, parameters and an interval.

    Make one with `from_text`, `from_file` or `from_rates`; change one with `with_`, which gives a copy.

    Attributes
    ----------
    initial : mapping of str to float
        Starting value of each state, in the order of the states.
    parameters : mapping of str to float
        Value of each parameter.
    interval : tuple of float
        Times from which and to which to integrate; it may run backwards.
    events : tuple of Event
        What every run of this problem looks for.
    units : mapping of str to str
        Units of states, derived quantities and the time ``t``, shown on axes.
    title : str
        What figures and tables call the problem.
    integrate_options : mapping of str to object
        What a problem file says under ``[integrate]``.
    """

    model: Model = field(repr=False)
    initial: Mapping[str, float]
    parameters: Mapping[str, float]
    interval: tuple[float, float]
    events: tuple[Event, ...] = ()
    units: Mapping[str, str] = field(default_factory=dict)
    title: str = ""
    integrate_options: Mapping[str, Any] = field(default_factory=dict, repr=False)

    def __post_init__(self) -> None:
        for attribute in ("initial", "parameters", "units", "integrate_options"):
            object.__setattr__(self, attribute, MappingProxyType(dict(getattr(self, attribute))))
        seen: set[str] = set()
        for event in self.events:
            if not isinstance(event, Event):
                raise ValueGivenError(
                    "events are given as Event objects",
                    name="events",
                    place="events",
                    expected='Event("level = 1.2")',
                    given=repr(event)[:80],
                )
            if event.name in seen:
                raise NameClashError(
                    f"two events are called '{event.name}'",
                    name=event.name,
                    place="events",
                    expected="a name for each event",
                    given=event.name,
                )
            seen.add(event.name)
            watched = self.model.watch(event)
            if isinstance(watched, NamedFunction):
                try_value(watched, self.interval[0], self.initial, [*self.parameters.values()])

    def __reduce__(self) -> Any:
        kept = (self.model, dict(self.initial), dict(self.parameters), self.interval, self.events)
        return Problem, (*kept, dict(self.units), self.title, dict(self.integrate_options))

    @classmethod
    def from_text(
        cls,
        equations: str,
        *,
        initial: Mapping[str, float],
        interval: tuple[float, float],
        parameters: Mapping[str, float] | None = None,
        events: Iterable[Event] = (),
        exact: Mapping[str, str] | None = None,
        units: Mapping[str, str] | None = None,
        title: str = "",
    ) -> Problem:
        """Say a problem as on paper.

        Parameters
        ----------
        equations : str
            Lines ``name' = formula`` for states and ``name = formula`` for derived quantities, in any order.
            Formulas use ``+ - * / ^``, parentheses, comparisons, ``and or not``, the time ``t`` and the functions
            listed in the documentation.
        initial, parameters : mapping of str to float
            A value for every state and for every constant.
        interval : (from, to)
            Two different times; ``from`` may be the later one.
        events : iterable of Event
            What to look for in every run.
        exact : mapping of str to str, optional
            Closed forms of states in terms of ``t`` and parameters, used to measure errors.
        units : mapping of str to str, optional
            Units shown on axes, by name (``t`` for the time).
        title : str
            What figures and tables call the problem.

        Raises
        ------
        FormulationError
            One of its subclasses, with ``name``, ``place``, ``expected`` and ``given``.

        Examples
        --------
        >>> decay = Problem.from_text("oxygen' = -k*oxygen", initial={"oxygen": 9}, parameters={"k": 0.2},
        ...                           interval=(0, 24))
        >>> decay.states
        ('oxygen',)
        """
        read_in = read_equations(equations)
        values = finite_values(parameters, "parameters")
        start = finite_values(initial, "initial")
        states = tuple(read_in.rates)
        refuse_clashes(values, states, tuple(read_in.derived))
        refuse_missing_rates(start, states, {**read_in.rates, **read_in.derived})
        written = {f"{state}'": formula for state, formula in read_in.rates.items()} | read_in.derived
        check_defined(written, [*states, *read_in.derived, *values], "the equations")
        derived = write_out({key: formula.node for key, formula in read_in.derived.items()})
        done: dict[Node, Node] = {}
        rates = tuple(replace_names(formula.node, derived.get, done) for formula in read_in.rates.values())
        model = Model(states, tuple(values), rates, derived, read_exact(exact, states, values), equations)
        return cls._finish(model, start, values, interval, tuple(events), units, title)

    @classmethod
    def from_rates(
        cls,
        rates: Callable[..., Any],
        *,
        initial: Mapping[str, float],
        interval: tuple[float, float],
        parameters: Mapping[str, float] | None = None,
        derived: Mapping[str, str] | None = None,
        events: Iterable[Event] = (),
        exact: Mapping[str, str] | None = None,
        units: Mapping[str, str] | None = None,
        title: str = "",
    ) -> Problem:
        """Say a problem by a Python function, or one compiled by Numba's ``njit``.

        Parameters
        ----------
        rates : callable
            Its arguments are matched by name: ``t`` is the time, ``y`` the whole state (an array of shape
            (n_states,)), ``p`` the parameters (``p.area``), any other the state or parameter of that name. It
            returns a sequence of n_states numbers in the order of ``initial``, or a dict by state name.
        derived : mapping of str to str, optional
            Formulas of states, parameters and ``t`` that appear in every table and figure.
        initial, interval, parameters, events, exact, units, title
            As for `from_text`; the order of ``initial`` is the order of the states.

        Raises
        ------
        FormulationError
            One of its subclasses. The function is called once, at the start, to check what it returns.
        """
        values = finite_values(parameters, "parameters")
        start = finite_values(initial, "initial")
        states = tuple(start)
        initial_for(states or ("at least one",), start)
        formulas = {key: read(Source(text, f"derived '{key}'")) for key, text in (derived or {}).items()}
        for key in formulas:
            check_name(key, "derived")
        refuse_clashes(values, states, tuple(formulas))
        check_defined(formulas, [*states, *formulas, *values], "derived quantities")
        ends = interval_ends(interval)
        function = try_rates(match_arguments(rates, states, tuple(values)), ends[0], start, [*values.values()])
        written_out = write_out({key: formula.node for key, formula in formulas.items()})
        model = Model(states, tuple(values), function, written_out, read_exact(exact, states, values), function.label)
        return cls._finish(model, start, values, interval, tuple(events), units, title)

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
        from unhurried_heron.problem.document import read_document

        said = read_document(Path(path))
        return cls.from_content(said, events=events)

    @classmethod
    def from_content(cls, said: Mapping[str, Any], *, events: Iterable[Event] = ()) -> Problem:
        """Make a problem of what `document.parse_document` returns."""
        arguments = dict(said)
        options = arguments.pop("integrate_options")
        problem = cls.from_text(arguments.pop("equations"), **arguments)
        return replace(problem, events=(*problem.events, *events), integrate_options=options)

    @classmethod
    def _finish(
        cls,
        model: Model,
        initial: dict[str, float],
        parameters: dict[str, float],
        interval: Any,
        events: tuple[Event, ...],
        units: Mapping[str, str] | None,
        title: str,
    ) -> Problem:
        start = initial_for(model.states, initial)
        problem = cls(model, start, parameters, interval_ends(interval), events, units or {}, title)
        if not isinstance(model.rates, NamedFunction):
            watched = [model.watch(event) for event in events]
            if not any(isinstance(each, NamedFunction) for each in watched):
                trees = [*model.rates, *model.derived.values(), *model.exact.values()]
                refuse_unused(parameters, names_in(*trees, *(w for w in watched if isinstance(w, Node))))
        for named in problem.units:
            known = [TIME, *model.states, *model.derived, *model.parameters]
            if named not in known:
                raise UnusedValueError(
                    f"a unit for '{named}', which is nothing known{near_spelling(named, known)}",
                    name=named,
                    place="units",
                    expected="units of " + ", ".join(known),
                    given=named,
                )
        return problem

    @property
    def states(self) -> tuple[str, ...]:
        """Names of the states, in order."""
        return self.model.states

    @property
    def derived(self) -> tuple[str, ...]:
        """Names of the derived quantities, in order."""
        return tuple(self.model.derived)

    def with_(
        self,
        *,
        parameters: Mapping[str, float] | None = None,
        initial: Mapping[str, float] | None = None,
        interval: tuple[float, float] | None = None,
        events: Iterable[Event] | None = None,
    ) -> Problem:
        """Return a copy with some values changed; nothing is compiled again.

        Raises
        ------
        UnusedValueError
            A name is no parameter or no state.
        """
        return replace(
            self,
            parameters=_changed(self.parameters, finite_values(parameters, "parameters"), "parameter"),
            initial=_changed(self.initial, finite_values(initial, "initial"), "state"),
            interval=self.interval if interval is None else interval_ends(interval),
            events=self.events if events is None else tuple(events),
        )

    @property
    def fingerprint(self) -> str:
        """A hash of all that decides the solution: equations, values and interval (64 hexadecimal digits)."""
        said = [self.model.text, dict(self.initial), dict(self.parameters), self.interval]
        return hashlib.sha256(json.dumps(said, sort_keys=True).encode()).hexdigest()


def _changed(old: Mapping[str, float], new: Mapping[str, float], kind: str) -> dict[str, float]:
    for named in new:
        if named not in old:
            raise UnusedValueError(
                f"there is no {kind} '{named}'{near_spelling(named, old)}",
                name=named,
                place=f"with_, {kind}s",
                expected="one of " + (", ".join(old) or "none"),
                given=named,
            )
    return {**old, **new}
