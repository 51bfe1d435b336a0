"""Time derivatives of formulas along the solution."""

from __future__ import annotations

import functools
from collections.abc import Callable, Collection, Mapping
from typing import Final

import numpy as np

from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.binding import with_names
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import (
    BOUND,
    TIME,
    ZERO,
    Node,
    add,
    mul,
    name,
    number,
    upwards,
    walk,
)
from unhurried_heron.formulas.layout import IndexedFormula, Layout, Loop, flat_indices
from unhurried_heron.formulas.operations import OPERATIONS, with_fact
from unhurried_heron.formulas.template import Filled, Template, is_number, member
from unhurried_heron.input.measured_rates import rates_in_time
from unhurried_heron.model.indexed import with_fixed
from unhurried_heron.model.model import Model
from unhurried_heron.model.rates import WrittenRates

# Longer formulas cost more than evaluating the function along the step.
_LONGEST: Final = 400
# Sines, cosines and saws of one formula whose speed is added up; beyond, it is looked at in every step.
_MAX_TURNING: Final = 20
# Operations that can pass from one side of zero to the other without being zero between.
_BREAKING: Final = with_fact(lambda each: each.breaks is True)
_BENDING: Final = with_fact(lambda each: each.bends)
# No formula gives the rate of the state, so it is zero.
_NO_RATE: Final = -1
# Several formulas add up to the rate, or none tells it.
_SEVERAL: Final = -2

_Make = Callable[[Node, dict[Node, Node | None]], Node | None]


class SolutionDerivatives:
    """Derivatives along the solution of formulas; those of one template are worked out once.

    Parameters
    ----------
    rates : tuple of IndexedFormula
        The rates of the states.
    layout : Layout
        Where the states stand.
    in_time : mapping of str to Node
        The rates of the time, and of what follows from it.
    implied : collection of str, optional
        States whose rates are no formulas.
    """

    def __init__(
        self,
        rates: tuple[IndexedFormula, ...],
        layout: Layout,
        in_time: Mapping[str, Node],
        implied: Collection[str] = (),
    ) -> None:
        self.rates, self.layout, self._implied, self._in_time = rates, layout, implied, in_time
        self._made: dict[tuple[str, Template, tuple[int, ...]], Template | None] = {}

    @functools.cached_property
    def _origins(self) -> tuple[np.ndarray, np.ndarray]:
        """Which formula the rate of each state comes from, and at which turn of its loops, int64 (n,) each."""
        formula_of, turn_of = np.full((2, self.layout.size), _NO_RATE)
        for position, rate_number in enumerate(self.rates):
            strides = dict(zip((loop.index for loop in rate_number.loops), rate_number.strides, strict=True))
            filled = flat_indices(rate_number.loops, rate_number.base, strides)
            several = formula_of[filled] != _NO_RATE
            turn_of[filled] = np.arange(filled.size)
            several |= rate_number.adds | (turn_of[filled] != np.arange(filled.size))
            formula_of[filled] = np.where(several, _SEVERAL, position)
        for label in self._implied:
            formula_of[self.layout.slice_of(label)] = _SEVERAL
        return formula_of, turn_of

    def _origin(self, index: int) -> tuple[int, tuple[int, ...]]:
        """Return the formula that a rate comes from, and the values of its loops' indices."""
        rate_number, turn = (int(each[index]) for each in self._origins)
        if rate_number < 0:
            return rate_number, ()
        loops = self.rates[rate_number].loops
        steps = np.unravel_index(turn, [loop.last - loop.first + 1 for loop in loops]) if loops else ()
        return rate_number, tuple(loop.first + int(step) for loop, step in zip(loops, steps, strict=True))

    def rate_of(self, position: int) -> Node | None:
        """Return the rate of one state, of a member perhaps; None where several formulas add up to it."""
        rate_number, values = self._origin(position)
        if rate_number < 0:
            # what no formula fills is zero
            return ZERO if rate_number == _NO_RATE else None
        indices = (loop.index for loop in self.rates[rate_number].loops)
        fixed = {index: number(float(value)) for index, value in zip(indices, values, strict=True)}
        return with_fixed(self.rates[rate_number].node, fixed)

    def derivative(self, formula: Filled) -> Filled | None:
        """Return the derivative of a formula along the solution; None where it cannot be written, or is long."""
        return self._worked_out("derivative", formula)

    def phase_speed(self, formula: Filled) -> Filled | None:
        """Return how fast the sines, cosines and teeth of saws in a formula turn along the solution, all together.

        None where there are none, or it cannot be written.
        """
        return self._worked_out("phase speed", formula)

    def _worked_out(self, what: str, formula: Filled) -> Filled | None:
        origins = [self._origin(index) for index in formula.indices]
        key = (what, formula.template, tuple(rate_number for rate_number, _ in origins))
        if key not in self._made:
            make = self._derivative if what == "derivative" else self._phase_speed
            self._made[key] = self._with_indices(formula.template, key[2], make)
        made = self._made[key]
        if made is None:
            return None
        return Filled(made, formula.numbers, (*formula.indices, *(each for _, values in origins for each in values)))

    def _with_indices(self, template: Template, indexed_formulas: tuple[int, ...], make: _Make) -> Template | None:
        """Work out what is asked of a template whose members have their rates from these blocks.

        Parameters
        ----------
        template : Template
        indexed_formulas : tuple of int
            Indices of the blocks.
        make : callable
            What makes it.

        Returns
        -------
        Template or None
        """
        rates: dict[Node, Node | None] = {}
        indices = [*template.indices]
        for position, rate_number in enumerate(indexed_formulas):
            own = self.rates[rate_number].loops if rate_number >= 0 else ()
            renamed = {loop.index: f"{BOUND}of{position}{loop.index}" for loop in own}
            indices += (Loop(renamed[loop.index], loop.first, loop.last) for loop in own)
            rates[member(position)] = (
                with_names(self.rates[rate_number].node, renamed)
                if rate_number >= 0
                else ZERO
                if rate_number == _NO_RATE
                else None
            )
        node = make(template.node, rates)
        return None if node is None else Template(node, template.n_numbers, tuple(indices))

    def _derivative(self, formula: Node, rates: dict[Node, Node | None]) -> Node | None:
        terms: list[Node] = []
        scalars = self.layout.scalars
        known = Differentiator({*scalars, *self._in_time})
        for (variable, loops), partial in known.gradient(formula).items():
            if variable.op == "name":
                label = str(variable.args[0])
                rate = self.rate_of(scalars[label]) if label in scalars else self._in_time[label]
            elif variable in rates:
                rate = rates[variable]
            else:
                rate = self.rate_of(int(variable.args[0])) if not loops and not variable.args[1:] else None
            if rate is None:
                return None
            terms.append(mul(partial, rate))
        whole = add(*terms) if terms else ZERO
        return whole if sum(1 for _ in walk(whole)) <= _LONGEST else None

    def _phase_speed(self, formula: Node, rates: dict[Node, Node | None]) -> Node | None:
        turning: dict[Node, float] = {}
        for node in upwards(formula):
            operation = OPERATIONS.get(node.op)
            if operation and operation.turning:
                argument = node.operands[-1]
                turning[argument] = max(turning.get(argument, 0.0), operation.turning)
        derivatives = {each: self._derivative(each, rates) for each in turning}
        known = [
            mul(number(turning[each]), Node("abs", derivative))
            for each, derivative in derivatives.items()
            if derivative not in (None, ZERO)
        ]
        return add(*known) if known and len(derivatives) < _MAX_TURNING else None


def solution_derivatives(model: Model, *, held: bool) -> SolutionDerivatives:
    """Return the derivatives along the solutions of a model with written rates, switches held or not."""
    rates = model.rates
    if not isinstance(rates, WrittenRates):
        raise unforeseen("formulas asked of rates that are a function")
    indexed_formulas = rates.held if held else rates.indexed_formulas
    made: SolutionDerivatives = model.remembered(
        ("derivatives along the solution", held),
        lambda: SolutionDerivatives(indexed_formulas, model.layout, rates_in_time(model.inputs), rates.implied),
    )
    return made


@functools.lru_cache(maxsize=1024)
def swings(formula: Node) -> bool:
    """Whether a formula follows the time other than in a line, so that a long step may hide what it does."""
    moves: dict[Node, bool] = {}
    for node in upwards(formula):
        moves[node] = node == name(TIME) or any(moves[operand] for operand in node.operands)
        if moves[node] and node.op in _BENDING:
            return True
    return False


@functools.lru_cache(maxsize=1024)
def can_break(formula: Node) -> bool:
    """Whether a formula can change its sign without being zero: by a jump, or through a pole."""
    return any(
        node.op in _BREAKING or (node.op == "pow" and not (node.operands[1].value or -1.0) > 0.0)
        for node in upwards(formula)
        if node.op != "div" or not is_number(node.operands[1])
    )
