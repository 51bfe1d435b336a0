"""The operations of formulas, signs and functions alike, each with everything the library has to know of it.

No field has a default: an operation without a derivative, without machine code or without bounds cannot be added.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final, Literal

import numpy as np

# said where a rule needs more than a row of a table; the room that has the rule raises where it has none
OWN_RULE: Final = "own rule"
# The rank of what needs no parentheses around it, as the call of a function.
CALL_RANK: Final = 9


@dataclass(frozen=True)
class Operation:
    """An operation of formulas.

    Attributes
    ----------
    kind : str
        "arithmetic", "comparison", "logic", or "function", which is written with its arguments in parentheses.
    arguments : (int, int or None)
        Fewest and most; None for any number from the fewest on.
    value : callable
        Its value in NumPy, of two arguments where it takes any number of them.
    derivative : tuple of str, or "own rule"
        Derivative by each argument ``x1, x2, …``, as a formula; "0" where it is constant between jumps.
    code : str
        Name of the LLVM intrinsic, of the function of the C mathematics library, or "own rule".
    bounds : str
        How it bounds an interval: "rising", "falling", "flag" (within 0 and 1), "own rule", or "unknown".
    unit : str or float
        "plain": of plain numbers to a plain number; "sign": of anything to a plain number; "same": all arguments and
        the value alike; "compared": arguments alike, the value a plain number; a number: the unit of the argument to
        that power; "own rule".
    series : str
        How its Taylor series follows from those of its arguments: "chain" (by its derivative), "own rule", or "none".
    ends : tuple of (str, str), or "own rule"
        Where it ends: "pole", "logarithm" or "root", and the formula of its arguments that must not change its sign.
    switch : str
        How a switch is taken out of it, on which runs land: "relation", "step" (of one argument, at zero), "pulse",
        "side" (of which its argument is), "extreme" (which of several it is), "whole" (number that it is), "root"
        (which rests at zero), or "none".
    smooth : bool
        Whether it has a derivative wherever it has a value.
    breaks : bool, or "own rule"
        Whether it can pass from one side of zero to the other without being zero: by a jump, or through a pole.
    bends : bool
        Whether it makes a line in the time into something else.
    values : str
        "positive", "not negative", or "any".
    narrow : bool
        Whether it can vary within a small part of an interval on which its arguments vary evenly.
    turning : float
        Radians through which it turns while its argument changes by one; 0 where it does not come again.
    ordered : bool
        Whether its first argument is its order, a whole number.
    rank : int
        How tightly it binds: what binds less tightly than its surroundings needs parentheses.
    sign : str
        How it is written; empty for a function, which is written by its name.
    latex : str
        How it is written in LaTeX, its arguments as ``#1, #2, …``; without these, what stands between them (a sign), or
        before them in parentheses (a name).
    """

    kind: Literal["arithmetic", "comparison", "logic", "function"]
    arguments: tuple[int, int | None]
    value: Callable[..., Any]
    derivative: tuple[str, ...] | Literal["own rule"]
    code: str
    bounds: Literal["rising", "falling", "flag", "own rule", "unknown"]
    unit: Literal["plain", "sign", "same", "compared", "own rule"] | float
    series: Literal["chain", "own rule", "none"]
    ends: tuple[tuple[Literal["pole", "logarithm", "root"], str], ...] | Literal["own rule"]
    switch: Literal["relation", "step", "pulse", "side", "extreme", "whole", "root", "none"]
    smooth: bool
    breaks: bool | Literal["own rule"]
    bends: bool
    values: Literal["positive", "not negative", "any"]
    narrow: bool
    turning: float
    ordered: bool
    rank: int
    sign: str
    latex: str

    @property
    def jumps(self) -> bool:
        """Whether it can jump or have a kink."""
        return self.switch not in ("none", "root")

    @property
    def flat(self) -> bool:
        """Whether it is constant between its jumps."""
        return {*self.derivative} == {"0"}


def _named(**row: Any) -> Operation:
    """Return a function, which is written by its name."""
    return Operation(kind="function", rank=CALL_RANK, sign="", **row)


def _smooth(value: Any, derivative: str, code: str, latex: str, **row: Any) -> Operation:
    """Return a smooth function of one plain number.

    Parameters
    ----------
    value : callable
        NumPy's function.
    derivative : str
        A formula of x1.
    code : str
        Name of the function in machine code.
    latex : str
    **row : object
        Its bounds, series, narrow, breaks, and what differs from most: ends, turning, values.

    Returns
    -------
    Operation
    """
    usual: dict[str, Any] = {"ends": (), "turning": 0.0, "ordered": False, "values": "any"}
    return _named(arguments=(1, 1), value=value, derivative=(derivative,), code=code, unit="plain", switch="none",
                  smooth=True, bends=True, latex=latex, **{**usual, **row})  # fmt: skip


def _step(value: Any, code: str, unit: Any, name: str, switch: Any, **row: Any) -> Operation:
    """Return a rising function of one argument that is constant between its jumps.

    Parameters
    ----------
    value : callable
        NumPy's function.
    code : str
        Name of the function in machine code.
    unit : str
        The rule for its unit.
    name : str
    switch : str
        As of `Operation`.
    **row : object
        What differs from most: turning, values.

    Returns
    -------
    Operation
    """
    return _named(arguments=(1, 1), value=value, derivative=("0",), code=code, bounds="rising", unit=unit,
                  series="none", ends=(), switch=switch, smooth=False, breaks=True, bends=True, narrow=False,
                  ordered=False, latex=rf"\mathrm{{{name}}}", **{"turning": 0.0, "values": "any", **row})  # fmt: skip


def _choice(value: Any, arguments: Any, derivative: Any, **row: Any) -> Operation:
    """Return a function that is one of its arguments, or one of two numbers, and changes at switches.

    Parameters
    ----------
    value : callable
        NumPy's function.
    arguments : (int, int or None)
    derivative : tuple of str, or "own rule"
    **row : object
        Its bounds, unit, switch, values, breaks, bends and latex.

    Returns
    -------
    Operation
    """
    return _named(arguments=arguments, value=value, derivative=derivative, code=OWN_RULE, series="none", ends=(),
                  smooth=False, narrow=False, turning=0.0, ordered=False, **row)  # fmt: skip


def _sign(kind: Any, sign: str, rank: int, value: Any, arguments: Any, **row: Any) -> Operation:
    """Return an operation that is written by a sign, with rules of its own.

    Parameters
    ----------
    kind : str
    sign : str
    rank : int
        How tightly it binds.
    value : callable
        NumPy's function.
    arguments : (int, int or None)
    **row : object
        What differs from most.

    Returns
    -------
    Operation
    """
    usual: dict[str, Any] = {"derivative": OWN_RULE, "bounds": OWN_RULE, "unit": OWN_RULE, "series": OWN_RULE,
                             "ends": (), "switch": "none", "smooth": True, "breaks": False, "bends": False,
                             "values": "any", "narrow": False, "turning": 0.0, "ordered": False,
                             "latex": sign}  # fmt: skip
    return Operation(kind=kind, sign=sign, rank=rank, value=value, arguments=arguments, code=OWN_RULE,
                     **{**usual, **row})  # fmt: skip


def _comparison(sign: str, value: Any, latex: str, *, switches: bool) -> Operation:
    """Return a comparison; equality holds in points alone, and is no switch.

    Parameters
    ----------
    sign : str
    value : callable
        NumPy's function.
    latex : str
    switches : bool
        Whether runs land where it changes.

    Returns
    -------
    Operation
    """
    return _sign("comparison", sign, 4, value, (2, 2), derivative=("0", "0"), bounds=OWN_RULE if switches else "flag",
                 unit="compared", series="none", switch="relation" if switches else "none",
                 values="not negative", smooth=False, breaks=True, bends=True,
                 latex=latex)  # fmt: skip


def _logic(sign: str, rank: int, value: Any, arguments: Any) -> Operation:
    """Return an operation on conditions.

    Parameters
    ----------
    sign : str
    rank : int
        How tightly it binds.
    value : callable
        NumPy's function.
    arguments : (int, int or None)

    Returns
    -------
    Operation
    """
    # a sign before its argument has no space before it
    space = "" if arguments == (1, 1) else "\\ "
    return _sign("logic", sign, rank, value, arguments, derivative=("0",), unit="sign", series="none", bends=True,
                 values="not negative", latex=f"{space}\\mathrm{{{sign}}}\\")  # fmt: skip


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


def _special(name: str) -> Callable[..., Any]:
    """Return a special function by its name, which is loaded when it is called."""

    def value(*arguments: Any) -> Any:
        from scipy import special

        return getattr(special, name)(*arguments)

    return value


def _bessel(name: str) -> Callable[[Any, Any], Any]:
    """Return a Bessel function of whole orders: NaN for others."""
    of_order = _special(name)

    def value(order: Any, x: Any) -> Any:
        return np.where(np.equal(np.trunc(order), order), of_order(np.trunc(order), x), np.nan)

    return value


_WAVE: Final[dict[str, Any]] = {
    "bounds": OWN_RULE,
    "series": "chain",
    "narrow": False,
    "breaks": False,
    "turning": 1.0,
}
_LOGARITHM: Final[dict[str, Any]] = {"bounds": "rising", "series": "chain", "narrow": True, "breaks": True,
                                     "ends": (("logarithm", "x1"),)}  # fmt: skip
_RISING: Final[dict[str, Any]] = {"bounds": "rising", "series": "chain", "narrow": True, "breaks": False}
# The logarithmic derivative of the gamma function (Abramowitz and Stegun, 1964, 6.3.5, 6.3.7 and 6.3.18): Stirling's
# series eight beyond the argument, or beyond its reflection, where what is left out is below 1e-16.
_FAR: Final = "(8 + where(x1 < 0.5, 1 - x1, x1))"
_DIGAMMA: Final = (
    f"log({_FAR}) - 1/(2*{_FAR})"
    + "".join(f" - ({number})/{_FAR}^{power}" for power, number in (
        (2, "1/12"), (4, "-1/120"), (6, "1/252"), (8, "-1/240"), (10, "1/132"), (12, "-691/32760"), (14, "1/12"),
        (16, "-3617/8160")))
    + "".join(f" - 1/({_FAR} - {k})" for k in range(1, 9))
    + " - where(x1 < 0.5, pi/tan(pi*x1), 0)"
)  # fmt: skip

# Derivatives are exact formulas, for their series are in as many digits as one wants: 2/sqrt(pi) is 1/sqrt(atan(1)).
OPERATIONS: Final[dict[str, Operation]] = {
    "or": _logic("or", 1, np.logical_or, (1, None)),
    "and": _logic("and", 2, np.logical_and, (1, None)),
    "not": _logic("not", 3, np.logical_not, (1, 1)),
    "lt": _comparison("<", np.less, "<", switches=True),
    "le": _comparison("<=", np.less_equal, r"\le", switches=True),
    "gt": _comparison(">", np.greater, ">", switches=True),
    "ge": _comparison(">=", np.greater_equal, r"\ge", switches=True),
    "eq": _comparison("==", np.equal, "=", switches=False),
    "ne": _comparison("!=", np.not_equal, r"\ne", switches=False),
    "add": _sign("arithmetic", "+", 5, np.add, (1, None), unit="same"),
    "neg": _sign("arithmetic", "-", 6, np.negative, (1, 1)),
    "mul": _sign("arithmetic", "*", 7, np.multiply, (1, None), latex=r"\,"),
    "div": _sign("arithmetic", "/", 7, np.divide, (2, 2), ends=(("pole", "x2"),), breaks=True, bends=True, narrow=True,
                 latex=r"\frac{#1}{#2}"),
    "pow": _sign("arithmetic", "^", 8, np.power, (2, 2), switch="root", ends=OWN_RULE, breaks=OWN_RULE, bends=True,
                 narrow=True),
    "sin": _smooth(np.sin, "cos(x1)", "llvm.sin.f64", r"\sin", **_WAVE),
    "cos": _smooth(np.cos, "-sin(x1)", "llvm.cos.f64", r"\cos", **_WAVE),
    "tan": _smooth(np.tan, "1 + tan(x1)^2", "tan", r"\tan", **{**_WAVE, "bounds": "unknown", "breaks": True}),
    "asin": _smooth(np.arcsin, "1/sqrt(1 - x1^2)", "asin", r"\arcsin", **{**_RISING, "narrow": False}),
    "acos": _smooth(np.arccos, "-(1/sqrt(1 - x1^2))", "acos", r"\arccos",
                    **{**_RISING, "bounds": "falling", "narrow": False}),
    "atan": _smooth(np.arctan, "1/(1 + x1^2)", "atan", r"\arctan", **_RISING),
    "sinh": _smooth(np.sinh, "cosh(x1)", "sinh", r"\sinh", **_RISING),
    "cosh": _smooth(np.cosh, "sinh(x1)", "cosh", r"\cosh", bounds=OWN_RULE, series="chain", narrow=False,
                    breaks=False, values="positive"),
    "tanh": _smooth(np.tanh, "1 - tanh(x1)^2", "tanh", r"\tanh", **_RISING),
    "exp": _smooth(np.exp, "exp(x1)", "llvm.exp.f64", r"\exp", **_RISING, values="positive"),
    "expm1": _smooth(np.expm1, "exp(x1)", "expm1", r"\mathrm{expm1}", **_RISING),
    "log": _smooth(np.log, "1/x1", "llvm.log.f64", r"\ln", **_LOGARITHM),
    "log10": _smooth(np.log10, "1/(log(10)*x1)", "llvm.log10.f64", r"\log_{10}", **_LOGARITHM),
    "log2": _smooth(np.log2, "1/(log(2)*x1)", "llvm.log2.f64", r"\log_{2}", **_LOGARITHM),
    "log1p": _smooth(np.log1p, "1/(1 + x1)", "log1p", r"\mathrm{log1p}",
                     **{**_LOGARITHM, "breaks": False, "ends": (("logarithm", "1 + x1"),)}),
    "erf": _smooth(_special("erf"), "exp(-x1^2)/sqrt(atan(1))", "erf", r"\mathrm{erf}", **_RISING),
    "erfc": _smooth(_special("erfc"), "-exp(-x1^2)/sqrt(atan(1))", "erfc", r"\mathrm{erfc}",
                    **{**_RISING, "bounds": "falling", "values": "not negative"}),
    "gamma": _smooth(_special("gamma"), f"gamma(x1)*({_DIGAMMA})", "tgamma", r"\Gamma", bounds="unknown", series="none",
                     narrow=True, breaks=True, ends=(("pole", "x1"),)),
    "lgamma": _smooth(_special("gammaln"), _DIGAMMA, "lgamma", r"\ln\Gamma", bounds="unknown", series="none",
                      narrow=True, breaks=False, ends=(("pole", "x1"),)),
    "sqrt": _named(
        arguments=(1, 1), value=np.sqrt, derivative=("0.5/sqrt(x1)",), code="llvm.sqrt.f64", bounds="rising",
        unit=1.0 / 2.0, series="chain", ends=(("root", "x1"),), switch="root", smooth=True, breaks=False, bends=True,
        values="not negative", narrow=True, turning=0.0, ordered=False, latex=r"\sqrt{#1}",
    ),
    "cbrt": _named(
        arguments=(1, 1), value=np.cbrt, derivative=("1/(3*cbrt(x1)^2)",), code="cbrt", bounds="rising",
        unit=1.0 / 3.0, series="chain", ends=(), switch="none", smooth=True, breaks=False, bends=True,
        values="any", narrow=True, turning=0.0, ordered=False, latex=r"\sqrt[3]{#1}",
    ),
    "abs": _named(
        arguments=(1, 1), value=np.abs, derivative=("sign(x1)",), code="llvm.fabs.f64", bounds=OWN_RULE, unit="same",
        series="none", ends=(), switch="side", smooth=False, breaks=False, bends=True, values="not negative",
        narrow=True, turning=0.0, ordered=False, latex=r"\left|#1\right|",
    ),
    "sign": _step(np.sign, OWN_RULE, "sign", "sign", "side"),
    "floor": _step(np.floor, "llvm.floor.f64", "plain", "floor", "whole", turning=2.0 * math.pi),
    "ceil": _step(np.ceil, "llvm.ceil.f64", "plain", "ceil", "whole", turning=2.0 * math.pi),
    "step": _step(_unit_step, OWN_RULE, "sign", "step", "step", values="not negative"),
    # a series would go on across the cut, where the value jumps
    "atan2": _named(
        arguments=(2, 2), value=np.arctan2, derivative=("x2/(x1^2 + x2^2)", "-(x1/(x1^2 + x2^2))"), code="atan2",
        bounds="unknown", unit="compared", series="none", ends=(), switch="none", smooth=True, breaks=True, bends=True,
        values="any", narrow=True, turning=0.0, ordered=False, latex=r"\mathrm{atan2}",
    ),
    **{
        function: _named(
            arguments=(2, 2), value=_bessel(name),
            derivative=("0", f"0.5*({function}(x1 - 1, x2) - {function}(x1 + 1, x2))"), code=name, ordered=True,
            bounds="unknown", unit="plain", series="none", ends=ends, switch="none", smooth=True, breaks=bool(ends),
            bends=True, values="any", narrow=False, turning=1.0, latex=rf"\mathrm{{{function}}}",
        )
        for function, name, ends in (("besselj", "jn", ()), ("bessely", "yn", (("pole", "x2"),)))
    },
    "min": _choice(np.minimum, (2, None), OWN_RULE, bounds=OWN_RULE, unit="same", switch="extreme", values="any",
                   breaks=False, bends=True, latex=r"\min"),
    "max": _choice(np.maximum, (2, None), OWN_RULE, bounds=OWN_RULE, unit="same", switch="extreme", values="any",
                   breaks=False, bends=True, latex=r"\max"),
    "pulse": _choice(_pulse, (3, 3), ("0", "0", "0"), bounds="flag", unit="compared", switch="pulse",
                     values="not negative", breaks=True, bends=True, latex=r"\mathrm{pulse}"),
    "where": _choice(np.where, (3, 3), OWN_RULE, bounds=OWN_RULE, unit=OWN_RULE, switch="none", values="any",
                     breaks=False, bends=False, latex=r"\begin{cases} #2 & #1 \\ #3 & \text{otherwise} \end{cases}"),
}  # fmt: skip
# Functions that stand for a formula of the others: how many arguments they take, and the formula of x1, x2, ….
EXPANSIONS: Final[dict[str, tuple[int, str]]] = {
    "mod": (2, "x1 - x2*floor(x1/x2)"),
    "hypot": (2, "sqrt(x1^2 + x2^2)"),
}
# What is called by its name, with how many arguments.
FUNCTIONS: Final[dict[str, tuple[int, int | None]]] = {
    **{name: each.arguments for name, each in OPERATIONS.items() if each.kind == "function"},
    **{name: (count, count) for name, (count, _) in EXPANSIONS.items()},
}


def with_fact(holds: Callable[[Operation], Any]) -> frozenset[str]:
    """Return the names of the operations of which something holds."""
    return frozenset(name for name, each in OPERATIONS.items() if holds(each))
