"""What is known of an operation of formulas, and rows for those that are alike."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final, Literal

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
    parts : tuple of (str, str), "own rule" or "none"
        What its real and its imaginary part are where arguments are complex, as formulas of those of its arguments,
        ``a1, b1, a2, …``; "none" where it has no complex arguments.
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
    parts: tuple[str, str] | Literal["own rule", "none"]
    latex: str

    @property
    def jumps(self) -> bool:
        """Whether it can jump or have a kink."""
        return self.switch not in ("none", "root")

    @property
    def flat(self) -> bool:
        """Whether it is constant between its jumps."""
        return {*self.derivative} == {"0"}


def named_row(**row: Any) -> Operation:
    """Return a function, which is written by its name."""
    return Operation(kind="function", rank=CALL_RANK, sign="", **row)


def smooth_row(value: Any, derivative: str, code: str, latex: str, **row: Any) -> Operation:
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
    usual: dict[str, Any] = {"ends": (), "turning": 0.0, "ordered": False, "values": "any", "parts": "none"}
    return named_row(arguments=(1, 1), value=value, derivative=(derivative,), code=code, unit="plain", switch="none",
                  smooth=True, bends=True, latex=latex, **{**usual, **row})  # fmt: skip


def step_row(value: Any, code: str, unit: Any, name: str, switch: Any, **row: Any) -> Operation:
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
    return named_row(arguments=(1, 1), value=value, derivative=("0",), code=code, bounds="rising", unit=unit,
                  series="none", ends=(), switch=switch, smooth=False, breaks=True, bends=True, narrow=False,
                  ordered=False, parts="none", latex=rf"\mathrm{{{name}}}",
                  **{"turning": 0.0, "values": "any", **row})  # fmt: skip


def choice_row(value: Any, arguments: Any, derivative: Any, **row: Any) -> Operation:
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
    return named_row(arguments=arguments, value=value, derivative=derivative, code=OWN_RULE, series="none", ends=(),
                  smooth=False, narrow=False, turning=0.0, ordered=False, **{"parts": "none", **row})  # fmt: skip


def sign_row(kind: Any, sign: str, rank: int, value: Any, arguments: Any, **row: Any) -> Operation:
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
                             "parts": OWN_RULE, "latex": sign}  # fmt: skip
    return Operation(kind=kind, sign=sign, rank=rank, value=value, arguments=arguments, code=OWN_RULE,
                     **{**usual, **row})  # fmt: skip


def comparison_row(sign: str, value: Any, latex: str, *, switches: bool) -> Operation:
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
    return sign_row("comparison", sign, 4, value, (2, 2), derivative=("0", "0"), unit="compared", series="none",
                    bounds=OWN_RULE if switches else "flag", switch="relation" if switches else "none",
                    values="not negative", smooth=False, breaks=True, bends=True, parts="none",
                    latex=latex)  # fmt: skip


def logic_row(sign: str, rank: int, value: Any, arguments: Any) -> Operation:
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
    return sign_row("logic", sign, rank, value, arguments, derivative=("0",), unit="sign", series="none", bends=True,
                 values="not negative", parts="none", latex=f"{space}\\mathrm{{{sign}}}\\")  # fmt: skip
