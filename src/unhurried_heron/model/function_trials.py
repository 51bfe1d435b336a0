"""A first call of each function of the user, and what is said of answers that cannot be used."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from unhurried_heron.errors import HeronError, RateFunctionError, excerpt, listing, near_spelling
from unhurried_heron.formulas.layout import Values
from unhurried_heron.model.functions import Answers, NamedFunction, in_shape


def try_rates(function: NamedFunction, time: float, state: Values, values: list[float]) -> NamedFunction:
    """Call a rate function and learn what it returns.

    Parameters
    ----------
    function : NamedFunction
    time : float
        In the unit of the problem's time.
    state : Values
    values : list of float
        Values of the parameters.

    Returns
    -------
    NamedFunction

    Raises
    ------
    RateFunctionError
        It raises, or returns neither a sequence of as many numbers as there are states nor a dict by state name; it
        changes its arguments, or answers the same question twice in different ways.
    """
    given = state.array.copy()
    result = _try(function, time, given, values)
    if not np.array_equal(given, state.array):
        index = int(np.flatnonzero(given != state.array)[0])
        raise RateFunctionError(
            f"{function.label} changes the state it is given",
            name=function.label,
            location=f"{function.label}, called at t = {time:g}",
            expected="a function that leaves its arguments as they are and returns new numbers",
            given=f"y[{index}] ({function.states[index]}) became {given[index]:g}",
        )
    n = function.layout.size
    function = replace(function, answers=_kind_of(function, result))
    first = _numbers(function, _flat(function, result), n, "fiu")
    second = _numbers(function, _flat(function, _try(function, time, given, values)), n, "fiu")
    differ = np.flatnonzero(~((first == second) | (np.isnan(first) & np.isnan(second))))
    if differ.size:
        raise RateFunctionError(
            f"{function.label} gives different answers to the same question",
            name=function.label,
            location=f"{function.label}, called twice at t = {time:g}",
            expected="rates that depend on time, state and parameters alone",
            given=f"{first[differ[0]]:g}, then {second[differ[0]]:g} for {function.states[differ[0]]}",
        )
    return function


def _kind_of(function: NamedFunction, result: Any) -> Answers:
    """Return how a function answers.

    Raises
    ------
    RateFunctionError
        A dict does not fit the states.
    """
    groups = function.layout.groups
    if isinstance(result, Mapping):
        names = [group.name for group in groups]
        missing, extra = [name for name in names if name not in result], [str(k) for k in result if k not in names]
        if missing or extra:
            hints = "".join(near_spelling(name, names) for name in extra[:1])
            raise RateFunctionError(
                f"{function.label} returned a dict that does not fit the states{hints}",
                name=listing(missing + extra),
                location=function.label,
                expected="one rate for each of " + listing(names),
                given=listing(map(str, result)) or "an empty dict",
            )
        return "names"
    if function.n_answers == 1 and np.ndim(result) == 0:
        return "number"
    if isinstance(result, tuple | list) and len(result) == len(groups) and any(each.value_box for each in groups):
        # of arrays of one member each, a sequence of numbers is one as well
        return "parts" if any(np.ndim(each) for each in result) else "flat"
    return (
        "shaped" if len(groups) == 1 and np.shape(result) == groups[0].value_shape and np.ndim(result) > 1 else "flat"
    )


def _flat(function: NamedFunction, result: Any) -> Any:
    """Return the numbers of an answer in order; parts of another shape are told by the state that they belong to.

    Raises
    ------
    RateFunctionError
    """
    try:
        return function.flat(result)
    except (TypeError, ValueError, KeyError):
        by_state = function.n_answers == len(function.layout.groups) and np.shape(result) == (function.n_answers,)
        if function.answers == "flat" and not by_state:
            return result
        parts = result.values() if isinstance(result, Mapping) else result
        named = {group.name: part for group, part in zip(function.layout.groups, parts, strict=False)}
    if isinstance(result, Mapping):
        named = {name: result[name] for name in named}
    for group in function.layout.groups:
        try:
            in_shape(named[group.name], group)
        except (TypeError, ValueError):
            part = np.asarray(named[group.name], dtype=object)
            kind = "complex" if group.complex else "real"
            raise RateFunctionError(
                f"{function.label} returned something for '{group.name}' that does not fit it",
                name=group.name,
                location=function.label,
                expected=f"{kind} numbers of shape {group.value_shape}" if group.value_box else f"a {kind} number",
                given=f"{type(named[group.name]).__name__} of shape {part.shape}",
            ) from None
    return result


def try_jacobian(function: NamedFunction, time: float, state: Values, values: list[float]) -> Any:
    """Call a Jacobian function once and return what it gives, shape (n_states, n_states).

    Parameters
    ----------
    function : NamedFunction
    time : float
        In the unit of the problem's time.
    state : Values
    values : list of float
        Values of the parameters.

    Returns
    -------
    ndarray, shape (n_states, n_states)

    Raises
    ------
    RateFunctionError
    """
    n = function.layout.size
    result = _try(function, time, state.array.copy(), values)
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
            expected=f"real numbers of shape ({n}, {n}): in row i the derivatives of rate i"
            + (", of real and imaginary parts in turn" if function.layout.has_complex else ""),
            given=given,
        )
    return array


def try_value(function: NamedFunction, time: float, state: Values, values: list[float]) -> None:
    """Call a function that must return one number.

    Parameters
    ----------
    function : NamedFunction
    time : float
        In the unit of the problem's time.
    state : Values
    values : list of float
        Values of the parameters.

    Raises
    ------
    RateFunctionError
    """
    _numbers(function, [_try(function, time, state.array.copy(), values)], 1)


def _try(function: NamedFunction, time: float, state: Any, values: list[float]) -> Any:
    """Call a function once; what it raises is told in our words.

    Parameters
    ----------
    function : NamedFunction
    time : float
        In the unit of the problem's time.
    state : ndarray, shape (n_states,)
    values : list of float
        Values of the parameters.

    Returns
    -------
    object

    Raises
    ------
    HeronError
        It raises; what raises in our own words keeps these.
    """
    try:
        return function.caller(values, interpreted=True)(time, state)
    except HeronError:
        raise
    except Exception as error:
        raise RateFunctionError(
            f"{function.label} failed in a trial call: {type(error).__name__}: {error}",
            name=function.label,
            location=f"{function.label}, called at t = {time:g}",
            expected=f"{function.layout.size} rates",
            given=type(error).__name__,
        ) from error


def _numbers(function: NamedFunction, result: Any, n: int, kinds: str = "fiub") -> Any:
    # rates are no truth values; what is asked besides may be one
    """Return what a function answered as an array of numbers.

    Parameters
    ----------
    function : NamedFunction
    result : object
        The answer.
    n : int
        How many numbers are wanted.
    kinds : str, optional
        NumPy's letters of kinds that count as numbers.

    Returns
    -------
    ndarray, shape (n_states,)

    Raises
    ------
    RateFunctionError
        It holds other things, or more or fewer.
    """
    try:
        array = np.asarray(result)
        good = array.shape == (n,) and array.dtype.kind in kinds
        given = f"{type(result).__name__} of shape {array.shape} and type {array.dtype}"
    except (ValueError, TypeError):
        good, given = False, f"{type(result).__name__}: {str(result)[:80]}"
    if not good or isinstance(result, str):
        names, kind = function.states, "real number"
        if function.layout.has_complex and n == len(names):
            names, kind = function.layout.value_names, "number"
            n = len(names)
        raise RateFunctionError(
            f"{function.label} returned something that is not {n} {kind}{'s' * (n != 1)}",
            name=function.label,
            location=function.label,
            expected=f"a sequence of {n} {kind}{'s' * (n != 1)}"
            + (" in the order " + listing(names[:40]) if n > 1 else ""),
            given=given,
        )
    return np.asarray(array, dtype=np.float64)


def unusable_answer(function: NamedFunction, answer: Any, n: int) -> RateFunctionError:
    """Return the error that an answer given during a run is no sequence of real numbers.

    Parameters
    ----------
    function : NamedFunction
    answer : object
    n : int
        How many numbers are wanted.

    Returns
    -------
    RateFunctionError
    """
    return RateFunctionError(
        f"{function.label} returned something unusable during the run",
        name=function.label,
        location=function.label,
        expected=f"{n} real number{'s' * (n != 1)}",
        given=excerpt(answer),
    )


def unusable(function: NamedFunction, answer: Any, n_outputs: int) -> RateFunctionError:
    """Return the error that belongs to an answer of a function that stopped without raising.

    Parameters
    ----------
    function : NamedFunction
    answer : object
    n_outputs : int
        How many numbers the function returns.

    Returns
    -------
    RateFunctionError
    """
    count = max(n_outputs, 1)
    length = len(answer) if hasattr(answer, "__len__") else 1
    error = unusable_answer(function, answer, count)
    if length == count:
        error.args = (f"{function.label} stopped the run, and answered when it was called again at the same point",)
    return error
