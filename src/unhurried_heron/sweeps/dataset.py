"""The results of a sweep as one `xarray.Dataset`: dimensions of what varies, coordinates with their units."""

from __future__ import annotations

import datetime
import platform
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import OptionError, listing
from unhurried_heron.kernels.memory.sweep import COUNTED
from unhurried_heron.problem.problem import Problem
from unhurried_heron.sweeps.axes import MEMBER, Axes, plain_name
from unhurried_heron.sweeps.measures import Measure
from unhurried_heron.sweeps.outcome import Outcome
from unhurried_heron.version import VERSION

if TYPE_CHECKING:
    import xarray

# The dimensions of recorded times, and of events that happened.
TIME: Final = "t"
OCCURRENCE: Final = "occurrence"
# Prefix of the counts of work.
TALLY: Final = "tally_"


def dataset_of(
    problem: Problem, axes: Axes, times: Array, found: Outcome, measures: tuple[Measure, ...], columns: tuple[str, ...]
) -> xarray.Dataset:
    """Return what was kept of a sweep.

    Parameters
    ----------
    problem : Problem
    axes : Axes
    times : ndarray, shape (n_times,)
        At which was recorded.
    found : Outcome
    measures : tuple of Measure
    columns : tuple of str
        What was recorded: states, and derived quantities.

    Returns
    -------
    xarray.Dataset

    Raises
    ------
    OptionError
        Two things have one name.
    """
    import xarray

    variables: dict[str, Any] = {}
    if times.size:
        variables |= _quantities(problem, axes, found.recorded, columns, "")
    variables |= _quantities(problem, axes, found.finals[:, None], problem.states, "final_")
    for k, measure in enumerate(measures):
        unit = measure.unit(problem)
        about = {"long_name": measure.text, **({"units": unit} if unit else {})}
        variables[measure.name] = _shaped(axes, found.measures[:, k], about)
    variables["ending"] = _shaped(axes, found.endings, {"long_name": "why it ended"})
    variables["ending_time"] = _shaped(axes, found.ends, _unit(problem, "t", "when it ended"))
    variables["failure"] = _shaped(axes, _texts(found.whys), {"long_name": "why it did not come to its end"})
    variables["alone"] = _shaped(axes, _texts(found.alone), {"long_name": "why it marched by itself"})
    for k, name in enumerate(COUNTED):
        variables[TALLY + name] = _shaped(axes, found.counts[:, k], {"long_name": name.replace("_", " ")})
    variables |= _events(problem, found)
    coordinates = _coordinates(problem, axes, times)
    clash = [name for name in variables if name in coordinates or name in axes.dimensions]
    if clash:
        raise OptionError("two things have one name", name=clash[0], location="sweep",
                          expected="states and measures with other names than what varies",
                          given=listing(clash))  # fmt: skip
    return xarray.Dataset(variables, coordinates, attrs=attributes(problem))


def with_axes(flat: xarray.Dataset, axes: Axes) -> xarray.Dataset:
    """Return what is along one dimension of members along the axes of a sweep, members in their order.

    Parameters
    ----------
    flat : xarray.Dataset
    axes : Axes

    Returns
    -------
    xarray.Dataset
    """
    import xarray

    variables: dict[str, Any] = {}
    for name, each in flat.data_vars.items():
        if MEMBER in each.dims:
            values = each.transpose(MEMBER, ...).to_numpy()
            shape = (*axes.shape, *values.shape[1:])
            rest = tuple(other for other in each.transpose(MEMBER, ...).dims if other != MEMBER)
            dimensions = (*axes.dimensions, *rest)
            variables[str(name)] = (dimensions, values.reshape(shape), each.attrs)
        else:
            variables[str(name)] = (each.dims, each.to_numpy(), each.attrs)
    kept = {name: each for name, each in flat.coords.items() if MEMBER not in each.dims}
    return xarray.Dataset(variables, {**_axis_coordinates(axes), **kept}, attrs=flat.attrs)


def attributes(problem: Problem) -> dict[str, str]:
    """Return what is told of a sweep as a whole: title, conventions, and a history with versions and the problem."""
    now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    versions = f"unhurried-heron {VERSION}, NumPy {np.__version__}, Python {platform.python_version()}"
    return {
        "title": problem.title or "Problem",
        "Conventions": "CF-1.11",
        "history": f"{now}: swept with {versions}; problem {problem.fingerprint}",
    }


def _texts(values: Any) -> Any:
    """Return texts as an array of them, which most often are all empty."""
    return values.astype(str) if any(values.tolist()) else np.zeros(values.size, dtype="<U1")


def _shaped(axes: Axes, values: Any, about: Mapping[str, str]) -> tuple[Any, ...]:
    """Return a variable of one number for each member.

    Parameters
    ----------
    axes : Axes
    values : ndarray, shape (n_members,)
    about : mapping of str to str
        Its attributes.

    Returns
    -------
    tuple
    """
    return axes.dimensions, values.reshape(axes.shape), dict(about)


def _unit(problem: Problem, name: str, long_name: str) -> dict[str, str]:
    """Return the attributes of a quantity.

    Parameters
    ----------
    problem : Problem
    name : str
    long_name : str

    Returns
    -------
    dict of str to str
    """
    unit = problem.units.get(name, "")
    return {"long_name": long_name, **({"units": unit} if unit else {})}


def _quantities(
    problem: Problem, axes: Axes, values: Array, columns: tuple[str, ...], prefix: str
) -> dict[str, tuple[Any, ...]]:
    """Return a variable for each quantity, indexed states with dimensions of their own.

    Parameters
    ----------
    problem : Problem
    axes : Axes
    values : ndarray, shape (n_members, n_times, n_columns)
    columns : tuple of str
    prefix : str
        Of their names: those of final values have no time.

    Returns
    -------
    dict of str to tuple
    """
    found: dict[str, tuple[Any, ...]] = {}
    dimensions = axes.dimensions if prefix else (*axes.dimensions, TIME)
    shape = axes.shape if prefix else (*axes.shape, values.shape[1])
    offset, layouts = 0, (problem.model.layout, problem.model.derived_layout)
    for layout in layouts:
        for group in layout.groups if offset < len(columns) else ():
            own = values[:, :, offset : offset + group.size]
            offset += group.size
            unit = _unit(problem, group.name, prefix.replace("_", " ") + group.name)
            if not group.box:
                found[prefix + plain_name(group.name)] = (dimensions, own.reshape(shape), unit)
                continue
            sizes = tuple(last - first + 1 for first, last in group.value_box)
            if group.complex:
                # files of arrays know no complex numbers
                pairs = own.reshape(*own.shape[:2], -1, 2)
                parts = {f"re_{group.name}": pairs[..., 0], f"im_{group.name}": pairs[..., 1]}
            else:
                parts = {group.name: own}
            names = tuple(f"{plain_name(group.name)}_{k + 1}" for k in range(len(sizes)))
            for name, part in parts.items():
                found[prefix + plain_name(name)] = ((*dimensions, *names), part.reshape(*shape, *sizes), unit)
    for k, name in enumerate(columns[offset:]):
        own = values[:, :, offset + k]
        found[prefix + plain_name(name)] = (dimensions, own.reshape(shape), _unit(problem, name, name))
    return found


def _events(problem: Problem, found: Outcome) -> dict[str, tuple[Any, ...]]:
    """Return what happened, an array for each fact, of one number for each occurrence."""
    if not problem.events:
        return {}
    names = np.array([event.name for event in problem.events])
    variables: dict[str, tuple[Any, ...]] = {
        "event_member": (OCCURRENCE, found.event_members, {"long_name": "index of the member, the last axis fastest"}),
        "event_name": (OCCURRENCE, names[found.event_which], {"long_name": "what happened"}),
        "event_time": (OCCURRENCE, found.event_times, _unit(problem, "t", "when it happened")),
    }
    for k, name in enumerate(problem.states):
        about = _unit(problem, name, f"{name} before")
        variables[f"event_{plain_name(name)}"] = (OCCURRENCE, found.event_states[:, k], about)
    return variables


def _coordinates(problem: Problem, axes: Axes, times: Array) -> dict[str, Any]:
    """Return the coordinates: what varies, times, and the indices of indexed states.

    Parameters
    ----------
    problem : Problem
    axes : Axes
    times : ndarray, shape (n_times,)

    Returns
    -------
    dict of str to tuple
    """
    found = _axis_coordinates(axes)
    if times.size:
        found[TIME] = (TIME, times, _unit(problem, "t", "time"))
    for layout in (problem.model.layout, problem.model.derived_layout):
        for group in layout.indexed:
            for k, (first, last) in enumerate(group.value_box):
                name = f"{plain_name(group.name)}_{k + 1}"
                found[name] = (name, np.arange(first, last + 1), {"long_name": f"index {k + 1} of {group.name}"})
    return found


def _axis_coordinates(axes: Axes) -> dict[str, Any]:
    """Return the coordinates of what varies."""
    found: dict[str, Any] = {}
    for axis in axes.axes:
        for each in axis.variations:
            what = f"{each.name} at the start" if each.kind == "state" else each.name
            about = {"long_name": what, **({"units": each.unit} if each.unit else {})}
            found[each.label] = (axis.dimension, np.asarray(each.values), about)
        if axis.dimension not in found:
            found[axis.dimension] = (axis.dimension, np.arange(axis.size), {"long_name": "member"})
    return found
