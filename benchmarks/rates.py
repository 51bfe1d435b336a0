"""What a rate function in plain Python costs above the function itself."""

from __future__ import annotations

import time

import numpy as np
from pairing import in_turn, prepared, seconds_of, verdict

from unhurried_heron.problem.problem import Problem


def array(t, y):
    """Return the state itself: nothing but overhead."""
    return y


def listed(t, y):
    """A list of three, as most people write it."""
    u, v, w = y
    return [10.0 * (v - u), u * (28.0 - w) - v, u * v - 8 / 3 * w]


def named(x, y_, z, s, r, b):
    """Named states and parameters."""
    return s * (y_ - x), x * (r - z) - y_, x * y_ - b * z


def report() -> None:
    """Print the overhead per call for several ways to write rates."""
    initial = {"x": 1.0, "y_": 1.0, "z": 1.0}
    parameters = {"s": 10.0, "r": 28.0, "b": 8 / 3}
    for function in (array, listed, named):
        problem = Problem.from_rates(function, initial=initial, parameters=parameters, interval=(0, 5))
        march = prepared(problem, "dormand-prince-54", 1e-7, 1e-7, 1e-4)

        def plain(function=function) -> float:
            y, values = np.ones(3), [*parameters.values()]
            arguments = (0.0, y) if function is not named else (1.0, 1.0, 1.0, *values)
            begun = time.perf_counter()
            for _ in range(5000):
                function(*arguments)
            return (time.perf_counter() - begun) / 5000 * 1e6

        def inside(march=march, problem=problem) -> float:
            taken = seconds_of(march, problem, 1e-4)
            return taken / int(march.control["rate_evaluations"][0]) * 1e6

        inside()
        found = in_turn(plain=plain, inside=inside)
        print(
            f"   {function.__name__}: alone {found['plain']:.2f}, in a run {found['inside']:.2f} microseconds a call,"
        )
        print("   the step's own arithmetic included")
        verdict("microseconds above the function itself", found["inside"] - found["plain"], 1.5)
