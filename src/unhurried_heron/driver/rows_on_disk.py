"""Recorded states that go to a file as they come, NetCDF or Zarr, so that memory holds few of them.

The march writes them where the operating system keeps pages of a file, without a name, beside the one that is written.
The file has another ending until the run is at its end, and what had its name before stays until then.
"""

from __future__ import annotations

import importlib
import mmap
import shutil
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.disk import path_of, store_at
from unhurried_heron.errors import FileError, OptionError
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.layout import Group
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.run import Run
from unhurried_heron.version import VERSION

# What writes each kind of file: packages that are not among the dependencies.
_NEEDED: Final = {".nc": "h5netcdf", ".zarr": "zarr"}
# The ending of a file that is not at its end.
_UNFINISHED: Final = ".part"
# The attribute that tells the dimensions of an array in a Zarr store.
_DIMENSIONS: Final = "_ARRAY_DIMENSIONS"
# The coordinates of indices, by their order.
_INDICES: Final = "ijklm"


class _NetCDF:
    """A NetCDF file that grows along the time."""

    def __init__(self, library: Any, path: Path) -> None:
        self._file = library.File(path, "w")

    def variable(
        self, name: str, dimensions: tuple[str, ...], shape: tuple[int, ...], about: Mapping[str, str]
    ) -> None:
        """Begin a variable over time and other dimensions.

        Parameters
        ----------
        name : str
        dimensions : tuple of str
        shape : tuple of int
            Of one row.
        about : mapping of str to str
            Attributes.
        """
        for dimension, size in zip((TIME, *dimensions), (None, *shape), strict=True):
            if dimension not in self._file.dimensions:
                self._file.dimensions[dimension] = size
        made = self._file.create_variable(name, (TIME, *dimensions), np.float64)
        made.attrs.update(about)

    def coordinate(self, name: str, values: Any) -> None:
        """Write a coordinate."""
        self._file.dimensions[name] = len(values)
        self._file.create_variable(name, (name,), np.int64)[:] = values

    def append(self, first: int, rows: Mapping[str, Array]) -> None:
        """Write rows of all variables from the first on."""
        self._file.resize_dimension(TIME, first + len(rows[TIME]))
        for name, values in rows.items():
            self._file.variables[name][first:] = values
        self._file.flush()

    def close(self, about: Mapping[str, str]) -> None:
        """Write what is known of the whole, and close."""
        self._file.attrs.update(about)
        self._file.close()


class _Zarr:
    """A Zarr store that grows along the time, with a chunk for each row."""

    def __init__(self, library: Any, path: Path) -> None:
        self._library = library
        self._group: Any = library.open_group(path, mode="w", zarr_format=2)
        self._arrays: dict[str, Any] = {}

    def variable(self, name: str, dimensions: Sequence[str], shape: Sequence[int], about: Mapping[str, str]) -> None:
        """Begin a variable over time and other dimensions, as `_NetCDF.variable`.

        Parameters
        ----------
        name : str
        dimensions : sequence of str
        shape : sequence of int
        about : mapping of str to str
        """
        chunks = (1, *shape) if shape else (1024,)
        made = self._group.create_array(
            name, shape=(0, *shape), chunks=chunks, dtype="float64", fill_value=np.nan, order="C"
        )
        made.attrs.update({**about, _DIMENSIONS: [TIME, *dimensions]})
        self._arrays[name] = made

    def coordinate(self, name: str, values: Any) -> None:
        """Write a coordinate."""
        values = np.asarray(values, dtype=np.int64)
        # a value that means nothing would make them numbers with a point
        made = self._group.create_array(name, shape=values.shape, dtype="int64", fill_value=None)
        made[:], made.attrs[_DIMENSIONS] = values, [name]

    def append(self, first: int, rows: Mapping[str, Array]) -> None:
        """Write rows of all variables from the first on."""
        for name, values in rows.items():
            self._arrays[name].resize((first + len(values), *values.shape[1:]))
            self._arrays[name][first:] = values

    def close(self, about: Mapping[str, str]) -> None:
        """Write what is known of the whole."""
        self._group.attrs.update(about)
        self._library.consolidate_metadata(self._group.store, zarr_format=2)


class RowsOnDisk:
    """A file that takes the recorded states of a run.

    Parameters
    ----------
    given : str or Path
        Where, with the ending ``.nc`` or ``.zarr``.
    problem : Problem

    Raises
    ------
    OptionError
        There is no such kind of file, or what writes it is not installed.
    FileError
        It cannot be written.
    """

    def __init__(self, given: Any, problem: Problem) -> None:
        self._path, self._layout = path_of(given), problem.model.layout
        kind = self._path.suffix.lower()
        if kind not in _NEEDED:
            raise OptionError("there is no such kind of file", name="into", location="into",
                              expected="a name that ends with .nc or .zarr", given=str(self._path))  # fmt: skip
        try:
            library: Any = importlib.import_module(_NEEDED[kind])
        except ImportError as error:
            raise OptionError(f"what writes {kind} is not installed", name="into", location="into",
                              expected="pip install 'unhurried-heron[files]'",
                              given=str(self._path)) from error  # fmt: skip
        if not self._path.parent.is_dir():
            raise FileError(f"cannot write {self._path}: there is no such folder", name=str(self._path),
                            location=str(self._path.parent), expected="a folder that exists")  # fmt: skip
        if kind == ".zarr" or self._path.is_dir():
            store_at(self._path)
        self._part = self._path.with_name(self._path.name + _UNFINISHED)
        self._pages: mmap.mmap | None = None
        self._written, self._last = 0, np.nan
        try:
            self._file: Any = (_NetCDF if kind == ".nc" else _Zarr)(library, self._part)
            self._begin(problem)
        except OSError as error:
            raise FileError(f"cannot write {self._path}: {error.strerror or error}", name=str(self._path),
                            location=str(self._path), expected="a place that can be written to") from error  # fmt: skip

    def _begin(self, problem: Problem) -> None:
        """Begin the time, the coordinates of indices, and a variable for each group of states."""
        self._file.variable(TIME, (), (), _in_unit(problem.units.get(TIME, "")))
        coordinates: dict[str, tuple[int, int]] = {}
        variables: list[tuple[str, tuple[str, ...], tuple[int, ...], dict[str, str]]] = []
        for group in self._layout.groups:
            names = []
            for position, (first, last) in enumerate(group.value_box):
                name = _INDICES[position] if position < len(_INDICES) else f"index_{position}"
                if coordinates.setdefault(name, (first, last)) != (first, last):
                    name = f"{name}_{group.name}"
                    coordinates[name] = (first, last)
                names.append(name)
            for part, _ in _parts(group):
                unit = _in_unit(problem.units.get(group.name, ""))
                variables.append((part, tuple(names), group.value_shape, unit))
        for name, (first, last) in coordinates.items():
            self._file.coordinate(name, range(first, last + 1))
        for part, dimensions, shape, unit in variables:
            self._file.variable(part, dimensions, shape, unit)

    def memory(self, shape: tuple[int, int]) -> Array:
        """Return room for recorded states, on disk, that vanishes when nobody uses it any more."""
        with tempfile.TemporaryFile(dir=self._path.parent) as file:
            file.truncate(8 * shape[0] * shape[1])
            self._pages = mmap.mmap(file.fileno(), 0)
        return np.frombuffer(self._pages, dtype=np.float64).reshape(shape)

    def take(self, problem: Problem, times: Array, states: Array, count: int) -> None:
        """Write the states that were recorded since the last time.

        Parameters
        ----------
        problem : Problem
            Whose states they are; those of a problem in other terms wait for the end of the run.
        times : ndarray, shape (n_times,)
        states : ndarray, shape (n_times, n_states)
        count : int
            How many are recorded.
        """
        if problem.model.layout.groups == self._layout.groups:
            self._append(times[:count], states[:count])
            if self._pages is not None and hasattr(mmap, "MADV_DONTNEED"):
                # what is written stays on disk, and need not stay in memory
                self._pages.madvise(mmap.MADV_DONTNEED)

    def _append(self, times: Array, states: Array) -> None:
        """Write the rows that come after the last one written."""
        new = (
            times.size if self._written == 0 else int(np.count_nonzero((times - self._last) * self._onward(times) > 0))
        )
        if new:
            states, rows = states[times.size - new :], {TIME: times[times.size - new :]}
            for group in self._layout.groups:
                first = self._layout.offsets[group.name]
                for part, every in _parts(group):
                    values = states[:, first : first + group.size][:, every]
                    rows[part] = values.reshape(new, *group.value_shape)
            self._file.append(self._written, rows)
            self._written, self._last = self._written + new, float(times[-1])

    @staticmethod
    def _onward(times: Array) -> float:
        return 1.0 if times.size < 2 or times[-1] > times[0] else -1.0

    def close(self, run: Run | None) -> None:
        """Write what is still missing and what is known of the run, and give the file its name.

        Of a run that raised something, None, the part that was done keeps the name it has.
        """
        about = {"history": f"unhurried-heron {VERSION}", "ending": "the run was given up"}
        if run is None:
            self._file.close(about)
            return
        self._append(run.times, run.states if not self._layout.has_complex else run.data.trajectory.states)
        about |= {"title": run.problem.title, "method": run.method, "ending": str(run.ending)}
        self._file.close({**about, "problem": run.problem.fingerprint})
        if self._path.is_dir():
            shutil.rmtree(self._path)
        self._part.replace(self._path)


def _in_unit(unit: str) -> dict[str, str]:
    return {"units": unit} if unit else {}


def _parts(group: Group) -> list[tuple[str, slice]]:
    """Return the variables of a group and their numbers in it: one, or those of both parts of a complex one."""
    if not group.complex:
        return [(group.name, slice(None))]
    return [(f"{group.name}_re", slice(0, None, 2)), (f"{group.name}_im", slice(1, None, 2))]
