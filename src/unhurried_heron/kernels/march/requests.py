"""How a family answers the requests of a march: written once for all families."""

from __future__ import annotations

from unhurried_heron.kernels.machine_code.compiling import inner
from unhurried_heron.kernels.memory.call import as_control, as_longs
from unhurried_heron.kernels.memory.control import ACCEPT, ATTEMPT, DERIVE, DESCRIBE, REACHED_END, REFUSE, STRIDE
from unhurried_heron.kernels.memory.decoding import system_in


@inner
def nothing(system, work, control):
    """Answer a request for which there is nothing to be done.

    Parameters
    ----------
    system : System
    work : work space of a family
    control : CONTROL

    Returns
    -------
    int
        REACHED_END.
    """
    return REACHED_END


def answering(work_in, attempt, accept, refuse, start, describe=nothing, stride=nothing, derive=nothing):
    """Return the entry kernel of a family from its answers, functions of system, work space and control record.

    Parameters
    ----------
    work_in : intrinsic
        Takes the table of a march for the bundle of the family.
    attempt, accept, refuse, start : inner kernels
        For the requests that every march makes (`loop`).
    describe, stride, derive : inner kernels, optional
        For those that some families answer.

    Returns
    -------
    function
        Takes the address of a table.
    """

    def family(address):
        table = as_longs(address)
        control, system, work = as_control(table[0]), system_in(table), work_in(table)
        if control.ask == ATTEMPT:
            return attempt(system, work, control)
        if control.ask == ACCEPT:
            return accept(system, work, control)
        if control.ask == REFUSE:
            return refuse(system, work, control)
        if control.ask == DESCRIBE:
            return describe(system, work, control)
        if control.ask == STRIDE:
            return stride(system, work, control)
        if control.ask == DERIVE:
            return derive(system, work, control)
        return start(system, work, control)

    return family
