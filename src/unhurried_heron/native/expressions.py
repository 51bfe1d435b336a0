"""Written formulas as native functions, compiled once for each structure."""

from __future__ import annotations

import functools
from collections.abc import Mapping

import numpy as np

from unhurried_heron.native.emit import Emitter
from unhurried_heron.native.signature import NativeFunction
from unhurried_heron.problem.expression import Node


def compiled(
    outputs: Mapping[int, Node], size: int, states: tuple[str, ...], parameters: Mapping[str, float]
) -> NativeFunction:
    """Return a native function that writes each tree to its place in an array of ``size`` numbers.

    The machine code depends on the trees and the order of the names, never on the parameters' values.
    """
    address, engine = _machine_code(tuple(outputs.items()), size, states, tuple(parameters))
    # one number more than needed: an empty array would have no address to speak of
    context = np.array([*parameters.values(), 0.0])
    return NativeFunction(address, size, context, keep=(engine,))


@functools.lru_cache(maxsize=256)
def _machine_code(
    outputs: tuple[tuple[int, Node], ...], size: int, states: tuple[str, ...], parameters: tuple[str, ...]
) -> tuple[int, object]:
    from unhurried_heron.native.engine import compile_module

    return compile_module(Emitter(states, parameters).module(dict(outputs), size))
