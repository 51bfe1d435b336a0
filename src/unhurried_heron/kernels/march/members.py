"""Families made of others: their members march by the same control record, each with a table of its own.

``links`` int64 (m, LINK_SIZE): of each member the address of its kernel, that of its table, and the degree of its
polynomials.
"""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_doubles, as_longs, call_kernel, offset_by
from unhurried_heron.kernels.memory.decoding import system_in
from unhurried_heron.kernels.memory.links import LINK_DEGREE, LINK_KERNEL, LINK_SIZE, LINK_TABLE


@inner
def table_of(links, i):
    """Return the table by which a member marches."""
    return as_longs(links[LINK_SIZE * i + LINK_TABLE])


@inner
def has_member(links, i):
    """Whether a member is laid out."""
    return links[LINK_SIZE * i + LINK_KERNEL] != 0


@inner
def ask_member(control, links, i):
    """Have a member do what the march asks for.

    Parameters
    ----------
    control : CONTROL
    links : int64 pointer, (m, LINK_SIZE)
    i : int
        Index of the member.

    Returns
    -------
    int
        The answer of the member.
    """
    own = control.table
    table = links[LINK_SIZE * i + LINK_TABLE]
    control.table = table
    answer = call_kernel(links[LINK_SIZE * i + LINK_KERNEL], table)
    control.table = own
    return answer


@inner
def rates_at_state_of(links, i):
    """Return where a member keeps the rates at the present state."""
    return system_in(table_of(links, i)).rates_at_state


@inner
def hand_rates_at_state(system, links, i):
    """Tell a member the rates at the present state.

    Parameters
    ----------
    system : System
    links : int64 pointer, (m, LINK_SIZE)
    i : int
        Index of the member.
    """
    theirs = rates_at_state_of(links, i)
    for k in range(system.n):
        theirs[k] = system.rates_at_state[k]


@inner
def fill_degrees(control, links, i, degree, n):
    """Write the zeros by which a member's polynomial is one of the march's degree.

    Parameters
    ----------
    control : CONTROL
    links : int64 pointer, (m, LINK_SIZE)
    i : int
        Index of the member.
    degree : int
        That of the march.
    n : int
        Number of states.
    """
    own = links[LINK_SIZE * i + LINK_DEGREE]
    coefficients = offset_by(as_doubles(control.polynomial_address), (own + 1) * n)
    for j in range((degree - own) * n):
        coefficients[j] = 0.0
