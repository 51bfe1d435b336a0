"""Files: written whole or not at all, read only if plain; machine code taken from nobody else."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import warnings
from pathlib import Path

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.disk import write_whole
from unhurried_heron.kernels.machine_code import cache
from unhurried_heron.kernels.machine_code.jit import emit_object, load_object

POND = uh.Problem.from_text("level' = -level", initial={"level": 1.0}, interval=(0, 1))
RUN = uh.integrate(POND, record=np.int64(4))
WRITERS = {
    "csv": lambda path: uh.write_csv(RUN, path),
    "json": lambda path: uh.write_summary(RUN, path),
    "toml": POND.to_file,
}


@pytest.mark.parametrize("kind", WRITERS)
def test_whole_or_not_at_all(kind: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / f"out.{kind}"
    WRITERS[kind](path)
    good = path.read_bytes()
    assert good
    link = tmp_path / "link"
    link.symlink_to(path)
    WRITERS[kind](link)
    assert link.is_symlink()
    monkeypatch.setattr(os, "fsync", lambda handle: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(OSError, match="No space"):
        WRITERS[kind](path)
    assert path.read_bytes() == good
    assert sorted(each.name for each in tmp_path.iterdir()) == ["link", path.name]
    with pytest.raises(uh.OptionError):
        WRITERS[kind](f"{tmp_path}/a\0b")


def test_killed_while_writing(tmp_path: Path) -> None:
    path = tmp_path / "out.csv"
    path.write_text("good")
    script = (
        "import sys, time\nfrom unhurried_heron.disk import write_whole\n"
        "def slow(file):\n    file.write(b'half'); file.flush(); print('now', flush=True); time.sleep(60)\n"
        "write_whole(sys.argv[1], slow)\n"
    )
    process = subprocess.Popen([sys.executable, "-c", script, str(path)], stdout=subprocess.PIPE)
    assert process.stdout is not None
    process.stdout.readline()
    process.send_signal(signal.SIGKILL)
    process.communicate()
    assert path.read_text() == "good"
    device = tmp_path / "pipe"
    os.mkfifo(device)
    reader = subprocess.Popen(["cat", str(device)], stdout=subprocess.PIPE)
    write_whole(device, lambda file: file.write(b"through"))
    assert reader.communicate()[0] == b"through"


def test_json_of_any_numbers(tmp_path: Path) -> None:
    problem = uh.Problem.from_text("x' = -x\nnone = log(-1 - x)", initial={"x": 1}, interval=(0, 1))
    uh.write_summary(uh.integrate(problem, rtol={"x": np.float32(1e-5)}, record=np.linspace(0, 1, 3)), tmp_path / "s")
    content = json.loads((tmp_path / "s").read_text(), parse_constant=lambda word: pytest.fail(word))
    assert content["final"]["none"] is None


@pytest.mark.parametrize("name", ["pipe", "/dev/zero", "link", "folder", "large"])
def test_only_plain_files_are_read(name: str, tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "link").symlink_to("/dev/zero")
    (tmp_path / "folder").mkdir()
    with open(tmp_path / "large", "wb") as file:
        file.truncate(60_000_000)
    with pytest.raises(errors.DocumentError, match="cannot read"):
        uh.Problem.from_file(tmp_path / name)
    with pytest.raises(errors.InputError, match="cannot read"):
        uh.Measured.from_csv(tmp_path / name, time="t", value="v")


def test_a_table_is_not_reached_by_a_link(tmp_path: Path) -> None:
    inside = tmp_path / "inside"
    inside.mkdir()
    (tmp_path / "secret.csv").write_text("password\nhunter2\n")
    (inside / "table.csv").symlink_to(tmp_path / "secret.csv")
    text = 'equations = "x\' = w"\n[interval]\nfrom = 0\nto = 1\n[initial]\nx = 0\n'
    (inside / "p.toml").write_text(text + '[inputs.w]\nfile = "table.csv"\ntime = "t"\nvalue = "v"\n')
    with pytest.raises(errors.DocumentError) as caught:
        uh.Problem.from_file(inside / "p.toml")
    assert "hunter2" not in str(caught.value)
    assert "password" not in str(caught.value)
    (inside / "deep.toml").write_text(".".join(["a"] * 20_000) + " = 1")
    with pytest.raises(errors.DocumentError):
        uh.Problem.from_file(inside / "deep.toml")


def test_nothing_steers_a_terminal() -> None:
    for user_input in ({"title": "a\x1b[2J"}, {"events": [uh.Event("x = 1", name="b\x1b[1m")]}):
        with pytest.raises(errors.ValueGivenError) as caught:
            uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), **user_input)
        assert "\x1b" not in str(caught.value)
    with pytest.raises(errors.FormulationError) as caught:
        uh.Problem.from_text("x' = -x + \x1b[31m", initial={"x": 1}, interval=(0, 1))
    assert "\x1b" not in str(caught.value)


CODE = "define i32 @good() { ret i32 7 }"


@pytest.fixture
def fresh_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv(cache.CACHE_VARIABLE, str(tmp_path / "cache"))
    cache.private_folder.cache_clear()
    cache._warned.clear()
    yield tmp_path / "cache"
    cache.private_folder.cache_clear()
    cache._warned.clear()


def test_machine_code_is_believed_from_oneself_only(fresh_cache: Path) -> None:
    folder = cache.private_folder("kernels")
    assert folder == fresh_cache / "kernels"
    path, code = folder / "a.machine-code", emit_object(CODE)
    cache.write_code(path, "good", code)
    assert cache.read_code(path) == ("good", code)
    # another symbol of the same code, other rights, a link, a folder in its place
    path.write_bytes(path.read_bytes().replace(b"good ", b"evil ", 1))
    assert cache.read_code(path) is None
    cache.write_code(path, "good", code)
    path.chmod(0o666)
    assert cache.read_code(path) is None
    path.chmod(0o600)
    (folder / "b").symlink_to(path)
    assert cache.read_code(folder / "b") is None
    (folder / "c").mkdir()
    with pytest.warns(errors.CacheWarning, match="could not be kept"):
        cache.write_code(folder / "c", "good", code)
    assert len(list(folder.iterdir())) == 3
    with pytest.raises(uh.HeronError, match="lacks what was to be called"):
        load_object(code, "evil")


@pytest.mark.parametrize("spoil", ["folder", "above", "taken"])
def test_an_open_folder_is_not_used(fresh_cache: Path, spoil: str) -> None:
    if spoil == "taken":
        fresh_cache.write_text("")
    else:
        (fresh_cache / "kernels").mkdir(parents=True)
        (fresh_cache / "kernels" if spoil == "folder" else fresh_cache).chmod(0o777)
    with pytest.warns(errors.CacheWarning, match="is not used"):
        folder = cache.private_folder("kernels")
    assert folder is not None
    assert fresh_cache not in folder.parents
    assert folder.stat().st_mode & 0o777 == 0o700
    cache.private_folder.cache_clear()
    with warnings.catch_warnings():
        # one warning is enough
        warnings.simplefilter("error")
        cache.private_folder("kernels")


def test_a_foreign_owner_is_not_trusted(fresh_cache: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = cache.private_folder("kernels")
    cache.write_code(folder / "a", "good", b"code")
    real = os.getuid()
    monkeypatch.setattr(os, "getuid", lambda: real + 1)
    assert cache.read_code(folder / "a") is None
    cache.private_folder.cache_clear()
    with pytest.warns(errors.CacheWarning):
        assert fresh_cache not in cache.private_folder("kernels").parents


def test_what_cannot_be_written_or_kept_ends_in_an_error_of_our_own(tmp_path: Path) -> None:
    pond = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1))
    run = uh.integrate(pond)
    full = Path("/dev/full")
    wrong = [
        lambda: pond.to_file(tmp_path / "none" / "pond.toml"),
        lambda: uh.write_csv(run, tmp_path / "none" / "pond.csv"),
        lambda: uh.write_summary(run, "a\0.json"),
        lambda: uh.write_csv("run", tmp_path / "a.csv"),
        lambda: uh.write_summary(3, tmp_path / "a.json"),
        lambda: run.table(10**12),
        lambda: uh.convergence(pond, "heun-2", halvings=True),
        lambda: uh.compare(
            pond, [uh.RungeKutta("mine", [[0, 0], [c, 0]], [1 - 0.5 / c, 0.5 / c]) for c in (1, 0.5)], step=0.1
        ),
        lambda: uh.Problem.from_rates(lambda t, x: [True], initial={"x": 1}, interval=(0, 1)),
        *([lambda: pond.to_file(full), lambda: uh.write_csv(run, full)] if full.exists() else []),
    ]
    for mistake in wrong:
        with pytest.raises(uh.HeronError):
            mistake()
    assert uh.integrate(pond, budget={"steps": np.int64(2)}).ending.reason == "budget"
    assert hash(run.explain()) == hash(run.explain())
