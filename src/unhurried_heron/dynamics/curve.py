"""The curve of states and values of a parameter at which all rates vanish, followed by its arclength.

H. B. Keller, *Lectures on Numerical Methods in Bifurcation Problems* (1987); E. L. Allgower and K. Georg,
*Introduction to Numerical Continuation Methods* (2003).
"""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.arrays import Array, BoolArray
from unhurried_heron.deadline import seconds_left
from unhurried_heron.dynamics.evaluation import Evaluation

# Steps of Newton's method onto the curve.
_MAX_STEPS: Final = 12
# Corrections below this are rounding, for unknowns of the order of one.
_ROUNDING: Final = 1e-13
# What a point may be off where rounding ends Newton's method sooner.
_OFF: Final = 1e-11
# Steps for the derivative by the parameter, a share of its range: with four points the error is of fourth order.
_DIFFERENCE: Final = 1e-3
# Where rates end nearby, a difference to one side.
_ONE_SIDED: Final = 1e-7
# The first step along the curve, where box and range have the length one,
STARTING_LENGTH: Final = 0.005
# the longest,
_LONGEST_STEP: Final = 0.02
# the shortest,
_SHORTEST_STEP: Final = 1e-10
# and by how much the direction may turn within a step, as a sine.
_TURN: Final = 0.1
# How far beyond the box is rounding.
SLACK: Final = 1e-9
# After this many points the curve has gone further than the first step; else it comes to an end.
_LOOK: Final = 60
# Points of a curve.
_MAX_POINTS: Final = 20000


class Equations:
    """F(y, p) = 0 in unknowns that are of the order of one: states as shares of a box, the parameter of its range.

    Attributes
    ----------
    evaluation : Evaluation
    low, size : ndarray, shape (n_states + 1,)
        Of the box; the parameter is last.
    """

    def __init__(self, evaluation: Evaluation, low: Array, high: Array) -> None:
        self.evaluation, self.low, self.size = evaluation, low, high - low
        self.n = low.size - 1
        self._rows = np.ones(self.n)

    def balance(self, points: Array) -> None:
        """Let rates be of the order of one, by their derivatives at some points, shape (n_points, n_states + 1)."""
        matrices = np.array([self.at(point)[1] for point in points])
        if matrices.size:
            typical = np.median(np.abs(matrices).max(axis=2), axis=0)
            self._rows = self._rows * np.where(np.isfinite(typical) & (typical > 0.0), typical, 1.0)

    def scaled(self, states: Array, values: Array) -> Array:
        """Return unknowns, shape (n_rows, n_states + 1)."""
        unknowns: Array = (np.column_stack([states, values]) - self.low) / self.size
        return unknowns

    def plain(self, unknowns: Array) -> Array:
        """Return states, and the parameter as the last, of the same shape."""
        plain: Array = self.low + self.size * unknowns
        return plain

    def at(self, unknowns: Array) -> tuple[Array, Array]:
        """Return rates and their derivatives by all unknowns.

        Parameters
        ----------
        unknowns : ndarray, shape (n_states + 1,)

        Returns
        -------
        (ndarray, ndarray), shapes (n_states,) and (n_states, n_states + 1)
        """
        point = self.plain(unknowns)
        moves = np.array([0.0, -2.0, -1.0, 1.0, 2.0]) * _DIFFERENCE * self.size[-1]
        rates = self.evaluation.rates(np.tile(point[:-1], (5, 1)), point[-1] + moves)
        by = (rates[1] - 8.0 * rates[2] + 8.0 * rates[3] - rates[4]) / 12.0
        if not np.isfinite(by).all():
            near = point[-1] + np.array([-1.0, 1.0]) * _ONE_SIDED * self.size[-1]
            sides = (self.evaluation.rates(np.tile(point[:-1], (2, 1)), near) - rates[0]) * _DIFFERENCE / _ONE_SIDED
            by = np.where(np.isfinite(sides[1]), sides[1], -sides[0])
        matrix = np.column_stack([self.jacobian(unknowns) * self.size[:-1], by / _DIFFERENCE])
        return rates[0] / self._rows, matrix / self._rows[:, None]

    def jacobian(self, unknowns: Array) -> Array:
        """Return the Jacobian as it is, shape (n_states, n_states)."""
        point = self.plain(unknowns)
        jacobian: Array = self.evaluation.jacobians(point[None, :-1], point[-1:])[0]
        return jacobian

    def correct(self, unknowns: Array, row: Array, level: float | None = None) -> tuple[Array, int] | None:
        """Return the point of the curve on a plane, and how many steps it took; None where Newton's method finds none.

        Parameters
        ----------
        unknowns : ndarray, shape (n_states + 1,)
            Where it begins.
        row : ndarray, shape (n_states + 1,)
            What is normal to the plane.
        level : float, optional
            Of the plane; by default that where it begins.

        Returns
        -------
        (ndarray, int), or None
        """
        here = unknowns.copy()
        level, last = float(row @ here) if level is None else level, np.inf
        for count in range(_MAX_STEPS):
            rates, matrix = self.at(here)
            bordered = np.vstack([matrix, row])
            if not (np.isfinite(rates).all() and np.isfinite(bordered).all()):
                return None
            try:
                step = np.linalg.solve(bordered, np.append(rates, row @ here - level))
            except np.linalg.LinAlgError:
                return None
            length = float(np.abs(step).max())
            if not length < 1.0 or (count > 1 and length > max(0.5 * last, _OFF)):
                return None
            here = here - step
            if length <= _ROUNDING or (length <= _OFF and length >= 0.5 * last):
                return here, count + 1
            last = length
        return None

    def tangent(self, unknowns: Array, along: Array) -> Array | None:
        """Return the direction of the curve at a point, of length one, as near as may be to another.

        Parameters
        ----------
        unknowns : ndarray, shape (n_states + 1,)
        along : ndarray, shape (n_states + 1,)

        Returns
        -------
        ndarray, shape (n_states + 1,), or None
        """
        _, matrix = self.at(unknowns)
        if not np.isfinite(matrix).all():
            return None
        found: Array = np.linalg.svd(matrix)[2][-1]
        return found if found @ along >= 0.0 else -found


def outside(unknowns: Array) -> bool:
    """Whether a point is beyond box or range."""
    return bool(((unknowns < -SLACK) | (unknowns > 1.0 + SLACK)).any())


class Trace:
    """A curve that was followed in one direction.

    Attributes
    ----------
    points, tangents : list of ndarray, shape (n_states + 1,)
    end : str
        Why it was not followed on: "range", "box", "closed", "lost", "points" or "time"; empty while it is.
    """

    def __init__(self, points: list[Array], tangents: list[Array]) -> None:
        self.points, self.tangents, self.end = points, tangents, ""


def follow(equations: Equations, start: Array, along: Array) -> Trace:
    """Follow the curve from a point in one direction, until it leaves the box or comes back.

    Parameters
    ----------
    equations : Equations
    start : ndarray, shape (n_states + 1,)
        On the curve.
    along : ndarray, shape (n_states + 1,)

    Returns
    -------
    Trace
    """
    tangent = equations.tangent(start, along)
    trace = Trace([start], [along if tangent is None else tangent])
    step = STARTING_LENGTH
    while not trace.end:
        if seconds_left() < 0.0:
            trace.end = "time"
            break
        here, way = trace.points[-1], trace.tangents[-1]
        found = equations.correct(here + step * way, way)
        if found is not None and np.linalg.norm(found[0] - here - step * way) > step:
            # another branch, beyond a jump of the rates
            found = None
        ahead = None if found is None else equations.tangent(found[0], way)
        turn = np.inf if found is None or ahead is None else float(np.linalg.norm(ahead - (ahead @ way) * way))
        # what turns at once, however short the step is, is a corner
        corner = step <= 2.0 * _SHORTEST_STEP and turn < np.inf
        if found is None or ahead is None or (turn > _TURN and not corner):
            step *= 0.5
            if step < _SHORTEST_STEP:
                beyond = _around_a_corner(equations, here, way)
                if beyond is None:
                    trace.end = "lost"
                else:
                    # the corner itself is where both directions meet
                    trace.points += [_meeting(here, way, *beyond), beyond[0]]
                    trace.tangents += [way, beyond[1]]
                    step = STARTING_LENGTH
            continue
        point, count = found
        out = (point < -SLACK) | (point > 1.0 + SLACK)
        if out.any():
            landed = _land(equations, here, point, out)
            if landed is not None:
                point, trace.end = landed
                ahead = equations.tangent(point, way)
                if float((point - here) @ way) > SLACK and ahead is not None:
                    trace.points.append(point)
                    trace.tangents.append(ahead)
                break
            # where branches meet on a side of the box, the equations of the side are singular
            step *= 0.5
            if step < _SHORTEST_STEP:
                trace.end = "range" if out[-1] else "box"
            continue
        back = point - trace.points[0]
        near = float(np.linalg.norm(back)) < step and trace.tangents[0] @ ahead > 0.9
        if len(trace.points) > 2 and near and float(back @ ahead) >= 0.0:
            point, ahead, trace.end = trace.points[0], trace.tangents[0], "closed"
        trace.points.append(point)
        trace.tangents.append(ahead)
        if turn > _TURN:
            step = STARTING_LENGTH
        elif count <= 4 and turn < 0.5 * _TURN:
            step = min(1.5 * step, _LONGEST_STEP)
        if len(trace.points) > _LOOK and np.linalg.norm(point - trace.points[-_LOOK]) < STARTING_LENGTH:
            # shorter and shorter, as towards the end of a root
            trace.end = "lost"
        if len(trace.points) >= _MAX_POINTS:
            trace.end = "points"
    return trace


def _land(equations: Equations, here: Array, there: Array, out: BoolArray) -> tuple[Array, str] | None:
    """Return where the curve leaves the box, and whether through the range of the parameter or another side.

    Parameters
    ----------
    equations : Equations
    here, there : ndarray, shape (n_states + 1,)
        The last point within and the first outside.
    out : ndarray of bool, shape (n_states + 1,)
        Which unknowns are outside.

    Returns
    -------
    (ndarray, str), or None
    """
    sides = np.where(there > 0.5, 1.0, 0.0)
    shares = np.where(out, (sides - here) / np.where(out, there - here, 1.0), np.inf)
    first = int(np.argmin(shares))
    guess = here + min(max(float(shares[first]), 0.0), 1.0) * (there - here)
    found = equations.correct(guess, np.eye(here.size)[first], float(sides[first]))
    if found is None or outside(found[0]) or np.linalg.norm(found[0] - here) > 2.0 * np.linalg.norm(there - here):
        return None
    point = found[0]
    # the side itself, without rounding
    point[first] = sides[first]
    return point, "range" if first == here.size - 1 else "box"


def _meeting(here: Array, way: Array, point: Array, tangent: Array) -> Array:
    """Return where two lines come nearest to each other.

    Parameters
    ----------
    here, way, point, tangent : ndarray, shape (n_states + 1,)
        A point on each, and its direction.

    Returns
    -------
    ndarray, shape (n_states + 1,)
    """
    lengths = np.linalg.lstsq(np.column_stack([way, -tangent]), point - here, rcond=None)[0]
    meeting: Array = here + lengths[0] * way
    return meeting


def _around_a_corner(equations: Equations, here: Array, way: Array) -> tuple[Array, Array] | None:
    """Return the next point and direction beyond a place where the curve has a corner; None where it ends.

    Parameters
    ----------
    equations : Equations
    here, way : ndarray, shape (n_states + 1,)

    Returns
    -------
    (ndarray, ndarray), or None
    """
    step = 1e3 * _SHORTEST_STEP
    ahead = equations.tangent(here + step * way, way)
    if ahead is None:
        return None
    for direction in (ahead, -ahead):
        found = equations.correct(here + step * direction, direction)
        if found is None:
            continue
        point = found[0]
        tangent = equations.tangent(point, direction)
        moved = point - here
        length = float(np.linalg.norm(moved))
        # neither back where it came from, nor to another branch
        onwards = 0.5 * step < float(moved @ direction) and length < 2.0 * step and moved @ way > -0.99 * length
        if tangent is not None and onwards:
            return point, tangent
    return None
