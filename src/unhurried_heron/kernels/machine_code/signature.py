"""The one signature of every function a kernel calls.

``int32 f(double t, const double *y, double *out, const double *context)``

``context`` is the array of parameter values for written equations and ``@njit`` functions, and a block of
addresses for plain Python. The answer is 1 for "fine", 0 or negative for "stop", 2 and above for "outside the
domain, shorten the step". Success is not 0 on purpose: when an exception escapes a foreign callback, C receives
0 or a stale value, and that must never look like success.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Final

from unhurried_heron.arrays import Array

# The answer of a function where all is well; a callback that stopped leaves zero behind.
FINE: Final = 1
# The answer that stops the march.
STOP: Final = -1
# The symbol of every kernel that is compiled from a source.
ENTRY: Final = "kernel"
# Bytes before the rows of a measured table,
HEADER_BYTES: Final = 8
# numbers of a row: its time, and the coefficients of the cubic from there on,
ROW_NUMBERS: Final = 5
# and bytes of a row.
ROW_BYTES: Final = 8 * ROW_NUMBERS


def address(array: Any) -> int:
    """Return where an array's numbers begin; it must be C-ordered and stay alive while the address is used."""
    try:
        # This is several times faster than asking the array for its address.
        return ctypes.addressof(ctypes.c_char.from_buffer(array))
    except (TypeError, ValueError):
        # The array is empty, or read-only.
        return int(array.ctypes.data)


@dataclass(frozen=True)
class NativeFunction:
    """A function behind an address, with everything that must stay alive while the address is in use.

    Attributes
    ----------
    address : int
        Where the machine code is.
    n_outputs : int
        How many numbers it writes.
    context : ndarray of float64
        What is handed over as its last argument.
    keep : tuple
        Engine, callbacks and arrays that the address and the context point into.
    pending_error : callable
        Returns the exception that made the function stop and the time of that call, or None.
    parameters : ndarray of float64, or None
        The array in which the parameters are, where that is not ``context``.
    """

    address: int
    n_outputs: int
    context: Array
    keep: tuple[Any, ...] = field(default=(), repr=False)
    pending_error: Callable[[], tuple[BaseException, float] | None] = field(default=lambda: None, repr=False)
    parameters: Array | None = field(default=None, repr=False)

    def raise_pending(self, what: str) -> None:
        """Raise the exception that made the function stop, with a note of what it was and when; nothing if none did."""
        found = self.pending_error()
        if found is not None:
            error, time = found
            error.add_note(f"(raised by {what} at t = {time:.12g})")
            raise error

    @property
    def shared(self) -> Array:
        """The array in which the parameters are, its last number the count of their changes."""
        return self.context if self.parameters is None else self.parameters

    @property
    def context_address(self) -> int:
        """Address of the context array."""
        return address(self.context)
