"""The explicit kernel against hand-written C of the same method."""

from __future__ import annotations

import ctypes
import time

import numpy as np
from pairing import attempts_of, compile_c, in_turn, prepared, seconds_of, verdict

from unhurried_heron.driver.integrate import integrate
from unhurried_heron.methods.catalogue import CATALOGUE
from unhurried_heron.problem.problem import Problem

# E. N. Lorenz, J. Atmos. Sci. 20 (1963) 130-141
LORENZ = Problem.from_text(
    "x' = s*(y - x)\ny' = x*(r - z) - y\nz' = x*y - b*z",
    parameters={"s": 10, "r": 28, "b": 8 / 3},
    initial={"x": 1, "y": 1, "z": 1},
    interval=(0, 400),
)
RTOL = ATOL = 1e-8
FIRST, ROOM = 1e-3, 1024


def report() -> None:
    """Print the time per step of both, and their ratio."""
    march = prepared(LORENZ, "dormand-prince-54", RTOL, ATOL, FIRST)
    rates = march.native.rates
    interpolant = np.ascontiguousarray(CATALOGUE["dormand-prince-54"].interpolant)
    buffers = [np.zeros(ROOM), np.zeros(ROOM), np.zeros((ROOM, 5, 3)), np.zeros((2 * ROOM, 5))]
    pointers = [array.ctypes.data for array in (*buffers, interpolant)]
    attempts = {}

    def c_twin(flags: tuple[str, ...], keep: int):
        function = compile_c("explicit_pair.c", *flags).march_pair
        function.restype = ctypes.c_long
        address, number = ctypes.c_void_p, ctypes.c_double
        function.argtypes = [address, address, ctypes.c_int, address, *[number] * 5, ctypes.c_int, ctypes.c_long]
        function.argtypes += [address] * 5

        def measure() -> float:
            y = np.ones(3)
            begun = time.perf_counter()
            count = function(
                rates.address, rates.context_address, 3, y.ctypes.data, *LORENZ.interval, FIRST, RTOL, ATOL,
                keep, ROOM, *pointers,
            )  # fmt: skip
            taken = time.perf_counter() - begun
            attempts["C"] = count
            return taken / count * 1e6

        return measure

    def ours() -> float:
        taken = seconds_of(march, LORENZ, FIRST)
        attempts["ours"] = attempts_of(march)
        return taken / attempts["ours"] * 1e6

    def few() -> float:
        begun = time.perf_counter()
        tally = integrate(LORENZ, "dormand-prince-54", rtol=RTOL, atol=ATOL, starting_step=FIRST, record=2).tally
        return (time.perf_counter() - begun) / (tally.accepted + tally.refused) * 1e6

    ours()
    few()
    found = in_turn(ours=ours, few=few, c=c_twin((), 1), native=c_twin(("-march=native",), 1), bare=c_twin((), 0))
    print(f"   3 states, microseconds per attempted step ({attempts['ours']:,} here, {attempts['C']:,} in C):")
    print(f"   library {found['ours']:.3f}; C {found['c']:.3f}; C for this processor {found['native']:.3f};")
    print(f"   C that keeps no step polynomials and no ledger {found['bare']:.3f}")
    verdict("library / C, equal work", found["ours"] / found["c"], 1.3)
    verdict("library / C for this processor, equal work", found["ours"] / found["native"], 1.3)
    print(f"   library / C that keeps nothing: {found['ours'] / found['bare']:.2f}")
    verdict("a whole call of integrate with record=2 / C that keeps nothing", found["few"] / found["bare"], 1.15)
