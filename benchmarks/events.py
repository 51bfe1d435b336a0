"""Known times and events that act: what each costs, and the same loops by hand in C."""

from __future__ import annotations

import ctypes
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from pairing import compile_c, in_turn, verdict

import unhurried_heron as uh
from unhurried_heron.codegen.system import native_system
from unhurried_heron.methods.catalogue import CATALOGUE

METHOD, TOLERANCE = "dormand-prince-54", 1e-6
HOURS = 262_800
BOUNCES = 100_000
RAIN = "level' = (rain*catch - drain*level)/area"


def report() -> None:
    """Print the time for each known time, each crossing and each event that is laid out, and the ratios to C."""
    _knots()
    _crossings()
    _layouts()


def _layouts() -> None:
    n = 2000
    for formula in ("u[{}] = 0.5", "sin(3*u[{}]) = 0.5", "u[{}]*u[1] = 0.25"):
        events = [uh.Event(formula.format(k), name=f"e{k}") for k in range(1, n + 1)]
        problem = uh.Problem.from_text(
            f"u[i]' = -u[i] + sin(t + i) for i in 1..{n}", initial={"u": 0.0}, interval=(0, 1), events=events
        )
        share = 1e3 * _timed(lambda problem=problem: native_system(problem, problem.events)) / n
        verdict(f"milliseconds to lay out one of {n:,} events, {formula.format('k')}", share, 0.2)


def _timed(call: Callable[[], Any]) -> float:
    begun = time.perf_counter()
    call()
    return time.perf_counter() - begun


def _knots() -> None:
    times = np.arange(HOURS + 1.0)
    rain = np.maximum(np.random.default_rng(27).normal(size=times.size), 0.0)
    values = {"catch": 10.0, "drain": 5.0, "area": 1800.0}
    given: dict[str, Any] = {"initial": {"level": 0.1}, "interval": (0.0, float(HOURS))}
    wet = uh.Problem.from_text(RAIN, parameters=values, inputs={"rain": uh.Measured(times, rain)}, **given)
    steady = uh.Problem.from_text(RAIN, parameters={**values, "rain": 0.4}, **given)

    def ours(problem: uh.Problem, **options: Any) -> Callable[[], float]:
        return lambda: _timed(lambda: uh.integrate(problem, METHOD, rtol=TOLERANCE, atol=TOLERANCE, **options))

    function, interpolant = _c_march()
    y, crossed = np.zeros(2), np.zeros(1024)

    def in_c() -> float:
        y[:] = 0.1, 0.0
        return _timed(
            lambda: function(times.ctypes.data, rain.ctypes.data, HOURS, 1, y.ctypes.data, float(HOURS), TOLERANCE, 1.0,
                             interpolant.ctypes.data, crossed.ctypes.data)
        )  # fmt: skip

    every = {"steps": ours(wet), "few": ours(wet, record=1000)}
    # as short steps without the known times
    bare = {"bare_steps": ours(steady, largest_step=1.0), "bare_few": ours(steady, largest_step=1.0, record=1000)}
    for call in (*every.values(), *bare.values()):
        call()
    found = in_turn(5, **every, **bare, c=in_c)
    more = {kind: (found[kind] - found[f"bare_{kind}"]) for kind in every}
    print(f"   thirty years of hourly rain, {HOURS:,} known times: {found['steps']:.2f} s with every step kept,")
    print(f"   {found['few']:.2f} s with 1000 times recorded; in C, nothing kept, {found['c']:.2f} s")
    verdict("more than as short steps without them, seconds", more["steps"], 1.0)
    verdict("microseconds for each known time, every step kept", more["steps"] / HOURS * 1e6, 2.0)
    verdict("microseconds for each known time, 1000 times recorded", more["few"] / HOURS * 1e6, 2.0)
    print(f"   library, 1000 times recorded / C: {found['few'] / found['c']:.2f}")
    doses = uh.Problem.from_text(
        "silt' = -settling*silt",
        parameters={"settling": 0.3, "dose": 1.5},
        initial={"silt": 0.0},
        interval=(0.0, float(BOUNCES)),
        events=[uh.Event(every=1, then="silt = silt + dose", name="dose")],
    )
    call = ours(doses, record=2)
    call()
    verdict("microseconds for each dose, its steps included", in_turn(5, doses=call)["doses"] / BOUNCES * 1e6, 2.0)


def _crossings() -> None:
    period = 2.0 * np.sqrt(2.0 / 9.81)
    end = period * BOUNCES
    given: dict[str, Any] = {"initial": {"x": 1.0, "v": 0.0}, "interval": (0.0, end)}
    values = {"g": 9.81, "restitution": 1.0}
    ball = uh.Problem.from_text(
        "x' = v\nv' = -g",
        parameters=values,
        events=[uh.Event("x = 0", going="down", then="v = -restitution*v", name="floor")],
        **given,
    )
    relay = uh.Problem.from_text(
        "x' = rate",
        parameters={"rate": 1.0},
        initial={"x": 0.5},
        interval=(0.0, float(BOUNCES)),
        events=[uh.Event("x >= 1", then="rate = -1"), uh.Event("x <= 0", then="rate = 1")],
    )
    function, interpolant = _c_march()
    y, crossed = np.zeros(2), np.zeros(1024)
    met = {}

    def ours(problem: uh.Problem) -> Callable[[], float]:
        return lambda: _timed(lambda: uh.integrate(problem, METHOD, rtol=TOLERANCE, atol=TOLERANCE, record=2))

    def in_c() -> float:
        y[:] = 1.0, 0.0

        def call() -> None:
            met["C"] = function(0, 0, 0, 2, y.ctypes.data, end, TOLERANCE, 1.0, interpolant.ctypes.data,
                                crossed.ctypes.data)  # fmt: skip

        return _timed(call)

    measures = {"ball": ours(ball), "relay": ours(relay)}
    counts = {name: len(uh.integrate(problem, METHOD, rtol=TOLERANCE, atol=TOLERANCE, record=2).events)
              for name, problem in {"ball": ball, "relay": relay}.items()}  # fmt: skip
    found = in_turn(5, **measures, c=in_c)
    print(f"   a ball, {counts['ball']:,} bounces: {found['ball']:.2f} s; in C, nothing kept ({met['C']:,} bounces), "
          f"{found['c']:.2f} s")  # fmt: skip
    for name, each in measures.items():
        each()
        verdict(f"microseconds for each crossing, its steps included: {name}", found[name] / counts[name] * 1e6, 10.0)
    verdict("seconds of 100,000 bounces", found["ball"] / counts["ball"] * 1e5, 1.0)
    print(f"   library / C: {found['ball'] / found['c']:.2f}")


def _c_march() -> tuple[Any, Any]:
    function = compile_c("events.c").march
    function.restype = ctypes.c_long
    pointer, number = ctypes.c_void_p, ctypes.c_double
    function.argtypes = [pointer, pointer, ctypes.c_long, ctypes.c_int, pointer, *[number] * 3, pointer, pointer]
    return function, np.ascontiguousarray(CATALOGUE[METHOD].interpolant)
