"""A sweep in a folder: batches appear whole, so that what is interrupted, however rudely, goes on where it was."""

from __future__ import annotations

import hashlib
import importlib.util
import json
import os
import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.disk import path_of, write_text
from unhurried_heron.errors import FileError, OptionError, RunError, listing
from unhurried_heron.sweeps.axes import MEMBER, Axes
from unhurried_heron.sweeps.batches import Shared, slices_of
from unhurried_heron.sweeps.dataset import OCCURRENCE, dataset_of
from unhurried_heron.sweeps.outcome import Outcome

if TYPE_CHECKING:
    import xarray

# What tells of what the folder is, and where its batches are.
_MANIFEST: Final = "sweep.json"
_BATCHES: Final = "batches"
_MEMBERS: Final = "members.zarr"
_EVENTS: Final = "events.zarr"
# Bytes up to which all batches are read at once; beyond, they are read by parts as they are used.
_MAX_AT_ONCE: Final = 256_000_000


@dataclass(frozen=True)
class Folder:
    """Where a sweep is kept, batch by batch.

    Attributes
    ----------
    path : str
    """

    path: str

    @classmethod
    def of(cls, given: Any, shared: Shared, axes: Axes) -> Folder:
        """Begin a folder, or go on with one that holds the same sweep.

        Parameters
        ----------
        given : str or Path
        shared : Shared
        axes : Axes

        Returns
        -------
        Folder

        Raises
        ------
        OptionError
            It holds another sweep, or a package is missing that writes it.
        FileError
            It cannot be made.
        """
        if importlib.util.find_spec("zarr") is None:
            raise OptionError("a sweep in a folder needs the package zarr", name="folder", location="sweep",
                              expected="pip install 'unhurried-heron[files]'", given=str(given))  # fmt: skip
        path = path_of(given)
        found, wanted = path / _MANIFEST, _manifest(shared, axes)
        if found.exists():
            _refuse_other(found, wanted)
        elif path.exists() and any(path.iterdir()):
            raise FileError(f"cannot write {path}: there is something else", name=str(path), location=str(path),
                            expected="a new folder, or one of a sweep")  # fmt: skip
        try:
            (path / _BATCHES).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise FileError(f"cannot write {path}: {error.strerror}", name=str(path), location=str(path),
                            expected="a place that can be written") from error  # fmt: skip
        if not found.exists():
            write_text(found, json.dumps(wanted, indent=2) + "\n")
        return cls(os.path.abspath(path))

    def _place(self, index: int) -> Path:
        return Path(self.path) / _BATCHES / f"{index:06d}"

    def has(self, index: int) -> bool:
        """Whether a batch is done."""
        return self._place(index).exists()

    def keep(self, index: int, first: int, shared: Shared, axes: Axes, outcome: Outcome) -> None:
        """Write a batch, whole or not at all.

        Parameters
        ----------
        index : int
            Of the batch.
        first : int
            The index of its first member.
        shared : Shared
        axes : Axes
            Of its members alone.
        outcome : Outcome
        """
        data = dataset_of(shared.problem, axes, shared.times, outcome, shared.measures, shared.columns)
        data = data.assign_coords({MEMBER: (MEMBER, first + np.arange(axes.count), {"long_name": "member"})})
        about_events = [name for name, each in data.data_vars.items() if each.dims == (OCCURRENCE,)]
        events = data[about_events].reset_coords(drop=True)
        target = self._place(index)
        beside = Path(tempfile.mkdtemp(prefix=f".{target.name}.", dir=target.parent))
        try:
            data.drop_vars(about_events).to_zarr(beside / _MEMBERS, zarr_format=2, consolidated=False)
            if about_events:
                events = events.assign(event_member=events["event_member"] + first)
                events.to_zarr(beside / _EVENTS, zarr_format=2, consolidated=False)
            try:
                beside.rename(target)
            except OSError:
                # another process was first
                if not target.exists():
                    raise
        finally:
            shutil.rmtree(beside, ignore_errors=True)

    def clear(self) -> None:
        """Remove what batches left that were interrupted."""
        for each in (Path(self.path) / _BATCHES).glob(".*"):
            shutil.rmtree(each, ignore_errors=True)

    def opened(self, shared: Shared, count: int) -> tuple[xarray.Dataset, bool]:
        """Return what is there, along one dimension of members, and whether all of it is in memory.

        Parameters
        ----------
        shared : Shared
        count : int
            Of members, done or not.

        Returns
        -------
        (xarray.Dataset, bool)

        Raises
        ------
        RunError
            No batch is done yet.
        """
        import xarray

        done = [k for k, _ in enumerate(slices_of(count, shared.batch_size)) if self.has(k)]
        if not done:
            raise RunError("no batch of the sweep is done yet", name="folder", location=self.path,
                           expected="more seconds=…, or the same call once more", given="nothing")  # fmt: skip
        row = 8 * (shared.times.size * len(shared.columns) + len(shared.problem.states) + 64)
        whole = count * row <= _MAX_AT_ONCE or importlib.util.find_spec("dask") is None
        chunks: Any = None if whole else {}
        parts, events = (
            [
                xarray.open_dataset(self._place(k) / name, engine="zarr", chunks=chunks, consolidated=False,
                                    decode_times=False)
                for k in done if (self._place(k) / name).exists()
            ]
            for name in (_MEMBERS, _EVENTS)
        )  # fmt: skip
        if whole:
            parts, events = ([each.load() for each in several] for several in (parts, events))
        found = _joined(parts, MEMBER)
        if events:
            found = found.merge(_joined(events, OCCURRENCE), combine_attrs="override", join="outer", compat="override")
        return found, whole


def _joined(parts: list[Any], dimension: str) -> Any:
    import xarray

    same: Any = {"compat": "override", "join": "override", "combine_attrs": "override"}
    return xarray.concat(parts, dim=dimension, data_vars="minimal", coords="minimal", **same)


def _manifest(shared: Shared, axes: Axes) -> dict[str, Any]:
    """Return what a folder is told by: all that decides its numbers, in words where it is short."""
    method = shared.method if isinstance(shared.method, str) else shared.method.name
    options = {
        f"option {name}": str(value)
        for name, value in sorted(shared.options.items())
        if name not in ("progress", "record", "on_interrupt")
    }
    return {
        "problem": shared.problem.fingerprint,
        "events": [str(event) for event in shared.problem.events],
        "method": method,
        **options,
        "times": _digest(shared.times),
        "measures": {each.name: each.text for each in shared.measures},
        "derived": shared.derived,
        "varies": {each.name: f"{len(each.values)} values, {_digest(each.values)}"
                   for axis in axes.axes for each in axis.variations},
        "shape": list(axes.shape),
        "batch": shared.batch_size,
    }  # fmt: skip


def _digest(values: Any) -> str:
    array = np.ascontiguousarray(values)
    content = array.tobytes() if array.dtype.kind == "f" else repr(array.tolist()).encode()
    return hashlib.sha256(content).hexdigest()[:16]


def _refuse_other(path: Path, wanted: dict[str, Any]) -> None:
    """Refuse a folder that holds another sweep, with what differs.

    Raises
    ------
    OptionError
    """
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        raise FileError(f"{path} cannot be read", name=str(path), location=str(path), expected="what a sweep wrote",
                        given=str(error)) from error  # fmt: skip
    plain = json.loads(json.dumps(wanted))
    differs = [name for name in plain if found.get(name) != plain[name]]
    if differs:
        name = differs[0]
        raise OptionError(f"this folder holds another sweep: {listing(differs)} differ", name="folder",
                          location=str(path.parent), expected=f"{name}: {found.get(name)}, or another folder",
                          given=f"{name}: {plain[name]}")  # fmt: skip
