"""Bifurcations on a branch of equilibria: folds, branch points and Hopf points, found to rounding.

Y. A. Kuznetsov, *Elements of Applied Bifurcation Theory* (2004), chapters 3, 5 and 10.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Final, Literal

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray, IntArray
from unhurried_heron.dynamics.curve import Equations, Trace
from unhurried_heron.equality import ByValue
from unhurried_heron.problem.pointwise import eigenvalues_of
from unhurried_heron.problem.problem import Problem

BifurcationKind = Literal["fold", "branch point", "Hopf", "corner"]
# How exactly a place between two points is found, as an arclength.
_EXACT: Final = 1e-14
# What vanishes there is smaller than this share of what it is on either side; else it jumps.
_VANISHES: Final = 1e-4
# Roots are one if they differ by no more than this share of the step.
_ONE: Final = 1e-6
# How far beside a fold it is looked whether that is smooth, as a share of the step.
_BESIDE: Final = 0.01
# Around a branch point, points up to this share of the step away tell where it is,
_AROUND: Final = 0.5
# as many on each side.
_SIDES: Final = 4
# Steps for second and third derivatives, for unknowns of the order of one.
_DIFFERENCE: Final = 1e-3
# Imaginary parts below this share of the eigenvalues are none.
_REAL: Final = 1e-9


@dataclass(frozen=True, eq=False)
class Bifurcation(ByValue):
    """A place on a branch where the number or the stability of solutions changes.

    Attributes
    ----------
    problem : Problem
    kind : {"fold", "branch point", "Hopf", "corner"}
        A fold, where the branch turns back; a point where branches cross; one where a cycle is born; or a corner,
        where a switch changes the equations.
    parameter : str
    value : float
        Of the parameter.
    state : ndarray, shape (n_states,)
    eigenvalues : ndarray of complex, shape (n_states,)
    period : float or None
        Of the cycle that is born, at its birth.
    coefficient : float or None
        The first Lyapunov coefficient of a Hopf point: where it is negative, the cycle stays as stable as the
        equilibrium was (supercritical); where positive, it is unstable (subcritical).
    """

    problem: Problem = field(repr=False)
    kind: BifurcationKind
    parameter: str
    value: float
    state: Array
    eigenvalues: ComplexArray
    period: float | None = None
    coefficient: float | None = None

    def __getitem__(self, name: str) -> float:
        """Return the value of a state by its name."""
        return float(self.state[self.problem.states.index(name)])

    @property
    def words(self) -> str:
        """Its kind in words."""
        if self.kind == "Hopf":
            criticality = "" if not self.coefficient else " supercritical" if self.coefficient < 0.0 else " subcritical"
            return f"Hopf point,{criticality}".rstrip(",")
        return self.kind

    def __str__(self) -> str:
        unit = self.problem.units.get(self.parameter, "")
        return f"{self.words} at {self.parameter} = {self.value:.10g} {unit}".rstrip()


@dataclass(frozen=True)
class Located:
    """A bifurcation in unknowns of the order of one, on the step that follows a point of a trace.

    Attributes
    ----------
    step : int
    kind : str
    unknowns, tangent : ndarray, shape (n_states + 1,)
    """

    step: int
    kind: BifurcationKind
    unknowns: Array
    tangent: Array


class _Step:
    """What is known of two points that follow each other, and of points between them."""

    def __init__(self, equations: Equations, trace: Trace, index: int) -> None:
        self.equations, self.index = equations, index
        self.begin, self.way = trace.points[index], trace.tangents[index]
        self.length = float((trace.points[index + 1] - self.begin) @ self.way)
        self.ends = (trace.points[index], trace.points[index + 1])

    def at(self, length: float) -> Array | None:
        """Return the point of the curve at a length along the step."""
        if length <= 0.0 or length >= self.length:
            return self.ends[int(length > 0.0)]
        share = length / self.length
        guess = (1.0 - share) * self.ends[0] + share * self.ends[1]
        found = self.equations.correct(guess, self.way)
        return None if found is None else found[0]

    def root(self, quantity: Callable[[Array], float], exact: float = _EXACT) -> tuple[float, Array] | None:
        """Return where a quantity changes its sign along the step; None where no point is to be had.

        Parameters
        ----------
        quantity : callable
            Of the unknowns.
        exact : float
            How exactly, as an arclength; where that is not to rounding, a point without equations is a root.

        Returns
        -------
        (float, ndarray), or None
            The length along the step, and the unknowns.
        """
        from scipy.optimize import brentq

        def along(length: float) -> float:
            point = self.at(length)
            if point is None and exact == _EXACT:
                raise ArithmeticError
            return 0.0 if point is None else quantity(point)

        try:
            length = float(brentq(along, 0.0, self.length, xtol=exact, rtol=4e-15, maxiter=100))
            point = self.at(length)
            if point is None and exact != _EXACT:
                point = self.begin + length * self.way
        except (ArithmeticError, ValueError, RuntimeError):
            return None
        return None if point is None else (length, point)


def bifurcations_on(equations: Equations, trace: Trace, spectra: ComplexArray) -> list[Located]:
    """Find the bifurcations on a trace.

    Parameters
    ----------
    equations : Equations
    trace : Trace
    spectra : ndarray of complex, shape (n_points, n_states)
        Eigenvalues at its points.

    Returns
    -------
    list of Located
    """
    found: list[Located] = []
    dets = [_determinant(equations, *pair) for pair in zip(trace.points, trace.tangents, strict=True)]
    real = -np.sort(-spectra.real, axis=1)
    for index in range(len(trace.points) - 1):
        step = _Step(equations, trace, index)
        if step.length <= 0.0:
            # beyond a corner the curve turns back
            found.append(Located(index, "corner", trace.points[index], step.way))
            continue
        crossed = dets[index] * dets[index + 1] < 0.0
        if crossed:
            found += _branch_point(step)
        if trace.tangents[index][-1] * trace.tangents[index + 1][-1] < 0.0 and not crossed:
            found += _turning(step)
        changes: IntArray = np.flatnonzero(real[index] * real[index + 1] < 0.0).astype(np.int64)
        found += _hopf(step, changes)
    return found


def _determinant(equations: Equations, point: Array, tangent: Array) -> float:
    """Return the determinant of the bordered matrix, which changes its sign where branches cross.

    Parameters
    ----------
    equations : Equations
    point, tangent : ndarray, shape (n_states + 1,)

    Returns
    -------
    float
    """
    return float(np.linalg.det(np.vstack([equations.at(point)[1], tangent])))


def _branch_point(step: _Step) -> Iterator[Located]:
    """Yield where two branches meet: by a polynomial through points on both sides, as the equations are singular."""
    equations = step.equations

    def determinant(point: Array) -> float:
        tangent = equations.tangent(point, step.way)
        return np.nan if tangent is None else _determinant(equations, point, tangent)

    ends = abs(determinant(step.ends[0])), abs(determinant(step.ends[1]))
    # a polynomial tells it exactly; nearer the equations are singular
    rough = step.root(determinant, _VANISHES * step.length)
    if rough is None:
        return
    reach = _AROUND * step.length
    lengths = rough[0] + reach * np.array([side * k / _SIDES for k in range(1, _SIDES + 1) for side in (-1.0, 1.0)])
    nodes, values = list[float](), list[Array]()
    for length in np.sort(lengths).tolist():
        point = equations.correct(rough[1] + (length - rough[0]) * step.way, step.way)
        if point is not None:
            nodes.append(length - rough[0])
            values.append(np.append(point[0], determinant(point[0])))
    if len(nodes) < 2 * _SIDES or not np.isfinite(values).all():
        return
    fitted = np.polynomial.polynomial.polyfit(np.array(nodes) / reach, np.array(values), len(nodes) - 1)
    roots = np.polynomial.polynomial.polyroots(fitted[:, -1])
    near = [float(each.real) for each in roots if abs(each.imag) < _VANISHES and abs(each.real) <= 1.0]
    if not near:
        yield Located(step.index, "corner", rough[1], step.way)
        return
    at = min(near, key=abs)
    unknowns: Array = np.asarray(np.polynomial.polynomial.polyval(at, fitted[:, :-1]), dtype=np.float64)
    least = [float(np.linalg.svd(equations.at(each)[1], compute_uv=False)[-1]) for each in (unknowns, *step.ends)]
    vanishes = abs(np.polynomial.polynomial.polyval(at, fitted[:, -1])) <= _VANISHES * max(ends)
    if least[0] <= _VANISHES * max(least[1:]) and vanishes:
        yield Located(step.index, "branch point", unknowns, step.way)
    else:
        yield Located(step.index, "corner", rough[1], step.way)


def _turning(step: _Step) -> Iterator[Located]:
    """Yield where the branch turns back."""
    equations = step.equations

    def component(point: Array) -> float:
        tangent = equations.tangent(point, step.way)
        return np.nan if tangent is None else float(tangent[-1])

    ends = max(abs(component(each)) for each in step.ends)
    found = step.root(component)
    if found is None:
        return
    # on both sides of a corner, the component is what it is at the ends of the step
    near = [step.at(found[0] + side * _BESIDE * step.length) for side in (-1.0, 1.0)]
    smooth = all(each is not None and abs(component(each)) <= 10.0 * _BESIDE * ends for each in near)
    yield Located(step.index, "fold" if smooth else "corner", found[1], step.way)


def _hopf(step: _Step, changes: IntArray) -> Iterator[Located]:
    """Yield where a pair of eigenvalues crosses the imaginary axis.

    Parameters
    ----------
    step : _Step
    changes : ndarray of int64
        Which real parts, in their order, change their signs.

    Yields
    ------
    Located
    """
    equations, problem = step.equations, step.equations.evaluation.problem
    taken: list[float] = []

    def spectrum(point: Array) -> ComplexArray:
        return eigenvalues_of(equations.jacobian(point), problem)

    for which in changes.tolist():
        found = step.root(lambda point, which=which: float(-np.sort(-spectrum(point).real)[which]))  # type: ignore[misc]  # bound at once
        if found is None or any(abs(found[0] - other) <= _ONE * step.length for other in taken):
            continue
        taken.append(found[0])
        values = spectrum(found[1])
        nearest = values[np.argsort(np.abs(values.real))[:2]]
        size = float(np.abs(values).max())
        sides = max(abs(float(-np.sort(-spectrum(end).real)[which])) for end in step.ends)
        if float(np.abs(nearest.real).max()) > _VANISHES * max(sides, _VANISHES * size):
            if sides > _VANISHES * size and nearest.size and float(np.abs(nearest.real).min()) > _VANISHES * sides:
                yield Located(step.index, "corner", found[1], step.way)
            continue
        if float(np.abs(nearest.imag).min()) > _REAL * size:
            yield Located(step.index, "Hopf", found[1], step.way)


def lyapunov_coefficient(equations: Equations, unknowns: Array) -> float | None:
    """Return the first Lyapunov coefficient of a Hopf point; None where there is none.

    Parameters
    ----------
    equations : Equations
    unknowns : ndarray, shape (n_states + 1,)

    Returns
    -------
    float or None
    """
    sizes, n = equations.size[:-1], equations.n
    if equations.evaluation.problem.model.mass is not None:
        return None

    def jacobian(move: Array) -> Array:
        scaled: Array = equations.jacobian(unknowns + np.append(move, 0.0)) * sizes / sizes[:, None]
        return scaled

    matrix = jacobian(np.zeros(n))
    values, vectors = np.linalg.eig(matrix)
    index = int(np.argmin(np.abs(values.real) + np.where(values.imag > 0.0, 0.0, np.inf)))
    frequency, q = float(values[index].imag), vectors[:, index]
    left_values, left = np.linalg.eig(matrix.T)
    p = left[:, int(np.argmin(np.abs(left_values + 1j * frequency)))]
    p = p / (p.conj() @ q).conj()
    step = _DIFFERENCE / max(float(np.abs(q).max()), 1e-300)

    def first(way: Array) -> Array:
        return (jacobian(step * way) - jacobian(-step * way)) / (2.0 * step)

    def second(way: Array) -> Array:
        return (jacobian(step * way) - 2.0 * matrix + jacobian(-step * way)) / step**2

    def both(way: ComplexArray, onto: ComplexArray) -> ComplexArray:
        answer: ComplexArray = first(way.real) @ onto + 1j * (first(way.imag) @ onto)
        return answer

    a, b = q.real, q.imag
    along_a, along_b = second(a), second(b)
    cubic = along_a @ a + along_b @ a + 1j * (along_a @ b + along_b @ b)
    try:
        still = np.asarray(np.linalg.solve(matrix, both(q, q.conj())), dtype=np.complex128)
        double = np.asarray(np.linalg.solve(2j * frequency * np.eye(n) - matrix, both(q, q)), dtype=np.complex128)
    except np.linalg.LinAlgError:
        return None
    found = float((p.conj() @ (cubic - 2.0 * both(q, still) + both(q.conj(), double))).real) / (2.0 * frequency)
    return found if np.isfinite(found) else None
