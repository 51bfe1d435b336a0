"""The collocation kernel against hand-written C loops for the same linear algebra, on an 8-state stiff problem."""

from __future__ import annotations

import ctypes
import time
from collections.abc import Callable

import numpy as np
from pairing import attempts_of, compile_c, in_turn, prepared, seconds_of, verdict

from unhurried_heron.driver.march import March
from unhurried_heron.methods.catalogue import CATALOGUE
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
COUNTED = ("accepted", "refused", "rate_evaluations", "jacobians", "factorisations", "solves")


def constants_of(march: March) -> np.ndarray:
    """Return the numbers of the method and the run in the order in which the C code has them, float64 (52,)."""
    own, diagonalised = march.own, CATALOGUE["radau-iia-5"].diagonalised
    limits = own.limits
    nodal = np.poly(own.c)
    parts = [own.c[:2], own.numbers, own.t, own.u, own.v, own.inverse, own.e, nodal[1:] * [-1.0, 1.0, -1.0]]
    return np.concatenate(
        [*map(np.ravel, parts), [diagonalised.largest, limits[0], limits[1], *diagonalised.checked_nodes]]
    )


def by_hand(march: March, problem: Problem, first: float, *flags: str) -> Callable[..., tuple[list[int], np.ndarray]]:
    """Return what marches by the C code, from another start if one is given: the counts, and the state at the end."""
    rates, jacobian, n = march.native.rates, march.native.jacobian, march.system.n
    assert jacobian is not None
    function = compile_c("collocation.c", *flags).march_collocation
    function.restype = ctypes.c_long
    address, number = ctypes.c_void_p, ctypes.c_double
    function.argtypes = [address] * 4 + [ctypes.c_int, address, number, number, number] + [address] * 3
    function.argtypes += [ctypes.c_long, address, address]
    constants = constants_of(march)
    kept, counts = np.zeros((ROOM, 5, n)), np.zeros(len(COUNTED), dtype=np.int64)

    def run(start: np.ndarray | None = None) -> tuple[list[int], np.ndarray]:
        y = np.array([*problem.initial.values()] if start is None else start)
        function(
            rates.address, rates.context_address, jacobian.address, jacobian.context_address, n, y.ctypes.data,
            *problem.interval, first, march.system.relative.ctypes.data, march.system.absolute.ctypes.data,
            constants.ctypes.data, ROOM, kept.ctypes.data, counts.ctypes.data,
        )  # fmt: skip
        return counts.tolist(), y

    return run


def counted(march: March) -> list[int]:
    """Return the counts of a march that came to its end."""
    return [int(march.control[kind][0]) for kind in COUNTED]


def report() -> None:
    """Print the time per step of both, and their ratio."""
    march = prepared(HIRES, "radau-iia-5", RELATIVE, ABSOLUTE, FIRST)
    counts = []

    def c_twin(*flags: str) -> Callable[[], float]:
        run = by_hand(march, HIRES, FIRST, *flags)

        def measure() -> float:
            begun = time.perf_counter()
            counts[:], _ = run()
            return (time.perf_counter() - begun) / sum(counts[:2]) * 1e6

        return measure

    def ours() -> float:
        return seconds_of(march, HIRES, FIRST) / attempts_of(march) * 1e6

    ours()
    found = in_turn(ours=ours, c=c_twin(), native=c_twin("-march=native"))
    print(f"   8 states, counts here {counted(march)}, in C {counts}")
    print(f"   microseconds per attempted step: library {found['ours']:.3f}; C {found['c']:.3f}; "
          f"C for this processor {found['native']:.3f}")  # fmt: skip
    verdict("library / C", found["ours"] / found["c"], 1.5)
    verdict("library / C for this processor", found["ours"] / found["native"], 1.5)
