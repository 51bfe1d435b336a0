"""A native function that keeps what it is called with, and what it answers."""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import unforeseen
from unhurried_heron.kernels.machine_code.signature import NativeFunction

_SIGNATURE: Final = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_double, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)


@dataclass
class Tracer:
    """Stands before a function, with the same signature; every call is noted with what ``around`` tells of it.

    Attributes
    ----------
    around : callable
        Returns a tuple of whole numbers, asked at every call.
    """

    n: int
    around: Callable[[], tuple[int, ...]] = tuple
    times: list[float] = field(default_factory=list)
    states: list[bytes] = field(default_factory=list)
    values: list[bytes] = field(default_factory=list)
    march_counts: list[tuple[int, ...]] = field(default_factory=list)

    def before(self, function: NativeFunction) -> NativeFunction:
        """Return the function with the tracer before it."""
        call, size, read = _SIGNATURE(function.address), 8 * self.n, ctypes.string_at

        def traced(time: float, state: int, out: int, context: int) -> int:
            # the function may write over its own arguments
            given = read(state, size)
            code: int = call(time, state, out, context)
            self.times.append(time)
            self.states.append(given)
            self.values.append(read(out, size))
            self.march_counts.append((*self.around(), code))
            return code

        behind = _SIGNATURE(traced)
        address = ctypes.cast(behind, ctypes.c_void_p).value
        if address is None:
            raise unforeseen("a callback without an address")
        return replace(function, address=address, keep=(*function.keep, function, behind))

    def arrays(self) -> tuple[Any, Any, Any, Any]:
        """Return times (calls,), states and values (calls, n), and what was told, int64 (calls, …)."""
        states, values = (
            np.frombuffer(b"".join(each), dtype=np.float64).reshape(-1, self.n) for each in (self.states, self.values)
        )
        return np.array(self.times), states, values, np.array(self.march_counts, dtype=np.int64)
