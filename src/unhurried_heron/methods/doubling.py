"""Step doubling: a step and two of half its length, whose difference tells the error, as one tableau.

The two half steps are what is carried on; (y2 - y1) / (2^p - 1) is their error for a method of order p, and taking it
away gives a solution of order p + 1: L. F. Richardson, Phil. Trans. R. Soc. A 226 (1927) 299-349; E. Hairer,
S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section II.4.
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import NamedTuple

from unhurried_heron.methods.coefficients import Row
from unhurried_heron.methods.rooted_trees import Scalar


class Doubled(NamedTuple):
    """The tableau: ``a``, ``b`` of the two half steps, ``b_extrapolated``; ``halfway``: weights of the state there."""

    a: tuple[Row, ...]
    b: Row
    b_extrapolated: Row
    halfway: Row


def double(a: Sequence[Row], b: Row, order: int) -> Doubled:
    """Return the tableau of step doubling.

    Stages that are the same are taken once; those of the second half come last.

    Parameters
    ----------
    a : sequence of Row
        Tableau of the method.
    b : Row
        Its weights.
    order : int

    Returns
    -------
    Doubled
    """
    s, zero, half = len(b), Fraction(0), Fraction(1, 2)
    rows: list[list[Scalar]] = [
        *([*row, *[zero] * (2 * s)] for row in a),
        *([*[zero] * s, *[x * half for x in row], *[zero] * s] for row in a),
        *([*[zero] * s, *[x * half for x in b], *[x * half for x in row]] for row in a),
    ]
    whole: list[Scalar] = [*b, *[zero] * (2 * s)]
    halfway: list[Scalar] = [*[zero] * s, *[x * half for x in b], *[zero] * s]
    twice: list[Scalar] = [*[zero] * s, *[x * half for x in b], *[x * half for x in b]]
    share = Fraction(1, 2**order - 1)
    better = [x + (x - y) * share for x, y in zip(twice, whole, strict=True)]
    rows, weights = _merged(rows, [twice, better, halfway])
    first = [i for i, row in enumerate(rows) if not any(row)]
    # what is explicit and the same for all stands first, whichever of them it came from
    order_of = first + [i for i in range(len(rows)) if i not in first]
    rows = [[rows[i][j] for j in order_of] for i in order_of]
    weights = [[each[j] for j in order_of] for each in weights]
    return Doubled(tuple(map(tuple, rows)), tuple(weights[0]), tuple(weights[1]), tuple(weights[2]))


def _merged(rows: list[list[Scalar]], weights: list[list[Scalar]]) -> tuple[list[list[Scalar]], list[list[Scalar]]]:
    """Take stages with the same argument as one: the first of them."""
    index = 0
    while index < len(rows):
        first = next(i for i, row in enumerate(rows) if row == rows[index])
        if first == index:
            index += 1
            continue
        for row in (*rows, *weights):
            row[first] += row[index]
            del row[index]
        del rows[index]
    return rows, weights
