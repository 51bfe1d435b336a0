"""How a sweep is carried out: its options, and its times."""

from __future__ import annotations

import inspect
from collections.abc import Iterable, Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.driver.integrate import integrate
from unhurried_heron.driver.recorded_times import record_times
from unhurried_heron.errors import OptionError, excerpt, listing, near_spelling
from unhurried_heron.input.rules import POSITIVE
from unhurried_heron.methods.catalogue import find_method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.sweeps.axes import Axes, Axis, Variation

_USUAL: Final[dict[str, Any]] = {
    name: each.default
    for name, each in inspect.signature(integrate).parameters.items()
    if each.kind is each.KEYWORD_ONLY and name not in ("parameters", "initial", "interval", "into")
}


def options_and_axes(given: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the options that are axes, and the others, all of `integrate`.

    Raises
    ------
    OptionError
    """
    for name in given:
        if name not in _USUAL or name in ("trace", "ledger", "progress"):
            raise OptionError(f"a sweep has no option '{name}'{near_spelling(name, _USUAL)}", name=name,
                              location="sweep", expected="options of integrate: " + listing(_USUAL),
                              given=excerpt(given[name]))  # fmt: skip
    rtol = given.get("rtol")
    several = isinstance(rtol, list | tuple | np.ndarray)
    options = {**_USUAL, **given, "ledger": False, "progress": False}
    return ({"rtol": rtol} if several else {}), ({**options, "rtol": None} if several else options)


def axes_of_options(methods: Iterable[str] | None, chosen: Mapping[str, Any]) -> list[Axis]:
    """Return the axes of methods and tolerances."""
    found = []
    if methods is not None:
        names = [find_method(each).name for each in methods]
        found.append(Axis("method", len(names), (Variation("method", "option", np.array(names)),)))
    for name, values in chosen.items():
        numbers = np.array([POSITIVE(each, name, message="a tolerance is not usable") for each in values])
        found.append(Axis(name, numbers.size, (Variation(name, "option", numbers),)))
    return found


def filled(problem: Problem, axes: Axes) -> Problem:
    """Return the problem with the values of the first member, so that nothing is open."""
    with quietly():
        return problem.with_(
            parameters={name: float(each[0]) for name, each in axes.columns("parameter").items()},
            initial={name: float(each[0]) for name, each in axes.columns("state").items()},
        )


def common_times(problem: Problem, axes: Axes, record: Any) -> Array:
    """Return the times to record, in the direction of the run.

    Parameters
    ----------
    problem : Problem
    axes : Axes
    record : int, str, sequence of float, or None

    Returns
    -------
    ndarray, shape (n_times,)

    Raises
    ------
    OptionError
    """
    if record is None:
        return np.empty(0)
    ends = axes.columns("interval")
    if ends:
        bounds = [*problem.interval]
        far = max if bounds[1] > bounds[0] else min
        near = min if far is max else max
        whole = (near([bounds[0], *ends.get("start", [])]), far([bounds[1], *ends.get("end", [])]))
        if isinstance(record, str | int):
            raise OptionError("members of different intervals have no common times but those of a list", name="record",
                              location="record", expected="a list of times", given=excerpt(record))  # fmt: skip
        problem = problem.with_(interval=whole)
    found = record_times(problem, record)
    if found is None:
        raise OptionError("a sweep records times, not steps", name="record", location="record",
                          expected="a count of times, a spacing, or a list; sweep.run(…) gives a member with its steps",
                          given=excerpt(record))  # fmt: skip
    return found
