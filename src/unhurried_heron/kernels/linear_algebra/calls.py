"""Linear algebra behind two native calls: a shifted matrix is factored, and systems are solved with its factors.

What is behind them is chosen by the driver. A context (`context`) says on what they work; a family writes
shift and right-hand side and calls.
"""

from __future__ import annotations

from unhurried_heron.kernels.linear_algebra.context import SHIFT, B, D
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import address_of, as_doubles, as_longs, call_kernel


@inner
def factor(address, context, re, im):
    """Factor (re + i im) - J; return 0 where that is singular, else the sign of its determinant (1 if complex).

    Parameters
    ----------
    address : int
        Address of the kernel that factors.
    context : int
        Address of the context of the factors.
    re : float
        Real part of the shift.
    im : float
        Imaginary part.

    Returns
    -------
    int
    """
    shift = as_doubles(as_longs(context)[SHIFT])
    shift[0], shift[1] = re, im
    return call_kernel(address, context)


@inner
def solve(address, context, b, d):
    """Solve with the factors, in place.

    Parameters
    ----------
    address : int
        Address of the kernel that solves.
    context : int
        Address of the context of the factors.
    b : float pointer, (n,)
        The right-hand side; the solution afterwards.
    d : float pointer, (n,)
        Its imaginary part where the shift is complex.
    """
    indices = as_longs(context)
    indices[B], indices[D] = address_of(b), address_of(d)
    call_kernel(address, context)
