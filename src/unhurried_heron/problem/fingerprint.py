"""When two problems are the same: by what decides the solution, as a tuple and as a hash."""

from __future__ import annotations

import hashlib
import json
from typing import TYPE_CHECKING, Any

import numpy as np

from unhurried_heron.model.functions import function_print

if TYPE_CHECKING:
    from unhurried_heron.problem.problem import Problem


def decisive(problem: Problem) -> tuple[Any, ...]:
    """Return what decides the solution beside the words."""
    model, values = problem.assembled.model, problem.assembled.values
    known = tuple(values.get(name) for name in model.parameters)
    return type(model), model.layout, model.parameters, known, problem.start.tobytes(), problem.interval


def fingerprint(problem: Problem) -> str:
    """Return a hash of all that decides the solution: equations, values and interval (64 hexadecimal digits)."""
    user_input = problem.user_input
    words = [
        user_input.form,
        user_input.text,
        user_input.coordinates,
        user_input.momenta,
        sorted(user_input.forces.items()),
    ]
    functions = [user_input.function, *(each for each in user_input.switches if callable(each))]
    words.append([function_print(function) for function in functions if function is not None])
    words += [[repr(event), *map(function_print, event.called)] for event in problem.events if event.then is not None]
    numbers = [dict(problem.parameters), problem.interval, hashlib.sha256(problem.start.tobytes()).hexdigest()]
    for name, table in sorted(user_input.inputs.items()):
        rows = np.concatenate([table.times, table.values]).tobytes()
        numbers.append([name, table.interpolation, hashlib.sha256(rows).hexdigest()])
    return hashlib.sha256(json.dumps([words, numbers], sort_keys=True).encode()).hexdigest()
