"""Where a Jacobian can be nonzero, as the user says it."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.errors import ValueGivenError, excerpt
from unhurried_heron.formulas.layout import Layout


def checked_sparsity(sparsity: Any, layout: Layout) -> Any:
    """Return where a Jacobian can be nonzero, a matrix of booleans, sparse if it was given so.

    Of complex states it may be said by state or by part.

    Raises
    ------
    ValueGivenError
        It has another shape, or holds something that is no number.
    """
    n, n_values = layout.size, len(layout.value_names)
    try:
        # SciPy's sparse matrices are taken as they are
        matrix = sparsity if hasattr(sparsity, "tocsr") else np.asarray(sparsity)
        usable = matrix.shape in ((n, n), (n_values, n_values)) and matrix.dtype.kind in "fiub"
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
    if matrix.shape[0] != n:
        # each number of a value depends on each number of the other
        which = np.repeat(np.arange(n_values), [len(layout.indices_of(name)) for name in layout.value_names])
        matrix = matrix.tocsr()[which][:, which] if hasattr(matrix, "tocsr") else matrix[np.ix_(which, which)]
    return matrix != 0
