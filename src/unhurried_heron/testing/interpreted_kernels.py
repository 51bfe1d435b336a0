"""Kernels as plain Python, every pointer checked against the array that it came from.

`interpret` puts plain Python in place of what Numba makes of a kernel's file: pointers are objects that know their
array, and refuse an index outside it. So a run is slow, but a debugger stops at a breakpoint in a kernel, the coverage
of its lines is measured like any other, and an access outside an array is an error with its file and line::

    python -m unhurried_heron.testing.interpreted_kernels SCRIPT [ARGUMENTS]

It must come before the first kernel is loaded, and holds for the process.
"""

from __future__ import annotations

import bisect
import ctypes
import importlib
import runpy
import sys
import types
from collections.abc import Callable
from pathlib import Path
from typing import Any, Final, get_type_hints

import numpy as np

from unhurried_heron.errors import unforeseen
from unhurried_heron.kernels.machine_code import loading, prepare, signature
from unhurried_heron.kernels.memory import bundles

_KERNELS: Final = "unhurried_heron.kernels"
# Bytes of a double, and of a whole number.
_WIDTH: Final = 8
_DOUBLE, _LONG, _POINTER = ctypes.c_double, ctypes.c_int64, ctypes.c_void_p
# the addresses at which arrays begin, in order, and by address where it ends and what it is, which is kept for ever
_begins: list[int] = []
_arrays: dict[int, tuple[int, Any]] = {}
_interpreted: dict[int, Callable[[int], int]] = {}
# what native code calls at the addresses of interpreted kernels, kept for ever
_callbacks: list[Any] = []
# pointers by address and kind, as long as no array is new
_pointers: dict[tuple[int, Any], Pointer] = {}


class OutsideError(IndexError):
    """A kernel's access to memory that belongs to no array, or lies outside the array that its pointer came from."""


def _address(array: Any) -> int:
    """Return where an array begins, and remember it."""
    begin = _real_address(array)
    if isinstance(array, np.ndarray) and array.nbytes:
        if begin not in _arrays:
            bisect.insort(_begins, begin)
        end = max(begin + array.nbytes, _arrays.get(begin, (0,))[0])
        _arrays[begin] = (end, array)
        _pointers.clear()
    return begin


_real_address = signature.address


def _bounds(address: int) -> tuple[int, int]:
    """Return where the array begins and ends in which an address lies; two zeros where there is none."""
    index = bisect.bisect_right(_begins, address) - 1
    while index >= 0:
        begin = _begins[index]
        if address < _arrays[begin][0]:
            return begin, _arrays[begin][0]
        # a part of an array may be remembered as well as the whole
        whole = _arrays[begin][1].base
        if not isinstance(whole, np.ndarray):
            break
        index -= 1
    return 0, 0


class Pointer:
    """A pointer of a kernel to doubles or to whole numbers."""

    __slots__ = ("addr", "begin", "end", "kind")

    def __init__(self, addr: int, kind: Any, begin: int = 0, end: int = 0) -> None:
        self.addr, self.kind = int(addr), kind
        self.begin, self.end = (begin, end) if end else _bounds(self.addr)

    def _at(self, index: Any) -> int:
        found = self.addr + _WIDTH * int(index)
        if not self.begin <= found <= self.end - _WIDTH:
            array = f"an array of {(self.end - self.begin) // _WIDTH}" if self.end else "no array"
            raise OutsideError(f"index {(found - self.begin) // _WIDTH} of {array}")
        return found

    def __getitem__(self, index: Any) -> Any:
        value = self.kind.from_address(self._at(index)).value
        # as in machine code, a double divided by zero is infinite and no error
        return np.float64(value) if self.kind is _DOUBLE else value

    def __setitem__(self, index: Any, value: Any) -> None:
        self.kind.from_address(self._at(index)).value = float(value) if self.kind is _DOUBLE else int(value)


def _pointer(address: int, kind: Any) -> Pointer:
    """Return the pointer to an address; pointers do not change."""
    found = _pointers.get((address, kind))
    if found is None:
        found = _pointers[address, kind] = Pointer(address, kind)
    return found


class _Record:
    """A record of a kernel, by its address."""

    def __init__(self, address: int, dtype: Any) -> None:
        begin, end = _bounds(int(address))
        if not begin <= address <= end - dtype.itemsize:
            raise OutsideError(f"a record of {dtype.itemsize} bytes, {end - int(address)} before the end of an array")
        memory = (ctypes.c_char * dtype.itemsize).from_address(int(address))
        object.__setattr__(self, "_fields", np.frombuffer(memory, dtype=dtype))

    def __getattr__(self, name: str) -> Any:
        value = self._fields[name][0]
        return int(value) if self._fields.dtype[name].kind in "iu" else value

    def __setattr__(self, name: str, value: Any) -> None:
        self._fields[name] = value


class _Bundle:
    """A bundle of a kernel, by the address of its part of the table."""

    def __init__(self, address: int, fields: dict[str, tuple[int, Any]]) -> None:
        self._address, self._fields = address, fields

    def __getattr__(self, name: str) -> Any:
        index, kind = self._fields[name]
        value = _LONG.from_address(self._address + _WIDTH * index).value
        return value if kind is None else _pointer(value, kind)


def _decoder(bundle: Any, base: int = bundles.OWN) -> Callable[[Pointer], _Bundle]:
    kinds, hints = {bundles.Array: _DOUBLE, bundles.LongArray: _LONG}, get_type_hints(bundle, include_extras=True)
    fields = {name: (index, kinds.get(hints[name])) for index, name in enumerate(bundle._fields)}
    return lambda table: _Bundle(table.addr + _WIDTH * base, fields)


def _call_kernel(address: int, table: int) -> int:
    if address in _interpreted:
        return _interpreted[address](table)
    result, unused = _LONG(0), _POINTER()
    kind = ctypes.CFUNCTYPE(ctypes.c_int32, _POINTER, _POINTER, _LONG)
    kind(address)(ctypes.addressof(result), ctypes.addressof(unused), table)
    return result.value


def _caller(result: Any, *kinds: Any) -> Callable[..., Any]:
    """Return what calls native code at an address, pointers by where they point."""
    kind = ctypes.CFUNCTYPE(result, *kinds)

    def call(address: int, *arguments: Any) -> Any:
        plain = [each.addr if isinstance(each, Pointer) else each for each in arguments]
        taken = [float(each) if of is _DOUBLE else int(each) for each, of in zip(plain, kinds, strict=True)]
        answer = kind(address)(*taken)
        return np.float64(answer) if result is _DOUBLE else answer

    return call


def _memory_module() -> Any:
    """Return what stands for `kernels.memory.call`."""
    from unhurried_heron.kernels.memory.control import CONTROL

    made: Any = types.ModuleType(f"{_KERNELS}.memory.call")
    made.as_doubles = lambda address: _pointer(int(address), _DOUBLE)
    made.as_longs = lambda address: _pointer(int(address), _LONG)
    made.as_control = lambda address: _Record(address, CONTROL)
    made.as_record = lambda dtype: lambda address: _Record(address, dtype)
    made.address_of = lambda pointer: pointer.addr
    made.offset_by = lambda it, count: Pointer(it.addr + _WIDTH * int(count), it.kind, it.begin, it.end)
    made.typed_intrinsic, made.call_kernel = (lambda function: function), _call_kernel
    made.call_native = _caller(ctypes.c_int32, _DOUBLE, *[_POINTER] * 3)
    made.call_real = _caller(_DOUBLE, _DOUBLE)
    made.call_attempt = _caller(ctypes.c_int32, _DOUBLE, _DOUBLE, _POINTER, _POINTER, _POINTER, _LONG, *[_POINTER] * 3)
    made.call_stride = _caller(_LONG, _DOUBLE, _DOUBLE, _LONG, _LONG, _POINTER)
    made.call_error = _caller(_DOUBLE, _DOUBLE, *[_POINTER] * 5, _LONG)
    made.call_polynomial = _caller(None, _DOUBLE, *[_POINTER] * 3, _LONG)
    return made


def _decoding_module() -> types.ModuleType:
    """Return what stands for `kernels.memory.decoding`: its own list of bundles and records, in another way decoded."""
    name = f"{_KERNELS}.memory.decoding"
    text = Path(bundles.__file__).with_name("decoding.py").read_text(encoding="utf-8")
    made = types.ModuleType(name)
    made.__dict__["decoder"] = _decoder
    imports, rest = text.split("_KINDS = ", 1)
    exec(imports[imports.index(f"from {_KERNELS}.memory.bundles") :], made.__dict__)
    exec(rest[rest.index("system_in = ") :], made.__dict__)
    return made


def load_kernel(name: str) -> loading.Kernel:
    """Return an entry kernel as a plain function, which native code may call too, by its name as for `loading`."""
    if name not in loading.LOADED:
        module, function = name.split(":") if ":" in name else f"{_KERNELS}.{name}".rsplit(".", 1)
        entry = getattr(importlib.import_module(module), function)

        def called(result: int, unused: int, table: int) -> int:
            with np.errstate(all="ignore"):
                _LONG.from_address(result).value = int(entry(table))
            return 0

        _callbacks.append(ctypes.CFUNCTYPE(ctypes.c_int32, _POINTER, _POINTER, _LONG)(called))
        where = ctypes.cast(_callbacks[-1], _POINTER).value or 0
        _interpreted[where] = entry

        class Interpreted(loading.Kernel):
            def __call__(self, table: Any) -> int:
                with np.errstate(all="ignore"):
                    return int(entry(_address(table)))

        loading.LOADED[name] = Interpreted(name, where, None)
    return loading.LOADED[name]


def interpret() -> None:
    """Interpret all kernels from now on, in this process.

    Raises
    ------
    HeronError
        A kernel was loaded before.
    """
    if loading.LOADED:
        raise unforeseen("kernels were loaded before they were to be interpreted")
    compiling: Any = types.ModuleType(f"{_KERNELS}.machine_code.compiling")
    compiling.inner = compiling.inner_fast_sums = lambda function: function
    sys.modules[compiling.__name__] = compiling
    sys.modules[f"{_KERNELS}.memory.call"] = _memory_module()
    sys.modules[f"{_KERNELS}.memory.decoding"] = _decoding_module()
    new = {
        signature.address: _address,
        loading.load_kernel: load_kernel,
        prepare.load_kernels: lambda *names: [load_kernel(name) for name in names],
    }
    # modules that have taken the functions by name, and those that will
    for module in [each for name, each in sys.modules.items() if name.startswith("unhurried_heron")]:
        for name, value in list(vars(module).items()):
            if isinstance(value, types.FunctionType) and value in new and module.__name__ != __name__:
                setattr(module, name, new[value])


if __name__ == "__main__":
    from unhurried_heron.testing import interpreted_kernels

    interpreted_kernels.interpret()
    sys.argv = sys.argv[1:]
    runpy.run_path(sys.argv[0], run_name="__main__")
