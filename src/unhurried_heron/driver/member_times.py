"""What members of a sweep meet at times of their own: curves of the time, and narrow parts, that follow from values.

They are searched for all members at once, by interval arithmetic on arrays; a march takes those of each as they are.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array, IntArray
from unhurried_heron.deadline import check_deadline
from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.driver.time_sources import BOUNDS, edges_of, strictly_within
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import names_in
from unhurried_heron.formulas.narrow_features import narrow_windows
from unhurried_heron.kernels.memory.initial_data import LISTED, SOURCE_ITEM, SOURCE_KIND, InitialData
from unhurried_heron.model.narrow import parts_of_many
from unhurried_heron.model.time_switches import RunSwitches
from unhurried_heron.problem.following import formulas_that_follow
from unhurried_heron.problem.problem import Problem


class MemberTimes(NamedTuple):
    """What members meet at times of their own.

    ``listed``, ``bounds``: times in the order of the run, and bounds on the steps from there on, as in `InitialData`;
    ``sources`` (n_own,): the sources whose times they are; ``begins`` (n_members, n_own, 2): where those of each member
    begin and end. ``parts`` (n_parts, 4), ``part_begins`` (n_members + 1,): narrow parts, nothing where all members
    have the same. ``alone`` (n_members,): 1 where the times of a curve cannot be told apart.
    """

    listed: Array
    bounds: Array
    sources: IntArray
    begins: IntArray
    parts: Array
    part_begins: IntArray
    alone: IntArray

    def of(self, members: slice) -> MemberTimes:
        """Return those of some members."""
        begins = self.part_begins[members.start : members.stop + 1] if self.part_begins.size else self.part_begins
        return self._replace(begins=self.begins[members].copy(), part_begins=begins.copy(), alone=self.alone[members])


def moving_names(request: RunRequest, moved: Collection[str]) -> set[str]:
    """Return the parameters that differ between members, and what follows from them."""
    follow = formulas_that_follow(request.problem.assembled.definitions, moved, request.problem.model)
    return {*moved, *(follow or ())}


def stops_for(request: RunRequest, moving: Collection[str]) -> bool:
    """Whether members may stop on their way where the problem itself does not: for narrow parts of their own."""
    return request.adapts and any(names_in(formula) & {*moving} for formula in request.problem.model.of_time)


def member_times(
    request: RunRequest, switches: RunSwitches, data: InitialData, parameters: Array, moved: Collection[str]
) -> MemberTimes:
    """Find what members meet at times of their own.

    Parameters
    ----------
    request : RunRequest
    switches : RunSwitches
        Of the march.
    data : InitialData
        What the march begins with.
    parameters : ndarray, shape (n_members, n_parameters)
        In the order of the model; of those that follow from others any value.
    moved : collection of str
        The parameters in which the members differ, but for those that follow from them.

    Returns
    -------
    MemberTimes
    """
    model, moving = request.problem.model, moving_names(request, moved)
    values, count = member_values(request.problem, parameters, moved), len(parameters)
    found: dict[int, list[tuple[Array, Array]]] = {}
    if stops_for(request, moving):
        found[BOUNDS] = _bounds(request, values, count)
    alone = np.zeros(count, dtype=np.int64)
    for index, each in enumerate(switches.follow):
        if each is None or each.gap is not None or not names_in(each.live) & moving:
            continue
        check_deadline()
        curves = each.curves(values, request.problem.interval, count)
        # a march either knows the times of a switch or looks for it
        known = switches.all[index].times is not None
        alone |= np.array([(times is not None) != known for times in curves])
        if known:
            times = [strictly_within(np.array(times or ()), request.problem) for times in curves]
            found[len(request.events) + index] = [(each, np.full(each.size, np.nan)) for each in times]
    parts, part_begins = np.empty((0, 4)), np.empty(0, dtype=np.int64)
    if request.adapts and any(names_in(each.formula) & moving for each in model.narrow):
        rows = parts_of_many(model.narrow, values, count)
        parts, part_begins = np.concatenate(rows), np.cumsum([0, *map(len, rows)])
    check_deadline()
    return _gathered(found, data, count)._replace(parts=parts, part_begins=part_begins, alone=alone)


def member_values(problem: Problem, parameters: Array, moved: Collection[str]) -> dict[str, Any]:
    """Return the parameters of the members by name, those that follow from others too.

    Parameters
    ----------
    problem : Problem
    parameters : ndarray, shape (n_members, n_parameters)
    moved : collection of str

    Returns
    -------
    dict of str to float or ndarray, shape (n_members,)
    """
    model, values = problem.model, dict[str, Any](problem.parameters)
    values |= {name: np.ascontiguousarray(parameters[:, model.parameters.index(name)]) for name in moved}
    for name, formula in (formulas_that_follow(problem.assembled.definitions, moved, model) or {}).items():
        if name in model.parameters:
            values[name] = np.broadcast_to(evaluate(formula.node, values), len(parameters))
    return values


def _bounds(request: RunRequest, values: Mapping[str, Any], count: int) -> list[tuple[Array, Array]]:
    """Return the times from which on steps are bounded, and the bounds, of each member.

    Parameters
    ----------
    request : RunRequest
    values : mapping of str to float or ndarray, shape (n_members,)
    count : int
        Of members.

    Returns
    -------
    list of (ndarray, ndarray)
    """
    interval = request.problem.interval
    ends = np.full(count, min(interval)), np.full(count, max(interval))
    edges = [edges_of(each, request) for each in narrow_windows(request.problem.model.of_time, values, *ends)]
    return [(np.array([*each]), np.array([*each.values()])) for each in edges]


def _gathered(found: Mapping[int, list[tuple[Array, Array]]], data: InitialData, count: int) -> MemberTimes:
    """Put the times of all members beside those that all have.

    Parameters
    ----------
    found : mapping of int to list of (ndarray, ndarray)
        Times and bounds of each member, by their item.
    data : InitialData
    count : int
        Of members.

    Returns
    -------
    MemberTimes
    """
    own, begins, size = list[int](), np.empty((count, len(found), 2), dtype=np.int64), data.listed.size
    pieces = [(data.listed, data.bounds)]
    for column, (item, pairs) in enumerate(found.items()):
        at = (data.sources[:, SOURCE_ITEM] == item) & (data.sources[:, SOURCE_KIND] == LISTED)
        own.append(int(np.flatnonzero(at)[0]))
        ends = size + np.cumsum([times.size for times, _ in pairs])
        begins[:, column, 0], begins[:, column, 1] = np.concatenate([[size], ends[:-1]]), ends
        pieces += pairs
        size = int(ends[-1])
    listed, bounds = map(np.concatenate, zip(*pieces, strict=True))
    nothing = np.empty(0, dtype=np.int64)
    return MemberTimes(listed, bounds, np.array(own, dtype=np.int64), begins, np.empty((0, 4)), nothing, nothing)
