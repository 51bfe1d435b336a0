"""Asking a function only between two times: at a jump of known time, each side is asked on its own side."""

from __future__ import annotations

import functools
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.kernels.machine_code.jit import compile_module
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address

# the block: the function, its context, and where the two limits are
_CLAMP: Final = """
define i32 @evaluate(double %t, ptr %y, ptr %out, ptr %block) nounwind {
  %f = load ptr, ptr %block
  %context.at = getelementptr i64, ptr %block, i64 1
  %context = load ptr, ptr %context.at
  %limits.at = getelementptr i64, ptr %block, i64 2
  %limits = load ptr, ptr %limits.at
  %low = load double, ptr %limits
  %high.at = getelementptr double, ptr %limits, i64 1
  %high = load double, ptr %high.at
  %early = fcmp olt double %t, %low
  %t1 = select i1 %early, double %low, double %t
  %late = fcmp ogt double %t1, %high
  %t2 = select i1 %late, double %high, double %t1
  %code = call i32 %f(double %t2, ptr %y, ptr %out, ptr %context)
  ret i32 %code
}
"""


@functools.cache
def _code() -> tuple[int, Any]:
    return compile_module(_CLAMP)


def clamped(inner: NativeFunction, limits: Array) -> NativeFunction:
    """Return a function that is asked at times between ``limits`` only; these may be changed at any time."""
    code, engine = _code()
    block = np.array([inner.address, inner.context_address, address(limits)], dtype=np.int64)
    return NativeFunction(
        code, inner.n_outputs, block.view(np.float64), (engine, inner, limits), inner.pending_error, inner.shared
    )
