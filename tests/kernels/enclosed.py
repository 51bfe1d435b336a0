"""What enclosures come to, for `interpreted_runs`: bounds of every operation, and windows of narrow formulas."""

from __future__ import annotations

from typing import Any
from unittest import mock

import numpy as np

from unhurried_heron.formulas import narrow_features
from unhurried_heron.formulas.expression import Node, name, number
from unhurried_heron.formulas.interval_arithmetic import enclose
from unhurried_heron.formulas.narrow_features import narrow_windows
from unhurried_heron.formulas.operations import OPERATIONS
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source


def enclosures() -> list[Any]:
    """Return bounds of every operation, and windows of formulas with peaks, fronts, jumps and poles."""
    bounds: list[Any] = []
    for operation, facts in OPERATIONS.items():
        operands = [name("t"), name("a"), number(0.6)] if operation != "pow" else [name("t"), number(-2.0)]
        node = Node(operation, *operands[: facts.arguments[1] or 3])
        low, high = np.array([-2.0, 0.1, -0.4, 3.0, 900.0, 0.0]), np.array([1.5, 0.9, -0.3, 3.1, 1e300, np.inf])
        ends = enclose(node, {"a": (-0.5, 0.2)}, low, high)
        bounds += np.where(np.abs(ends) < np.inf, ends, np.sign(ends) * 1e9).ravel().tolist()
    texts = (
        "exp(-((t - a)/0.01)^2) + t^1.5*t^3", "1/(t - a)", "tanh(sin(90*t)/0.01)", "where(t > a, exp(-t/0.001), 3)",
        "exp(-(sin(9*t)/0.001)^2)", "sqrt(t)", "where(floor(800*t) > a, exp(t), exp(-900*t))", "(t - a)^-3",
    )  # fmt: skip
    formulas = [read(Source(each, "written")).node for each in texts]
    values, low, high = {"a": np.array([0.3, 2.0])}, np.array([-1.0, 0.0]), np.array([3.0, 9.0])
    with mock.patch.multiple(narrow_features, _MAX_CELLS=1500, _FIRST_ROOM=2):
        rows = narrow_windows(formulas, values, low, high)
    return [0, 0, [len(windows) for windows in rows], 0, *bounds, *np.array(sum(rows, ())).ravel().tolist()]
