"""Calling a native function on many rows of times and states."""

from __future__ import annotations

import ctypes
import functools
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.kernels.machine_code.jit import compile_module
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address

_LOOP = """
define i64 @evaluate(ptr %f, ptr %context, i64 %rows, ptr %times, ptr %states, i64 %n, ptr %out, i64 %m,
                     i64 %changing, ptr %indices, ptr %values, ptr %shared, i64 %counter) nounwind {
entry:
  br label %head
head:
  %i = phi i64 [0, %entry], [%next, %good]
  %more = icmp slt i64 %i, %rows
  br i1 %more, label %body, label %done
body:
  %v.skip = mul i64 %i, %changing
  %row = getelementptr double, ptr %values, i64 %v.skip
  br label %each
each:
  %k = phi i64 [0, %body], [%k.next, %kept]
  %left = icmp slt i64 %k, %changing
  br i1 %left, label %put, label %ready
put:
  %from = getelementptr double, ptr %row, i64 %k
  %value = load double, ptr %from
  %index.at = getelementptr i64, ptr %indices, i64 %k
  %index = load i64, ptr %index.at
  %to = getelementptr double, ptr %shared, i64 %index
  %old = load double, ptr %to
  %same = fcmp oeq double %old, %value
  br i1 %same, label %kept, label %new
new:
  store double %value, ptr %to
  %count.at = getelementptr i64, ptr %shared, i64 %counter
  %count = load i64, ptr %count.at
  %more.changes = add i64 %count, 1
  store i64 %more.changes, ptr %count.at
  br label %kept
kept:
  %k.next = add i64 %k, 1
  br label %each
ready:
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
    kind = ctypes.CFUNCTYPE(
        count, pointer, pointer, count, pointer, pointer, count, pointer, count, count, pointer, pointer, pointer, count
    )
    return kind(address), engine


def evaluate_rows(
    function: NativeFunction, times: Array, states: Array, modes: tuple[Any, Array] | None = None
) -> Array:
    """Return the function's outputs at each row, as far as it answered.

    Parameters
    ----------
    function : NativeFunction
    times : ndarray, shape (rows,)
    states : ndarray, shape (rows, n_states)
    modes : tuple of two ndarrays, optional
        Places of parameters that change from row to row, int64 (n_modes,), and what they are, shape (rows, n_modes).

    Returns
    -------
    ndarray, shape (rows done, n_outputs)
    """
    times, states = (
        np.ascontiguousarray(times, dtype=np.float64),
        np.ascontiguousarray(states, dtype=np.float64),
    )
    out = np.empty((times.size, function.n_outputs))
    indices, values = modes if modes is not None else (np.empty(0, dtype=np.int64), np.empty((0, 0)))
    values = np.ascontiguousarray(values, dtype=np.float64)
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
        indices.size,
        address(indices),
        address(values),
        address(function.shared),
        function.shared.size - 1,
    )
    return out[:done]
