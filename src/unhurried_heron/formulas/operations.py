"""The operations of formulas, signs and functions alike, each with everything the library has to know of it.

No field has a default: an operation without a derivative, without machine code or without bounds cannot be added.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, Final, Literal, NamedTuple

import numpy as np

from unhurried_heron.formulas.operation import (
    OWN_RULE,
    Operation,
    choice_row,
    comparison_row,
    logic_row,
    named_row,
    sign_row,
    smooth_row,
    step_row,
)


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
    "or": logic_row("or", 1, np.logical_or, (1, None)),
    "and": logic_row("and", 2, np.logical_and, (1, None)),
    "not": logic_row("not", 3, np.logical_not, (1, 1)),
    "lt": comparison_row("<", np.less, "<", switches=True),
    "le": comparison_row("<=", np.less_equal, r"\le", switches=True),
    "gt": comparison_row(">", np.greater, ">", switches=True),
    "ge": comparison_row(">=", np.greater_equal, r"\ge", switches=True),
    "eq": comparison_row("==", np.equal, "=", switches=False),
    "ne": comparison_row("!=", np.not_equal, r"\ne", switches=False),
    "add": sign_row("arithmetic", "+", 5, np.add, (1, None), unit="same"),
    "neg": sign_row("arithmetic", "-", 6, np.negative, (1, 1)),
    "mul": sign_row("arithmetic", "*", 7, np.multiply, (1, None), latex=r"\,"),
    "div": sign_row("arithmetic", "/", 7, np.divide, (2, 2), ends=(("pole", "x2"),), breaks=True, bends=True,
                    narrow=True, latex=r"\frac{#1}{#2}"),
    "pow": sign_row("arithmetic", "^", 8, np.power, (2, 2), switch="root", ends=OWN_RULE, breaks=OWN_RULE, bends=True,
                 narrow=True),
    "sin": smooth_row(np.sin, "cos(x1)", "llvm.sin.f64", r"\sin", **_WAVE,
                  parts=("sin(a1)*cosh(b1)", "cos(a1)*sinh(b1)")),
    "cos": smooth_row(np.cos, "-sin(x1)", "llvm.cos.f64", r"\cos", **_WAVE,
                  parts=("cos(a1)*cosh(b1)", "-(sin(a1)*sinh(b1))")),
    "tan": smooth_row(np.tan, "1 + tan(x1)^2", "tan", r"\tan", **{**_WAVE, "bounds": "unknown", "breaks": True},
                  parts=("sin(2*a1)/(cos(2*a1) + cosh(2*b1))", "sinh(2*b1)/(cos(2*a1) + cosh(2*b1))")),
    "asin": smooth_row(np.arcsin, "1/sqrt(1 - x1^2)", "asin", r"\arcsin", **{**_RISING, "narrow": False}),
    "acos": smooth_row(np.arccos, "-(1/sqrt(1 - x1^2))", "acos", r"\arccos",
                    **{**_RISING, "bounds": "falling", "narrow": False}),
    "atan": smooth_row(np.arctan, "1/(1 + x1^2)", "atan", r"\arctan", **_RISING,
                  parts=("0.5*atan2(2*a1, 1 - a1^2 - b1^2)", "0.25*log((a1^2 + (b1 + 1)^2)/(a1^2 + (b1 - 1)^2))")),
    "sinh": smooth_row(np.sinh, "cosh(x1)", "sinh", r"\sinh", **_RISING,
                  parts=("sinh(a1)*cos(b1)", "cosh(a1)*sin(b1)")),
    "cosh": smooth_row(np.cosh, "sinh(x1)", "cosh", r"\cosh", bounds=OWN_RULE, series="chain", narrow=False,
                    breaks=False, values="positive",
                  parts=("cosh(a1)*cos(b1)", "sinh(a1)*sin(b1)")),
    "tanh": smooth_row(np.tanh, "1 - tanh(x1)^2", "tanh", r"\tanh", **_RISING,
                  parts=("sinh(2*a1)/(cosh(2*a1) + cos(2*b1))", "sin(2*b1)/(cosh(2*a1) + cos(2*b1))")),
    "exp": smooth_row(np.exp, "exp(x1)", "llvm.exp.f64", r"\exp", **_RISING, values="positive",
                  parts=("exp(a1)*cos(b1)", "exp(a1)*sin(b1)")),
    "expm1": smooth_row(np.expm1, "exp(x1)", "expm1", r"\mathrm{expm1}", **_RISING,
                  parts=("expm1(a1)*cos(b1) - 2*sin(b1/2)^2", "exp(a1)*sin(b1)")),
    "log": smooth_row(np.log, "1/x1", "llvm.log.f64", r"\ln", **_LOGARITHM,
                  parts=("0.5*log(a1^2 + b1^2)", "atan2(b1, a1)")),
    "log10": smooth_row(np.log10, "1/(log(10)*x1)", "llvm.log10.f64", r"\log_{10}", **_LOGARITHM,
                  parts=("0.5*log10(a1^2 + b1^2)", "atan2(b1, a1)/log(10)")),
    "log2": smooth_row(np.log2, "1/(log(2)*x1)", "llvm.log2.f64", r"\log_{2}", **_LOGARITHM,
                  parts=("0.5*log2(a1^2 + b1^2)", "atan2(b1, a1)/log(2)")),
    "log1p": smooth_row(np.log1p, "1/(1 + x1)", "log1p", r"\mathrm{log1p}",
                     **{**_LOGARITHM, "breaks": False, "ends": (("logarithm", "1 + x1"),)},
                  parts=("0.5*log1p(2*a1 + a1^2 + b1^2)", "atan2(b1, 1 + a1)")),
    "erf": smooth_row(_special("erf"), "exp(-x1^2)/sqrt(atan(1))", "erf", r"\mathrm{erf}", **_RISING),
    "erfc": smooth_row(_special("erfc"), "-exp(-x1^2)/sqrt(atan(1))", "erfc", r"\mathrm{erfc}",
                    **{**_RISING, "bounds": "falling", "values": "not negative"}),
    "gamma": smooth_row(_special("gamma"), f"gamma(x1)*({_DIGAMMA})", "tgamma", r"\Gamma", bounds="unknown",
                        series="none", narrow=True, breaks=True, ends=(("pole", "x1"),)),
    "lgamma": smooth_row(_special("gammaln"), _DIGAMMA, "lgamma", r"\ln\Gamma", bounds="unknown", series="none",
                      narrow=True, breaks=False, ends=(("pole", "x1"),)),
    "sqrt": named_row(
        arguments=(1, 1), value=np.sqrt, derivative=("0.5/sqrt(x1)",), code="llvm.sqrt.f64", bounds="rising",
        unit=1.0 / 2.0, series="chain", ends=(("root", "x1"),), switch="root", smooth=True, breaks=False, bends=True,
        values="not negative", narrow=True, turning=0.0, ordered=False, latex=r"\sqrt{#1}",
        parts=("(a1^2 + b1^2)^0.25*cos(atan2(b1, a1)/2)", "(a1^2 + b1^2)^0.25*sin(atan2(b1, a1)/2)"),
    ),
    "cbrt": named_row(
        arguments=(1, 1), value=np.cbrt, derivative=("1/(3*cbrt(x1)^2)",), code="cbrt", bounds="rising",
        unit=1.0 / 3.0, series="chain", ends=(), switch="none", smooth=True, breaks=False, bends=True,
        values="any", narrow=True, turning=0.0, ordered=False, parts="none", latex=r"\sqrt[3]{#1}",
    ),
    "abs": named_row(
        arguments=(1, 1), value=np.abs, derivative=("sign(x1)",), code="llvm.fabs.f64", bounds=OWN_RULE, unit="same",
        series="none", ends=(), switch="side", smooth=False, breaks=False, bends=True, values="not negative",
        narrow=True, turning=0.0, ordered=False, parts=("sqrt(a1^2 + b1^2)", "0"),
        latex=r"\left|#1\right|",
    ),
    "implicit": named_row(
        arguments=(1, 1), value=np.positive, derivative=("1",), code=OWN_RULE, bounds="rising", unit="same",
        series="chain", ends=(), switch="none", smooth=True, breaks=False, bends=False, values="any", narrow=False,
        turning=0.0, ordered=False, parts=("implicit(a1)", "implicit(b1)"), latex=r"\mathrm{implicit}",
    ),
    "sign": step_row(np.sign, OWN_RULE, "sign", "sign", "side"),
    "floor": step_row(np.floor, "llvm.floor.f64", "plain", "floor", "whole", turning=2.0 * math.pi),
    "ceil": step_row(np.ceil, "llvm.ceil.f64", "plain", "ceil", "whole", turning=2.0 * math.pi),
    "step": step_row(_unit_step, OWN_RULE, "sign", "step", "step", values="not negative"),
    # a series would go on across the cut, where the value jumps
    "atan2": named_row(
        arguments=(2, 2), value=np.arctan2, derivative=("x2/(x1^2 + x2^2)", "-(x1/(x1^2 + x2^2))"), code="atan2",
        bounds="unknown", unit="compared", series="none", ends=(), switch="none", smooth=True, breaks=True, bends=True,
        values="any", narrow=True, turning=0.0, ordered=False, parts="none",
        latex=r"\mathrm{atan2}",
    ),
    **{
        function: named_row(
            arguments=(2, 2), value=_bessel(name),
            derivative=("0", f"0.5*({function}(x1 - 1, x2) - {function}(x1 + 1, x2))"), code=name, ordered=True,
            bounds="unknown", unit="plain", series="none", ends=ends, switch="none", smooth=True, breaks=bool(ends),
            bends=True, values="any", narrow=False, turning=1.0, parts="none", latex=rf"\mathrm{{{function}}}",
        )
        for function, name, ends in (("besselj", "jn", ()), ("bessely", "yn", (("pole", "x2"),)))
    },
    "min": choice_row(np.minimum, (2, None), OWN_RULE, bounds=OWN_RULE, unit="same", switch="extreme", values="any",
                   breaks=False, bends=True, latex=r"\min"),
    "max": choice_row(np.maximum, (2, None), OWN_RULE, bounds=OWN_RULE, unit="same", switch="extreme", values="any",
                   breaks=False, bends=True, latex=r"\max"),
    "pulse": choice_row(_pulse, (3, 3), ("0", "0", "0"), bounds="flag", unit="compared", switch="pulse",
                     values="not negative", breaks=True, bends=True, latex=r"\mathrm{pulse}"),
    "where": choice_row(np.where, (3, 3), OWN_RULE, bounds=OWN_RULE, unit=OWN_RULE, switch="none", values="any",
                     breaks=False, bends=False, parts=OWN_RULE,
                    latex=r"\begin{cases} #2 & #1 \\ #3 & \text{otherwise} \end{cases}"),
}  # fmt: skip
# Functions that stand for a formula of the others: how many arguments they take, and the formula of x1, x2, ….
EXPANSIONS: Final[dict[str, tuple[int, str]]] = {
    "mod": (2, "x1 - x2*floor(x1/x2)"),
    "hypot": (2, "sqrt(x1^2 + x2^2)"),
}


class ComplexFunction(NamedTuple):
    """A function of complex numbers; formulas of real ones have none of it.

    ``parts``: its real and imaginary part, as of an `Operation`; ``value`` in NumPy; ``derivative`` of a real argument;
    ``unit``: "same" as that of its argument, or "sign".
    """

    parts: tuple[str, str]
    value: Callable[[Any], Any]
    derivative: str
    unit: Literal["same", "sign"]
    latex: str


COMPLEX_FUNCTIONS: Final[dict[str, ComplexFunction]] = {
    "re": ComplexFunction(("a1", "0"), np.real, "1", "same", r"\mathrm{Re}"),
    "im": ComplexFunction(("b1", "0"), np.imag, "0", "same", r"\mathrm{Im}"),
    "conj": ComplexFunction(("a1", "-b1"), np.conj, "1", "same", r"\mathrm{conj}"),
    "arg": ComplexFunction(("atan2(b1, a1)", "0"), np.angle, "0", "sign", r"\arg"),
}
# What is called by its name, with how many arguments.
FUNCTIONS: Final[dict[str, tuple[int, int | None]]] = {
    **{name: each.arguments for name, each in OPERATIONS.items() if each.kind == "function"},
    **{name: (count, count) for name, (count, _) in EXPANSIONS.items()},
    **dict.fromkeys(COMPLEX_FUNCTIONS, (1, 1)),
}


def with_fact(holds: Callable[[Operation], Any]) -> frozenset[str]:
    """Return the names of the operations of which something holds."""
    return frozenset(name for name, each in OPERATIONS.items() if holds(each))
