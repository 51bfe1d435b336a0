"""Recorded states that go to a file as they come."""

from pathlib import Path

import numpy as np
import pytest
import xarray
from typer.testing import CliRunner

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.cli.app import app
from unhurried_heron.demo import demo_file
from unhurried_heron.quiet import quietly

LINES = "u[k,j]' = -k*u[k,j] + v[j] for k in 1..3, j in 0..2\nv[j]' = cos(t) for j in 0..2\nz' = i*w*z\nx' = -x"


def problem(interval: tuple[float, float]) -> uh.Problem:
    return uh.Problem.from_text(
        LINES, initial={"u": 1, "v": 0, "z": 1j, "x": "2 mg/l"}, parameters={"w": 3}, interval=interval
    )


@pytest.mark.parametrize("kind", [".nc", ".zarr"])
@pytest.mark.parametrize(("method", "interval"), [("auto", (0, 4)), ("radau-iia-5", (4, 0)), ("euler", (0, 4))])
def test_what_comes_is_what_a_run_holds(kind: str, method: str, interval: tuple[float, float], tmp_path: Path) -> None:
    options = {"step": 0.01} if method == "euler" else {"rtol": 1e-6}
    path = tmp_path / f"pond{kind}"
    # the second takes the place of the first
    for record in (5, [1.0, 1.5, 3.0] if interval[0] == 0 else [3.0, 1.5, 1.0]):
        run = uh.integrate(problem(interval), method, record=record, into=path, **options)
        plain = uh.integrate(problem(interval), method, record=record, **options)
        assert np.array_equal(run.states, plain.states)
        with xarray.open_dataset(path, decode_times=False, engine="zarr" if kind == ".zarr" else "h5netcdf") as data:
            assert np.array_equal(data["t"], plain.times)
            for name in ("u", "v", "x"):
                assert np.array_equal(data[name], plain[name])
            assert np.array_equal(data["z_re"] + 1j * data["z_im"], plain["z"])
            assert data["u"].dims == ("t", "i", "j")
            assert data["j"].values.tolist() == [0, 1, 2]
            assert data["x"].attrs["units"] == "mg/l"
            assert data.attrs["ending"] == str(run.ending)
    assert [each.name for each in tmp_path.iterdir()] == [path.name]


@pytest.mark.long
def test_the_command_line_sends_them_too(tmp_path: Path) -> None:
    path = tmp_path / "lagoon.nc"
    file = demo_file("lagoon")
    done = CliRunner().invoke(app, ["run", str(file), "--record", "24 h", "--rtol", "1e-3", "--into", str(path)])
    assert done.exit_code == 0, done.output
    run = uh.integrate(uh.Problem.from_file(file), rtol=1e-3, record="24 h")
    with xarray.open_dataset(path, decode_times=False, engine="h5netcdf") as data:
        assert np.array_equal(data["oxygen"], run["oxygen"])
    refused = CliRunner().invoke(app, ["run", str(file), "--into", str(tmp_path / "lagoon.csv")])
    assert refused.exit_code != 0


def test_runs_that_do_not_come_to_their_end_leave_what_they_did(tmp_path: Path) -> None:
    path = tmp_path / "part.nc"
    with quietly():
        run = uh.integrate(problem((0, 4)), record=41, into=path, budget={"steps": 9})
    with xarray.open_dataset(path, decode_times=False, engine="h5netcdf") as data:
        assert np.array_equal(data["t"], run.times)
        assert "budget" in data.attrs["ending"]

    def rates(t: float, x: float) -> float:
        if t > 2:
            raise KeyError("beyond")
        return -x

    broken = uh.Problem.from_rates(rates, initial={"x": 1.0}, interval=(0, 4))
    with pytest.raises(KeyError, match="beyond"):
        uh.integrate(broken, "euler", step=0.01, record=41, into=path)
    # what was there stays, and what was done is beside it
    with xarray.open_dataset(path, decode_times=False, engine="h5netcdf") as data:
        assert np.array_equal(data["t"], run.times)
    with xarray.open_dataset(f"{path}.part", decode_times=False, engine="h5netcdf") as data:
        assert data.attrs["ending"] == "the run was given up"


@pytest.mark.parametrize("name", ["pond.zarr", "pond.nc"])
def test_a_folder_of_something_else_is_left_alone(name: str, tmp_path: Path) -> None:
    (tmp_path / name).mkdir()
    (tmp_path / name / "notes.txt").write_text("years of work")
    with pytest.raises(errors.FileError, match="something else"):
        uh.integrate(problem((0, 4)), record=3, into=tmp_path / name)
    assert (tmp_path / name / "notes.txt").read_text() == "years of work"


@pytest.mark.parametrize(
    ("into", "record", "error", "words"),
    [
        ("pond.csv", 3, errors.OptionError, "no such kind"),
        ("pond.nc", "steps", errors.OptionError, "as they come"),
        ("nowhere/pond.nc", 3, errors.FileError, "no such folder"),
        (3, 3, errors.OptionError, "no path"),
    ],
)
def test_what_cannot_be_written_is_refused(
    into: object, record: object, error: type, words: str, tmp_path: Path
) -> None:
    path = tmp_path / into if isinstance(into, str) else into
    with pytest.raises(error, match=words):
        uh.integrate(problem((0, 4)), record=record, into=path)
    assert not [*tmp_path.iterdir()]
