"""Families made of others: their members march by the same control record, each with a table of its own.

``links`` int64 (3 m,): of each member the address of its kernel, that of its table, and the degree of its polynomials.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, as_longs, call_kernel, offset_by
from unhurried_heron.kernels.memory.decoding import system_in


@inner
def ask_member(control, links, i):
    """Have a member do what the march asks for."""
    own = control.table
    control.table = links[3 * i + 1]
    answer = call_kernel(links[3 * i], links[3 * i + 1])
    control.table = own
    return answer


@inner
def rates_at_state_of(links, i):
    """Return where a member keeps the rates at the present state."""
    return system_in(as_longs(links[3 * i + 1])).rates_at_state


@inner
def hand_rates_at_state(system, links, i):
    """Tell a member the rates at the present state."""
    theirs = rates_at_state_of(links, i)
    for k in range(system.n):
        theirs[k] = system.rates_at_state[k]


@inner
def fill_degrees(control, links, i, degree, n):
    """Write the zeros by which a member's polynomial is one of the march's degree."""
    coefficients = offset_by(as_doubles(control.polynomial_address), (links[3 * i + 2] + 1) * n)
    for j in range((degree - links[3 * i + 2]) * n):
        coefficients[j] = 0.0
