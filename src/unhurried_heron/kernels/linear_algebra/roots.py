"""The largest root of a polynomial whose coefficients are polynomials of z, for many z.

Roots are found together, by Ehrlich's iteration (L. W. Ehrlich, Commun. ACM 10 (1967) 107-108; O. Aberth, Math. Comp.
27 (1973) 339-344), which begins with those of the z before.
"""

from __future__ import annotations

import numpy as np

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, as_longs, offset_by

# One move triples the digits of single roots: after a move below this size they are exact.
_ENOUGH = 1e-6
# Iterations from the roots of the neighbour,
_MAX_TURNS = 12
# and from the circle.
_MAX_ANEW = 100


@inner
def _coefficients(terms, powers, k, z, out):
    """Write the coefficients for a z, real and imaginary parts in turn, the lowest first; return the largest.

    Parameters
    ----------
    terms : float pointer, (k + 1, powers)
        Real coefficients of powers of the root (rows) and of z.
    powers : int
    k : int
        The degree.
    z : (float, float)
        Real and imaginary part.
    out : float pointer, (2 (k + 1),)
        Filled with the result.

    Returns
    -------
    float
    """
    largest = 0.0
    for j in range(k + 1):
        real, imaginary = 0.0, 0.0
        for m in range(powers - 1, -1, -1):
            real, imaginary = real * z[0] - imaginary * z[1] + terms[j * powers + m], real * z[1] + imaginary * z[0]
        out[2 * j], out[2 * j + 1] = real, imaginary
        largest = max(largest, abs(real) + abs(imaginary))
    return largest


@inner
def _begin(roots, k):
    """Place first guesses around the unit circle, none of them opposite another."""
    for i in range(k):
        angle = 0.7 + 6.283185307179586 * i / k
        roots[2 * i], roots[2 * i + 1] = np.cos(angle) * (1.0 + 0.1 * i), np.sin(angle) * (1.0 + 0.1 * i)


@inner
def _move_once(c, roots, k):
    """Move each root once; return the largest move, relative to the root's modulus or one.

    Parameters
    ----------
    c : float pointer, (2 (k + 1),)
        Coefficients, real and imaginary parts in turn.
    roots : float pointer, (2 k,)
        Real and imaginary parts in turn.
    k : int
        The degree.

    Returns
    -------
    float
    """
    farthest = 0.0
    for i in range(k):
        x, y = roots[2 * i], roots[2 * i + 1]
        a, b, da, db = c[2 * k], c[2 * k + 1], 0.0, 0.0
        for j in range(k - 1, -1, -1):
            da, db = da * x - db * y + a, da * y + db * x + b
            a, b = a * x - b * y + c[2 * j], a * y + b * x + c[2 * j + 1]
        # The correction is 1 / (p'/p - sum of 1/(root - other root)): the other roots repel this one (O.
        # Aberth, 1973).
        size = a * a + b * b
        if size == 0.0:
            continue
        u, v = (da * a + db * b) / size, (db * a - da * b) / size
        for j in range(k):
            if j != i:
                p, q = x - roots[2 * j], y - roots[2 * j + 1]
                apart = p * p + q * q
                if apart > 0.0:
                    u, v = u - p / apart, v + q / apart
        size = u * u + v * v
        if size > 0.0:
            p, q = u / size, -v / size
            roots[2 * i], roots[2 * i + 1] = x - p, y - q
            farthest = max(farthest, (abs(p) + abs(q)) / max(1.0, abs(x) + abs(y)))
    return farthest


@inner
def _converge(c, roots, k, turns):
    """Move the roots until they stand still; return whether they do.

    Parameters
    ----------
    c : float pointer, (2 (k + 1),)
        Coefficients, real and imaginary parts in turn.
    roots : float pointer, (2 k,)
        Real and imaginary parts in turn.
    k : int
        The degree.
    turns : int
        The most moves.

    Returns
    -------
    bool
    """
    for _ in range(turns):
        moved = _move_once(c, roots, k)
        if moved <= _ENOUGH:
            return True
        if not moved < 1e300:
            return False
    return False


def largest(address):
    """Write the largest modulus of a root for each z.

    The table: how many z, the degree k, powers of z, and addresses of ``terms`` (k + 1, powers), ``z`` and ``out``
    (complex and real numbers) and scratch (4 k + 2).
    """
    table = as_longs(address)
    count, k, powers = table[0], table[1], table[2]
    terms, points, out, c = as_doubles(table[3]), as_doubles(table[4]), as_doubles(table[5]), as_doubles(table[6])
    roots = offset_by(c, 2 * k + 2)
    fresh = True
    for index in range(count):
        z = (points[2 * index], points[2 * index + 1])
        size = _coefficients(terms, powers, k, z, c)
        if not size < 1e300:
            out[index], fresh = np.nan, True
            continue
        if abs(c[2 * k]) + abs(c[2 * k + 1]) <= 1e-290 * size or size == 0.0:
            out[index], fresh = np.inf, True
            continue
        if fresh:
            _begin(roots, k)
        if not _converge(c, roots, k, _MAX_ANEW if fresh else _MAX_TURNS) and not fresh:
            _begin(roots, k)
            _converge(c, roots, k, _MAX_ANEW)
        fresh, most = False, 0.0
        for i in range(k):
            modulus = np.sqrt(roots[2 * i] * roots[2 * i] + roots[2 * i + 1] * roots[2 * i + 1])
            if not modulus <= most:
                most = modulus
        fresh = not most < 1e300
        out[index] = most
    return 0
