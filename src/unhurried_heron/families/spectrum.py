"""The fastest modes of large systems, found by what the Jacobian makes of a few directions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray

# The dimension of the Krylov space, where there is memory for it.
TURNS: Final = 40
# The dimension up to which rounding does no harm.
_FEW: Final = 15
# A Krylov vector shorter than this share of its column closes the space.
_NOTHING: Final = 1e-13


def ritz_values(applied: Callable[[Array], Array], n: int, turns: int = TURNS) -> ComplexArray:
    """Return approximations of eigenvalues, those of large modulus first and best, complex, shape (at most turns,).

    G. H. Golub and C. F. Van Loan, *Matrix Computations*, 4th ed. (2013), section 10.5.

    Parameters
    ----------
    applied : callable
        Returns the product of the matrix and a vector, shape (n,).
    n : int
    turns : int, optional
        The dimension of the Krylov space.

    Returns
    -------
    ndarray of complex
    """
    count = min(turns, n)
    basis, hessenberg = np.zeros((count + 1, n)), np.zeros((count + 1, count))
    start = np.random.default_rng(0).standard_normal(n)
    basis[0] = start / np.linalg.norm(start)
    for k in range(count):
        moved = applied(basis[k])
        for _ in range(1 if count <= _FEW else 2):
            # in a large space twice, because rounding leaves a part of the vector after the first time
            share = basis[: k + 1] @ moved
            hessenberg[: k + 1, k] += share
            moved = moved - share @ basis[: k + 1]
        length = float(np.linalg.norm(moved))
        hessenberg[k + 1, k] = length
        if not length > _NOTHING * abs(hessenberg[: k + 1, k]).max():
            count = k + 1
            break
        basis[k + 1] = moved / length
    values = np.linalg.eigvals(hessenberg[:count, :count]).astype(complex)
    return values[np.argsort(-np.abs(values))]
