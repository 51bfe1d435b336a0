"""Newton's method for constraints from many points at once, each damped on its own so that its miss falls."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, IntArray
from unhurried_heron.formulas.differentiate import jacobian
from unhurried_heron.formulas.evaluate import STATE, filled
from unhurried_heron.formulas.expression import SUM, walk
from unhurried_heron.formulas.layout import IndexedFormula
from unhurried_heron.model.model import Model
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.model.unrolling import unrolled

# Iterations from one point,
TURNS: Final = 60
# which end where a correction is below this share of the largest unknown;
ROUNDED: Final = 1e-14
# what comes no nearer, and is missed by no more than this share, is met, too.
MET: Final = 1e-9
# A correction that is not below this share of the one before contracts no longer.
CONTRACTS: Final = 0.5
# The share of the largest singular value below which a direction is none.
SINGULAR: Final = 1e-13
# Solutions apart by more than this share of their size are two; what no unknown can change counts as met within it.
APART: Final = 1e-6
# The shortest part of a correction that is tried.
SHORTEST: Final = 1e-4
# What is left, of an unknown that is never negative, by a correction that would lead below zero.
_LEFT: Final = 0.1
# Values from which unknowns without a guess are looked for,
_POINTS: Final = (1.0, 0.0, -1.0, 0.1, 10.0, -10.0, 0.5, 2.0, 100.0, 1e3)
# of more unknowns than this only the first few.
MANY: Final = 200
# States up to which full matrices of all rows are worth it.
_MOST_STATES: Final = 100
# and operations up to which loops over indices are written out.
_MOST_WRITTEN_OUT: Final = 20_000


@dataclass(frozen=True)
class ConstraintRows:
    """The constraints of a model as functions of its unknowns, of many rows at once.

    Attributes
    ----------
    model : Model
    free : ndarray of int64
        The unknowns among the states.
    formulas : tuple of IndexedFormula
        What is zero, one number each.
    partials : tuple of IndexedFormula
        Their derivatives by all states, row by row.
    bounded : ndarray of bool, shape (n_states,)
        Which states are never negative.
    """

    model: Model
    free: IntArray
    formulas: tuple[IndexedFormula, ...]
    partials: tuple[IndexedFormula, ...]
    bounded: BoolArray

    @property
    def reached(self) -> BoolArray:
        """Which of them an unknown stands in, shape (n_constraints,)."""
        n = self.model.layout.size
        entries = np.unique([each.base for each in self.partials]).astype(np.int64)
        found: BoolArray = np.isin(np.arange(len(self.formulas)), entries[np.isin(entries % n, self.free)] // n)
        return found

    def _around(self, states: Array, time: float, around: Mapping[str, Any]) -> dict[str, Any]:
        scalars = {name: states[:, index, None] for name, index in self.model.layout.scalars.items()}
        columns = {name: np.reshape(value, (-1, 1)) if np.ndim(value) else value for name, value in around.items()}
        return {**columns, **scalars, "t": np.full((len(states), 1), time), STATE: states}

    def missed(self, states: Array, time: float, around: Mapping[str, Any]) -> Array:
        """Return what the constraints miss, shape (rows, n_constraints).

        Parameters
        ----------
        states : ndarray, shape (rows, n_states)
        time : float
        around : mapping of str to float or ndarray, shape (rows,)

        Returns
        -------
        ndarray
        """
        values = self._around(states, time, around)
        found: Array = filled(self.formulas, len(self.formulas), values, (len(states),))
        return found

    def matrices(self, states: Array, time: float, around: Mapping[str, Any]) -> Array:
        """Return their derivatives by all states, shape (rows, n_constraints, n_states).

        Parameters
        ----------
        states : ndarray, shape (rows, n_states)
        time : float
        around : mapping of str to float or ndarray, shape (rows,)

        Returns
        -------
        ndarray
        """
        count, n = len(self.formulas), self.model.layout.size
        values = self._around(states, time, around)
        found: Array = filled(self.partials, count * n, values, (len(states),))
        return found.reshape(-1, count, n)


def constraint_rows(model: Model, free: BoolArray, bounded: BoolArray | None = None) -> ConstraintRows | None:
    """Return the constraints of a small written model; None where they stand in loops, or of others.

    Parameters
    ----------
    model : Model
    free : ndarray of bool, shape (n_states,)
        The unknowns.
    bounded : ndarray of bool, shape (n_states,), optional
        Which states are never negative.

    Returns
    -------
    ConstraintRows or None
    """
    rates, layout = model.rates, model.layout
    if not isinstance(rates, WrittenRates) or layout.size > _MOST_STATES or layout.has_complex:
        return None

    def made() -> ConstraintRows | None:
        n = layout.size
        held = np.zeros(n, dtype=bool) if model.mass is None else model.mass.sizes(n) == 0.0
        own = (each for each in rates.indexed_formulas if held[each.first])
        written = [unrolled(each, lambda _: True, _MOST_WRITTEN_OUT) for each in (tuple(own), model.manifold)]
        if any(each.loops or any(part.op == SUM for part in walk(each.node)) for group in written for each in group):
            return None
        nodes = [each.node for group in written for each in sorted(group, key=lambda each: each.base)]
        formulas = tuple(IndexedFormula((), k, (), node) for k, node in enumerate(nodes))
        within = np.zeros(n, dtype=bool) if bounded is None else bounded
        return ConstraintRows(model, np.flatnonzero(free), formulas, jacobian(formulas, layout), within)

    key = "constraint rows", free.tobytes(), None if bounded is None else bounded.tobytes()
    found: ConstraintRows | None = model.remembered(key, made)
    return found


def within_bounds(states: Array, before: Array, bounded: BoolArray) -> Array:
    """Return states of which those that are never negative have come no nearer to zero than to a share of themselves.

    Parameters
    ----------
    states, before : ndarray, shape (..., n_states)
        Where a correction leads, and where it began.
    bounded : ndarray of bool, shape (n_states,)

    Returns
    -------
    ndarray
    """
    return np.where(bounded & (states < 0.0), _LEFT * before, states)


def met_from(
    constraints: ConstraintRows, points: Array, time: float, around: Mapping[str, Any]
) -> tuple[Array, BoolArray]:
    """Return states that meet the constraints, found from others, and in which rows they were found.

    Parameters
    ----------
    constraints : ConstraintRows
    points : ndarray, shape (rows, n_states)
    time : float
    around : mapping of str to float or ndarray, shape (rows,)
        Parameters and inputs.

    Returns
    -------
    (ndarray, ndarray of bool), shapes (rows, n_states) and (rows,)
    """
    states, free, met = points.copy(), constraints.free, np.zeros(len(points), dtype=bool)

    def of(rows: IntArray) -> dict[str, Any]:
        return {name: value[rows] if np.ndim(value) else value for name, value in around.items()}

    with np.errstate(all="ignore"):
        missed, before_it = constraints.missed(states, time, around), np.full(len(points), np.inf)
        going = np.flatnonzero(np.isfinite(missed).all(axis=1))
        for _ in range(TURNS):
            if not going.size:
                break
            matrices = constraints.matrices(states[going], time, of(going))[:, :, free]
            moves, scales = _corrections(matrices, missed[going], constraints.reached)
            usable = np.isfinite(moves).all(axis=1)
            going, moves, scales = going[usable], moves[usable], scales[usable]
            size, length = np.abs(states[np.ix_(going, free)]).max(axis=1, initial=0.0), np.abs(moves).max(axis=1)
            # rounding contracts no further
            stands = (length <= MET * size) & (length > CONTRACTS * before_it[going])
            # unknowns that are zero have no size of their own
            apparent = np.maximum(size, MET * np.abs(states[going]).max(axis=1))
            done, before_it[going] = stands | (length <= ROUNDED * apparent), length
            last = states[going[done]]
            last[:, free] += moves[done]
            states[going[done]] = within_bounds(last, states[going[done]], constraints.bounded)
            met[going[done]] = True
            going, moves, scales, size, length = (each[~done] for each in (going, moves, scales, size, length))
            part = np.ones(going.size)
            before: Array = np.abs(missed[going] / scales).max(axis=1, initial=0.0)
            trying, went = np.arange(going.size), np.zeros(going.size, dtype=bool)
            while trying.size:
                rows = going[trying]
                tried = states[rows]
                tried[:, free] += part[trying, None] * moves[trying]
                tried = within_bounds(tried, states[rows], constraints.bounded)
                left = constraints.missed(tried, time, of(rows))
                nearer = np.abs(left / scales[trying]).max(axis=1) < before[trying] * (1.0 - 0.1 * part[trying])
                states[rows[nearer]], missed[rows[nearer]] = tried[nearer], left[nearer]
                went[trying[nearer]] = True
                trying = trying[~nearer]
                part[trying] *= 0.5
                trying = trying[part[trying] >= SHORTEST]
            # what comes no nearer
            met[going[~went]] = length[~went] <= MET * size[~went]
            going = going[went]
            going = going[np.isfinite(missed[going]).all(axis=1)]
    return states, met


def _corrections(matrices: Array, missed: Array, reached: BoolArray) -> tuple[Array, Array]:
    """Return Newton's corrections, the shortest where unknowns are more, NaN without one, and the sizes of the rows.

    Parameters
    ----------
    matrices : ndarray, shape (rows, n_constraints, n_free)
    missed : ndarray, shape (rows, n_constraints)
    reached : ndarray of bool, shape (n_constraints,)
        Where an unknown stands.

    Returns
    -------
    (ndarray of shape (rows, n_free), ndarray of shape (rows, n_constraints))
    """
    sizes = np.abs(matrices).max(axis=2)
    scales = np.where(sizes > 0.0, sizes, 1.0)
    finite: Any = np.isfinite(matrices).all(axis=(1, 2))
    scaled, right = np.where(finite[:, None, None], matrices / scales[:, :, None], 0.0), -missed / scales
    left, values, directions = np.linalg.svd(scaled, full_matrices=False)
    used = values > SINGULAR * values[:, :1]
    along = np.where(used, np.einsum("rck,rc->rk", left, right) / np.where(used, values, 1.0), 0.0)
    moves = np.einsum("rkf,rk->rf", directions, along)
    # where no unknown can change anything, what was given is at fault, which is looked at in the end
    open_yet = np.where(reached, np.einsum("rcf,rf->rc", scaled, moves) - right, 0.0)
    lost = np.abs(open_yet).max(axis=1) > APART * np.abs(right).max(axis=1)
    whole = used.sum(axis=1) == matrices.shape[2]
    moves[~finite | (lost & ~whole)] = np.nan
    return moves, scales


def points_from(start: Array, free: Any, guessed: Any, bounded: Any) -> Iterator[Array]:
    """Yield states from which to look for a solution: guesses as they are, the others all alike and spread.

    Parameters
    ----------
    start : ndarray, shape (n_states,)
    free, guessed, bounded : ndarray of bool, shape (n_states,)

    Yields
    ------
    ndarray, shape (n_states,)
    """
    unknown, bounded = free & ~guessed, free & bounded
    if not unknown.any():
        yield np.where(bounded, np.abs(start), start)
        return
    count = int(unknown.sum())
    for turn, size in enumerate(_POINTS if count <= MANY else _POINTS[:3]):
        point = start.copy()
        # apart from each other, for differences of equal ones may vanish
        point[unknown] = size * (1.0 + 0.1 * turn * np.modf(np.arange(count) * 0.754877666)[0])
        yield np.where(bounded, np.abs(point), point)


def are_apart(one: Array, other: Array) -> Any:
    """Whether solutions are two: of one (n_states,), or of rows."""
    size: Any = np.maximum(np.abs(one), np.abs(one).max(axis=-1, keepdims=True) * APART)
    return (np.abs(one - other) > APART * size).any(axis=-1)


def states_without_rounding(
    constraints: ConstraintRows, states: Array, time: float, around: Mapping[str, Any]
) -> Array:
    """Return solutions with zeros for the unknowns that are zero but for rounding.

    Parameters
    ----------
    constraints : ConstraintRows
    states : ndarray, shape (rows, n_states)
    time : float
    around : mapping of str to float or ndarray, shape (rows,)

    Returns
    -------
    ndarray, shape (rows, n_states)
    """
    found, unknowns = states.copy(), np.abs(states[:, constraints.free])
    size = np.abs(states).max(axis=1, initial=0.0)
    found[:, constraints.free] = np.where(unknowns <= MET * size[:, None], 0.0, states[:, constraints.free])
    with np.errstate(all="ignore"):
        before, after = (np.abs(constraints.missed(each, time, around)) for each in (states, found))
    better: Any = (after <= before + np.finfo(float).eps * size[:, None]).all(axis=1)
    return np.where(better[:, None], found, states)


def consistent_members(
    model: Model, starts: Array, known: tuple[BoolArray, BoolArray], time: float, around: Mapping[str, Any]
) -> Array | None:
    """Return starting states of many members at which constraints hold; None where one has no single solution.

    Parameters
    ----------
    model : Model
    starts : ndarray, shape (n_members, n_states)
        What was given.
    known : (ndarray of bool, ndarray of bool), shape (n_states,)
        Where nothing was given, and which states are never negative.
    time : float
        At the start.
    around : mapping of str to float or ndarray, shape (n_members,)
        Parameters and inputs.

    Returns
    -------
    ndarray, shape (n_members, n_states), or None
    """
    free, bounded = known
    constraints = constraint_rows(model, free, bounded)
    if constraints is None or constraints.free.size < constraints.reached.sum():
        return None
    points = np.array([[*points_from(each, free, np.zeros_like(free), bounded)] for each in starts])
    count, several, n = points.shape

    def repeated(times: int) -> dict[str, Any]:
        return {name: np.repeat(value, times) if np.ndim(value) else value for name, value in around.items()}

    flat, met = met_from(constraints, points.reshape(-1, n), time, repeated(several))
    states = states_without_rounding(constraints, flat, time, repeated(several)).reshape(points.shape)
    found = met.reshape(count, several)
    if not found.any(axis=1).all():
        return None
    first: Array = states[np.arange(count), found.argmax(axis=1)]
    others = are_apart(states, first[:, None]) & found
    return None if others.any() or not _holds(constraints, first, time, around) else first


def _holds(constraints: ConstraintRows, states: Array, time: float, around: Mapping[str, Any]) -> bool:
    """Whether constraints are met but for rounding, those too that hold no unknown.

    Parameters
    ----------
    constraints : ConstraintRows
    states : ndarray, shape (n_members, n_states)
    time : float
    around : mapping of str to float or ndarray, shape (n_members,)

    Returns
    -------
    bool
    """
    with np.errstate(all="ignore"):
        sizes = np.maximum(np.abs(states), np.finfo(float).tiny)
        allowed = MET * np.einsum("rcn,rn->rc", np.abs(constraints.matrices(states, time, around)), sizes)
        return bool((np.abs(constraints.missed(states, time, around)) <= allowed).all())
