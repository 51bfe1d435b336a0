"""Plain Python functions behind a native address, without ever losing an exception.

A compiled trampoline copies the state into the user's array, calls the Python callback with the time alone, and copies
the result out. It clears a cell beforehand that the callback sets as its very last act, and which alone tells success:
a value returned would be stale when an exception escapes.
"""

from __future__ import annotations

import ctypes
import functools
import struct
from collections.abc import Callable
from sys import getrefcount
from typing import Any

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.kernels.machine_code.jit import compile_module
from unhurried_heron.kernels.machine_code.signature import FINE, STOP, NativeFunction
from unhurried_heron.model.function_trials import unusable_answer
from unhurried_heron.model.functions import NamedFunction

_CALLBACK = ctypes.CFUNCTYPE(None, ctypes.c_double)

_TRAMPOLINE = """
declare void @llvm.memcpy.p0.p0.i64(ptr, ptr, i64, i1)
define i32 @evaluate(double %t, ptr %y, ptr %out, ptr %block) nounwind {{
  %callback = load ptr, ptr %block
  %into.at = getelementptr i64, ptr %block, i64 1
  %into = load ptr, ptr %into.at
  %from.at = getelementptr i64, ptr %block, i64 2
  %from = load ptr, ptr %from.at
  call void @llvm.memcpy.p0.p0.i64(ptr %into, ptr %y, i64 {bytes_in}, i1 false)
  %cell = getelementptr i8, ptr %from, i64 {bytes_out}
  store double 0.0, ptr %cell
  call void %callback(double %t)
  %seal = load double, ptr %cell
  %sealed = fcmp oeq double %seal, 1.0
  br i1 %sealed, label %good, label %bad
good:
  call void @llvm.memcpy.p0.p0.i64(ptr %out, ptr %from, i64 {bytes_out}, i1 false)
  ret i32 {fine}
bad:
  ret i32 {stop}
}}
"""


@functools.lru_cache(maxsize=64)
def _trampoline(n_inputs: int, n_outputs: int) -> tuple[int, Any]:
    return compile_module(_TRAMPOLINE.format(bytes_in=8 * n_inputs, bytes_out=8 * n_outputs, fine=FINE, stop=STOP))


def python_function(function: NamedFunction, context: RuntimeData, n_outputs: int) -> NativeFunction:
    """Put a Python function behind an address.

    Parameters
    ----------
    function : NamedFunction
        What to call.
    context : RuntimeData
        Where the parameters are.
    n_outputs : int
        How many numbers it must return; 0 stands for one bare number (an event function).

    Returns
    -------
    NativeFunction
    """
    n, size = function.layout.size, max(n_outputs, 1)
    address, engine = _trampoline(n, size)
    # cells: the callback, where the state goes, where the result comes from
    block = np.zeros(3, dtype=np.int64)
    result: Array = np.zeros(size + 1)
    caught: list[tuple[BaseException, float]] = []
    callback = _CALLBACK(_make_callback(function, context, _Answer(function, result, n_outputs), block, caught))
    block[0] = ctypes.cast(callback, ctypes.c_void_p).value or 0
    block[2] = result.ctypes.data
    return NativeFunction(
        address,
        size,
        block.view(np.float64),
        (engine, callback, result),
        lambda: caught.pop() if caught else None,
        context.array,
    )


def _fixed_size(n: int) -> Array:
    """Return an array that its user cannot resize, because its memory belongs to another object."""
    return np.frombuffer(bytearray(8 * n), dtype=np.float64)


class _Answer:
    """Where the numbers of an answer go.

    Memory views write faster than arrays, and refuse another length or type by themselves.
    """

    def __init__(self, function: NamedFunction, result: Array, n_outputs: int) -> None:
        self._function, self._result = function, result
        self.many, self._size = n_outputs > 0, max(n_outputs, 1)
        self.numbers: Any = memoryview(result.data)[: self._size]
        self.seal: Any = memoryview(result.data)[self._size :]
        self.pack, self.raw = struct.Struct(f"{self._size}d").pack_into, self.numbers.cast("B")

    def take(self, answer: Any) -> None:
        """Write an answer that is no array of doubles.

        Raises
        ------
        RateFunctionError
        """
        function, size = self._function, self._size
        try:
            if self.many:
                answer = function.flat(answer)
            if isinstance(answer, np.ndarray) and self.many:
                if answer.shape != (size,) or answer.dtype.kind not in "fiub":
                    raise TypeError
                self._result[:size] = answer
            elif self.many:
                self.pack(self.raw, 0, *answer)
            else:
                self.pack(self.raw, 0, answer)
        except (struct.error, TypeError, KeyError, ValueError):
            raise unusable_answer(function, answer, size) from None


class _Lent:
    """The state as a user's function gets it: whoever keeps the array has it, the next state goes into a new one."""

    def __init__(self, n: int, block: Any) -> None:
        self._n, self._block = n, block
        self.renew()

    def renew(self) -> None:
        """Take a new array."""
        self.array = _fixed_size(self._n)
        self._block[1] = self.array.ctypes.data

    def holders(self) -> int:
        """Count who holds the array, this function's own hold among them, as the callback counts."""
        state = self.array
        return getrefcount(state)


def _make_callback(
    function: NamedFunction, context: RuntimeData, into: _Answer, block: Any, caught: list[tuple[BaseException, float]]
) -> Callable[[float], None]:
    """Return what calls the function from machine code, at a time and the state in its array.

    Parameters
    ----------
    function : NamedFunction
    context : RuntimeData
    into : _Answer
        Where the answer goes.
    block : ndarray
        The array that the state is lent from.
    caught : list of (BaseException, float)
        Takes what the function raises, with the time.

    Returns
    -------
    Callable[[float], None]
    """
    changes, array, lent = context.changes.data, np.ndarray, _Lent(function.layout.size, block)
    seen, call = changes[0], function.caller(context.values.tolist())
    take, many, in_order = into.take, into.many, into.many and function.answers == "flat"
    numbers, seal, pack, raw = into.numbers, into.seal, into.pack, into.raw
    nobody = lent.holders()

    def follow() -> None:
        """Take the parameters as they are now."""
        nonlocal seen, call
        seen, call = changes[0], function.caller(context.values.tolist())

    def callback(time: float) -> None:
        try:
            if changes[0] != seen:
                follow()
            state = lent.array
            answer = call(time, state)
            if type(answer) is array and many:
                try:
                    numbers[:] = answer
                except ValueError:
                    take(answer)
            elif in_order:
                try:
                    pack(raw, 0, *answer)
                except (struct.error, TypeError):
                    take(answer)
            else:
                take(answer)
            answer = None
            # the user may change the array, which is written anew each time, but must never see it change
            if getrefcount(state) != nobody:
                lent.renew()
            seal[0] = 1.0
        except BaseException as error:
            caught.append((error, time))

    return callback
