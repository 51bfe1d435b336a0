"""Equality of records by their values, arrays and missing numbers within them included."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import fields
from typing import Any

import numpy as np


class ByValue:
    """A dataclass that equals another of its type where all values that are compared are the same.

    Numbers are the same where they are equal or both are missing (NaN); arrays where their shapes and numbers are.
    """

    def compared(self) -> tuple[Any, ...]:
        """Return the values that decide whether two records are equal."""
        return tuple(getattr(self, each.name) for each in fields(self) if each.compare)  # type: ignore[arg-type]  # the classes that use it are dataclasses

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, ByValue) or type(self) is not type(other):
            return NotImplemented
        return same(self.compared(), other.compared())

    def __hash__(self) -> int:
        return hash((type(self).__name__, *map(_hashed, self.compared())))


def same(one: Any, other: Any) -> bool:
    """Return whether two values are the same, whatever stands within them."""
    if one is other:
        return True
    if isinstance(one, np.ndarray) or isinstance(other, np.ndarray):
        a, b = np.asarray(one), np.asarray(other)
        if a.dtype.names or b.dtype.names:
            return a.dtype == b.dtype and all(same(a[name], b[name]) for name in a.dtype.names or ())
        return bool(np.array_equal(a, b, equal_nan=a.dtype.kind in "fc" and b.dtype.kind in "fc"))
    if hasattr(one, "tocoo") or hasattr(other, "tocoo"):
        # sparse matrices of SciPy
        return hasattr(one, "tocoo") and hasattr(other, "tocoo") and one.shape == other.shape and not (one != other).nnz
    if isinstance(one, Mapping) and isinstance(other, Mapping):
        return one.keys() == other.keys() and all(same(value, other[key]) for key, value in one.items())
    if isinstance(one, tuple | list) and isinstance(other, tuple | list):
        return len(one) == len(other) and all(map(same, one, other))
    if isinstance(one, float) and isinstance(other, float) and math.isnan(one):
        return math.isnan(other)
    return bool(one == other)


def _hashed(value: Any) -> Any:
    """Return what stands for a value in a hash: plain values themselves, sizes of what holds others."""
    if isinstance(value, float):
        return repr(value)
    if value is None or isinstance(value, str | int):
        return value
    if isinstance(value, np.ndarray):
        return value.shape
    return len(value) if isinstance(value, tuple | list | Mapping) else type(value).__name__
