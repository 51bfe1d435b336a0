"""Step polynomials: every accepted step of every method is one, in the step variable theta from 0 to 1."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, as_longs, offset_by


@inner
def evaluate_step(coefficients, degree, n, theta, out):
    """Write the state at theta (pointers; Horner's rule).

    Parameters
    ----------
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    degree : int
        Degree of the step polynomial.
    n : int
        Number of states.
    theta : float
        Position in the step, from 0 to 1.
    out : float pointer, (n,)
        Filled with the result.
    """
    for k in range(n):
        value = coefficients[degree * n + k]
        for d in range(degree - 1, -1, -1):
            value = value * theta + coefficients[d * n + k]
        out[k] = value


@inner
def cubic_terms(move, start, end):
    """Return the terms of second and third power, in theta, of the cubic with a change and slopes at both ends.

    Parameters
    ----------
    move : float
        The change over the step.
    start, end : float
        The slopes, times the length of the step.

    Returns
    -------
    (float, float)
    """
    return 3.0 * move - 2.0 * start - end, start + end - 2.0 * move


@inner
def derive_step(coefficients, degree, n, theta, out):
    """Write the derivative of the state by theta.

    Parameters
    ----------
    coefficients : float pointer, (degree + 1, n)
        The step polynomial, by powers of theta.
    degree : int
        Degree of the step polynomial.
    n : int
        Number of states.
    theta : float
        Position in the step, from 0 to 1.
    out : float pointer, (n,)
        Filled with the result.
    """
    for k in range(n):
        value = degree * coefficients[degree * n + k]
        for d in range(degree - 1, 0, -1):
            value = value * theta + d * coefficients[d * n + k]
        out[k] = value


def evaluate_rows(address):
    """Evaluate step polynomials at many times; the table is laid out by `loading.evaluate_at`."""
    table = as_longs(address)
    starts, steps, coefficients = as_doubles(table[0]), as_doubles(table[1]), as_doubles(table[2])
    index, times, out = as_longs(table[3]), as_doubles(table[4]), as_doubles(table[5])
    degree, n = table[7], table[8]
    for i in range(table[6]):
        j = index[i]
        theta = (times[i] - starts[j]) / steps[j]
        evaluate_step(offset_by(coefficients, j * (degree + 1) * n), degree, n, theta, offset_by(out, i * n))
    return 0
