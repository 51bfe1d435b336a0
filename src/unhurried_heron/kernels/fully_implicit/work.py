"""What a fully implicit method works on, as `bundles` are."""

from __future__ import annotations

from typing import Annotated, Any, NamedTuple

from unhurried_heron.kernels.memory.bundles import CONTROLLER, Array, LongArray
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON

# of fully implicit methods besides: the shift of the filter; N(0) of the nodes' polynomial N, and the largest value of
# x N; where the defect is looked at, and N there
GAMMA, NODE_0, LARGEST, FIRST, SECOND, AT_FIRST, AT_SECOND = range(3, 10)


class BlockWork(NamedTuple):
    """A fully implicit method and its work space, kept between chunks.

    ``factor``, ``solve`` and ``solve_whole`` are the addresses of the linear algebra; ``filter``, ``whole`` and
    ``blocks`` int64 (n_real + n_pairs,) those of its contexts, the filter being the first real block where there is
    one; ``numbers`` (stages,) of the blocks. Matrices (stages, stages): ``t``, ``u`` the transformation and its
    inverse, ``v``, ``v_end`` from increments to the polynomial in theta and in theta - 1, ``inverse`` of the tableau's.
    ``c``, ``e``, ``end`` (stages,): nodes, weights of the estimate and of the end; ``free``, ``pulled`` (stages + 1,):
    see `between`. ``limits`` (10,): see above. ``jacobian`` (n, n). Rows of n: ``z``, ``w`` stage increments, plain and
    transformed; ``guess`` what was foreseen of z; ``f`` their rates, ``g`` corrections, ``p`` the polynomial of the
    step before (stages,); ``scale``
    allowed errors, ``shifted`` for `jacobian`, ``moved``, ``estimate``, ``d1``, ``d2``. For fixed steps where
    simplified iterations fail, ``stacked`` and ``direction`` (stages n,); ``spare`` (n n + 3,) for eigenvalues.
    ``insist`` and ``growth`` are the addresses of the kernels that use these, 0 where they are not there.
    """

    memory: Annotated[Any, IMPLICIT_MEMORY]
    controller: Annotated[Any, CONTROLLER]
    newton: Annotated[Any, NEWTON]
    insist: int
    growth: int
    factor: int
    solve: int
    solve_whole: int
    filter: int
    whole: int
    stages: int
    n_real: int
    n_pairs: int
    corrects: int
    uses_start_rates: int
    ends: int
    blocks: LongArray
    numbers: Array
    t: Array
    u: Array
    v: Array
    v_end: Array
    inverse: Array
    c: Array
    e: Array
    end: Array
    free: Array
    pulled: Array
    limits: Array
    jacobian: Array
    spare: Array
    stacked: Array
    direction: Array
    scale: Array
    shifted: Array
    moved: Array
    estimate: Array
    d1: Array
    d2: Array
    z: Array
    w: Array
    f: Array
    g: Array
    p: Array
    guess: Array
