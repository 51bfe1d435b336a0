"""A state as a sound."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Final

import numpy as np

from unhurried_heron.disk import write_whole
from unhurried_heron.errors import OptionError, excerpt
from unhurried_heron.input.rules import above
from unhurried_heron.run.run import Run

# Samples in a second, as of compact discs.
_RATE: Final = 44_100
# The largest sample, as a share of what 16 bits hold.
_LOUD: Final = 0.9
# The longest sound in seconds.
_LONGEST: Final = 3600.0


def write_sound(run: Run, name: str, path: str | Path, *, seconds: float = 5.0) -> float:
    """Write a state or derived quantity as a WAV file: one channel, 16 bits, scaled about its mean.

    Samples are taken from the solution's polynomials, evenly in time.

    Parameters
    ----------
    run : Run
        One that kept its steps.
    name : str
    path : str or Path
    seconds : float
        How long the sound is to last.

    Returns
    -------
    float
        How much time of the run goes into one second of sound.

    Raises
    ------
    RunError
        There is no such state or derived quantity, or the steps were not kept.
    OptionError
        The length is none, or the values do not change.
    """
    if not isinstance(run, Run) or not isinstance(name, str):
        raise OptionError("this makes no sound", name="run", location="write_sound", expected="a Run and a name",
                          given=f"{excerpt(run)}, {excerpt(name)}")  # fmt: skip
    seconds = above(0.0, _LONGEST)(seconds, "seconds", "write_sound", message="a sound needs a length")
    count = max(int(_RATE * seconds), 2)
    begin, end = float(run.times[0]), float(run.times[-1])
    values = run.at(np.linspace(begin, end, count), name)
    values = values - values.mean()
    largest = float(np.abs(values).max())
    if not 0.0 < largest < np.inf:
        given = f"{float(run.at(begin, name)):.6g} throughout"
        raise OptionError(f"'{name}' does not change, and so makes no sound", name=name, location="write_sound",
                          expected="a quantity that swings", given=given)  # fmt: skip
    samples = np.round(_LOUD * 32767.0 / largest * values).astype("<i2")

    import wave

    # in memory first, because its header is written again when the length is known
    whole = io.BytesIO()
    with wave.open(whole, "wb") as sound:
        sound.setnchannels(1)
        sound.setsampwidth(2)
        sound.setframerate(_RATE)
        sound.writeframes(samples.tobytes())
    write_whole(path, lambda file: file.write(whole.getvalue()))
    return abs(end - begin) / float(seconds)
