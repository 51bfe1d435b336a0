"""Functions compiled by Numba's ``njit``, behind a native address without Python in between."""

from __future__ import annotations

import functools
import importlib
import math
from typing import Any

import numpy as np

from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.formulas.expression import TIME
from unhurried_heron.formulas.layout import Group, Layout
from unhurried_heron.kernels.machine_code.signature import NativeFunction, address
from unhurried_heron.model.function_trials import unusable
from unhurried_heron.model.functions import ALL_PARAMETERS, WHOLE_STATE, NamedFunction

# Longer tuples should be arrays: Numba compiles each length anew.
_MAX_TUPLE = 64


def njit_function(function: NamedFunction, context: RuntimeData, n_outputs: int) -> NativeFunction:
    """Put an ``@njit`` function behind an address; compiled once for each function and set of names.

    ``n_outputs`` is 0 for one bare number (an event function). A function that raises is called once more from Python
    at the time and state at which it did, so that its exception reaches the user.

    Parameters
    ----------
    function : NamedFunction
    context : RuntimeData
    n_outputs : int
        How many numbers the function returns.

    Returns
    -------
    NativeFunction
    """
    machine = _machine_code(function, n_outputs)
    n = function.layout.size
    # where the parameters are, whether the function stopped, and the time and the state at which it did
    block = np.zeros(3 + n)
    block.view(np.int64)[0] = address(context.array)
    stopped = block[1:]

    def raised() -> tuple[BaseException, float] | None:
        if stopped[0] == 0.0:
            return None
        stopped[0], time = 0.0, float(stopped[1])
        try:
            answer = function.caller(context.values.tolist())(time, stopped[2:].copy())
        except BaseException as error:
            return error, time
        return unusable(function, answer, n_outputs), time

    return NativeFunction(machine.address, max(n_outputs, 1), block, (machine, context), raised, context.array)


@functools.lru_cache(maxsize=64)
def _machine_code(function: NamedFunction, n_outputs: int) -> Any:
    numba: Any = importlib.import_module("numba")

    source = _wrapper_source(function, n_outputs)
    names = {
        "function": function.function,
        "Parameters": type(function.bundle([0.0] * len(function.parameters))),
    }
    names |= {"carray": numba.carray, "parameters_of": _first_pointer(), "complex128": np.complex128}
    names |= {"concatenate": np.concatenate, "array": np.array}
    # the text holds nothing of the user's but positions: names become indices before this point
    exec(compile(source, "<native wrapper of an njit function>", "exec"), names)
    doubles = numba.types.CPointer(numba.types.float64)
    signature = numba.types.int32(numba.types.float64, doubles, doubles, doubles)
    # the error model is the one an njit function has by itself: what raises when called by hand raises here
    return numba.cfunc(signature, error_model="python")(names["evaluate"])


@functools.cache
def _first_pointer() -> Any:
    """Return what takes a block, in code that Numba compiles, for the pointer to doubles that stands first in it."""
    ir: Any = importlib.import_module("llvmlite.ir")
    numba: Any = importlib.import_module("numba")
    doubles = numba.types.CPointer(numba.types.float64)

    @numba.extending.intrinsic  # type: ignore[untyped-decorator]  # Numba is loaded only where it is needed
    def first_pointer(typing_context: Any, block: Any) -> Any:
        def generate(codegen_context: Any, builder: Any, _: Any, arguments: Any) -> Any:
            kind = ir.DoubleType().as_pointer()
            return builder.load(builder.bitcast(arguments[0], kind.as_pointer()))

        return doubles(doubles), generate

    return first_pointer


def _wrapper_source(function: NamedFunction, n_outputs: int) -> str:
    layout, n = function.layout, function.layout.size
    words = {
        TIME: "t",
        WHOLE_STATE: _whole(layout),
        ALL_PARAMETERS: f"Parameters({', '.join(f'p[{i}]' for i in range(len(function.parameters)))})",
        **{name: f"y[{i}]" for name, i in layout.scalars.items()},
        **{each.name: _array(layout, each) for each in layout.indexed},
        **{name: f"p[{i}]" for i, name in enumerate(function.parameters)},
    }
    mixed = layout.has_complex
    call = f"function({', '.join(words[name] for name in function.arguments)})"
    short = f"if len(r) != {n}: raise ValueError"
    if n_outputs == 0 or (function.answers == "number" and not mixed):
        body = [f"out[0] = {call}"]
    elif function.answers != "flat" or mixed:
        body = [f"r = {call}", *_parts(function)]
    elif n <= _MAX_TUPLE:
        body = [f"r = {call}", short, *(f"out[{i}] = r[{i}]" for i in range(n))]
    else:
        body = [f"r = {call}", short, f"for i in range({n}):", "    out[i] = r[i]"]
    kept = ["block[1] = 1.0", "block[2] = t", f"for i in range({n}):", "    block[3 + i] = y[i]", "return -1"]
    lines = [
        "p = parameters_of(block)",
        "try:",
        *(f"    {line}" for line in body),
        "except Exception:",
        *(f"    {line}" for line in kept),
        "return 1",
    ]
    return "def evaluate(t, y, out, block):\n" + "\n".join(f"    {line}" for line in lines)


def _array(layout: Layout, group: Group) -> str:
    """Return the text that takes an array, or a complex number, out of the state."""
    begin = layout.offsets[group.name]
    if group.complex and not group.value_box:
        return f"complex(y[{begin}], y[{begin + 1}])"
    numbers = f"carray(y, ({layout.size},))[{begin}:][:{group.size}].copy()"
    return f"{numbers}{'.view(complex128)' if group.complex else ''}.reshape({group.value_shape})"


def _whole(layout: Layout) -> str:
    """Return the text of the values of all states in order, complex ones where some are complex."""
    if not layout.has_complex:
        return f"carray(y, ({layout.size},)).copy()"
    parts = []
    for group in layout.groups:
        text = _array(layout, group) if group.box else f"y[{layout.offsets[group.name]}]"
        parts.append(f"{text}.ravel().astype(complex128)" if group.value_box else f"array([{text} + 0j])")
    return f"concatenate(({', '.join(parts)},))"


def _parts(function: NamedFunction) -> list[str]:
    """Return the lines that write an answer ``r`` of several parts; the keys of a typed dict are the user's names."""
    layout, lines = function.layout, []
    if function.answers == "names":
        lines.append(f"if len(r) != {len(layout.groups)}: raise ValueError")
    if function.answers == "flat":
        lines.append(f"if len(r) != {function.n_answers}: raise ValueError")
    first = 0
    for i, group in enumerate(layout.groups):
        alone = {"names": f"r[{group.name!r}]", "shaped": "r", "number": "r"}.get(function.answers, f"r[{i}]")
        begin, count = layout.offsets[group.name], math.prod(group.value_shape)
        if function.answers == "flat":
            part, first = f"r[{first}:{first + count}]" if group.value_box else f"r[{first}]", first + count
        else:
            part = alone
        if not group.value_box:
            lines += [f"c = {part}", *_written(group, begin, "c")]
            continue
        if function.answers == "flat":
            lines.append(f"f = {part}")
        else:
            lines += [f"a = {part}", f"if a.shape != {group.value_shape}: raise ValueError", "f = a.flatten()"]
        lines.append(f"for i in range({count}):")
        lines += [f"    {line}" for line in _written(group, begin, "f[i]", "i")]
    return lines


def _written(group: Group, begin: int, value: str, index: str = "") -> list[str]:
    """Return the lines that write one value of a group.

    Parameters
    ----------
    group : Group
    begin : int
        Where the numbers of the group begin.
    value : str
        The text of the value.
    index : str, optional
        The text of its index; none for a group of one value.

    Returns
    -------
    list of str
    """
    if not group.complex:
        # a complex number does not fit, and is refused where it is compiled
        return [f"out[{begin}{f' + {index}' if index else ''}] = {value}"]
    at = f"{begin}{f' + 2*{index}' if index else ''}"
    return [f"out[{at}] = {value}.real", f"out[{at} + 1] = {value}.imag"]
