"""Native functions of the rates of some of the states, for methods that move parts of them in turns."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.codegen.compile_formulas import compiled
from unhurried_heron.codegen.system import NativeSystem, plain_formulas
from unhurried_heron.errors import unforeseen
from unhurried_heron.formulas.layout import IndexedFormula, flat_indices
from unhurried_heron.kernels.machine_code.signature import NativeFunction
from unhurried_heron.model.rates import WrittenRates
from unhurried_heron.problem.problem import Problem


def rates_of(native: NativeSystem, problem: Problem, indices: IntArray) -> NativeFunction:
    """Return a native function that writes the rates of some of the states, and may write others.

    Parameters
    ----------
    native : NativeSystem
        The problem, made callable.
    problem : Problem
    indices : ndarray of int64
        Of the states.

    Returns
    -------
    NativeFunction
        All rates where they are a function, where a loop over states is in both parts, or where constraints imply some.
    """
    rates, size = problem.model.rates, problem.model.layout.size
    if not isinstance(rates, WrittenRates) or rates.implied:
        return native.rates
    wanted = np.zeros(size, dtype=bool)
    wanted[indices] = True
    kept = []
    for each in zip(rates.indexed_formulas, rates.held, strict=True):
        strides = dict(zip((loop.index for loop in each[0].loops), each[0].strides, strict=True))
        where = wanted[flat_indices(each[0].loops, each[0].base, strides)]
        if where.any() and not where.all():
            return native.rates
        if where.any():
            kept.append(each)
    plain, without = (tuple(each[k] for each in kept) for k in range(2))
    return _compiled(native, problem, plain, without)


def with_parts(native: NativeSystem, problem: Problem) -> NativeSystem:
    """Return a system with native functions of the implicit and the explicit part of written rates.

    Parameters
    ----------
    native : NativeSystem
        The problem, made callable.
    problem : Problem

    Returns
    -------
    NativeSystem
    """
    rates = problem.model.rates
    if not isinstance(rates, WrittenRates):
        raise unforeseen("parts asked of rates that are a function")
    implicit, explicit = (_compiled(native, problem, *each) for each in zip(*rates.parts, strict=True))
    return replace(native, implicit=implicit, explicit=explicit)


def _compiled(
    native: NativeSystem, problem: Problem, plain: tuple[IndexedFormula, ...], without: tuple[IndexedFormula, ...]
) -> NativeFunction:
    """Compile formulas of a part of the rates.

    Parameters
    ----------
    native : NativeSystem
    problem : Problem
    plain : tuple of IndexedFormula
    without : tuple of IndexedFormula
        The same with jumps and kinks taken out.

    Returns
    -------
    NativeFunction
    """
    layout, rates, held = problem.model.layout, problem.model.rates, native.held
    names = native.context.names(layout, held=held)
    guarded = plain if isinstance(rates, WrittenRates) and plain_formulas(rates, native.located, held=held) else ()
    return compiled(without if held else plain, layout.size, names, native.context.array, guarded=guarded)
