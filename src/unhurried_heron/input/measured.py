"""Measured inputs: a table of a quantity against time, and how to read between its rows."""

from __future__ import annotations

import csv
import math
from dataclasses import dataclass, field
from functools import cached_property
from io import StringIO
from pathlib import Path
from typing import Any, Final, Literal

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.disk import read_plain_file
from unhurried_heron.errors import InputError, as_text
from unhurried_heron.input.rules import among

Interpolation = Literal["previous", "linear", "cubic"]
INTERPOLATIONS: Final = ("previous", "linear", "cubic")
# How often a quantity can be differentiated before it jumps between its rows.
_SMOOTHNESS: Final = {"previous": 0, "linear": 1, "cubic": 2}
# Derivatives that differ by less than this share, which is rounding, make no kink.
_STRAIGHT: Final = 1e-12


@dataclass(frozen=True, eq=False)
class Measured:
    """A quantity known at some times, to be used in equations by its name.

    Parameters
    ----------
    times : array_like, shape (n_rows,)
        Increasing times, at least two.
    values : array_like, shape (n_rows,)
        The quantity at these times.
    interpolation : {"linear", "previous", "cubic"}
        How it runs between them: straight, constant until the next time, or as a monotone cubic that overshoots
        nowhere (F. N. Fritsch and J. Butland, SIAM J. Sci. Stat. Comput. 5 (1984) 300-304).
    source : str
        Where the table comes from, for messages.
    file : mapping, optional
        What a problem file says of the table, so that it can be written again.

    Raises
    ------
    InputError
        The table is too short, not finite or out of order, or ``interpolation`` is something else.

    Examples
    --------
    >>> tide = Measured([0, 6, 12], [0.2, 1.4, 0.3])
    >>> tide(3.0)
    0.8
    """

    times: Any
    values: Any
    interpolation: Interpolation = "linear"
    source: str = "the table"
    file: Any = field(default=None, repr=False)

    def __post_init__(self) -> None:
        message = f"between the rows there is no '{as_text(self.interpolation)}'"
        among(INTERPOLATIONS)(self.interpolation, "interpolation", self.source, message=message, error=InputError)
        try:
            columns = [np.array(column, dtype=np.float64) for column in (self.times, self.values)]
        except (TypeError, ValueError, OverflowError):
            raise self._unusable("numbers", "something that is not") from None
        times, values = columns
        if times.ndim != 1 or times.shape != values.shape or times.size < 2:
            raise self._unusable("two columns of the same length, at least 2", f"{times.shape} and {values.shape}")
        for name, column in (("time", times), ("value", values)):
            if not np.isfinite(column).all():
                row = int(np.argmin(np.isfinite(column)))
                raise self._unusable(f"a finite {name} in every row", f"{column[row]} in row {row + 1}")
        if (np.diff(times) <= 0).any():
            row = int(np.argmax(np.diff(times) <= 0))
            raise self._unusable("times that increase", f"{times[row]:g} then {times[row + 1]:g} in row {row + 2}")
        for attribute, column in (("times", times), ("values", values)):
            column.setflags(write=False)
            object.__setattr__(self, attribute, column)

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Measured):
            return NotImplemented
        same = np.array_equal(self.times, other.times) and np.array_equal(self.values, other.values)
        return same and self.interpolation == other.interpolation

    def __hash__(self) -> int:
        return hash((self.times.tobytes(), self.values.tobytes(), self.interpolation))

    def _unusable(self, expected: str, given: str) -> InputError:
        return InputError(
            "this measured input is not usable", name=self.source, location=self.source, expected=expected, given=given
        )

    @classmethod
    def from_csv(cls, path: str | Path, *, time: str, value: str, interpolation: Interpolation = "linear") -> Measured:
        """Read two columns of a CSV file with a header row.

        Parameters
        ----------
        path : str or Path
        time, value : str
            Names of the columns.
        interpolation : Interpolation, optional

        Returns
        -------
        Measured

        Raises
        ------
        InputError
            The file cannot be read, lacks a column, or holds something that is no number; the row is named.
        """
        called = Path(path).name
        try:
            text = read_plain_file(Path(path)).decode("utf-8-sig")
            rows = list(csv.reader(line for line in StringIO(text) if line.strip() and not line.startswith("#")))
        except (OSError, UnicodeDecodeError, csv.Error) as error:
            raise InputError(
                f"cannot read the table {called}",
                name=str(path),
                location=str(path),
                expected="a CSV file",
                given=getattr(error, "strerror", None) or str(error),
            ) from None
        header = [cell.strip() for cell in rows[0]] if rows else []
        there = among(header) if header else among((), "a table with columns")
        for column in (time, value):
            message = f"the table {called} has no column '{column}'"
            there(column, column, str(path), message=message, error=InputError)
        indices = [header.index(column) for column in (time, value)]
        numbers: list[list[float]] = []
        for count, row in enumerate(rows[1:], 2):
            try:
                numbers.append([float(row[index]) for index in indices])
            except (ValueError, IndexError):
                raise InputError(
                    f"row {count} of the table {called} holds no number",
                    name=called,
                    location=f"{path}, row {count}",
                    expected=f"numbers under {time} and {value}",
                    given=",".join(row)[:80],
                ) from None
        table = np.array(numbers).reshape(-1, 2)
        return cls(table[:, 0], table[:, 1], interpolation, called)

    @cached_property
    def pieces(self) -> Any:
        """Between rows each: its start, then four coefficients of powers of the time since, shape (n_rows, 5)."""
        times, values = self.times, self.values
        rows = np.zeros((times.size, 5))
        rows[:, 0], rows[:, 1] = times, values
        if self.interpolation == "linear":
            rows[:-1, 2] = np.diff(values) / np.diff(times)
        elif self.interpolation == "cubic":
            from scipy.interpolate import PchipInterpolator

            with np.errstate(all="ignore"):
                rows[:-1, 1:] = PchipInterpolator(times, values).c[::-1].T
        # at the last time derivatives are those before it
        last = times[-1] - times[-2]
        _, b, c, d = rows[-2, 1:]
        rows[-1, 2:] = b + last * (2.0 * c + last * 3.0 * d), c + 3.0 * d * last, d
        return rows

    @cached_property
    def kinks(self) -> Array:
        """Times where the quantity or one of its first three derivatives jumps."""
        if self.interpolation == "linear":
            derivatives = self.pieces[:-1, 2]
            bent = np.abs(np.diff(derivatives)) > _STRAIGHT * np.abs(derivatives).max(initial=0.0)
            kinks: Array = self.times[1:-1][bent]
        else:
            kinks = self.times[1:]
        return kinks

    @property
    def smoothness(self) -> int:
        """How often it can be differentiated before it jumps between its rows."""
        return _SMOOTHNESS[self.interpolation]

    def __call__(self, time: Any, derivative: int = 0) -> Any:
        """Return the quantity at a time or at several, or one of its derivatives; at a row, that behind it.

        Parameters
        ----------
        time : float or array_like
        derivative : int, optional
            How many times it is differentiated, up to 3.

        Returns
        -------
        float or ndarray
        """
        rows = self.pieces[np.clip(np.searchsorted(self.times, time, side="right") - 1, 0, self.times.size - 1)]
        since, value = np.asarray(time) - rows[..., 0], np.zeros(rows.shape[:-1])
        for power in range(3, derivative - 1, -1):
            value = math.perm(power, derivative) * rows[..., 1 + power] + since * value
        return float(value) if np.ndim(value) == 0 else value

    def check_covers(self, name: str, interval: tuple[float, float]) -> None:
        """Refuse an interval that leaves the table.

        Parameters
        ----------
        name : str
            Of the input.
        interval : (float, float)
            From when to when.

        Raises
        ------
        InputError
        """
        first, last = float(self.times[0]), float(self.times[-1])
        low, high = min(interval), max(interval)
        if low < first or high > last:
            raise InputError(
                f"the run would leave the table of '{name}'",
                name=name,
                location=self.source,
                expected=f"an interval within {first:g} to {last:g}",
                given=f"{interval[0]:g} to {interval[1]:g}",
            )
