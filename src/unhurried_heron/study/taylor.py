"""The solution of a written problem by its Taylor series in as many digits as one wants: slow, and certain.

Coefficients follow from the formulas by recurrences (R. E. Moore, *Methods and Applications of Interval Analysis*,
1979, section 3.4; À. Jorba and M. Zou, Experimental Mathematics 14 (2005) 99-117, whose order, half as many as the
tolerance has natural digits, makes work least).
"""

from __future__ import annotations

import math
import time as clock
from collections.abc import Iterator
from itertools import product
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, unforeseen
from unhurried_heron.formulas.cost_limit import refuse_many
from unhurried_heron.formulas.differentiate import derivatives_of
from unhurried_heron.formulas.expression import SUM, TIME, Node, upwards
from unhurried_heron.formulas.layout import flat_indices
from unhurried_heron.formulas.operations import OPERATIONS
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.problem.problem import Problem

# The number of guard digits.
_GUARD: Final = 8
# The largest number of states for which a Taylor series is computed.
_MAX_STATES: Final = 200
# The largest whole exponent that is computed by multiplications.
_SMALL_POWER: Final = 12


class Tape:
    """Formulas as a list of operations, each on earlier ones; its series are filled one coefficient after another."""

    def __init__(self, problem: Problem, mp: Any) -> None:
        self.mp, self.problem = mp, problem
        self.rows: list[tuple[str, tuple[Any, ...]]] = []
        self._known: dict[tuple[Any, ...], int] = {}
        layout, rates = problem.model.layout, problem.model.rates
        if not isinstance(rates, WrittenRates):
            raise unforeseen("they were looked at")
        self.states = [self._put("state", k) for k in range(layout.size)]
        self._time = self._put("time")
        self.rates = [self._number(0.0)] * layout.size
        for formula in rates.indexed_formulas:
            strides = dict(zip((loop.index for loop in formula.loops), formula.strides, strict=True))
            where = flat_indices(formula.loops, formula.base, strides).ravel()
            refuse_many(where.size, "the equations of a family")
            ranges = [range(loop.first, loop.last + 1) for loop in formula.loops]
            for index, values in zip(where.tolist(), product(*ranges), strict=True):
                indices = dict(zip((loop.index for loop in formula.loops), values, strict=True))
                found = self._node(formula.node, indices)
                self.rates[index] = self._put("add", self.rates[index], found) if formula.adds else found

    def _put(self, op: str, *operands: Any) -> int:
        key = (op, *operands)
        index = self._known.setdefault(key, len(self.rows))
        if index == len(self.rows):
            self.rows.append((op, operands))
        return index

    def _number(self, value: float) -> int:
        return self._put("number", float(value))

    def _node(self, root: Node, indices: dict[str, int]) -> int:
        """Put a formula onto the tape; ``indices``: values of loop indices and of those of sums."""
        op, args = root.op, root.args
        if op == "number":
            return self._number(args[0])
        if op == "name":
            return self._name(str(args[0]), indices)
        if op == "slot":
            number: int = self.states[round(args[0] + sum(c * indices[i] for i, c in args[1:]))]
            return number
        if op == SUM:
            index, first, last, body = args
            ends = [round(self._constant(each, indices)) for each in (first, last)]
            total = self._number(0.0)
            for value in range(ends[0], ends[1] + 1):
                total = self._put("add", total, self._node(body, {**indices, index: value}))
            return total
        if op == "pow" and root.operands[1].value is not None:
            return self._power(self._node(root.operands[0], indices), root.operands[1].value)
        return self._apply(op, [self._node(each, indices) for each in root.operands])

    def _name(self, name: str, indices: dict[str, int]) -> int:
        if name == TIME:
            return self._time
        if name in indices:
            return self._number(indices[name])
        index = self.problem.model.layout.slot(name)
        if index is not None:
            return self.states[index]
        if name in self.problem.parameters:
            return self._number(self.problem.parameters[name])
        raise _unfit(f"'{name}' is measured, or changes by switches")

    def _constant(self, node: Node, indices: dict[str, int]) -> float:
        from unhurried_heron.formulas.evaluate import evaluate

        return float(evaluate(node, {**self.problem.parameters, **indices}))

    def _apply(self, op: str, parts: list[int]) -> int:
        if op in ("add", "mul"):
            total = parts[0]
            for part in parts[1:]:
                total = self._put(op, total, part)
            return total
        if op == "neg":
            return self._put("mul", self._number(-1.0), parts[0])
        if op == "pow":
            return self._chain("exp", [self._put("mul", parts[1], self._chain("log", [parts[0]]))])
        if op == "div":
            return self._put(op, *parts)
        if OPERATIONS[op].series == "chain":
            return self._chain(op, parts)
        raise _unfit(f"{op} jumps, has a kink, or has no series here")

    def _chain(self, function: str, parts: list[int]) -> int:
        """Put a function onto the tape whose series follows from its derivatives, in which it may stand itself."""
        key = ("chain", function, *parts)
        if key not in self._known:
            row = self._known[key] = len(self.rows)
            self.rows.append(("chain", ()))
            given = {f"x{k + 1}": part for k, part in enumerate(parts)}
            partials = [self._partial(each, given) for each in derivatives_of(function)]
            self.rows[row] = ("chain", (function, *parts, *partials))
        return self._known[key]

    def _partial(self, partial: Node, given: dict[str, int]) -> int:
        """Put a derivative, a formula of ``x1, x2, …``, onto the tape, whose arguments are given rows."""
        done: dict[Node, int] = {}
        for node in upwards(partial):
            if node.op == "name":
                done[node] = given[str(node.args[0])]
            elif node.op == "number":
                done[node] = self._number(node.args[0])
            elif node.op == "pow" and node.operands[1].value is not None:
                done[node] = self._power(done[node.operands[0]], node.operands[1].value)
            else:
                done[node] = self._apply(node.op, [done[each] for each in node.operands])
        return done[partial]

    def _power(self, part: int, exponent: float) -> int:
        if exponent == round(exponent) and 0 < exponent <= _SMALL_POWER:
            total = part
            for _ in range(round(exponent) - 1):
                total = self._put("mul", total, part)
            return total
        return self._put("power", part, exponent)

    def series(self, time: Any, state: list[Any], order: int) -> list[list[Any]]:
        """Return the Taylor coefficients of the states up to an order.

        Parameters
        ----------
        time : mpf
        state : list of mpf
        order : int

        Returns
        -------
        list of list of mpf
        """
        mp = self.mp
        s: list[list[Any]] = [[] for _ in self.rows]
        for k in range(order + 1):
            for index, (op, operands) in enumerate(self.rows):
                if op == "state":
                    here = operands[0]
                    s[index].append(state[here] if k == 0 else s[self.rates[here]][k - 1] / k)
                else:
                    s[index].append(_coefficient(mp, s, s[index], op, operands, k, time))
        return [s[index] for index in self.states]


def _unfit(why: str) -> OptionError:
    return OptionError("this problem has no Taylor series", name="reference",
                          location='reference="taylor"',
                       expected="written, smooth equations without tables and switches", given=why)  # fmt: skip


def _coefficient(mp: Any, s: Any, own: list[Any], op: str, operands: tuple[Any, ...], k: int, time: Any) -> Any:
    """Return coefficient k of an operation, whose earlier ones are ``own``.

    Parameters
    ----------
    mp : mpmath context
    s : list of list of mpf
        Coefficients of all rows of the tape.
    own : list of mpf
        Its earlier ones.
    op : str
        The operation.
    operands : tuple
        Rows of the operands on the tape, or numbers.
    k : int
        Which coefficient.
    time : mpf

    Returns
    -------
    mpf
    """
    if op == "time":
        return time if k == 0 else mp.mpf(int(k == 1))
    if op == "number":
        return mp.mpf(0 if k else operands[0])
    if op == "chain":
        return _chain(mp, s, operands, k)
    a = s[operands[0]]
    if op == "add":
        return a[k] + s[operands[1]][k]
    if op == "mul":
        return mp.fdot(zip(a[: k + 1], s[operands[1]][k::-1], strict=True))
    if op == "div":
        b = s[operands[1]]
        return (a[k] - mp.fdot(zip(own, b[k:0:-1], strict=True))) / b[0]
    if k == 0:
        return mp.power(a[0], mp.mpf(operands[1]))
    p = mp.mpf(operands[1])
    return mp.fsum((p * j - (k - j)) * a[j] * own[k - j] for j in range(1, k + 1)) / (k * a[0])


def _chain(mp: Any, s: Any, operands: tuple[Any, ...], k: int) -> Any:
    """Return coefficient k of a function f(a, b, …) with f' = p a' + q b' + ….

    Parameters
    ----------
    mp : mpmath context
    s : list of list of mpf
        Coefficients of all rows of the tape.
    operands : tuple
        The function's name, the rows of its arguments, and those of its derivatives by them.
    k : int
        Which coefficient.

    Returns
    -------
    mpf
    """
    function, *rows = operands
    count = len(rows) // 2
    arguments, partials = ([s[row] for row in part] for part in (rows[:count], rows[count:]))
    if k == 0:
        first = [each[0] for each in arguments]
        return mp.log(first[0], 2) if function == "log2" else getattr(mp, function)(*first)
    products = (
        mp.fdot((j * argument[j], partial[k - j]) for j in range(1, k + 1))
        for argument, partial in zip(arguments, partials, strict=True)
    )
    return mp.fsum(products) / k


def taylor_states(problem: Problem, times: Any, *, digits: int = 30, seconds: float = 60.0) -> list[list[Any]]:
    """Return the states at times to a number of digits, one list for each time, by the Taylor method.

    Parameters
    ----------
    problem : Problem
    times : array, shape (n_times,)
        In the direction of the run, from its start on.
    digits : int
        Aimed at; the solution is carried on in eight more.
    seconds : float
        When to give up.

    Returns
    -------
    list[list[Any]]

    Raises
    ------
    OptionError
        The problem is no written, smooth one, too large, or too long for the seconds given.
    """
    import mpmath  # type: ignore[import-untyped]  # it has no stubs

    if not problem.model.rates.written:
        raise _unfit("a Python function")
    if problem.switches:
        raise _unfit("switch: " + problem.switches[0].text)
    if problem.model.layout.size > _MAX_STATES:
        raise _unfit(f"{problem.model.layout.size} states, at most {_MAX_STATES}")
    problem.refuse_open()
    mp = mpmath.mp.clone()
    mp.dps = digits + _GUARD
    until = clock.monotonic() + seconds
    return [*_march(Tape(problem, mp), [mp.mpf(float(t)) for t in times], digits, until)]


def _march(tape: Tape, times: list[Any], digits: int, until: float) -> Iterator[list[Any]]:
    """Yield the states at times by steps of the Taylor series.

    Parameters
    ----------
    tape : Tape
    times : list of mpf
    digits : int
    until : float
        When the time is up, by the monotonic clock.

    Yields
    ------
    list of mpf

    Raises
    ------
    OptionError
        The time is up.
    """
    mp, problem = tape.mp, tape.problem
    order = math.ceil(0.5 * math.log(10.0) * (digits + 2)) + 2
    allowed = mp.mpf(10) ** -(digits + 2)
    state, time = [mp.mpf(x) for x in problem.start.tolist()], mp.mpf(problem.interval[0])
    end, size = (times[-1] if times else time), [abs(x) for x in state]
    index, sign = 0, 1 if problem.interval[1] > problem.interval[0] else -1
    while index < len(times):
        coefficients = tape.series(time, state, order)
        size = [max(a, abs(b)) for a, b in zip(size, state, strict=True)]
        largest = max([*size, mp.mpf(10) ** -300])
        step = abs(end - time)
        for each, scale in zip(coefficients, size, strict=True):
            for k in (order - 1, order):
                if each[k]:
                    # The size of a state that is still zero is that of the largest.
                    step = min(step, (allowed * (scale or largest) / abs(each[k])) ** (mp.mpf(1) / k))
        if clock.monotonic() > until or not step > abs(time) * mp.mpf(10) ** -(digits + 4):
            raise OptionError("the Taylor series did not reach the end", name="reference",
                          location='reference="taylor"',
                              expected="a problem that is not stiff, a shorter interval, or more seconds",
                              given=f"t = {float(time):.6g} of {problem.interval[1]:.6g}")  # fmt: skip
        finish = end if step >= abs(end - time) else time + sign * step
        while index < len(times) and sign * (times[index] - finish) <= 0:
            yield [mp.polyval(each[::-1], times[index] - time) for each in coefficients]
            index += 1
        state = [mp.polyval(each[::-1], finish - time) for each in coefficients]
        time = finish


def as_floats(rows: list[list[Any]]) -> Array:
    """Return rows of many digits as an array of floats."""
    return np.array([[float(x) for x in row] for row in rows])
