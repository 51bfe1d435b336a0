"""Branches of equilibria over a parameter: all that many starts lead to, with the bifurcations on them."""

from __future__ import annotations

from typing import Final

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.deadline import seconds_left
from unhurried_heron.dynamics.bifurcation import Bifurcation, Located, bifurcations_on, lyapunov_coefficient
from unhurried_heron.dynamics.branch import Branch, Branches
from unhurried_heron.dynamics.curve import SLACK, STARTING_LENGTH, Equations, Trace, follow, outside
from unhurried_heron.dynamics.evaluation import Evaluation
from unhurried_heron.dynamics.newton import NEAR, ROUNDING, newton
from unhurried_heron.problem.pointwise import eigenvalues_of
from unhurried_heron.problem.problem import Problem

# Points of the curve are one if they differ by no more than this share of the box,
_APART: Final = 1e-6
# bifurcations by this,
_SAME: Final = 1e-5
# and directions of branches that meet by this.
_PARALLEL: Final = 1e-3
# Branches of one call.
_MAX_BRANCHES: Final = 200
_ENDS: Final = {
    "range": "the range ends",
    "box": "it leaves the box",
    "closed": "it closes",
    "lost": "no equilibrium follows",
    "points": "it has too many points",
    "time": "the time is used up",
}


class _Search:
    """Branches as they are found."""

    def __init__(self, equations: Equations) -> None:
        self.equations = equations
        self.traces: list[Trace] = []
        self.ends: list[tuple[str, str]] = []
        self.located: list[Located] = []
        self.spectra: list[ComplexArray] = []

    def follow_from(self, start: Array) -> None:
        """Follow the branch through a point, and those that meet it, unless it is known."""
        waiting = [(start, np.eye(start.size)[-1])]
        while waiting and len(self.traces) < _MAX_BRANCHES and seconds_left() >= 0.0:
            point, way = waiting.pop(0)
            if outside(point) or self._knows(point):
                continue
            trace, ends = self._both_ways(point, way)
            if len(trace.points) < 2:
                continue
            spectra = self._spectra(trace)
            self.traces.append(trace)
            self.ends.append(ends)
            self.spectra.append(spectra)
            if seconds_left() < 0.0:
                return
            located = bifurcations_on(self.equations, trace, spectra)
            self._insert(located)
            for each in located:
                if self._is_new(each):
                    self.located.append(each)
                    if each.kind == "branch point":
                        waiting += _ways_on(self.equations, each)

    def _insert(self, located: list[Located]) -> None:
        """Let what was located on the last trace be points of it."""
        trace = self.traces[-1]
        for each in sorted(located, key=lambda each: each.step, reverse=True):
            if each.kind != "corner":
                trace.points.insert(each.step + 1, each.unknowns)
                trace.tangents.insert(each.step + 1, each.tangent)
        if located:
            self.spectra[-1] = self._spectra(trace)

    def _both_ways(self, start: Array, along: Array) -> tuple[Trace, tuple[str, str]]:
        onwards = follow(self.equations, start, along)
        if onwards.end == "closed":
            return onwards, ("closed", "closed")
        back = follow(self.equations, start, -onwards.tangents[0])
        points = back.points[:0:-1] + onwards.points
        tangents = [-each for each in back.tangents[:0:-1]] + onwards.tangents
        return Trace(points, tangents), (back.end, onwards.end)

    def _spectra(self, trace: Trace) -> ComplexArray:
        plain = self.equations.plain(np.array(trace.points))
        evaluation = self.equations.evaluation
        return eigenvalues_of(evaluation.jacobians(plain[:, :-1].copy(), plain[:, -1].copy()), evaluation.problem)

    def _knows(self, point: Array) -> bool:
        """Whether a point is on a branch that was followed."""
        for trace in self.traces:
            points = np.array(trace.points)
            begins, ways = points[:-1], np.diff(points, axis=0)
            lengths = np.maximum((ways * ways).sum(axis=1), 1e-300)
            shares = np.clip(((point - begins) * ways).sum(axis=1) / lengths, 0.0, 1.0)
            nearest = begins + shares[:, None] * ways
            distances = np.linalg.norm(nearest - point, axis=1)
            for index in np.flatnonzero(distances <= np.sqrt(lengths)):
                way = ways[index] / np.sqrt(lengths[index])
                found = self.equations.correct(nearest[index], way, float(way @ point))
                if found is not None and np.abs(found[0] - point).max() <= _APART:
                    return True
            if distances.min() <= _APART:
                return True
        return False

    def _is_new(self, found: Located) -> bool:
        return not any(
            np.abs(found.unknowns - each.unknowns).max() <= _SAME
            and (each.kind in (found.kind, "branch point", "corner") or found.kind == "branch point")
            for each in self.located
        )


def _ways_on(equations: Equations, found: Located) -> list[tuple[Array, Array]]:
    """Return where the other branches begin that meet at a branch point, on both sides.

    Parameters
    ----------
    equations : Equations
    found : Located

    Returns
    -------
    list of (ndarray, ndarray)
        Points and directions.
    """
    at, tangent = found.unknowns, found.tangent
    matrix = equations.at(at)[1]
    left, _, right = np.linalg.svd(matrix)
    psi, plane = left[:, -1], right[-2:]
    first = plane @ tangent
    first /= np.linalg.norm(first)
    basis = np.array([first @ plane, np.array([-first[1], first[0]]) @ plane])
    # directions of branches are the roots of a quadratic form, with second derivatives along the plane
    step, form = STARTING_LENGTH, np.empty((2, 2))
    for i in range(2):
        above, below = (equations.at(at + side * step * basis[i])[1] for side in (1.0, -1.0))
        form[i] = psi @ ((above - below) / (2.0 * step)) @ basis.T
    a, b, c = form[0, 0], 0.5 * (form[0, 1] + form[1, 0]), form[1, 1]
    ways = [basis[1]]
    if np.isfinite(form).all():
        # (x, 1) with a x^2 + 2 b x + c = 0; the first direction is a root itself, so that a is nearly zero
        roots = np.roots([a, 2.0 * b, c]) if abs(a) > _PARALLEL * np.abs(form).max() else [-c / (2.0 * b)] if b else []
        ways = [x * basis[0] + basis[1] for x in np.real(roots).tolist() if abs(x) < 1.0 / _PARALLEL] + ways
    found_ways: list[tuple[Array, Array]] = []
    for way in ways:
        unit = way / np.linalg.norm(way)
        for side in (1.0, -1.0):
            point = equations.correct(at + side * STARTING_LENGTH * unit, unit)
            if point is not None:
                found_ways.append((point[0], side * unit))
    return found_ways


def follow_branches(
    problem: Problem, box: tuple[Array, Array], over: tuple[str, float, float], starts: int, seed: int
) -> Branches:
    """Follow all branches that many starts lead to.

    Parameters
    ----------
    problem : Problem
    box : (ndarray, ndarray), shapes (n_states,)
        Its lower and upper ends.
    over : (str, float, float)
        The parameter, from where and to where.
    starts : int
    seed : int

    Returns
    -------
    Branches
    """
    from scipy.stats import qmc

    name, first, last = over
    evaluation = Evaluation(problem, name)
    low, high = np.append(box[0], first), np.append(box[1], last)
    equations = Equations(evaluation, low, high)
    power = 1 << (starts - 1).bit_length()
    begins = low + qmc.Sobol(low.size, rng=np.random.default_rng(seed)).random(power)[:starts] * (high - low)
    # branches that touch the range from outside would be missed between starts: its ends are looked at, too
    begins[::4, -1], begins[1::4, -1] = first, last
    states, errors = newton(evaluation, begins[:, :-1].copy(), high[:-1] - low[:-1], begins[:, -1])
    unknowns = equations.scaled(states, begins[:, -1])
    inside = (errors <= NEAR) & (unknowns >= -SLACK).all(axis=1) & (unknowns <= 1.0 + SLACK).all(axis=1)
    equations.balance(unknowns[inside])
    search = _Search(equations)
    for unknown in unknowns[inside]:
        exact = equations.correct(unknown, np.eye(low.size)[-1])
        if exact is not None and not outside(exact[0]):
            search.follow_from(exact[0])
    ends = zip(problem.states, box[0].tolist(), box[1].tolist(), strict=True)
    branches = tuple(
        _branch(equations, trace, spectra, (_ENDS[before], _ENDS[after]))
        for trace, spectra, (before, after) in zip(search.traces, search.spectra, search.ends, strict=True)
    )
    bifurcations = sorted((_bifurcation(equations, each, name) for each in search.located), key=lambda each: each.value)
    size = equations.size
    ordered = sorted(branches, key=lambda each: _rank(each, size))
    box_of = {each: (a, b) for each, a, b in ends}
    in_time = seconds_left() >= 0.0
    return Branches(problem, name, (first, last), box_of, tuple(ordered), tuple(bifurcations), starts, in_time)


def _rank(branch: Branch, size: Array) -> list[float]:
    """Return by what branches are put in order: where each begins in the parameter, and its states there.

    Parameters
    ----------
    branch : Branch
    size : ndarray, shape (n_states + 1,)
        Of the box.

    Returns
    -------
    list of float
    """
    first = int(np.argmin(branch.values))
    point = np.append(branch.values[first], branch.states[first]) / np.append(size[-1], size[:-1])
    # rounding decides nothing
    return np.round(point, 4).tolist()  # type: ignore[no-any-return]  # of one dimension


def _branch(equations: Equations, trace: Trace, spectra: ComplexArray, ends: tuple[str, str]) -> Branch:
    """Return a branch in the units of the problem.

    Parameters
    ----------
    equations : Equations
    trace : Trace
    spectra : ndarray of complex, shape (n_points, n_states)
    ends : (str, str)

    Returns
    -------
    Branch
    """
    plain = _without_rounding(equations, np.array(trace.points))
    if plain[0, -1] > plain[-1, -1]:
        plain, spectra, ends = plain[::-1], spectra[::-1], ends[::-1]
    return Branch(plain[:, -1].copy(), plain[:, :-1].copy(), spectra.copy(), ends)


def _without_rounding(equations: Equations, unknowns: Array) -> Array:
    """Return states and parameter in their units, zero where they are rounding of it beside the box."""
    plain = equations.plain(unknowns)
    plain[np.abs(plain) <= ROUNDING * equations.size] = 0.0
    return plain


def _bifurcation(equations: Equations, located: Located, parameter: str) -> Bifurcation:
    """Return a bifurcation in the units of the problem.

    Parameters
    ----------
    equations : Equations
    located : Located
    parameter : str

    Returns
    -------
    Bifurcation
    """
    problem, plain = equations.evaluation.problem, _without_rounding(equations, located.unknowns)
    values = eigenvalues_of(equations.jacobian(located.unknowns), problem)
    values = values[np.lexsort((values.imag, -values.real))]
    period = coefficient = None
    if located.kind == "Hopf":
        pair = values[np.argsort(np.abs(values.real))[:2]]
        period = 2.0 * np.pi / float(np.abs(pair.imag).max())
        coefficient = lyapunov_coefficient(equations, located.unknowns)
    return Bifurcation(problem, located.kind, parameter, float(plain[-1]), plain[:-1], values, period, coefficient)
