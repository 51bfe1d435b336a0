"""Tables of functions: rows of an address and of the context that goes with it, 0 where there is none."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import call_native


@inner
def has_function(functions, index):
    """Whether a row of a table holds a function."""
    return functions[2 * index] != 0


@inner
def call_function(functions, index, time, state, out):
    """Call a function of a table; return its code, 1 for success.

    Parameters
    ----------
    functions : int64 pointer, (rows, 2)
    index : int, the row
    time : float
    state : float pointer, (n,)
    out : float pointer, what the function writes

    Returns
    -------
    int
    """
    return call_native(functions[2 * index], time, state, out, functions[2 * index + 1])
