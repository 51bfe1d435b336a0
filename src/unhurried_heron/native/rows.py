"""Calling a native function on many rows of times and states."""

from __future__ import annotations

import ctypes
import functools
from collections.abc import Callable
from typing import Any

import numpy as np

from unhurried_heron.native.engine import compile_module
from unhurried_heron.native.signature import FINE, FloatArray, NativeFunction, address

_LOOP = """
define i64 @evaluate(ptr %f, ptr %context, i64 %rows, ptr %times, ptr %states, i64 %n, ptr %out, i64 %m) nounwind {
entry:
  br label %head
head:
  %i = phi i64 [0, %entry], [%next, %good]
  %more = icmp slt i64 %i, %rows
  br i1 %more, label %body, label %done
body:
  %t.at = getelementptr double, ptr %times, i64 %i
  %t = load double, ptr %t.at
  %y.skip = mul i64 %i, %n
  %y = getelementptr double, ptr %states, i64 %y.skip
  %o.skip = mul i64 %i, %m
  %o = getelementptr double, ptr %out, i64 %o.skip
  %code = call i32 %f(double %t, ptr %y, ptr %o, ptr %context)
  %fine = icmp eq i32 %code, 1
  br i1 %fine, label %good, label %done
good:
  %next = add i64 %i, 1
  br label %head
done:
  ret i64 %i
}
"""


@functools.cache
def _loop() -> tuple[Any, Any]:
    address, engine = compile_module(_LOOP)
    pointer, count = ctypes.c_void_p, ctypes.c_int64
    kind = ctypes.CFUNCTYPE(count, pointer, pointer, count, pointer, pointer, count, pointer, count)
    return kind(address), engine


def prober(function: NativeFunction, state: FloatArray) -> Callable[[float], float | None]:
    """Return what asks a function of one output at a time and what stands in ``state`` then; None for no answer.

    Both must stay alive as long as it is used.
    """
    out = np.empty(1)
    pointer = ctypes.c_void_p
    call = ctypes.CFUNCTYPE(ctypes.c_int32, ctypes.c_double, pointer, pointer, pointer)(function.address)
    places = address(state), address(out), function.context_address

    def probe(time: float) -> float | None:
        return float(out[0]) if call(time, *places) == FINE else None

    return probe


def evaluate_rows(function: NativeFunction, times: FloatArray, states: FloatArray) -> FloatArray:
    """Return the function's outputs at each row, as far as it answered.

    Parameters
    ----------
    times : ndarray, shape (rows,)
    states : ndarray, shape (rows, n_states)

    Returns
    -------
    ndarray, shape (rows done, n_outputs)
    """
    times, states = (
        np.ascontiguousarray(times, dtype=np.float64),
        np.ascontiguousarray(states, dtype=np.float64),
    )
    out = np.empty((times.size, function.n_outputs))
    call, _ = _loop()
    done = call(
        function.address,
        function.context_address,
        times.size,
        address(times),
        address(states),
        states.shape[1],
        address(out),
        function.n_outputs,
    )
    return out[:done]
