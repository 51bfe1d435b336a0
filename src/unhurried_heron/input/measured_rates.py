"""Measured quantities and their derivatives, by the names that formulas have: those of states, as ``u'``."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Mapping
from typing import Any, Final

from unhurried_heron.formulas.expression import ONE, TIME, Node, name
from unhurried_heron.formulas.state_name import with_primes
from unhurried_heron.input.measured import Measured

# What equations may hold, in words.
OF_MEASURED: Final = "; of a measured u, u' where it runs straight from row to row, and u'' where it is cubic"
# How many derivatives a cubic has.
N_DERIVATIVES: Final = 3


def measured_names(inputs: Iterable[str]) -> frozenset[str]:
    """Return the names of measured quantities and of their derivatives, as formulas have them."""
    return frozenset(with_primes(key, order) for key in inputs for order in range(N_DERIVATIVES + 1))


def usable_names(inputs: Mapping[str, Measured]) -> frozenset[str]:
    """Return the names that an equation may hold: of measured quantities, and of their derivatives that are finite."""
    return frozenset(with_primes(key, order) for key, table in inputs.items() for order in range(table.smoothness + 1))


def rates_in_time(inputs: Iterable[str]) -> dict[str, Node]:
    """Return the rates of the time, of measured quantities and of their derivatives, by name."""
    return {TIME: ONE} | {label: name(with_primes(label, 1)) for label in sorted(measured_names(inputs))}


def readings(inputs: Mapping[str, Measured]) -> dict[str, Callable[[Any], Any]]:
    """Return what tells measured quantities and their derivatives at a time, by the names that formulas have."""
    return {
        with_primes(key, order): functools.partial(table, derivative=order)
        for key, table in inputs.items()
        for order in range(N_DERIVATIVES + 1)
    }
