"""Events: something that happens when an equation becomes true along the solution."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final, Literal

from unhurried_heron.errors import ExpressionError, ValueGivenError, near_spelling
from unhurried_heron.formulas.expression import Node, add, number
from unhurried_heron.formulas.grammar import Formula, Source, read
from unhurried_heron.words.definitions import QUANTITY

Going = Literal["up", "down", "either"]
GOING: dict[str, int] = {"up": 1, "down": -1, "either": 0}


_SIGN: Final = re.compile(r"[<>!=]=?=?")
# which way the left side passes the right one where the relation becomes true
_DIRECTIONS: Final[dict[str, Going]] = {"=": "either", ">=": "up", ">": "up", "<=": "down", "<": "down"}


@dataclass(frozen=True)
class Event:
    """Something to look for during a run: its time and the state there are recorded.

    Parameters
    ----------
    when : str or callable
        An equation such as ``"level = 1.2"``, a relation such as ``"level >= 1.2"`` for where it becomes true, or a
        function of ``t``, ``y``, ``p`` or named states and parameters whose sign change marks the event.
    name : str, optional
        What the event is called in tables; the text of ``when`` if left out.
    going : {"up", "down", "either"}
        Which way the left side must pass the right one (a function: its value must pass zero).
    stop : bool
        Whether the run ends there.

    Raises
    ------
    ValueGivenError
        ``going`` or ``stop`` is something else.

    Examples
    --------
    >>> Event("level = 1.2", name="overtops", going="up", stop=True)
    Event(when='level = 1.2', name='overtops', going='up', stop=True)
    """

    when: str | Callable[..., Any]
    name: str = ""
    going: Going = "either"
    stop: bool = False

    def __post_init__(self) -> None:
        if not isinstance(self.going, str) or self.going not in GOING:
            raise ValueGivenError(
                f"an event cannot be going '{self.going}'{near_spelling(str(self.going), GOING)}",
                name="going",
                place="an Event",
                expected="up, down or either",
                given=repr(self.going),
            )
        if not isinstance(self.stop, bool):
            raise ValueGivenError(
                "stop is yes or no",
                name="stop",
                place="an Event",
                expected="true or false",
                given=repr(self.stop),
            )
        if not isinstance(self.when, str) and not callable(self.when):
            raise ValueGivenError(
                "an event needs something to look for",
                name="when",
                place="an Event",
                expected='an equation such as "level = 1.2", or a function',
                given=repr(self.when),
            )
        if not isinstance(self.name, str):
            raise ValueGivenError(
                "the name of an event is a text",
                name="name",
                place="an Event",
                expected="a text",
                given=repr(self.name),
            )
        sign = _SIGN.search(self.when) if isinstance(self.when, str) else None
        if sign and self.going == "either":
            object.__setattr__(self, "going", _DIRECTIONS.get(sign[0], "either"))
        if not self.name:
            label = self.when.strip() if isinstance(self.when, str) else getattr(self.when, "__name__", "event")
            object.__setattr__(self, "name", label)

    def read(self, plain: Callable[[float, str, str], float] | None = None) -> Formula:
        """Read the equation of a written event as ``left - right``.

        ``plain`` turns a quantity such as ``80 cm``, beside the text on the other side, into a plain number.

        Raises
        ------
        ExpressionError
            The text is not one equation.
        """
        text = str(self.when)
        place = f"the event '{self.name}'"
        signs = list(_SIGN.finditer(text))
        left, right = (text[: signs[0].start()], text[signs[0].end() :]) if signs else (text, "")
        if len(signs) != 1 or signs[0][0] not in _DIRECTIONS:
            raise ExpressionError(
                "an event is said by one equation",
                name=self.name,
                place=place,
                expected='"left = right", or "left >= right" for where it becomes true',
                given=text,
            )
        source = Source(text, place)
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
        return Formula(add(sides[0].node, Node("neg", sides[1].node)), source, mentions, spans)
