"""Animations on disk: GIF, MP4 where ffmpeg is found, or one picture for each frame."""

from __future__ import annotations

import functools
import itertools
import math
import shutil
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, Final

from unhurried_heron.disk import path_of, write_whole
from unhurried_heron.errors import OptionError, excerpt, unforeseen
from unhurried_heron.figures.film import Film, moving_record
from unhurried_heron.figures.overlay import labels_of, runs_of
from unhurried_heron.input.rules import FINITE, POSITIVE, Rule
from unhurried_heron.run.run import Run
from unhurried_heron.text.progress import ProgressBar

# Frames of a film at most.
_MAX_FRAMES: Final = 20_000
_KINDS: Final = (".gif", ".mp4", ".png")


def animate(
    run: Run | Sequence[Run],
    names: str | Sequence[str],
    path: str | Path,
    *,
    phase: bool = False,
    seconds: float | None = None,
    time_per_second: float | str | None = None,
    frames_per_second: float = 20.0,
    tail: float | str | None = None,
    turn: float = 0.0,
    labels: Sequence[str] | None = None,
    progress: bool | None = None,
) -> int:
    """Write an animation of states and derived quantities, its frames evenly spaced in time.

    Values are those of the solution's polynomials, whatever the steps were.

    Parameters
    ----------
    run : Run, or sequence of Run
        Runs that kept their steps.
    names : str or sequence of str
        Quantities, each in a panel of its own against time; or two or three against each other.
    path : str or Path
        A file that ends in .gif, in .mp4 (where ffmpeg is found), or in .png: then a picture for each frame,
        ``name-0001.png`` and so on.
    phase : bool
        Whether the quantities are drawn against each other, in the plane or in space.
    seconds : float, optional
        How long the animation lasts; by default 6.
    time_per_second : float or str, optional
        Instead of ``seconds``: how much time of the run goes into one second, "2 h".
    frames_per_second : float
    tail : float or str, optional
        How much time the fading tail reaches back; by default a tenth of the run for ``phase``, and everything else.
    turn : float
        By how many degrees the camera turns during the animation; of three names against each other.
    labels : sequence of str, optional
        What to call each of several runs; by default what tells them apart.
    progress : bool, optional
        Show a progress bar always or never; by default after about two seconds in a terminal.

    Returns
    -------
    int
        How many frames were written.

    Raises
    ------
    RunError
        A name is unknown.
    OptionError
        An option is unusable, or there is no ffmpeg for an .mp4.
    OSError
        The file cannot be written.
    """
    runs = runs_of(run, "animate")
    shown = [names] if isinstance(names, str) else list(names) if isinstance(names, list | tuple) else []
    if not shown or (phase and len(shown) not in (2, 3)):
        raise _refused("names", "two or three names against each other" if phase else "one name or more", names)
    target = path_of(path)
    kind = target.suffix.lower()
    if kind not in _KINDS:
        raise _refused("path", "a file that ends in .gif, .mp4 or .png", str(path))
    if kind == ".mp4" and shutil.which("ffmpeg") is None:
        raise OptionError("there is no ffmpeg on this machine, which makes .mp4 files", name="path", location="animate",
                          expected="a .gif or .png, or ffmpeg on the PATH", given=str(path))  # fmt: skip
    span = max(abs(float(each.times[-1] - each.times[0])) for each in runs)
    rate = _option(POSITIVE, "frames_per_second", frames_per_second)
    lasts = _length(runs[0], seconds, time_per_second, span)
    count = max(2, round(lasts * rate) + 1)
    if count > _MAX_FRAMES:
        raise _refused("seconds", f"at most {_MAX_FRAMES:,} frames", f"{count:,} frames")
    reach = math.inf if tail is None and not phase else span / 10.0 if tail is None else _time(runs[0], "tail", tail)
    angle = _option(FINITE, "turn", turn)
    record = moving_record(runs, shown, labels_of(runs, labels, "animate"), count)
    film = Film(record, phase=phase, tail=reach, turn=angle if phase and len(shown) == 3 else 0.0)
    bar = ProgressBar(progress, "frames", 0.0, float(count), "frames")
    try:
        write = {".gif": _gif, ".png": _pictures, ".mp4": _film}[kind]
        write(target, _counted(film.frames(), bar), rate)
    finally:
        bar.close()
    return count


def _counted(frames: Iterator[Any], bar: ProgressBar) -> Iterator[Any]:
    for count, frame in enumerate(frames, 1):
        bar.update(float(count), count)
        yield frame


def _gif(path: Path, frames: Iterator[Any], rate: float) -> None:
    """Write frames as a GIF.

    Parameters
    ----------
    path : Path
    frames : iterator of ndarray
        Pixels of each frame.
    rate : float
        Frames a second.
    """
    from PIL import Image

    def coloured(frame: Any) -> Any:
        return Image.fromarray(frame).convert("RGB").quantize(96, dither=Image.Dither.NONE)

    first, rest = coloured(next(frames)), map(coloured, frames)
    # a GIF counts in hundredths of a second
    lasts = max(2, round(100.0 / rate)) * 10
    options: dict[str, Any] = {"format": "GIF", "save_all": True, "duration": lasts, "loop": 0, "optimize": False}
    write_whole(path, lambda file: first.save(file, append_images=rest, **options))


def _pictures(path: Path, frames: Iterator[Any], _: float) -> None:
    """Write a picture for each frame.

    Parameters
    ----------
    path : Path
    frames : iterator of ndarray
        Pixels of each frame.
    _ : float
        Not used.
    """
    from PIL import Image

    for count, each in enumerate(frames, 1):
        save = functools.partial(Image.fromarray(each).convert("RGB").save, format="PNG")
        write_whole(path.with_name(f"{path.stem}-{count:04d}.png"), save)


def _film(path: Path, frames: Iterator[Any], rate: float) -> None:
    """Write frames as a film.

    Parameters
    ----------
    path : Path
    frames : iterator of ndarray
        Pixels of each frame.
    rate : float
        Frames a second.

    Raises
    ------
    OptionError
        The program that makes films is missing, or failed.
    """
    first = next(frames)
    height, width = first.shape[0] // 2 * 2, first.shape[1] // 2 * 2
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder) / "film.mp4"
        command = ["ffmpeg", "-loglevel", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgba",
                   "-s", f"{width}x{height}", "-r", f"{rate:g}", "-i", "-", "-an",
                   "-pix_fmt", "yuv420p", str(made)]  # fmt: skip
        with subprocess.Popen(command, stdin=subprocess.PIPE, stderr=subprocess.PIPE) as process:
            if process.stdin is None:
                raise unforeseen("a film without its encoder")
            try:
                for each in itertools.chain([first], frames):
                    process.stdin.write(each[:height, :width].tobytes())
                process.stdin.close()
            except BrokenPipeError:
                pass
            output = process.stderr.read().decode(errors="replace") if process.stderr else ""
        if process.returncode != 0 or not made.is_file():
            raise OptionError("ffmpeg made no film", name="path", location="animate", expected="an ffmpeg that works",
                              given=output.strip()[-200:] or f"exit code {process.returncode}")  # fmt: skip
        content = made.read_bytes()
    write_whole(path, lambda file: file.write(content))


def _length(run: Run, seconds: float | None, time_per_second: float | str | None, span: float) -> float:
    """Return how many seconds a film lasts.

    Parameters
    ----------
    run : Run
    seconds : float or None
        The most that it may take; None for no limit.
    time_per_second : float, str or None
        Time of the run that a second shows.
    span : float
        Time that the run takes.

    Returns
    -------
    float

    Raises
    ------
    B
        Both ways of giving it are taken.
    """
    if seconds is not None and time_per_second is not None:
        raise _refused("time_per_second", "seconds or time_per_second, not both", time_per_second)
    if time_per_second is not None:
        return span / _time(run, "time_per_second", time_per_second)
    return _option(POSITIVE, "seconds", 6.0 if seconds is None else seconds)


def _time(run: Run, name: str, value: float | str) -> float:
    """Return an option in the unit of the time.

    Parameters
    ----------
    run : Run
    name : str
        Of the option.
    value : float or str

    Returns
    -------
    float
    """
    from unhurried_heron.units.quantities import number_in

    return _option(POSITIVE, name, number_in(value, run.problem.units.get("t", ""), f"animate, {name}"))


def _option(rule: Rule, name: str, value: Any) -> float:
    """Return an option that keeps a rule.

    Parameters
    ----------
    rule : Rule
    name : str
        Of the option.
    value : object

    Returns
    -------
    float

    Raises
    ------
    OptionError
        It does not.
    """
    return float(rule(value, name, "animate", message=_REFUSED.format(name)))


_REFUSED: Final = "'{}' of an animation cannot be this"


def _refused(name: str, expected: str, given: Any) -> OptionError:
    """Return the error that refuses an option.

    Parameters
    ----------
    name : str
        Of the option.
    expected : str
        What was expected.
    given : object

    Returns
    -------
    OptionError
    """
    return OptionError(_REFUSED.format(name), name=name, location="animate", expected=expected,
                       given=excerpt(given))  # fmt: skip
