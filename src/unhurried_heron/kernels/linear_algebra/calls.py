"""Linear algebra behind two native calls: a shifted matrix is factored, and systems are solved with its factors.

What is behind them is chosen by the driver. A context (`context`) says on what they work; a family writes
shift and right-hand side and calls. Both answer with a status: solutions of iterations may miss their tolerance, and
not every kind tells the sign of a determinant.
"""

from __future__ import annotations

from unhurried_heron.kernels.linear_algebra.context import SHIFT, SIGN, UNKNOWN, B, D
from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import address_of, as_doubles, as_longs, call_kernel


@inner
def factor(address, context, re, im):
    """Factor (re + i im) - J; return DONE, or FAILED where that is singular.

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
    indices = as_longs(context)
    indices[SIGN] = UNKNOWN
    shift = as_doubles(indices[SHIFT])
    shift[0], shift[1] = re, im
    return call_kernel(address, context)


@inner
def sign_of_determinant(context):
    """Return the sign of the determinant of the real matrix that was factored last, UNKNOWN where nothing tells it."""
    return as_longs(context)[SIGN]


@inner
def solve(address, context, b, d, tolerance):
    """Solve with the factors, in place; return DONE, or FAILED where the solution misses its tolerance.

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
    tolerance : float
        The relative error of the solution that does no harm; direct factors do better.

    Returns
    -------
    int
    """
    indices = as_longs(context)
    indices[B], indices[D] = address_of(b), address_of(d)
    as_doubles(indices[SHIFT])[2] = tolerance
    return call_kernel(address, context)
