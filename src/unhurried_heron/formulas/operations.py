"""The functions that formulas may use, each with everything the library has to know of it, in one table.

No field has a default: a function without a derivative, without machine code or without bounds cannot be added.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final, Literal

import numpy as np

# said where a rule needs more than a row of a table; the room that has the rule raises where it has none
OWN_RULE: Final = "own rule"


@dataclass(frozen=True)
class Operation:
    """A function of formulas.

    Attributes
    ----------
    arguments : (int, int or None)
        Fewest and most; None for any number from the fewest on.
    value : callable
        Its value in NumPy, of two arguments where it takes any number of them.
    derivative : tuple of str, or "own rule"
        Derivative by each argument ``x1, x2, …``, as a formula; "0" where it is constant between jumps.
    code : str
        Name of the LLVM intrinsic, of the function of the C mathematics library, or "own rule".
    bounds : str
        How it bounds an interval: "rising", "falling", "own rule", or "unknown".
    unit : str
        "plain": of a plain number to a plain number; "sign": of anything to a plain number; "same": all arguments and
        the value alike; "compared": arguments alike, the value a plain number; "own rule".
    jumps : bool
        Whether it can jump or have a kink, so that runs land there.
    latex : str
        How it is written, or what that begins with where it is no name before its arguments.
    """

    arguments: tuple[int, int | None]
    value: Callable[..., Any]
    derivative: tuple[str, ...] | Literal["own rule"]
    code: str
    bounds: Literal["rising", "falling", "own rule", "unknown"]
    unit: Literal["plain", "sign", "same", "compared", "own rule"]
    jumps: bool
    latex: str


def _wave(value: Any, derivative: str, code: str, latex: str, bounds: Any) -> Operation:
    """Return a smooth function of one plain number.

    Parameters
    ----------
    value : callable
        NumPy's function.
    derivative : str
        A formula of x.
    code : str
        Name of the function in machine code.
    latex : str
    bounds : callable
        Its bounds on an interval.

    Returns
    -------
    Operation
    """
    return Operation((1, 1), value, (derivative,), code, bounds, "plain", jumps=False, latex=latex)


def _step(value: Any, code: str, bounds: Any, unit: Any, name: str) -> Operation:
    """Return a function of one argument that is constant between its jumps.

    Parameters
    ----------
    value : callable
        NumPy's function.
    code : str
        Name of the function in machine code.
    bounds : callable
        Its bounds on an interval.
    unit : str
        The rule for its unit.
    name : str

    Returns
    -------
    Operation
    """
    return Operation((1, 1), value, ("0",), code, bounds, unit, jumps=True, latex=rf"\mathrm{{{name}}}")


def _unit_step(x: Any) -> Any:
    return np.where(np.isnan(x), x, np.greater_equal(x, 0.0))


def _pulse(x: Any, a: Any, b: Any) -> Any:
    """Return 1 from a to b, else 0.

    Parameters
    ----------
    x : float or ndarray
    a : float or ndarray
    b : float or ndarray

    Returns
    -------
    float or ndarray
    """
    return np.where(np.isnan(x), x, np.greater_equal(x, a) & np.less(x, b))


OPERATIONS: Final[dict[str, Operation]] = {
    "sin": _wave(np.sin, "cos(x1)", "llvm.sin.f64", r"\sin", "own rule"),
    "cos": _wave(np.cos, "-sin(x1)", "llvm.cos.f64", r"\cos", "own rule"),
    "tan": _wave(np.tan, "1 + tan(x1)^2", "tan", r"\tan", "unknown"),
    "asin": _wave(np.arcsin, "1/sqrt(1 - x1^2)", "asin", r"\arcsin", "rising"),
    "acos": _wave(np.arccos, "-(1/sqrt(1 - x1^2))", "acos", r"\arccos", "falling"),
    "atan": _wave(np.arctan, "1/(1 + x1^2)", "atan", r"\arctan", "rising"),
    "sinh": _wave(np.sinh, "cosh(x1)", "sinh", r"\sinh", "rising"),
    "cosh": _wave(np.cosh, "sinh(x1)", "cosh", r"\cosh", "own rule"),
    "tanh": _wave(np.tanh, "1 - tanh(x1)^2", "tanh", r"\tanh", "rising"),
    "exp": _wave(np.exp, "exp(x1)", "llvm.exp.f64", r"\exp", "rising"),
    "log": _wave(np.log, "1/x1", "llvm.log.f64", r"\ln", "rising"),
    "log10": _wave(np.log10, "0.4342944819032518/x1", "llvm.log10.f64", r"\log_{10}", "rising"),
    "sqrt": Operation(
        (1, 1), np.sqrt, ("0.5/sqrt(x1)",), "llvm.sqrt.f64", "rising", "own rule", jumps=False, latex=r"\sqrt"
    ),
    "abs": Operation((1, 1), np.abs, ("sign(x1)",), "llvm.fabs.f64", "own rule", "same", jumps=True, latex=r"\left|"),
    "sign": _step(np.sign, OWN_RULE, "rising", "sign", "sign"),
    "floor": _step(np.floor, "llvm.floor.f64", "rising", "plain", "floor"),
    "ceil": _step(np.ceil, "llvm.ceil.f64", "rising", "plain", "ceil"),
    "step": _step(_unit_step, OWN_RULE, "rising", "sign", "step"),
    "atan2": Operation(
        (2, 2),
        np.arctan2,
        ("x2/(x1^2 + x2^2)", "-(x1/(x1^2 + x2^2))"),
        "atan2",
        "unknown",
        "compared",
        jumps=False,
        latex=r"\mathrm{atan2}",
    ),
    "min": Operation((2, None), np.minimum, OWN_RULE, OWN_RULE, "own rule", "same", jumps=True, latex=r"\min"),
    "max": Operation((2, None), np.maximum, OWN_RULE, OWN_RULE, "own rule", "same", jumps=True, latex=r"\max"),
    "pulse": Operation(
        (3, 3), _pulse, ("0", "0", "0"), OWN_RULE, "own rule", "compared", jumps=True, latex=r"\mathrm{pulse}"
    ),
    "where": Operation(
        (3, 3), np.where, OWN_RULE, OWN_RULE, "own rule", "own rule", jumps=False, latex=r"\begin{cases}"
    ),
}
