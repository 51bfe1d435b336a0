"""What is refused in a tableau from outside: weights of no other order, a continuous extension that ends elsewhere."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.errors import excerpt
from unhurried_heron.methods.coefficients import Matrix, Row, floats, refusal, row, sequence

ALIKE: Final = 1e-12  # sums that differ by this are equal


class Continuous(NamedTuple):
    """A continuous extension that is published with a method.

    ``a``: rows of further stages, over the stages and one another; ``weights``: for each stage, the further ones last,
    the coefficients of theta, theta^2 and so on.
    """

    a: tuple[Row, ...]
    weights: Matrix


def second_weights(method: str, part: str, given: Any, b: Row) -> Row | None:
    """Return weights of a second solution, None where there are none.

    Parameters
    ----------
    method : str
        Its name.
    part : str
        What the weights are called.
    given : sequence of numbers, or None
    b : Row
        The weights of the solution.

    Returns
    -------
    Row or None

    Raises
    ------
    MethodError
        They are the same as ``b``, or do not sum to 1.
    """
    if given is None:
        return None
    sequence(method, part, given)
    weights = row(method, part, given, len(b))
    if weights == b:
        expected = "weights of another order, to estimate the error"
        raise refusal(method, f"{part} equals b", expected, "the same weights")
    if abs(float(sum(weights)) - 1) > ALIKE:
        raise refusal(method, f"{part} is not consistent", "weights that sum to 1", str(sum(weights)))
    return weights


def continuous_extension(method: str, given: Any, b: Row) -> Continuous:
    """Return a continuous extension: further stages, and the weights of all stages by powers of theta.

    Parameters
    ----------
    method : str
        Its name.
    given : (rows, weights)
    b : Row
        The weights of the solution.

    Returns
    -------
    Continuous

    Raises
    ------
    MethodError
        It is no pair, or does not end at the method's solution.
    """
    try:
        rows, weights = given
        width = len(b) + len(rows)
    except (TypeError, ValueError):
        expected = "(rows, weights)"
        raise refusal(method, "the continuous extension is no pair", expected, excerpt(given)) from None
    further = tuple(
        row(method, f"row {i + 1} of the continuous extension", each, width, fill=True) for i, each in enumerate(rows)
    )
    sequence(method, "the weights of the continuous extension", weights)
    degree = max((len(each) for each in weights), default=0)
    read = [row(method, "weights of the continuous extension", each, degree, fill=True) for each in weights]
    ends = [float(sum(each)) for each in read]
    if len(read) != width or not np.allclose(ends, [*map(float, b), *[0.0] * len(rows)], atol=1e-9):
        raise refusal(
            method,
            "the continuous extension does not end at the method's solution",
            f"{width} rows of weights whose sums are b, and 0 for further stages",
            f"{len(read)} rows with the sums {', '.join(f'{x:g}' for x in ends)}",
        )
    return Continuous(further, floats(read))
