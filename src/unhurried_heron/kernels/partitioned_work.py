"""What a partitioned method works on, as `bundles` are."""

from __future__ import annotations

from typing import NamedTuple

from unhurried_heron.kernels.memory.bundles import Array, LongArray


class PartitionedWork(NamedTuple):
    """A partitioned method and its work space.

    Of the ``turns`` int64 (n_turns,), 0 is a drift of the ``first`` part, int64 (n_first,), 1 a kick of the ``second``,
    int64 (n_second,); ``shares`` (n_turns,) of a step, and ``nodes`` (n_turns,): how far the other part has come, as a
    share of the step. ``rates_of_first``, ``context_of_first`` and those of the second: addresses of functions that
    write rates of a part. ``rates`` (n,) is scratch, ``end`` (n,): rates at the end of the step.
    """

    n_turns: int
    n_first: int
    n_second: int
    rates_of_first: int
    context_of_first: int
    rates_of_second: int
    context_of_second: int
    first: LongArray
    second: LongArray
    turns: LongArray
    shares: Array
    nodes: Array
    rates: Array
    end: Array
