"""When two problems are the same: by what decides the solution, as a tuple and as a hash."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.problem_input import FIELDS
from unhurried_heron.model.functions import function_print

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem


def decisive(problem: Problem) -> tuple[Any, ...]:
    """Return what decides the solution beside the words."""
    model, values = problem.assembled.model, problem.assembled.values
    known = tuple(values.get(name) for name in model.parameters)
    mass = None if model.mass is None else model.mass.bytes()
    made_by = tuple(each.name for each in model.transformations)
    return made_by, model.layout, model.parameters, known, problem.start.tobytes(), problem.interval, mass


def fingerprint(problem: Problem) -> str:
    """Return a hash of all that decides the solution: equations, values and interval (64 hexadecimal digits)."""
    user_input = problem.user_input
    words = [user_input.form, *(_digest(getattr(user_input, name)) for name, known in FIELDS.items() if known.decides)]
    numbers = [dict(problem.parameters), problem.interval, hashlib.sha256(problem.start.tobytes()).hexdigest()]
    if problem.model.mass is not None:
        numbers.append(hashlib.sha256(problem.model.mass.bytes()).hexdigest())
    return hashlib.sha256(json.dumps([words, numbers], sort_keys=True).encode()).hexdigest()


def _digest(value: Any) -> Any:
    """Return what stands for a value that was said: events that only look decide nothing."""
    if isinstance(value, Event):
        return None if value.then is None else [repr(value), *map(function_print, value.called)]
    if isinstance(value, Measured):
        rows = np.concatenate([value.times, value.values]).tobytes()
        return [value.interpolation, hashlib.sha256(rows).hexdigest()]
    if isinstance(value, Mapping):
        return [[name, _digest(each)] for name, each in sorted(value.items())]
    if isinstance(value, tuple | list):
        return [found for each in value if (found := _digest(each)) is not None]
    return function_print(value) if callable(value) else value
