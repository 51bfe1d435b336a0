"""Reaching native code and raw memory by address from inside a kernel."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Concatenate, ParamSpec

from llvmlite import ir
from numba import from_dtype, types
from numba.core.cgutils import alloca_once
from numba.extending import intrinsic

from unhurried_heron.kernels.memory.control import CONTROL

_Given = ParamSpec("_Given")


def typed_intrinsic(function: Callable[Concatenate[Any, _Given], Any]) -> Callable[_Given, Any]:
    """Make an intrinsic, whose callers do not give the typing context that comes first."""
    made: Any = intrinsic(function)
    typed: Callable[_Given, Any] = made
    return typed


_DOUBLES = types.CPointer(types.float64)
_LONGS = types.CPointer(types.int64)
_CONTROL = from_dtype(CONTROL)


@typed_intrinsic
def call_native(typing_context, address, time, state, out, context):
    """Call ``int32 f(double, const double *, double *, const double *)`` at an address.

    Parameters
    ----------
    typing_context : Numba's typing context
    address : int64
        Of the function.
    time : float64
    state : float pointer
    out : float pointer
    context : int64
        Address of its context.

    Returns
    -------
    (signature, callable)
    """
    signature = types.int32(types.int64, types.float64, _DOUBLES, _DOUBLES, types.int64)

    def generate(codegen_context, builder, _, arguments):
        target, t, y, result, block = arguments
        pointer = y.type
        kind = ir.FunctionType(ir.IntType(32), [ir.DoubleType(), pointer, pointer, pointer])
        function = builder.inttoptr(target, kind.as_pointer())
        return builder.call(function, [t, y, result, builder.inttoptr(block, pointer)])

    return signature, generate


@typed_intrinsic
def call_kernel(typing_context, address, table):
    """Call another entry kernel (`compiling.compile_entry`) at an address, on a table; return its result.

    Parameters
    ----------
    typing_context : Numba's typing context
    address : int64
        Of the kernel.
    table : int64
        Address of the table.

    Returns
    -------
    (signature, callable)
    """
    signature = types.int64(types.int64, types.int64)

    def generate(codegen_context, builder, _, arguments):
        long, pointer = ir.IntType(64), ir.IntType(64).as_pointer()
        # in the function's entry block: in a loop each turn would take more of the stack
        result, unused = alloca_once(builder, long), alloca_once(builder, long)
        builder.store(ir.Constant(long, 0), unused)
        function = builder.inttoptr(
            arguments[0], ir.FunctionType(ir.IntType(32), [pointer, pointer, long]).as_pointer()
        )
        builder.call(function, [result, unused, arguments[1]])
        return builder.load(result)

    return signature, generate


def _cast_to(kind):
    """Return an intrinsic that takes an address for a pointer (or record) of a kind."""

    @typed_intrinsic
    def cast(typing_context, address):
        def generate(codegen_context, builder, _, arguments):
            return builder.inttoptr(arguments[0], codegen_context.get_value_type(kind))

        return kind(types.int64), generate

    return cast


# Indexing a pointer has no test for negative indices, which would stop loops from vectorising, and a pointer is passed
# between functions as it is, where an array would be reference-counted with atomic instructions.
as_doubles = _cast_to(_DOUBLES)
as_longs = _cast_to(_LONGS)
as_control = _cast_to(_CONTROL)


def as_record(dtype):
    """Return an intrinsic that takes an address for a record of a structured dtype."""
    return _cast_to(from_dtype(dtype))


@typed_intrinsic
def address_of(typing_context, pointer):
    """Return a pointer's address."""

    def generate(codegen_context, builder, _, arguments):
        return builder.ptrtoint(arguments[0], ir.IntType(64))

    return types.int64(pointer), generate


@typed_intrinsic
def offset_by(typing_context, pointer, count):
    """Return the pointer ``count`` elements further on.

    Parameters
    ----------
    typing_context : Numba's typing context
    pointer : pointer
    count : intp

    Returns
    -------
    (signature, callable)
    """
    signature = pointer(pointer, types.intp)

    def generate(codegen_context, builder, _, arguments):
        return builder.gep(arguments[0], [arguments[1]])

    return signature, generate


def _generate_call(result, kinds):
    """Return a code generator that calls an address (the first argument) with the others."""

    def generate(_, builder, __, arguments):
        function = builder.inttoptr(arguments[0], ir.FunctionType(result, kinds).as_pointer())
        passed = [
            builder.inttoptr(value, kind)
            if isinstance(value.type, ir.IntType) and isinstance(kind, ir.PointerType)
            else value
            for value, kind in zip(arguments[1:], kinds, strict=True)
        ]
        return builder.call(function, passed)

    return generate


_REAL, _LONG, _POINTER = ir.DoubleType(), ir.IntType(64), ir.DoubleType().as_pointer()


@typed_intrinsic
def call_real(typing_context, address, argument):
    """Call ``double f(double)``, a function of the C mathematics library, at an address.

    Parameters
    ----------
    typing_context : Numba's typing context
    address : int64
    argument : float64

    Returns
    -------
    (signature, callable)
    """
    return types.float64(types.int64, types.float64), _generate_call(_REAL, [_REAL])


@typed_intrinsic
def call_attempt(typing_context, address, time, step, state, stages, trial, n, rates, context, where):
    """Call ``attempt`` of `codegen.runge_kutta_ir`.

    Parameters
    ----------
    typing_context : Numba's typing context
    address : int64
    time : float64
    step : float64
    state : float pointer, (n,)
    stages : float pointer, (stages, n)
    trial : float pointer, (n,)
    n : int64
    rates : int64
        Address of the rates.
    context : int64
        Address of their context.
    where : int64 pointer
        The stage that stopped.

    Returns
    -------
    (signature, callable)
    """
    signature = types.int32(
        types.int64,
        types.float64,
        types.float64,
        _DOUBLES,
        _DOUBLES,
        _DOUBLES,
        types.int64,
        types.int64,
        types.int64,
        types.CPointer(types.int64),
    )
    kinds = [_REAL, _REAL, _POINTER, _POINTER, _POINTER, _LONG, _POINTER, _POINTER, _LONG.as_pointer()]
    return signature, _generate_call(ir.IntType(32), kinds)


@typed_intrinsic
def call_stride(typing_context, address, origin, step, first, count, block):
    """Call ``stride`` of `codegen.batched_steps`.

    Parameters
    ----------
    typing_context : Numba's typing context
    address : int64
    origin : float64
        Time from which steps are counted.
    step : float64
    first : int64
        Steps before these.
    count : int64
    block : int64 pointer

    Returns
    -------
    (signature, callable)
    """
    signature = types.int64(
        types.int64, types.float64, types.float64, types.int64, types.int64, types.CPointer(types.int64)
    )
    return signature, _generate_call(_LONG, [_REAL, _REAL, _LONG, _LONG, _LONG.as_pointer()])


@typed_intrinsic
def call_error(typing_context, address, step, state, stages, trial, relative, absolute, n):
    """Call ``error`` of `codegen.runge_kutta_ir`.

    Parameters
    ----------
    typing_context : Numba's typing context
    address : int64
    step : float64
    state : float pointer, (n,)
    stages : float pointer, (stages, n)
    trial : float pointer, (n,)
    relative : float pointer, (n,)
    absolute : float pointer, (n,)
    n : int64

    Returns
    -------
    (signature, callable)
    """
    signature = types.float64(types.int64, types.float64, *[_DOUBLES] * 5, types.int64)
    return signature, _generate_call(_REAL, [_REAL, *[_POINTER] * 5, _LONG])


@typed_intrinsic
def call_polynomial(typing_context, address, step, state, stages, coefficients, n):
    """Call ``polynomial`` of `codegen.runge_kutta_ir`.

    Parameters
    ----------
    typing_context : Numba's typing context
    address : int64
    step : float64
    state : float pointer, (n,)
    stages : float pointer, (stages, n)
    coefficients : float pointer, (degree + 1, n)
    n : int64

    Returns
    -------
    (signature, callable)
    """
    signature = types.void(types.int64, types.float64, *[_DOUBLES] * 3, types.int64)
    generate = _generate_call(ir.VoidType(), [_REAL, *[_POINTER] * 3, _LONG])

    def generate_void(context, builder, inner_signature, arguments):
        generate(context, builder, inner_signature, arguments)
        return context.get_dummy_value()

    return signature, generate_void
