"""Where the Jacobian can be nonzero: exactly, from the references that the rates make."""

from __future__ import annotations

from typing import Any

import numpy as np

from unhurried_heron.errors import ValueGivenError
from unhurried_heron.formulas.differentiate import jacobian
from unhurried_heron.formulas.layout import places
from unhurried_heron.model.functions import NamedFunction
from unhurried_heron.model.model import Model


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
            place="sparsity",
            expected=f"numbers of shape ({n}, {n}), nonzero where the Jacobian can be",
            given=repr(sparsity)[:80],
        )
    return matrix != 0


def pattern_of(model: Model, sparsity: Any = None) -> Any:
    """Return a SciPy sparse matrix of booleans, shape (n_states, n_states)."""
    from scipy.sparse import csr_array

    n = model.layout.size
    if isinstance(model.rates, NamedFunction):
        return csr_array(np.ones((n, n), dtype=bool) if sparsity is None else checked_sparsity(sparsity, n))
    found = []
    for block in jacobian(model.rates, model.layout):
        strides = dict(zip((loop.index for loop in block.loops), block.strides, strict=True))
        found.append(places(block.loops, block.base, strides))
    together = np.unique(np.concatenate(found)) if found else np.empty(0, dtype=np.int64)
    rows, columns = together // max(n, 1), together % max(n, 1)
    return csr_array((np.ones(together.size, dtype=bool), (rows, columns)), shape=(n, n))
