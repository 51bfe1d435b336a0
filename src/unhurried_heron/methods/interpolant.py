"""Continuous extensions of explicit Runge-Kutta methods, computed from the coefficients alone.

On one step, y(t + theta h) = y + h sum_j b_j(theta) k_j, with k_j the stages and, last, the rate at the end of the
step (which the next step needs anyway). The polynomials b_j meet the continuous order conditions
sum_j b_j(theta) phi_j(tree) = theta^size(tree) / density(tree), and join with a continuous derivative:
E. Hairer, S. P. Norsett and G. Wanner, *Solving Ordinary Differential Equations I*, 2nd ed. (1993), section II.6.
Of the polynomials that remain, those with the smallest mean-square residual of the next order are taken.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Final

import numpy as np

from unhurried_heron.errors import MethodError
from unhurried_heron.methods.coefficients import Matrix, floats
from unhurried_heron.methods.rooted_trees import MAX_ORDER, ElementaryWeights, Scalar, density, symmetry, trees

# The residual below which a condition counts as met.
_MET: Final = 1e-12
# Conditions count as one if their rows differ by no more than this, which is rounding.
_RANK: Final = 1e-10


def continuous_weights(a: Sequence[Sequence[Scalar]], b: Sequence[Scalar], order: int) -> tuple[Matrix, int]:
    """Return the weights, of shape (degree, stages), and the highest order whose conditions they meet.

    Row d holds the coefficients of theta^(d+1). The last stage must be the rate at the end of the step.

    Parameters
    ----------
    a : sequence of sequences of numbers
        The tableau, shape (stages, stages).
    b : sequence of numbers
        The weights, shape (stages,).
    order : int
        That of the method.

    Returns
    -------
    tuple[Matrix, int]

    Raises
    ------
    MethodError
    """
    weights = ElementaryWeights(a)
    end = floats(b)
    for tried in range(order, 0, -1):
        for degree in (max(tried, 3), max(tried, 3) + 1):
            found = _solve(weights, end, tried, degree)
            if found is not None:
                return found, tried
    raise MethodError("the method's weights do not even sum to one", expected="sum of b = 1", given=str(end.sum()))


def joined_weights(weights: ElementaryWeights, b: Sequence[Scalar], order: int) -> tuple[Matrix, int]:
    """Return weights as `continuous_weights` does, of polynomials that need only meet the ends of the step.

    For implicit methods: their derivatives there may be far from the rates along the solution.

    Parameters
    ----------
    weights : ElementaryWeights
        Of the tableau.
    b : sequence of numbers
        The weights, shape (stages,).
    order : int
        That of the method.

    Returns
    -------
    tuple[Matrix, int]

    Raises
    ------
    MethodError
    """
    end = floats(b)
    for tried in range(order, 0, -1):
        found = _solve(weights, end, tried, tried, smooth=False)
        if found is not None:
            return found, tried
    raise MethodError("the method's weights do not even sum to one", expected="sum of b = 1", given=str(end.sum()))


def order_of_weights(a: Sequence[Sequence[Scalar]], given: Matrix) -> int:
    """Return the highest order whose conditions hold at every theta."""
    weights = ElementaryWeights(a)
    for order in range(1, MAX_ORDER + 1):
        phi, wanted = _conditions(weights, range(order, order + 1), given.shape[0])
        # large weights cancel: some digits are lost in evaluating them
        if not np.abs(phi @ given.T - wanted).max() < _MET * max(1.0, np.abs(given).max()):
            return order - 1
    return MAX_ORDER


def leading_error(a: Any, rows: Matrix, order: int) -> float:
    """Return the size of what weights miss of the conditions of an order, at the worst theta.

    The size is that of the coefficients of elementary differentials: E. Hairer, S. P. Norsett and G. Wanner, *Solving
    Ordinary Differential Equations I*, 2nd ed. (1993), section II.3.

    Parameters
    ----------
    a : array_like, shape (stages, stages)
    rows : ndarray, shape (degree, stages)
        Weights of the powers of theta, or a single row of differences of weights.
    order : int

    Returns
    -------
    float
    """
    weights, theta = ElementaryWeights(a), np.linspace(0.0, 1.0, 101)
    powers = theta[:, None] ** np.arange(1, len(rows) + 1) if len(rows) > 1 else np.ones((1, 1))
    total: Any = 0.0
    for tree in trees(order):
        missed = powers @ rows @ weights.stages(tree).astype(float)
        if len(rows) > 1:
            missed = missed - theta**order / density(tree)
        total = total + (missed / symmetry(tree)) ** 2
    return float(np.sqrt(total).max())


def growth_within(a: Any, rows: Matrix, limit: float) -> float:
    """Return what the step polynomial of an explicit method makes of a decay, at most, up to a limit of stability.

    Parameters
    ----------
    a : array_like, shape (stages, stages)
    rows : ndarray, shape (degree, stages)
        Weights of the powers of theta.
    limit : float
        The largest h lambda = -x.

    Returns
    -------
    float
    """
    matrix, z = np.array([floats(row) for row in a]), np.linspace(-limit, 0.0, 33)[:, None]
    weights = np.linspace(0.0, 1.0, 41)[:, None] ** np.arange(1, len(rows) + 1) @ rows
    ones = np.ones((len(z), len(matrix), 1))
    stage_rates = z * np.linalg.solve(np.eye(len(matrix)) - z[:, :, None] * matrix, ones)[:, :, 0]
    return float(np.abs(1.0 + stage_rates @ weights.T).max())


def _conditions(weights: ElementaryWeights, orders: range, degree: int) -> tuple[Matrix, Matrix]:
    """Rows (one for each tree) of stage weights, and what the powers of theta must sum to, by tree and power.

    Parameters
    ----------
    weights : ElementaryWeights
    orders : range
    degree : int
        Degree of the step polynomial.

    Returns
    -------
    tuple[Matrix, Matrix]
    """
    rows, wanted = [], []
    for size in orders:
        for tree in trees(size):
            for row in np.atleast_2d(weights.stages(tree)).astype(float):
                rows.append(row)
                target = np.zeros(degree)
                if size <= degree:
                    target[size - 1] = 1.0 / density(tree)
                wanted.append(target)
    return np.array(rows), np.array(wanted)


def _solve(weights: ElementaryWeights, end: Matrix, order: int, degree: int, *, smooth: bool = True) -> Matrix | None:
    """Return the weights that meet the conditions of an order, smallest beyond them; None without any.

    Parameters
    ----------
    weights : ElementaryWeights
    end : ndarray
        Weights at the end of the step.
    order : int
    degree : int
        Degree of the step polynomial.
    smooth : bool, optional
        Whether the derivative at the ends is prescribed, too.

    Returns
    -------
    Matrix or None
    """
    stages = end.size
    phi, wanted = _conditions(weights, range(1, order + 1), degree)
    identity, powers = np.eye(stages), np.eye(degree)
    first, last = identity[0], identity[-1]
    exponents = np.arange(1.0, degree + 1.0)
    # unknowns: the matrix (degree, stages), flattened
    rows = [np.kron(powers, phi), np.kron(np.ones(degree), identity)]
    rights = [wanted.T.ravel(), end]
    if smooth:
        rows += [np.kron(powers[:1], identity), np.kron(exponents, identity)]
        rights += [first, last]
    system, right = np.vstack(rows), np.concatenate(rights)
    particular: Any = np.linalg.lstsq(system, right, rcond=_RANK)[0]
    if np.abs(system @ particular - right).max() > _MET:
        return None
    _, singular, basis = np.linalg.svd(system)
    free = basis[int((singular > _RANK * singular[0]).sum()) :].T
    if free.shape[1]:
        # residual of the next order, theta by theta, in an orthonormal sense on [0, 1]
        phi, _ = _conditions(weights, range(order + 1, order + 2), degree)
        lower: Any = np.linalg.cholesky(1.0 / (exponents[:, None] + exponents + 1.0))
        measure = np.kron(lower.T, phi)
        target = _next_targets(weights, order + 1, degree, lower)
        shift = np.linalg.lstsq(measure @ free, target - measure @ particular, rcond=_RANK)[0]
        particular = particular + free @ shift
    particular[np.abs(particular) < 1e-12] = 0.0
    weights_found: Matrix = particular.reshape(degree, stages)
    return weights_found


def _next_targets(weights: ElementaryWeights, size: int, degree: int, lower: Matrix) -> Matrix:
    """Project theta^size / density on the polynomials of the given degree, in the basis of the Cholesky factor.

    Parameters
    ----------
    weights : ElementaryWeights
    size : int
        Nodes of the trees.
    degree : int
        Degree of the step polynomial.
    lower : Matrix
        The Cholesky factor.

    Returns
    -------
    Matrix
    """
    exponents = np.arange(1.0, degree + 1.0)
    projected = np.linalg.solve(lower, 1.0 / (exponents + size + 1.0))
    conditions = [density(tree) for tree in trees(size) for _ in np.atleast_2d(weights.stages(tree))]
    return np.concatenate([x / np.array(conditions) for x in projected])
