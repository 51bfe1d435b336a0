"""Rate functions in Python: their arguments are matched by name, their results checked by one trial call."""

from __future__ import annotations

import inspect
from collections import namedtuple
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from types import CellType
from typing import Any

import numpy as np

from unhurried_heron.errors import NameClashError, RateFunctionError, excerpt, listing, near_spelling
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.state_name import StateName

WHOLE_STATE, ALL_PARAMETERS = "y", "p"
_EMPTY_CELL = CellType()


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
    states, parameters : tuple of str
        The names of the problem, in order.
    by_name : bool
        Whether it returns a dict by state name.
    """

    function: Callable[..., Any]
    arguments: tuple[str, ...]
    states: tuple[str, ...]
    parameters: tuple[str, ...]
    by_name: bool = False

    @property
    def label(self) -> str:
        """How messages call the function."""
        return f"the function '{getattr(self.function, '__name__', 'rates')}'"

    def bundle(self, values: Sequence[float]) -> tuple[float, ...]:
        """Return the parameters as ``p``: a named tuple."""
        kind = namedtuple("Parameters", self.parameters)  # type: ignore[misc]  # the names are known only now
        parameters: tuple[float, ...] = kind(*values)
        return parameters

    def caller(self, values: Sequence[float], *, interpreted: bool = False) -> Callable[[float, Any], Any]:
        """Return ``call(t, y)`` that hands the named arguments to the function."""
        function = getattr(self.function, "py_func", self.function) if interpreted else self.function
        if self.arguments == (TIME, WHOLE_STATE) and WHOLE_STATE not in (*self.states, *self.parameters):
            return function
        words = {
            TIME: "t",
            WHOLE_STATE: "y",
            ALL_PARAMETERS: "p",
            **{name: f"v[{i}]" for i, name in enumerate(self.states)},
            **{name: f"k{i}" for i, name in enumerate(self.parameters)},
        }
        # a call written out is half the work of gathering arguments anew each time; its text holds nothing of the
        # user's but positions
        arguments = ", ".join(words[name] for name in self.arguments)
        numbers = "v = y.tolist()" if "v[" in arguments else "pass"
        known: dict[str, Any] = {"function": function, **{f"k{i}": value for i, value in enumerate(values)}}
        if ALL_PARAMETERS in self.arguments and ALL_PARAMETERS not in (*self.states, *self.parameters):
            known["p"] = self.bundle(values)
        exec(f"def call(t, y):\n    {numbers}\n    return function({arguments})", known)
        made: Callable[[float, Any], Any] = known["call"]
        return made


def match_arguments(
    function: Callable[..., Any], states: tuple[str, ...], parameters: tuple[str, ...]
) -> NamedFunction:
    """Find out by name what a function wants.

    Raises
    ------
    RateFunctionError
        An argument is neither ``t``, ``y``, ``p`` nor a state or parameter, or cannot be matched by name.
    NameClashError
        An argument could mean two things.
    """
    label = f"the function '{getattr(function, '__name__', 'rates')}'"
    # z' cannot be the name of an argument: it is asked for as z_prime
    # members of indexed states, of which there may be millions, are no names of arguments
    named = [state for state in states if not state.endswith("]")]
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
                + listing([*(StateName.read(state).spoken for state in states[:40]), *parameters]),
                given=argument.name,
            )
        else:
            break
    return NamedFunction(function, tuple(wanted), states, parameters)


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


def try_rates(function: NamedFunction, time: float, state: Mapping[str, float], values: list[float]) -> NamedFunction:
    """Call a rate function and learn what it returns.

    Raises
    ------
    RateFunctionError
        It raises, or returns neither a sequence of as many numbers as there are states nor a dict by state name; it
        changes its arguments, or answers the same question twice in different ways.
    """
    given = np.array([*state.values()])
    result = _try(function, time, given, values)
    if not np.array_equal(given, [*state.values()]):
        index = int(np.flatnonzero(given != [*state.values()])[0])
        raise RateFunctionError(
            f"{function.label} changes the state it is given",
            name=function.label,
            location=f"{function.label}, called at t = {time:g}",
            expected="a function that leaves its arguments as they are and returns new numbers",
            given=f"y[{index}] ({function.states[index]}) became {given[index]:g}",
        )
    n = len(function.states)
    by_name = isinstance(result, Mapping)
    if by_name:
        missing = [name for name in function.states if name not in result]
        extra = [str(name) for name in result if name not in function.states]
        if missing or extra:
            hints = "".join(near_spelling(name, function.states) for name in extra[:1])
            raise RateFunctionError(
                f"{function.label} returned a dict that does not fit the states{hints}",
                name=listing(missing + extra),
                location=function.label,
                expected="one rate for each of " + listing(function.states),
                given=listing(map(str, result)) or "an empty dict",
            )
    first = _numbers(function, _ordered(function, result), n, "fiu")
    second = _numbers(function, _ordered(function, _try(function, time, given, values)), n, "fiu")
    differ = np.flatnonzero(~((first == second) | (np.isnan(first) & np.isnan(second))))
    if differ.size:
        raise RateFunctionError(
            f"{function.label} gives different answers to the same question",
            name=function.label,
            location=f"{function.label}, called twice at t = {time:g}",
            expected="rates that depend on time, state and parameters alone",
            given=f"{first[differ[0]]:g}, then {second[differ[0]]:g} for {function.states[differ[0]]}",
        )
    return replace(function, by_name=by_name)


def _ordered(function: NamedFunction, result: Any) -> Any:
    return [result[name] for name in function.states] if isinstance(result, Mapping) else result


def try_jacobian(function: NamedFunction, time: float, state: Mapping[str, float], values: list[float]) -> Any:
    """Call a Jacobian function once and return what it gives, shape (n_states, n_states).

    Raises
    ------
    RateFunctionError
    """
    n = len(function.states)
    result = _try(function, time, np.array([*state.values()]), values)
    try:
        array = np.asarray(result)
        good = array.shape == (n, n) and array.dtype.kind in "fiub"
        given = f"{type(result).__name__} of shape {array.shape}"
    except (ValueError, TypeError):
        good, given, array = False, excerpt(result), np.empty(0)
    if not good:
        raise RateFunctionError(
            f"{function.label} returned something that is no Jacobian",
            name=function.label,
            location=function.label,
            expected=f"real numbers of shape ({n}, {n}): in row i the derivatives of rate i",
            given=given,
        )
    return array


def try_value(function: NamedFunction, time: float, state: Mapping[str, float], values: list[float]) -> None:
    """Call a function that must return one number.

    Raises
    ------
    RateFunctionError
    """
    _numbers(function, [_try(function, time, np.array([*state.values()]), values)], 1)


def _try(function: NamedFunction, time: float, state: Any, values: list[float]) -> Any:
    try:
        return function.caller(values, interpreted=True)(time, state)
    except Exception as error:
        raise RateFunctionError(
            f"{function.label} failed in a trial call: {type(error).__name__}: {error}",
            name=function.label,
            location=f"{function.label}, called at t = {time:g}",
            expected=f"{len(function.states)} rates",
            given=type(error).__name__,
        ) from error


def _numbers(function: NamedFunction, result: Any, n: int, kinds: str = "fiub") -> Any:
    # rates are no truth values; what is asked besides may be one
    try:
        array = np.asarray(result)
        good = array.shape == (n,) and array.dtype.kind in kinds
        given = f"{type(result).__name__} of shape {array.shape} and type {array.dtype}"
    except (ValueError, TypeError):
        good, given = False, f"{type(result).__name__}: {str(result)[:80]}"
    if not good or isinstance(result, str):
        raise RateFunctionError(
            f"{function.label} returned something that is not {n} real number{'s' * (n != 1)}",
            name=function.label,
            location=function.label,
            expected=f"a sequence of {n} real number{'s' * (n != 1)}"
            + (" in the order " + listing(function.states) if n > 1 else ""),
            given=given,
        )
    return np.asarray(array, dtype=np.float64)


def unusable_answer(function: NamedFunction, answer: Any, n: int) -> RateFunctionError:
    """Return the error that an answer given during a run is no ``n`` real numbers."""
    return RateFunctionError(
        f"{function.label} returned something unusable during the run",
        name=function.label,
        location=function.label,
        expected=f"{n} real number{'s' * (n != 1)}",
        given=excerpt(answer),
    )


def unusable(function: NamedFunction, answer: Any, n_outputs: int) -> RateFunctionError:
    """Return the error that belongs to an answer of a function that stopped without raising."""
    count = max(n_outputs, 1)
    length = len(answer) if hasattr(answer, "__len__") else 1
    error = unusable_answer(function, answer, count)
    if length == count:
        error.args = (f"{function.label} stopped the run, and answered when it was called again at the same point",)
    return error


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
