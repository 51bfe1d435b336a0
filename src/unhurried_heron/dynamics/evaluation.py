"""Rates and Jacobians of a problem at many states, and at many values of one of its parameters."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, listing, near_spelling, unforeseen
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.problem.following import formulas_that_follow
from unhurried_heron.problem.pointwise import surroundings
from unhurried_heron.problem.problem import Problem

# The step of a difference, as a share of what is typical: the cube root of the spacing of numbers.
_DIFFERENCE: Final = 6e-6


class Evaluation:
    """Rates and Jacobians at the time when a problem begins; NaN where they are no numbers.

    Attributes
    ----------
    problem : Problem
    over : str or None
        The parameter that has a value for each row.
    n : int
        States.
    """

    def __init__(self, problem: Problem, over: str | None = None) -> None:
        """Compile what there is to compile.

        Parameters
        ----------
        problem : Problem
        over : str, optional
            The parameter that has a value for each row.

        Raises
        ------
        OptionError
            There is no such parameter, or it decides how many states there are.
        """
        # modules that compile are loaded only when something runs
        from unhurried_heron.codegen.jacobians import with_jacobian
        from unhurried_heron.codegen.system import native_system

        self.problem, self.over, self.n = problem, over, problem.model.layout.size
        self._follow = _following(problem, over)
        self._native: Any = None
        if problem.model.rates.written and self.n:
            self._native = with_jacobian(native_system(problem, (), held=False), problem, held=False)
            if self._native.jacobian is None:
                raise unforeseen("written equations without a Jacobian")
        else:
            # what is wrong with a function shows where the problem begins
            problem.rates_at(problem.interval[0], problem.start)

    def rates(self, states: Array, values: Array | None = None) -> Array:
        """Return the rates.

        Parameters
        ----------
        states : ndarray, shape (n_rows, n_states)
        values : ndarray, shape (n_rows,), optional
            Of the parameter.

        Returns
        -------
        ndarray, shape (n_rows, n_states)
        """
        if self._native is not None:
            return self._rows(self._native.rates, states, values)
        return self._each("at", states, values, states.shape)

    def jacobians(self, states: Array, values: Array | None = None) -> Array:
        """Return d rates / d states, exact for written rates; else by central differences.

        Parameters
        ----------
        states : ndarray, shape (n_rows, n_states)
        values : ndarray, shape (n_rows,), optional
            Of the parameter.

        Returns
        -------
        ndarray, shape (n_rows, n_states, n_states)
        """
        shape = (*states.shape, self.n)
        if self._native is not None:
            return self._rows(self._native.jacobian, states, values).reshape(shape)
        if getattr(self.problem.model.rates, "jacobian", None) is not None:
            return self._each("jacobian_at", states, values, shape)
        found = np.empty(shape)
        for k in range(self.n):
            step = _DIFFERENCE * np.maximum(np.abs(states[:, k]), np.abs(states).max(axis=1))
            step[step == 0.0] = _DIFFERENCE
            sides = [states.copy(), states.copy()]
            sides[0][:, k] += step
            sides[1][:, k] -= step
            above, below = (self.rates(each, values) for each in sides)
            found[:, :, k] = (above - below) / (sides[0][:, k] - sides[1][:, k])[:, None]
        return found

    def _rows(self, function: Any, states: Array, values: Array | None) -> Array:
        from unhurried_heron.codegen.evaluate_many import evaluate_rows

        rows = len(states)
        modes = None
        if values is not None:
            named = self._named(values)
            names = self.problem.model.parameters
            indices = np.array([names.index(name) for name in named], dtype=np.int64)
            modes = indices, np.column_stack([np.broadcast_to(each, rows) for each in named.values()])
        found = np.full((rows, function.n_outputs), np.nan)
        answers = evaluate_rows(function, np.full(rows, self.problem.interval[0]), states, modes)
        found[: len(answers)] = answers
        return found

    def _each(self, what: str, states: Array, values: Array | None, shape: tuple[int, ...]) -> Array:
        """Return what rates answer row by row.

        Parameters
        ----------
        what : {"at", "jacobian_at"}
        states : ndarray, shape (n_rows, n_states)
        values : ndarray, shape (n_rows,), or None
        shape : tuple of int
            Of the answer.

        Returns
        -------
        ndarray
        """
        found, time = np.full(shape, np.nan), self.problem.interval[0]
        for row, state in enumerate(states):
            named = {} if values is None else self._named(values[row])
            around = surroundings(self.problem, time, state) | {k: float(v) for k, v in named.items()}
            try:
                found[row] = getattr(self.problem.model.rates, what)(time, state, around)
            except (ArithmeticError, ValueError):
                # functions may refuse what lies beyond, as a root does
                continue
        return found

    def _named(self, values: Any) -> dict[str, Any]:
        """Return the parameter with those that follow from it."""
        named: dict[str, Any] = {} if self.over is None else {self.over: values}
        around = {**self.problem.parameters, **named}
        with np.errstate(all="ignore"):
            for name, node in self._follow.items():
                named[name] = around[name] = evaluate(node, around)
        return named


def _following(problem: Problem, over: str | None) -> Mapping[str, Any]:
    """Return the formulas of parameters that follow from another.

    Parameters
    ----------
    problem : Problem
    over : str or None

    Returns
    -------
    mapping of str to Node

    Raises
    ------
    OptionError
    """
    if over is None:
        return {}
    model, given = problem.model, problem.parameters
    if over not in given:
        raise OptionError(f"there is no parameter '{over}'{near_spelling(over, given)}", name=over, location="over",
                          expected="one of " + listing(given), given=over)  # fmt: skip
    own = {name: each for name, each in problem.assembled.definitions.items() if name in model.parameters}
    follow = formulas_that_follow(own, (over,), model)
    if follow is None:
        raise OptionError(f"the states themselves follow from '{over}'", name=over, location="over",
                          expected="a parameter that rates alone depend on", given=over)  # fmt: skip
    return {name: formula.node for name, formula in follow.items()}
