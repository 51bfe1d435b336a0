"""Sweeps as files: NetCDF and Zarr, which hold all of them and are read again; Parquet and CSV, tables of members."""

from __future__ import annotations

import importlib.util
import json
import math
import shutil
import tempfile
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.disk import path_of, store_at, write_whole
from unhurried_heron.errors import DocumentError, FileError, OptionError, listing
from unhurried_heron.input.rules import TRUTH, instance
from unhurried_heron.problem.problem import Problem
from unhurried_heron.sweeps.axes import Axes, Axis, Variation
from unhurried_heron.sweeps.measures import read_measures
from unhurried_heron.sweeps.sweep import Sweep

if TYPE_CHECKING:
    import pandas as pd
    import xarray

_A_SWEEP: Final = instance(Sweep, "a Sweep, what sweep returns")
# What writes and reads each kind of file, beside xarray: a package that is not among the dependencies.
_NEEDED: Final = {".nc": "h5netcdf", ".zarr": "zarr", ".parquet": "pyarrow", ".csv": ""}
# The attribute that holds what a sweep is beside its numbers.
_ABOUT: Final = "unhurried_heron_sweep"


def write_sweep(sweep: Sweep, path: str | Path, *, recorded: bool = False) -> None:
    """Write a sweep: ``.nc`` (NetCDF) and ``.zarr`` hold all of it, ``.parquet`` and ``.csv`` a row for each member.

    Parameters
    ----------
    sweep : Sweep
    path : str or Path
        The ending decides.
    recorded : bool
        Whether tables have a row for each member and recorded time.

    Raises
    ------
    OptionError
        This is no sweep, or no such kind of file.
    FileError
        The file cannot be written; what was there stays.
    """
    _A_SWEEP(sweep, "sweep", "write_sweep")
    TRUTH(recorded, "recorded", "write_sweep")
    path = path_of(path)
    kind = _kind(path)
    if kind == ".csv":
        # 17 significant digits bring every double back exactly; repr gives the fewest that do
        table = sweep.frame(recorded=recorded)
        write_whole(path, lambda file: table.to_csv(file, index=False, lineterminator="\n", encoding="utf-8"))
    elif kind == ".parquet":
        table = _with_units(sweep, sweep.frame(recorded=recorded))
        write_whole(path, lambda file: table.to_parquet(file, engine="pyarrow", index=False))
    elif kind == ".nc":
        data = _described(sweep)
        with tempfile.TemporaryDirectory() as folder:
            beside = Path(folder) / "sweep.nc"
            data.to_netcdf(beside, engine="h5netcdf")
            with beside.open("rb") as written:
                write_whole(path, lambda file: shutil.copyfileobj(written, file))
    else:
        _write_folder(path, lambda folder: _described(sweep).to_zarr(folder, consolidated=False, zarr_format=2))


def read_sweep(path: str | Path) -> Sweep:
    """Read a sweep from NetCDF or Zarr, all of it; members can be run again where a file can hold the problem.

    Parameters
    ----------
    path : str or Path

    Returns
    -------
    Sweep

    Raises
    ------
    OptionError
        It is no such kind of file.
    FileError
        It cannot be read, or is not of a sweep.
    """
    import xarray

    from unhurried_heron.input.file_reader import parse_document

    path = path_of(path)
    kind = _kind(path)
    if kind not in (".nc", ".zarr"):
        raise OptionError(f"a sweep cannot be read from {kind}", name="path", location="read_sweep",
                          expected="a file that ends in .nc or .zarr", given=path.name)  # fmt: skip
    if not path.exists():
        raise FileError(f"there is no {path}", name=str(path), location=str(path), expected="a file of a sweep")
    try:
        engine: Any = {"engine": "h5netcdf"} if kind == ".nc" else {"engine": "zarr", "consolidated": False}
        data = xarray.open_dataset(path, decode_times=False, **engine)
        with data:
            data = data.load()
        about = json.loads(data.attrs.pop(_ABOUT))
    except (OSError, KeyError, ValueError) as error:
        raise FileError(f"{path} is no file of a sweep", name=str(path), location=str(path),
                        expected="what write_sweep wrote", given=str(error)) from error  # fmt: skip
    problem = Problem.from_content(parse_document(tomllib.loads(about["problem"]), str(path)))
    axes = Axes(tuple(_axis(each, data) for each in about["axes"]))
    texts = {name: text for name, text in about["measures"].items() if text}
    measures = read_measures(problem, problem.events, texts)
    return Sweep(problem, data, about["method"], about["options"], axes, measures)


def _kind(path: Path) -> str:
    """Return the kind of a file.

    Raises
    ------
    OptionError
    """
    kind = path.suffix.lower()
    if kind not in _NEEDED:
        raise OptionError(f"'{path.name}' is no kind of file that sweeps are written to", name="path",
                          location="path", expected="an ending of " + listing(_NEEDED), given=path.name)  # fmt: skip
    needed = _NEEDED[kind]
    if needed and importlib.util.find_spec(needed) is None:
        raise OptionError(f"files that end in {kind} need the package {needed}", name="path", location="path",
                          expected=f"pip install {needed}, or 'unhurried-heron[files]'", given=path.name)  # fmt: skip
    return kind


def _axis(about: dict[str, Any], data: xarray.Dataset) -> Axis:
    varies = []
    for name, kind, unit in about["varies"]:
        values = data[Variation(name, kind, ()).label].to_numpy()
        varies.append(Variation(name, kind, values.astype(str) if values.dtype.kind in "OTU" else values, unit))
    return Axis(about["dimension"], len(varies[0].values), tuple(varies))


def _with_units(sweep: Sweep, table: pd.DataFrame) -> pd.DataFrame:
    """Return a table that holds the units of its columns, which Parquet keeps."""
    table.attrs = {str(name): each.attrs["units"] for name, each in sweep.dataset.variables.items()
                   if "units" in each.attrs and name in table}  # fmt: skip
    return table


def _described(sweep: Sweep) -> xarray.Dataset:
    """Return the dataset with what it takes to make a sweep of it again.

    Raises
    ------
    OptionError
        The problem holds Python functions.
    """
    from unhurried_heron.input.file_writer import write_document

    try:
        content = write_document(sweep.problem.user_input, Path()).decode("utf-8")
    except DocumentError as error:
        raise OptionError("a problem of Python functions does not go into a file", name="sweep",
                          location="write_sweep", expected="equations; or tables, .csv or .parquet",
                          given=str(error.args[0])) from error  # fmt: skip
    axes = [
        {"dimension": axis.dimension, "varies": [(each.name, each.kind, each.unit) for each in axis.variations]}
        for axis in sweep.axes.axes
    ]
    about = {
        "problem": content,
        "method": sweep.method if isinstance(sweep.method, str) else sweep.method.name,
        "options": {name: value for name, value in sweep.options.items() if _plain(value)},
        "axes": axes,
        "measures": {each.name: "" if each.function else each.text for each in sweep.measures},
    }
    return sweep.dataset.assign_attrs({_ABOUT: json.dumps(about)})


def _plain(value: Any) -> bool:
    """Whether an option can stand in a file."""
    if isinstance(value, dict):
        return all(map(_plain, value.values()))
    return value is None or isinstance(value, str | bool | int) or (isinstance(value, float) and math.isfinite(value))


def _write_folder(path: Path, write: Callable[[Path], Any]) -> None:
    """Let a folder appear whole, in the place of one of the same kind.

    Raises
    ------
    FileError
    """
    store = store_at(path)
    if not path.parent.is_dir():
        raise FileError(f"cannot write {path}: there is no such folder", name=str(path), location=str(path.parent),
                        expected="a folder that exists")  # fmt: skip
    with tempfile.TemporaryDirectory(prefix=f".{path.name[:40]}.", dir=path.parent) as folder:
        new, old = Path(folder) / "new", Path(folder) / "old"
        write(new)
        if store:
            path.rename(old)
        new.rename(path)
