"""Functions compiled by Numba's ``njit``, behind a native address without Python in between."""

from __future__ import annotations

import functools
import importlib
from typing import Any

import numpy as np

from unhurried_heron.codegen.runtime_data import RuntimeData
from unhurried_heron.codegen.signature import NativeFunction, address
from unhurried_heron.formulas.expression import TIME
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
    names["carray"], names["parameters_of"] = numba.carray, _first_pointer()
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
        WHOLE_STATE: f"carray(y, ({n},)).copy()",
        ALL_PARAMETERS: f"Parameters({', '.join(f'p[{i}]' for i in range(len(function.parameters)))})",
        **{name: f"y[{i}]" for name, i in layout.scalars.items()},
        **{
            each.name: f"carray(y, ({n},))[{layout.offsets[each.name]}:][:{each.size}].copy().reshape({each.shape})"
            for each in layout.indexed
        },
        **{name: f"p[{i}]" for i, name in enumerate(function.parameters)},
    }
    call = f"function({', '.join(words[name] for name in function.arguments)})"
    short = f"if len(r) != {n}: raise ValueError"
    if n_outputs == 0 or function.answers == "number":
        body = [f"out[0] = {call}"]
    elif function.answers != "flat":
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


def _parts(function: NamedFunction) -> list[str]:
    """Return the lines that write an answer ``r`` of several parts; the keys of a typed dict are the user's names."""
    layout, lines = function.layout, []
    if function.answers == "names":
        lines.append(f"if len(r) != {len(layout.groups)}: raise ValueError")
    for i, group in enumerate(layout.groups):
        part = {"names": f"r[{group.name!r}]", "shaped": "r"}.get(function.answers, f"r[{i}]")
        begin = layout.offsets[group.name]
        if not group.box:
            lines.append(f"out[{begin}] = {part}")
            continue
        lines += [f"a = {part}", f"if a.shape != {group.shape}: raise ValueError", "f = a.flatten()"]
        lines += [f"for i in range({group.size}):", f"    out[{begin} + i] = f[i]"]
    return lines
