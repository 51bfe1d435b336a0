"""Rate functions in Python: their arguments are matched by name, their results checked by one trial call."""

from __future__ import annotations

import inspect
import itertools
import math
from collections import namedtuple
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from types import CellType
from typing import Any, Literal

import numpy as np

from unhurried_heron.errors import NameClashError, RateFunctionError, excerpt, listing, near_spelling
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.layout import Group, Layout
from unhurried_heron.formulas.state_name import StateName

WHOLE_STATE, ALL_PARAMETERS = "y", "p"
_EMPTY_CELL = CellType()
# How a function answers: a sequence of all numbers, one number where there is only one, the only state in its shape,
# a dict by state, or one part for each state, arrays in their shapes.
Answers = Literal["flat", "number", "shaped", "names", "parts"]


def is_compiled(function: Callable[..., Any]) -> bool:
    """Whether a function was made by Numba's ``njit`` (told without importing Numba)."""
    return hasattr(function, "py_func") and type(function).__module__.partition(".")[0] == "numba"


@dataclass(frozen=True)
class NamedFunction:
    """A function of named arguments, with the source of each argument in the order of its signature.

    Attributes
    ----------
    function : callable
        What the user wrote.
    arguments : tuple of str
        "t", "y", "p", or the name of a state or parameter.
    layout : Layout
        Of the states; a state that is an array is handed over in its shape.
    parameters : tuple of str
        Their names, in order.
    answers : str
        How it answers, as a first call showed.
    """

    function: Callable[..., Any]
    arguments: tuple[str, ...]
    layout: Layout
    parameters: tuple[str, ...]
    answers: Answers = "flat"

    @property
    def states(self) -> tuple[str, ...]:
        """The name of each number of the state."""
        return self.layout.names

    @property
    def label(self) -> str:
        """How messages call the function."""
        return f"the function '{getattr(self.function, '__name__', 'rates')}'"

    @property
    def n_answers(self) -> int:
        """How many values there are, complex ones where states are complex."""
        return sum(math.prod(group.value_shape) for group in self.layout.groups)

    def bundle(self, values: Sequence[float]) -> tuple[float, ...]:
        """Return the parameters as ``p``: a named tuple."""
        kind = namedtuple("Parameters", self.parameters)  # type: ignore[misc]  # the names are known only now
        parameters: tuple[float, ...] = kind(*values)
        return parameters

    def caller(self, values: Sequence[float], *, interpreted: bool = False) -> Callable[[float, Any], Any]:
        """Return ``call(t, y)`` that hands the named arguments to the function."""
        function = getattr(self.function, "py_func", self.function) if interpreted else self.function
        states = self.layout.by_name
        plain = not self.layout.has_complex
        if plain and self.arguments == (TIME, WHOLE_STATE) and WHOLE_STATE not in (*states, *self.parameters):
            return function
        words = {
            TIME: "t",
            WHOLE_STATE: "y" if plain else "whole(y)",
            ALL_PARAMETERS: "p",
            **{name: self._state("y", name) for name in states},
            **{name: f"k{i}" for i, name in enumerate(self.parameters)},
        }
        # a call written out is half the work of gathering arguments anew each time; its text holds nothing of the
        # user's but positions
        arguments = ", ".join(words[name] for name in self.arguments)
        numbers = "v = y.tolist()" if "v[" in arguments else "pass"
        known: dict[str, Any] = {
            "function": function,
            "whole": self._whole,
            **{f"k{i}": value for i, value in enumerate(values)},
        }
        if ALL_PARAMETERS in self.arguments and ALL_PARAMETERS not in (*states, *self.parameters):
            known["p"] = self.bundle(values)
        exec(f"def call(t, y):\n    {numbers}\n    return function({arguments})", known)
        made: Callable[[float, Any], Any] = known["call"]
        return made

    def _state(self, whole: str, name: str) -> str:
        """Return the text that takes one state out of the array of all."""
        group, begin = self.layout.by_name[name], self.layout.offsets[name]
        if group.complex and not group.value_box:
            return f"complex({whole}.item({begin}), {whole}.item({begin + 1}))"
        if group.box:
            part = f"{whole}[{begin}:{begin + group.size}]" + (".view('complex128')" if group.complex else "")
            return f"{part}.reshape({group.value_shape})" if len(group.value_shape) > 1 else part
        # one list of all numbers is faster than many numbers one by one, unless most of them are in arrays
        return f"{whole}.item({begin})" if self.layout.indexed else f"v[{begin}]"

    def _whole(self, numbers: Any) -> Any:
        """Return the values of all states in order, complex ones where some are complex."""
        parts = (self.layout.take(group.name, numbers) for group in self.layout.groups)
        return np.concatenate([np.ravel(part) for part in parts])

    def flat(self, answer: Any) -> Any:
        """Return the numbers of an answer in their order: a sequence, or an array of doubles.

        Raises
        ------
        TypeError, KeyError, ValueError
            It is no answer of the kind that the function gave first.
        """
        groups = self.layout.groups
        if self.answers == "flat" and not self.layout.has_complex:
            return answer
        if self.answers == "flat":
            sizes = itertools.accumulate(math.prod(group.value_shape) for group in groups)
            answer = np.split(np.asarray(answer), [*sizes][:-1])
            return np.concatenate([in_shape(np.reshape(part, each.value_shape), each)
                                   for part, each in zip(answer, groups, strict=True)])  # fmt: skip
        if self.answers == "number":
            return in_shape(answer, groups[0]) if self.layout.has_complex else (answer,)
        if self.answers == "shaped":
            return in_shape(answer, groups[0])
        if len(answer) != len(groups):
            raise TypeError
        parts = [answer[group.name] for group in groups] if self.answers == "names" else answer
        if not self.layout.indexed:
            return parts
        return np.concatenate([in_shape(part, each) for part, each in zip(parts, groups, strict=True)])


def in_shape(value: Any, group: Group) -> Any:
    """Return the values of a group as its numbers in order.

    Raises
    ------
    TypeError
        They have another shape, or are no numbers; complex ones for a group that is real.
    """
    array = np.asarray(value)
    if array.dtype.kind == "c" and not group.complex and not array.imag.any():
        array = array.real
    if array.shape != group.value_shape or array.dtype.kind not in ("fiubc" if group.complex else "fiub"):
        raise TypeError
    return np.ravel(array).astype(group.dtype, copy=False).view(np.float64)


def match_arguments(function: Callable[..., Any], layout: Layout, parameters: tuple[str, ...]) -> NamedFunction:
    """Find out by name what a function wants.

    Parameters
    ----------
    function : callable
    layout : Layout
        Of the states.
    parameters : tuple of str
        Their names.

    Returns
    -------
    NamedFunction

    Raises
    ------
    RateFunctionError
        An argument is neither ``t``, ``y``, ``p`` nor a state or parameter, or cannot be matched by name.
    NameClashError
        An argument could mean two things.
    """
    label = f"the function '{getattr(function, '__name__', 'rates')}'"
    # z' cannot be the name of an argument: it is asked for as z_prime
    named = list(layout.by_name)
    spoken = {StateName.read(state).spoken: state for state in named if StateName.read(state).primes}
    # a state or parameter called y or p takes the name for itself
    whole = [word for word in (WHOLE_STATE, ALL_PARAMETERS) if word not in (*named, *parameters)]
    known = [TIME, *whole, *named, *parameters, *spoken]
    wanted = []
    for argument in _arguments_of(function, label):
        if argument.name in known:
            if known.count(argument.name) > 1:
                raise _ambiguous(argument.name, label)
            wanted.append(spoken.get(argument.name, argument.name))
        elif argument.default is argument.empty:
            raise RateFunctionError(
                f"{label} asks for '{argument.name}', which is nothing known" + near_spelling(argument.name, known),
                name=argument.name,
                location=label,
                expected="t (time), y (whole state), p (all parameters), or a name among "
                + listing([*(StateName.read(state).spoken for state in named[:40]), *parameters]),
                given=argument.name,
            )
        else:
            break
    return NamedFunction(function, tuple(wanted), layout, parameters)


def _arguments_of(function: Callable[..., Any], label: str) -> Iterator[inspect.Parameter]:
    try:
        signature = inspect.signature(getattr(function, "py_func", function))
    except (TypeError, ValueError):
        raise RateFunctionError(
            f"{label} does not tell its arguments",
            name=label,
            location="the rate function",
            expected="a Python function, an @njit function or an object with __call__",
            given=excerpt(function),
        ) from None
    for argument in signature.parameters.values():
        if argument.kind in (argument.VAR_POSITIONAL, argument.VAR_KEYWORD, argument.KEYWORD_ONLY):
            raise RateFunctionError(
                f"{label} has an argument that cannot be matched by name",
                name=argument.name,
                location=label,
                expected="plain named arguments",
                given=str(argument),
            )
        yield argument


def _ambiguous(name: str, label: str) -> NameClashError:
    return NameClashError(
        f"in {label}, '{name}' could mean two things",
        name=name,
        location=label,
        expected="states and parameters with names other than y and p (y is the whole state, p all parameters)",
        given=f"a state or parameter called '{name}'",
    )


def function_print(function: Callable[..., Any]) -> str:
    """Return a text that tells a function from others: its code, its constants, what it took from around it."""
    plain = getattr(function, "py_func", function)
    code = getattr(plain, "__code__", None)
    if code is None:
        return f"{type(plain).__module__}.{type(plain).__qualname__} {plain!r}"
    cells = [cell.cell_contents for cell in plain.__closure__ or () if cell != _EMPTY_CELL]
    around = [excerpt(each) for each in (*cells, *(getattr(plain, "__defaults__", None) or ()))]
    inner = [each.co_code.hex() for each in code.co_consts if hasattr(each, "co_code")]
    constants = [repr(each) for each in code.co_consts if not hasattr(each, "co_code")]
    return " ".join([plain.__module__ or "", code.co_code.hex(), *code.co_names, *constants, *inner, *around])
