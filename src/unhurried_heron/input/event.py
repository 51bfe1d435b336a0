"""Events: something that happens when an equation becomes true along the solution, or at known times."""

from __future__ import annotations

import numbers
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final, Literal

from unhurried_heron.errors import ExpressionError, ValueGivenError, as_text, excerpt, near_spelling
from unhurried_heron.formulas.expression import Node, add, number
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.input.definitions import QUANTITY
from unhurried_heron.input.rules import FINITE, POSITIVE_COUNT

Going = Literal["up", "down", "either"]
GOING: dict[str, int] = {"up": 1, "down": -1, "either": 0}


_SIGN: Final = re.compile(r"[<>!=]=?=?")
# which way the left side passes the right one where the relation becomes true
_DIRECTIONS: Final[dict[str, Going]] = {"=": "either", ">=": "up", ">": "up", "<=": "down", "<": "down"}
Time = float | str


@dataclass(frozen=True)
class Event:
    """Something to look for during a run: its time and the state there are recorded, and it may change the model.

    Parameters
    ----------
    when : str or callable, optional
        An equation such as ``"level = 1.2"``, a relation such as ``"level >= 1.2"`` for where it becomes true, or a
        function of ``t``, ``y``, ``p`` or named states and parameters whose sign change marks the event.
    name : str, optional
        What the event is called in tables; by default what it happens at, in words.
    going : {"up", "down", "either"}
        Which way the left side must pass the right one (a function: its value must pass zero).
    stop : bool
        Whether the run ends there.
    then : str, sequence of str, mapping of str to str or float, or callable, optional
        What changes there: assignments to states and parameters, ``"v = -restitution*v"``, several in lines of their
        own, or formulas by name, ``{"v": "-restitution*v"}``. All right sides are taken before anything changes. A
        function, its arguments matched by name, returns a dict of what changes.
    at : float, str or sequence of these, optional
        Known times, "6 h", in place of ``when``; they are landed on exactly.
    every, first : float or str, optional
        Known times that come again and again: from ``first`` on, which is one such period after the start of the run
        unless it is said.
    only_if : str or callable, optional
        A condition, ``"gate > 0"``: where it does not hold, nothing happens.
    at_most : int, optional
        It happens at most this many times.
    stop_after : int, optional
        The run ends when it has happened this many times.

    Raises
    ------
    ValueGivenError
        One of them is something else.

    Examples
    --------
    >>> Event("level = 1.2", name="overtops", going="up", stop=True)
    Event('level = 1.2', name='overtops', going='up', stop=True)
    """

    when: str | Callable[..., Any] | None = None
    name: str = ""
    going: Going = "either"
    stop: bool = False
    then: str | Sequence[str] | Mapping[str, str | float] | Callable[..., Any] | None = None
    at: Time | Sequence[Time] | None = None
    every: Time | None = None
    first: Time | None = None
    only_if: str | Callable[..., Any] | None = None
    at_most: int | None = None
    stop_after: int | None = None

    def __post_init__(self) -> None:
        user_input: dict[str, Any] = {"at": self.at, "then": self.then}
        if isinstance(user_input["at"], numbers.Real | str):
            user_input["at"] = (user_input["at"],)
        if isinstance(self.then, Mapping):
            user_input["then"] = tuple(f"{name} = {value}" for name, value in self.then.items())
        for key, given in user_input.items():
            if given is not None and not isinstance(given, str) and not callable(given):
                object.__setattr__(self, key, tuple(given) if hasattr(given, "__iter__") else given)
        _check_kinds(self)
        sign = _SIGN.search(self.when) if isinstance(self.when, str) else None
        if sign and self.going == "either":
            object.__setattr__(self, "going", _DIRECTIONS.get(sign[0], "either"))
        if not self.name:
            object.__setattr__(self, "name", self._label())

    @property
    def timed(self) -> bool:
        """Whether it happens at known times."""
        return self.when is None

    @property
    def is_equation(self) -> bool:
        """Whether it is said by an equation, which a value that jumps over the other side does not fulfil."""
        sign = _SIGN.search(self.when) if isinstance(self.when, str) else None
        return sign is None or sign[0] == "="

    @property
    def called(self) -> tuple[Callable[..., Any], ...]:
        """The functions among its parts."""
        return tuple(each for each in (self.when, self.then, self.only_if) if callable(each))

    @property
    def assignments(self) -> str:
        """Its assignments, one to a line; nothing where there are none, or a function."""
        return self.then if isinstance(self.then, str) else "\n".join(self.then) if isinstance(self.then, tuple) else ""

    def _label(self) -> str:
        if isinstance(self.when, str):
            return self.when.strip()
        if self.when is not None:
            return getattr(self.when, "__name__", "event")
        if self.every is not None:
            return f"every {self.every}"
        times: Any = self.at or ()
        return "at " + ", ".join(str(time) for time in times[:3]) + (" …" if len(times) > 3 else "")

    def __repr__(self) -> str:
        plain = {name: each.default for name, each in self.__dataclass_fields__.items()}
        arguments = [f"{name}={getattr(self, name)!r}" for name in plain if getattr(self, name) != plain[name]]
        return f"Event({', '.join(arguments)})".replace("Event(when=", "Event(")

    def read(self, plain: Callable[[float, str, str], float] | None = None) -> Formula:
        """Read the equation of a written event as ``left - right``.

        ``plain`` turns a quantity such as ``80 cm``, beside the text on the other side, into a plain number.

        Parameters
        ----------
        plain : callable, optional
            What makes a plain number of a quantity.

        Returns
        -------
        Formula

        Raises
        ------
        ExpressionError
            The text is not one equation.
        """
        text = str(self.when)
        location = f"the event '{self.name}'"
        signs = list(_SIGN.finditer(text))
        left, right = (text[: signs[0].start()], text[signs[0].end() :]) if signs else (text, "")
        if len(signs) != 1 or signs[0][0] not in _DIRECTIONS:
            raise ExpressionError(
                "an event is said by one equation",
                name=self.name,
                location=location,
                expected='"left = right", or "left >= right" for where it becomes true',
                given=text,
            )
        source = Source(text, location)
        ends = [(0, len(left), right), (len(text) - len(right), len(text), left)]
        sides = []
        for begin, end, beside in ends:
            quantity = QUANTITY.match(text[begin:end]) if plain and end - begin < 200 else None
            if quantity and plain:
                value = plain(float(quantity["number"]), quantity["unit"].strip(), beside.strip())
                sides.append(Formula(number(value), source, {}))
            else:
                sides.append(read(source, begin, end))
        mentions = {**sides[1].mentions, **sides[0].mentions}
        spans = {**sides[1].spans, **sides[0].spans}
        calls = {**sides[1].calls, **sides[0].calls}
        return Formula(add(sides[0].node, Node("neg", sides[1].node)), source, mentions, spans, calls)


def _check_kinds(event: Event) -> None:
    """Refuse what cannot be a part of an event.

    Raises
    ------
    ValueGivenError
    """
    ways = [name for name in ("when", "at", "every") if getattr(event, name) is not None]
    if len(ways) != 1:
        given = " and ".join(ways) or "nothing"
        raise _wrong("an event needs one thing to look for", ways[0] if ways else "when", given,
                     'an equation such as "level = 1.2", a function, times (at=[6, 18]), or every="24 h"')  # fmt: skip
    if not isinstance(event.going, str) or event.going not in GOING:
        raise _wrong(f"an event cannot be going '{as_text(event.going)}'{near_spelling(event.going, GOING)}", "going",
                     event.going, "up, down or either")  # fmt: skip
    if event.timed and event.going != "either":
        raise _wrong("known times go neither up nor down", "going", event.going, "no direction with at or every")
    if event.first is not None and event.every is None:
        raise _wrong("a first time belongs to times that come again", "first", event.first, "every as well")
    if not isinstance(event.name, str):
        raise _wrong("the name of an event is a text", "name", event.name, "a text")
    if not isinstance(event.stop, bool):
        raise _wrong("stop is yes or no", "stop", event.stop, "true or false")
    texts: dict[str, tuple[type, ...]] = {"when": (str,), "only_if": (str,), "then": (str, tuple)}
    for name, kinds in texts.items():
        given = getattr(event, name)
        if given is not None and not isinstance(given, kinds) and not callable(given):
            raise _wrong(f"'{name}' of an event cannot be this", name, given, _EXPECTED[name])
    if isinstance(event.then, tuple) and not all(isinstance(each, str) for each in event.then):
        raise _wrong("'then' of an event cannot be this", "then", event.then, _EXPECTED["then"])
    for name in ("at_most", "stop_after"):
        count = getattr(event, name)
        if count is not None and not POSITIVE_COUNT.holds(count):
            raise _wrong(f"'{name}' is a count", name, count, POSITIVE_COUNT.expected)
    user_input: dict[str, Any] = {"at": event.at or (), "every": (event.every,), "first": (event.first,)}
    for name, times in user_input.items():
        for each in times if isinstance(times, tuple) else (times,):
            if each is not None and not FINITE.holds(each) and not isinstance(each, str):
                raise _wrong(f"'{name}' of an event is no time", name, each, 'a time such as 6 or "6 h"')


_EXPECTED: Final = {
    "when": 'an equation such as "level = 1.2", or a function',
    "only_if": 'a condition such as "gate > 0", or a function',
    "then": 'assignments such as "v = -restitution*v", formulas by name, or a function that returns a dict',
}


def _wrong(message: str, name: str, given: Any, expected: str) -> ValueGivenError:
    """Return the error that refuses an argument of an event.

    Parameters
    ----------
    message : str
    name : str
        Of the argument.
    given : object
    expected : str
        What was expected.

    Returns
    -------
    ValueGivenError
    """
    shown = given if name == "when" and isinstance(given, str) else excerpt(given)
    return ValueGivenError(message, name=name, location="an Event", expected=expected, given=shown)
