"""Going on with a stiff method, and with constraints as they are, where stability came to limit an explicit one.

An explicit method marches algebraic states by rates that their constraints imply, in a fraction of the time of an
implicit one as long as nothing is stiff. Rates that are found by numbers have no Jacobian; constraints have.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from unhurried_heron.driver.concatenation import concatenated
from unhurried_heron.driver.continuation import continuation_request, remaining_budget
from unhurried_heron.driver.options import able_with_mass
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.text.endings import selection_by_stiffness

if TYPE_CHECKING:
    from unhurried_heron.driver.slide import Once, Part
    from unhurried_heron.text.ending_facts import StabilityLimit


def handed_over(request: RunRequest, given: Problem, first: Part, once: Once) -> tuple[Run, StabilityLimit | None]:
    """Return a whole run, whose other part a stiff method marches, and where stability limited that.

    Parameters
    ----------
    request : RunRequest
        Of the first part.
    given : Problem
        The problem with its constraints.
    first : Part
        What the march left that was limited by stability.
    once : callable
        What makes the run of a single march from a request.

    Returns
    -------
    (Run, StabilityLimit or None)
    """
    run, stiff = first.run, able_with_mass(request.method, given, request.relative)
    ahead = replace(
        request, problem=given, method=stiff, hands_over=False, budget=remaining_budget(request.budget, run)
    )
    part = once(continuation_request(ahead, run, given.model, request.events))
    other, members = part.run, (run.data.methods[0], stiff)
    if other.data.ledger is not None:
        other.data.ledger["member"] = 1
    steps = [(each.name, it.tally.accepted) for each, it in zip(members, (run, other), strict=True)]
    found = concatenated(run, given, (run, other), other.ending,
                         method_selection=selection_by_stiffness(steps, [run.data.trajectory.end_time], 1))  # fmt: skip
    named = {name: value for name, value in other.options.items() if name not in run.options}
    return replace(
        found,
        options={**run.options, **named},
        tally=replace(found.tally, changes=found.tally.changes + 1),
        data=replace(found.data, methods=members),
    ), part.limit
