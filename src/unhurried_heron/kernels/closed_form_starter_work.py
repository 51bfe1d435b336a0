"""What closed forms in place of a method work on, as `bundles` are."""

from __future__ import annotations

from typing import NamedTuple

from unhurried_heron.kernels.memory.bundles import Array, LongArray


class ClosedFormWork(NamedTuple):
    """Closed forms in place of a method, to start others: ``function`` and ``context`` addresses.

    ``order`` int64 (n,): where each state stands among the closed forms, ``values`` (n,); ``degree`` of the
    polynomials, through ``theta`` (degree + 1,) by ``inverse`` (degree + 1, degree + 1).
    """

    function: int
    context: int
    degree: int
    order: LongArray
    values: Array
    theta: Array
    inverse: Array
