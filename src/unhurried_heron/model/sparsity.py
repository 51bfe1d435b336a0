"""Where a Jacobian can be nonzero, as the user says it."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.errors import ValueGivenError, excerpt


def checked_sparsity(sparsity: Any, n: int) -> Any:
    """Return where a Jacobian can be nonzero, a matrix of booleans, sparse if it was given so.

    Raises
    ------
    ValueGivenError
        It has another shape, or holds something that is no number.
    """
    try:
        # SciPy's sparse matrices are taken as they are
        matrix = sparsity if hasattr(sparsity, "tocsr") else np.asarray(sparsity)
        usable = matrix.shape == (n, n) and matrix.dtype.kind in "fiub"
    except (TypeError, ValueError):
        usable = False
    if not usable:
        raise ValueGivenError(
            "sparsity is not usable",
            name="sparsity",
            location="sparsity",
            expected=f"numbers of shape ({n}, {n}), nonzero where the Jacobian can be",
            given=excerpt(sparsity),
        )
    return matrix != 0
