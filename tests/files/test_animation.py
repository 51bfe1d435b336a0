"""Animations: frames evenly spaced in time, from the polynomials, in every format."""

from __future__ import annotations

import stat
from typing import ClassVar

import numpy as np
import pytest
from PIL import Image

import unhurried_heron as uh
from unhurried_heron.figures.film import Film, moving_record

SWING = uh.Problem.from_text(
    "x' = v\nv' = -x\nw' = 0", initial={"x": 1, "v": 0, "w": 0}, interval=(0, 6), title="swing", units={"t": "h"},
    events=[uh.Event(at=3.05, then="w = 1")],
)  # fmt: skip
RUN = uh.integrate(SWING, "dormand-prince-853", rtol=1e-10)
FAST = {"seconds": 0.5, "frames_per_second": 10}


def test_frames_are_even_in_time_whatever_the_steps_are() -> None:
    record = moving_record([RUN], ["x", "w"], ["it"], 25)
    assert np.diff(record.times) == pytest.approx(np.full(24, 0.25))
    assert len(RUN.times) < 40
    assert set(record.times) <= set(record.fine)
    (curve,) = record.curves
    assert curve[:, 0] == pytest.approx(np.cos(record.fine), abs=1e-8)
    # a jump is a vertical line: two points of one time
    jump = np.flatnonzero(np.diff(curve[:, 1]) != 0)
    assert jump.size == 1
    assert record.fine[jump] == record.fine[jump + 1] == 3.05
    film = Film(moving_record([RUN, RUN], ["x", "v"], ["a", "b"], 4), phase=True, tail=1.0, turn=0.0)
    frames = list(film.frames())
    assert len(frames) == 4
    assert not np.array_equal(frames[0], frames[2])
    head = film._lines[0][3].get_data()
    assert [float(each[0]) for each in head] == pytest.approx([np.cos(6.0), -np.sin(6.0)], abs=1e-8)


@pytest.mark.parametrize(("names", "options"), [
    ("x", {}), (["x", "w"], {"tail": "30 min"}), (["x", "v"], {"phase": True}),
    (["x", "v", "w"], {"phase": True, "turn": 30}), (["x", "v", "w"], {"turn": 30}),
])  # fmt: skip
@pytest.mark.long
def test_gif_and_pictures(tmp_path, names, options: dict) -> None:
    assert uh.animate(RUN, names, tmp_path / "film.gif", **FAST, **options) == 6
    with Image.open(tmp_path / "film.gif") as film:
        assert (film.n_frames, film.info["duration"]) == (6, 100)
    short = {"time_per_second": "2 h", "frames_per_second": 1}
    assert uh.animate([RUN, RUN], names, tmp_path / "one.png", labels=["a", "b"], **short, **options) == 4
    assert sorted(path.name for path in tmp_path.glob("*.png")) == [f"one-{k:04d}.png" for k in range(1, 5)]


def test_a_film_lasts_six_seconds_where_nothing_is_said(tmp_path) -> None:
    assert uh.animate(RUN, "x", tmp_path / "film.gif", frames_per_second=1) == 7


class Still:
    """Stands for a film: keeps what it was made of, and has plain frames."""

    made: ClassVar[list] = []

    def __init__(self, record, **options: object) -> None:
        self.count = record.times.size
        self.made.append(options)

    def frames(self):
        yield from (np.full((4, 6, 4), 40 * k % 256, np.uint8) for k in range(self.count))


@pytest.mark.parametrize(("names", "options", "tail", "turn"), [
    ("x", {}, np.inf, 0), ("x", {"tail": "30 min"}, 0.5, 0), ("x", {"tail": 2}, 2, 0),
    (["x", "v"], {"phase": True}, 0.6, 0), (["x", "v"], {"phase": True, "turn": 30, "tail": "1 h"}, 1, 0),
    (["x", "v", "w"], {"phase": True, "turn": -30}, 0.6, -30), (["x", "v", "w"], {"turn": 30}, np.inf, 0),
])  # fmt: skip
def test_tails_and_turns(tmp_path, monkeypatch, names, options: dict, tail: float, turn: float) -> None:
    monkeypatch.setattr("unhurried_heron.files.animation.Film", Still)
    back = uh.integrate(SWING.with_(interval=(6, 0)), rtol=1e-6)
    for run in (RUN, back):
        uh.animate(run, names, tmp_path / "film.gif", **FAST, **options)
        assert Still.made[-1] == {"phase": "phase" in options, "tail": pytest.approx(tail), "turn": turn}


@pytest.mark.parametrize(("rate", "lasts"), [(2, 500), (10, 100), (30, 30), (40, 20), (100, 20)])
def test_frames_last_and_are_told(tmp_path, monkeypatch, capsys, rate: float, lasts: int) -> None:
    monkeypatch.setattr("unhurried_heron.files.animation.Film", Still)
    monkeypatch.setattr("unhurried_heron.text.progress._SHOW_AFTER", 0.0)
    count = uh.animate(RUN, "x", tmp_path / "film.gif", seconds=1, frames_per_second=rate, progress=True)
    assert count == rate + 1
    with Image.open(tmp_path / "film.gif") as film:
        assert (film.n_frames, film.info["duration"], film.info["loop"]) == (count, lasts, 0)
    shown = capsys.readouterr().err
    assert f"{count} frames" in shown
    assert "100%" in shown
    assert f"{count + 1} frames" not in shown
    assert "t = " not in shown


def test_mp4_goes_through_ffmpeg(tmp_path, monkeypatch) -> None:
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(uh.OptionError, match="no ffmpeg"):
        uh.animate(RUN, "x", tmp_path / "film.mp4", **FAST)
    fake = tmp_path / "ffmpeg"
    # it keeps what it is given as its last argument, and how it was called
    fake.write_text(f'#!/bin/sh\necho "$@" > {tmp_path}/called\nfor last in "$@"; do :; done\n/bin/cat > "$last"\n')
    fake.chmod(fake.stat().st_mode | stat.S_IXUSR)
    assert uh.animate(RUN, "x", tmp_path / "film.mp4", **FAST) == 6
    size = (tmp_path / "film.mp4").stat().st_size
    assert size == 6 * 768 * 432 * 4
    assert " -s 768x432 -r 10 " in (tmp_path / "called").read_text()
    fake.write_text("#!/bin/sh\necho no such thing >&2\nexit 1\n")
    with pytest.raises(uh.OptionError, match="no such thing"):
        uh.animate(RUN, "x", tmp_path / "film.mp4", **FAST)
    assert (tmp_path / "film.mp4").stat().st_size == size


WRONG = [
    ((3, "x", "a.gif"), {}, "cannot be drawn"),
    ((RUN, [], "a.gif"), {}, "'names'"),
    ((RUN, ["x"], "a.gif"), {"phase": True}, "'names'"),
    ((RUN, "q", "a.gif"), {}, "no state"),
    ((RUN, "x", "a.avi"), {}, "'path'"),
    ((RUN, "x", "a.gif"), {"seconds": 0}, "'seconds'"),
    ((RUN, "x", "a.gif"), {"seconds": 1e9}, "'seconds'"),
    ((RUN, "x", "a.gif"), {"seconds": 1, "time_per_second": 1}, "not both"),
    ((RUN, "x", "a.gif"), {"time_per_second": "2 kg"}, "another kind"),
    ((RUN, "x", "a.gif"), {"frames_per_second": "many"}, "'frames_per_second'"),
    ((RUN, "x", "a.gif"), {"tail": -1}, "'tail'"),
    ((RUN.recorded(9), "x", "a.gif"), {}, "needs the steps"),
]


@pytest.mark.parametrize(("given", "options", "message"), WRONG)
def test_what_cannot_be_animated_is_refused(tmp_path, monkeypatch, given: tuple, options: dict, message: str) -> None:
    monkeypatch.chdir(tmp_path)
    with pytest.raises(uh.HeronError, match=message):
        uh.animate(*given, **options)
    assert not list(tmp_path.iterdir())
