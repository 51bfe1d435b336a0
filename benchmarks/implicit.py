"""The collocation kernel against hand-written C loops for the same linear algebra, on an 8-state stiff problem."""

from __future__ import annotations

import ctypes
import time

import numpy as np
from pairing import attempts_of, compile_c, in_turn, prepared, seconds_of, verdict

from unhurried_heron.families.registry import family_of
from unhurried_heron.kernels.collocation.constants import constants_of
from unhurried_heron.methods.collocation import RADAU_IIA_5
from unhurried_heron.problem.problem import Problem

# high irradiance responses of photomorphogenesis: E. Schaefer, J. Math. Biol. 2 (1975) 41-56
HIRES = Problem.from_text(
    """
    y1' = -1.71*y1 + 0.43*y2 + 8.32*y3 + 0.0007
    y2' = 1.71*y1 - 8.75*y2
    y3' = -10.03*y3 + 0.43*y4 + 0.035*y5
    y4' = 8.32*y2 + 1.71*y3 - 1.12*y4
    y5' = -1.745*y5 + 0.43*y6 + 0.43*y7
    y6' = -280*y6*y8 + 0.69*y4 + 1.71*y5 - 0.43*y6 + 0.69*y7
    y7' = 280*y6*y8 - 1.81*y7
    y8' = -280*y6*y8 + 1.81*y7
    """,
    initial={"y1": 1, **{f"y{i}": 0 for i in range(2, 8)}, "y8": 0.0057},
    interval=(0, 321.8122),
)
RELATIVE, ABSOLUTE, FIRST, ROOM = 1e-7, 1e-11, 1e-4, 1024


def report() -> None:
    """Print the time per step of both, and their ratio."""
    march = prepared(HIRES, "radau-iia-5", RELATIVE, ABSOLUTE, FIRST)
    rates, jacobian = march.native.rates, march.native.jacobian
    assert jacobian is not None
    start = np.array([*HIRES.initial.values()])
    scale = family_of(RADAU_IIA_5).scale(RADAU_IIA_5, np.full(8, RELATIVE), np.full(8, ABSOLUTE), start, False)
    constants, kept = constants_of(RADAU_IIA_5, scale.newton, scale.between), np.zeros((ROOM, 5, 8))
    relative, absolute, counts = scale.relative, scale.absolute, np.zeros(6, dtype=np.int64)
    attempts = {}

    def c_twin(*flags: str):
        function = compile_c("collocation.c", *flags).march_collocation
        function.restype = ctypes.c_long
        address, number = ctypes.c_void_p, ctypes.c_double
        function.argtypes = [address] * 4 + [ctypes.c_int, address, number, number, number] + [address] * 3
        function.argtypes += [ctypes.c_long, address, address]

        def measure() -> float:
            y = np.array([*HIRES.initial.values()])
            begun = time.perf_counter()
            count = function(
                rates.address, rates.context_address, jacobian.address, jacobian.context_address, 8, y.ctypes.data,
                *HIRES.interval, FIRST, relative.ctypes.data, absolute.ctypes.data, constants.ctypes.data, ROOM,
                kept.ctypes.data, counts.ctypes.data,
            )  # fmt: skip
            attempts["C"] = count
            return (time.perf_counter() - begun) / count * 1e6

        return measure

    def ours() -> float:
        taken = seconds_of(march, HIRES, FIRST)
        attempts["ours"] = attempts_of(march)
        return taken / attempts["ours"] * 1e6

    ours()
    found = in_turn(ours=ours, c=c_twin(), native=c_twin("-march=native"))
    control = march.control
    mine = [
        int(control[k][0]) for k in ("accepted", "refused", "rate_evaluations", "jacobians", "factorisations", "solves")
    ]
    print(f"   8 states, counts here {mine}, in C {counts.tolist()}")
    print(f"   microseconds per attempted step: library {found['ours']:.3f}; C {found['c']:.3f}; "
          f"C for this processor {found['native']:.3f}")  # fmt: skip
    verdict("library / C", found["ours"] / found["c"], 1.5)
    verdict("library / C for this processor", found["ours"] / found["native"], 1.5)
