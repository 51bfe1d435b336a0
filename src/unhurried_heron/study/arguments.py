"""What studies are given, looked at before anything runs."""

from __future__ import annotations

from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import ComplexArray
from unhurried_heron.errors import OptionError, excerpt
from unhurried_heron.input.rules import instance
from unhurried_heron.run.run import Run

A_RUN: Final = instance(Run, "a Run, what integrate returns")


def a_run(given: Any, location: str) -> Run:
    """Return a run.

    Raises
    ------
    OptionError
    """
    run: Run = A_RUN(given, "run", location, message="this is no run")
    return run


def complex_points(z: Any, location: str) -> ComplexArray:
    """Return numbers of the plane as an array.

    Raises
    ------
    OptionError
    """
    try:
        if isinstance(z, str | bytes):
            raise TypeError
        return np.asarray(z, dtype=complex)
    except (TypeError, ValueError, OverflowError):
        raise OptionError("these are no numbers of the plane of h lambda", name="z", location=location,
                          expected="a complex number, or an array of them", given=excerpt(z)) from None  # fmt: skip
