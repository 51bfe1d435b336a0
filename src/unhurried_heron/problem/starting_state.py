"""States at the start that meet the constraints: values that were given are kept, the others are found.

By Newton's method on what the constraints miss, damped so that this falls, from guesses or from several places.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.errors import ConstraintError, listing
from unhurried_heron.formulas.differentiate import jacobian
from unhurried_heron.formulas.evaluate import STATE, evaluate, evaluated, filled
from unhurried_heron.formulas.expression import name as name_node
from unhurried_heron.formulas.layout import IndexedFormula, Values
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.state_name import group_of
from unhurried_heron.input.measured_rates import readings
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.input.starting_values import told_by
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.manifold import manifold_formulas
from unhurried_heron.model.model import Model
from unhurried_heron.problem.consistent_rows import (
    APART,
    CONTRACTS,
    MANY,
    MET,
    ROUNDED,
    SHORTEST,
    SINGULAR,
    TURNS,
    are_apart,
    constraint_rows,
    met_from,
    points_from,
    states_without_rounding,
    within_bounds,
)
from unhurried_heron.problem.jump_sides import going_on
from unhurried_heron.quiet import quietly

if TYPE_CHECKING:
    from unhurried_heron.problem.assembly import AssembledProblem


@dataclass(frozen=True)
class _Constraints:
    """The constraints of a model as functions of the unknowns among its states."""

    model: Model
    around: Mapping[str, Any]
    time: float
    rows: IntArray
    free: IntArray
    bounded: Any

    def _values(self, state: Array) -> dict[str, Any]:
        scalars = {name: state[index] for name, index in self.model.layout.scalars.items()}
        return {**self.around, **scalars, "t": self.time, STATE: state}

    def missed(self, state: Array) -> Array:
        """Return what the constraints miss, shape (n_constraints,)."""
        values = self._values(state)
        of_rates: Array = self.model.rates.at(self.time, state, values)[self.rows]
        held: Array = filled(self.model.manifold, self.model.n_manifold, values)
        return np.concatenate([of_rates, held])

    @property
    def count(self) -> int:
        """How many there are."""
        return self.rows.size + self.model.n_manifold

    def _partials(self) -> tuple[IndexedFormula, ...]:
        """Return the derivatives by all states of the written rates, and of what is zero all along behind them."""
        model, n = self.model, self.model.layout.size

        def made() -> tuple[IndexedFormula, ...]:
            formulas = (*model.rates.indexed_formulas, *manifold_formulas(model, n))  # type: ignore[attr-defined]  # they are written
            return jacobian(formulas, model.layout)

        found: tuple[IndexedFormula, ...] = model.remembered(("partials of rates and constraints",), made)
        return found

    def matrix(self, state: Array) -> Any:
        """Return their derivatives by the unknowns, a sparse array of shape (n_constraints, n_free)."""
        from scipy.sparse import csr_array

        n, values = state.size, self._values(state)
        if not self.model.rates.written:
            whole = self.model.rates.entries_at(self.time, state, values)  # type: ignore[attr-defined]  # of a function
            return whole[self.rows][:, self.free]
        held = self.model.n_manifold
        row_of, column_of = np.full(n + held, -1), np.full(n, -1)
        row_of[self.rows], row_of[n:] = np.arange(self.rows.size), self.rows.size + np.arange(held)
        column_of[self.free] = np.arange(self.free.size)
        rows, columns, entries = [], [], []
        for where, found in evaluated(self._partials(), values):
            row, column = row_of[where // n], column_of[where % n]
            kept = (row >= 0) & (column >= 0)
            rows.append(row[kept])
            columns.append(column[kept])
            entries.append(np.broadcast_to(found, where.shape)[kept])
        parts = [np.concatenate(each) if each else np.empty(0) for each in (entries, rows, columns)]
        return csr_array((parts[0], (parts[1].astype(int), parts[2].astype(int))), shape=(self.count, self.free.size))


def _starting_state(
    model: Model,
    start: Array,
    known: tuple[Any, Any, Any],
    around: Mapping[str, Any],
    time: float,
) -> Array:
    """Return the state at the start, where values that were not given are such that the constraints hold.

    Parameters
    ----------
    model : Model
    start : ndarray, shape (n_states,)
        Values and guesses; NaN where there are none.
    known : (ndarray of bool, ndarray of bool, ndarray of bool), shape (n_states,)
        Where no value was given, where a guess was, and which states are never negative.
    around : mapping of str to object
        Parameters and inputs.
    time : float

    Returns
    -------
    ndarray, shape (n_states,)

    Raises
    ------
    ConstraintError
        What was given contradicts the constraints, or leaves several solutions, or none was found.
    """
    made, n = model.made_by(Constraints) or Constraints(), model.layout.size
    free, guessed, bounded = known
    rows = np.flatnonzero(model.mass.sizes(n) == 0.0) if model.mass is not None else np.empty(0, dtype=np.int64)
    constraints = _Constraints(model, around, time, rows, np.flatnonzero(free), bounded)
    if not constraints.count or not (free.any() or made.algebraic or made.held):
        return start
    if not free.any():
        _refuse_contradiction(constraints, start, made)
        return start
    found: list[Array] = []
    for answer in _answers(constraints, start, free, guessed):
        if all(are_apart(answer, other) for other in found):
            found.append(answer)
        if len(found) > 1 or (free & ~guessed).sum() > MANY:
            break
    names = [model.layout.names[k] for k in np.flatnonzero(free)]
    if len(found) > 1:
        shown = [", ".join(f"{name} = {each[k]:.6g}" for name, k in zip(names[:6], np.flatnonzero(free), strict=False))
                 for each in found]  # fmt: skip
        raise ConstraintError("the constraints have several solutions at the start", name=listing(names),
                              location="guess", expected=f'a guess near to one, such as guess={{"{names[0]}": …}}',
                              given="; ".join(shown))  # fmt: skip
    if not found:
        _refuse_contradiction(constraints, next(points_from(start, free, guessed, bounded)), made, unsolved=True)
    if free.sum() < constraints.count:
        _refuse_contradiction(constraints, found[0], made)
    return found[0]


def _answers(constraints: _Constraints, start: Array, free: Any, guessed: Any) -> Iterator[Array]:
    """Yield the solutions that are found from guesses, or from several places.

    Parameters
    ----------
    constraints : _Constraints
    start : ndarray, shape (n_states,)
    free, guessed : ndarray of bool, shape (n_states,)

    Yields
    ------
    ndarray, shape (n_states,)
    """
    model, time, around = constraints.model, constraints.time, constraints.around
    bounded = constraints.bounded
    together = constraint_rows(model, free, bounded)
    if together is not None:
        points = np.array([*points_from(start, free, guessed, bounded)])
        states, met = met_from(together, points, time, around)
        yield from states_without_rounding(together, states[met], time, around)
        return
    for point in points_from(start, free, guessed, bounded):
        answer = _solved(constraints, point)
        if answer is not None:
            yield _without_rounding(constraints, answer)


def _without_rounding(constraints: _Constraints, state: Array) -> Array:
    """Return a solution with zeros for the unknowns that are zero but for rounding."""
    found, size = state.copy(), float(np.abs(state).max())
    tiny = constraints.free[np.abs(state[constraints.free]) <= MET * size]
    found[tiny] = 0.0
    with np.errstate(all="ignore"):
        before, after = np.abs(constraints.missed(state)), np.abs(constraints.missed(found))
    return found if (after <= before + np.finfo(float).eps * size).all() else state


def _solved(constraints: _Constraints, point: Array) -> Array | None:
    """Return a state that meets the constraints, found from another; None where the iteration comes to none."""
    state, last = point.copy(), np.inf
    with np.errstate(all="ignore"):
        missed = constraints.missed(state)
        for _ in range(TURNS):
            if not np.isfinite(missed).all():
                return None
            move, scale = _correction(constraints, state, missed)
            if move is None or not np.isfinite(move).all():
                return None
            size = float(np.abs(state[constraints.free]).max())
            length = np.abs(move).max()
            stands = length <= MET * size and length > CONTRACTS * last
            if length <= ROUNDED * max(size, MET * float(np.abs(state).max())) or stands or not move.any():
                before_it = state.copy()
                state[constraints.free] += move
                return within_bounds(state, before_it, constraints.bounded)
            last = length
            part, before = 1.0, float(np.abs(missed / scale).max())
            while part >= SHORTEST:
                tried = state.copy()
                tried[constraints.free] += part * move
                tried = within_bounds(tried, state, constraints.bounded)
                left = constraints.missed(tried)
                after = float(np.abs(left / scale).max())
                if after < before * (1.0 - 0.1 * part):
                    break
                part *= 0.5
            else:
                return state if length <= MET * size else None
            state, missed = tried, left
    return None


def _correction(constraints: _Constraints, state: Array, missed: Array) -> tuple[Array | None, Any]:
    """Return Newton's correction of the unknowns, the shortest where they are more, and the sizes of the rows.

    Parameters
    ----------
    constraints : _Constraints
    state : ndarray, shape (n_states,)
    missed : ndarray, shape (n_constraints,)

    Returns
    -------
    (ndarray or None, ndarray)
    """
    from scipy.sparse import block_array, diags_array, eye_array
    from scipy.sparse.linalg import spsolve

    matrix = constraints.matrix(state)
    sizes = abs(matrix).max(axis=1).toarray().ravel()
    scale = np.where(sizes > 0.0, sizes, 1.0)
    scaled, right = diags_array(1.0 / scale) @ matrix, -missed / scale
    if constraints.free.size <= MANY:
        full = scaled.toarray()
        solution, _, rank, _ = np.linalg.lstsq(full, right, rcond=SINGULAR)
        if rank == constraints.free.size:
            return solution, scale
        # where no unknown can change anything, what was given is at fault, which is looked at in the end
        left = np.where(np.diff(matrix.indptr) > 0, full @ solution - right, 0.0)
        return solution if np.abs(left).max() <= APART * np.abs(right).max() else None, scale
    # constraints of what was given hold no unknown; whether they are met is looked at in the end
    reached = np.diff(matrix.indptr) > 0
    scaled, right = scaled.tocsr()[reached], right[reached]
    count, unknowns = scaled.shape
    with quietly():
        if count == unknowns:
            return spsolve(scaled.tocsc(), right), scale
        # the shortest correction where unknowns are more, that which misses least where they are fewer
        beside = eye_array(max(count, unknowns))
        if count < unknowns:
            whole = block_array([[beside, scaled.T], [scaled, None]])
            return spsolve(whole.tocsc(), np.concatenate([np.zeros(unknowns), right]))[:unknowns], scale
        whole = block_array([[beside, scaled], [scaled.T, None]])
        move = spsolve(whole.tocsc(), np.concatenate([right, np.zeros(unknowns)]))[count:]
        missed_yet = np.abs(scaled @ move - right).max()
        return move if missed_yet <= APART * np.abs(right).max() else None, scale


def _refuse_contradiction(
    constraints: _Constraints, state: Array, made: Constraints, *, unsolved: bool = False
) -> None:
    """Refuse starting values that miss a constraint by more than rounding.

    Parameters
    ----------
    constraints : _Constraints
    state : ndarray, shape (n_states,)
    made : Constraints
        Their words.
    unsolved : bool, optional
        Whether no solution was found from this state.

    Raises
    ------
    ConstraintError
    """
    layout, n = constraints.model.layout, state.size
    everything = replace(constraints, free=np.arange(n))
    with np.errstate(all="ignore"):
        missed = everything.missed(state)
        # what changes of the values by rounding would miss
        allowed = MET * (abs(everything.matrix(state)) @ np.maximum(np.abs(state), np.finfo(float).tiny))
        wrong = ~(np.abs(missed) <= allowed)
    if not wrong.any() and not unsolved:
        return
    worst = int(np.argmax(np.where(wrong, np.abs(missed) / np.where(allowed > 0, allowed, 1.0), 0.0)))
    if worst < constraints.rows.size:
        name = layout.names[constraints.rows[worst]]
        words = made.algebraic.get(group_of(name), f"row {constraints.rows[worst] + 1} of the rates")
    else:
        held = next(each for each, end in zip(made.held, np.cumsum([each.rule.size for each in made.held]), strict=True)
                    if worst - constraints.rows.size < end)  # fmt: skip
        name, words = held.words, f"0 = {to_text(held.node)[:80]}" if held.times else held.words
    if unsolved:
        names = [layout.names[k] for k in constraints.free]
        raise ConstraintError(
            f"no values of {listing(names, quoted=True)} were found that meet the constraints at the start",
            name=listing(names), location="initial",
            expected=f'other starting values, or a guess: guess={{"{names[0]}": …}}',
            given=f"from the first point '{words}' is missed by {missed[worst]:.3g}",
        )  # fmt: skip
    raise ConstraintError(
        "the starting values contradict a constraint", name=name, location="initial",
        expected=f"values at which '{words}' holds at t = {constraints.time:g}; as guess={{…}} what is given is "
        "taken for near, and found",
        given=f"it is missed by {missed[worst]:.6g}",
    )  # fmt: skip


def _refuse_contradicted(assembled: AssembledProblem, name: str, around: Mapping[str, Any], start: Array) -> None:
    """Refuse a value of an unknown that constraints tell by a formula, where it is another.

    Parameters
    ----------
    assembled : AssembledProblem
    name : str
        Of the unknown.
    around : mapping of str to object
        Parameters, inputs and the time.
    start : ndarray, shape (n_states,)

    Raises
    ------
    ConstraintError
    """
    model, definition = assembled.model, assembled.definitions[name]
    made = model.made_by(Constraints) or Constraints()
    values = {**around, **{key: start[k] for key, k in model.layout.scalars.items()}, STATE: start}
    given = definition.value if definition.formula is None else evaluate(definition.formula.node, values)
    found = float(evaluate(model.written_out(name_node(name)), values))
    if not abs(found - float(given)) <= MET * max(abs(found), abs(float(given))):
        raise ConstraintError(
            "the starting values contradict a constraint", name=name, location="initial",
            expected=f"{name} = {found:.12g}, or none: '{made.solved[name]}' tells it", given=f"{float(given):.12g}",
        )  # fmt: skip


def meeting_constraints(
    user_input: ProblemInput, assembled: AssembledProblem, initial: Collection[str], guess: Collection[str]
) -> AssembledProblem:
    """Return a problem whose constraints hold at the start.

    Parameters
    ----------
    user_input : ProblemInput
    assembled : AssembledProblem
    initial, guess : collection of str
        The names that were given a starting value, or a guess.

    Returns
    -------
    AssembledProblem

    Raises
    ------
    ConstraintError
    """
    model, time = assembled.model, going_on(assembled.interval[0], assembled.interval)
    made = model.made_by(Constraints)
    if made is None and not guess:
        return assembled
    around = {**readings(user_input.inputs), **assembled.values}
    given = told_by(initial, model.layout)
    guessed = told_by(guess, model.layout) & ~given
    never_negative = told_by(user_input.never_negative, model.layout)
    known = ~given, guessed, never_negative
    start = _starting_state(model, assembled.initial.array, known, around, time)
    for name in initial & made.solved.keys() if made is not None else ():
        _refuse_contradicted(assembled, name, {**around, "t": time}, start)
    return replace(assembled, initial=Values(model.layout, start))
