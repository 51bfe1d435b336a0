"""Turning LLVM IR text into machine code in this process."""

from __future__ import annotations

import ctypes
import functools
import threading
from typing import Any, Final

import llvmlite.binding as llvm
import numpy as np

from unhurried_heron.errors import HeronError, unforeseen

# Characters of a module that shares an engine with others: all of them live as long as one of them is in use.
_SMALL: Final = 64_000
# Modules that share an engine, at most.
_SHARED_BY: Final = 64


@functools.cache
def _host() -> tuple[Any, str, str]:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    return llvm.Target.from_default_triple(), llvm.get_host_cpu_name(), llvm.get_host_cpu_features().flatten()


def _target_machine() -> Any:
    """Return a new target machine: an engine takes it over and frees it with itself."""
    target, cpu, features = _host()
    return target.create_target_machine(cpu=cpu, features=features, opt=2, codemodel="jitdefault")


def compile_functions(text: str, names: tuple[str, ...]) -> tuple[list[int], Any]:
    """Compile a module; return the addresses of the named functions and the engine to keep alive."""
    return _compile(text, names, optimised=False)


def compile_many(text: str, count: int) -> tuple[list[int], Any]:
    """Compile a module that defines ``functions``, a table of addresses; return these and the engine to keep alive.

    The engine looks through all symbols for each that it is asked for, so that it is asked for one only.
    """
    (index,), engine = _compile(text, ("functions",), optimised=False)
    return np.ctypeslib.as_array((ctypes.c_int64 * count).from_address(index)).tolist(), engine


class _SharedEngine:
    """An engine for many small modules: one of its own takes each of them as long as to compile it."""

    def __init__(self) -> None:
        self._lock, self._count = threading.Lock(), 0
        self._engine: Any = None
        self._machine: Any = None

    def load(self, module: Any, names: tuple[str, ...]) -> tuple[list[int], Any]:
        """Compile a module; return the addresses of the named symbols and the engine to keep alive.

        Parameters
        ----------
        module : module of LLVM
            Its symbols are renamed, for those of all modules differ.
        names : tuple of str

        Returns
        -------
        (list of int, engine)
        """
        with self._lock:
            if self._count % _SHARED_BY == 0:
                self._engine = _empty_engine()
            if self._machine is None:
                self._machine = _target_machine()
            engine, suffix = self._engine, f".{self._count}"
            self._count += 1
            for each in (*module.functions, *module.global_variables):
                if not each.is_declaration:
                    each.name += suffix
            _add_object(engine, self._machine.emit_object(module))
            return [_found(engine, name + suffix) for name in names], engine


_SHARED: Final = _SharedEngine()


def _compile(text: str, names: tuple[str, ...], *, optimised: bool) -> tuple[list[int], Any]:
    """Compile a module; return the addresses of the named symbols and the engine to keep alive.

    ``optimised`` is for loops. What is emitted shares equal subtrees already, and straight-line formulas gain nothing
    else from optimisation (measured: the same speed of the result for twice the time to compile).

    Parameters
    ----------
    text : str
    names : tuple of str
    optimised : bool

    Returns
    -------
    (list of int, engine)
    """
    module = llvm.parse_assembly(text)
    module.verify()
    if len(text) <= _SMALL and not optimised:
        return _SHARED.load(module, names)
    machine = _target_machine()
    if optimised:
        _optimise(module, machine)
    engine = llvm.create_mcjit_compiler(module, machine)
    engine.finalize_object()
    return [_found(engine, name) for name in names], engine


def _optimise(module: Any, machine: Any) -> None:
    options = llvm.create_pipeline_tuning_options(speed_level=3)
    options.loop_vectorization = options.loop_unrolling = options.slp_vectorization = True
    builder = llvm.create_pass_builder(machine, options)
    builder.getModulePassManager().run(module, builder)


def _found(engine: Any, symbol: str) -> int:
    address = int(engine.get_global_value_address(symbol))
    if address == 0:
        raise HeronError("machine code lacks what was to be called", name=symbol, location="the compiled code",
                         expected=f"a function '{symbol}'", given="none")  # fmt: skip
    return address


def compile_module(text: str, *, optimised: bool = False) -> tuple[int, Any]:
    """Compile a module that defines ``evaluate``; return its address and the engine to keep alive."""
    (address,), engine = _compile(text, ("evaluate",), optimised=optimised)
    return address, engine


def c_function(name: str) -> int:
    """Return the address of a function of the C mathematics library."""
    address = llvm.address_of_symbol(name)
    if not address:
        # the first engine opens the libraries of this process
        _empty_engine()
        address = llvm.address_of_symbol(name)
    if not address:
        raise unforeseen(f"no function '{name}' in the C mathematics library")
    return int(address)


def kind_of_machine() -> str:
    """Return LLVM's name of the kind of machine this process runs on."""
    kind: str = llvm.get_process_triple()
    return kind


def host_description() -> str:
    """Return the processor's name and abilities, on which machine code depends."""
    _, cpu, features = _host()
    return f"{cpu} {features}"


def emit_object(text: str) -> bytes:
    """Optimise a module and compile it to an object file."""
    module, machine = llvm.parse_assembly(text), _target_machine()
    module.verify()
    _optimise(module, machine)
    code: bytes = machine.emit_object(module)
    return code


def load_object(code: bytes, symbol: str) -> tuple[int, Any]:
    """Load an object file; return the address of a symbol in it and the engine to keep alive."""
    engine = _empty_engine()
    _add_object(engine, code)
    return _found(engine, symbol), engine


def _empty_engine() -> Any:
    return llvm.create_mcjit_compiler(llvm.parse_assembly(""), _target_machine())


def _add_object(engine: Any, code: bytes) -> None:
    engine.add_object_file(llvm.ObjectFileRef.from_data(code))
    engine.finalize_object()
