"""Arrays that notice what is written beyond them: NumPy's allocator, with margins or inaccessible pages around each.

Kernels work on raw addresses, so nothing stops them at the ends of an array. Arrays made within `margins` stand between
two margins of known bytes, which `damaged` compares afterwards; those made within `fenced` end at a page of memory that
nobody may touch, so that the process ends at the first access beyond. NumPy enhancement proposal 49 describes the hook.
"""

from __future__ import annotations

import ctypes
import functools
import importlib
import mmap
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import Any, Final

import numpy as np

# Bytes of each margin: the first eight hold the size of the array, the others are known.
_MARGIN: Final = 64
# The byte with which margins are filled.
_KNOWN: Final = 0xA5
_PAGE: Final = mmap.PAGESIZE
# Positions in NumPy's table of C functions, unchanged since the hook exists.
_SET_HANDLER: Final = 304
_NAME: Final = b"mem_handler"
_MARGINS, _FENCED = "unhurried-heron margins", "unhurried-heron fenced"


class _Handler(ctypes.Structure):
    """``PyDataMem_Handler`` of NumPy."""

    _fields_ = (
        ("name", ctypes.c_char * 127),
        ("version", ctypes.c_uint8),
        *((name, ctypes.c_void_p) for name in ("context", "malloc", "calloc", "realloc", "free")),
    )


@contextmanager
def margins() -> Iterator[None]:
    """Give every array made in this thread margins, which `damaged` looks at."""
    with _allocating(_MARGINS, _margin_functions()):
        yield


@contextmanager
def fenced() -> Iterator[None]:
    """Let every array made in this thread end at an inaccessible page, and begin after one."""
    with _allocating(_FENCED, _page_functions()):
        yield


def damaged(arrays: Iterable[np.ndarray]) -> list[int]:
    """Return which of the arrays were written beyond; those made outside `margins` are not looked at."""
    from numpy._core.multiarray import get_handler_name

    found = []
    for index, array in enumerate(arrays):
        owner: Any = array
        while isinstance(owner.base, np.ndarray):
            owner = owner.base
        if not owner.flags.owndata or get_handler_name(owner) != _MARGINS:
            continue
        begin = owner.ctypes.data - _MARGIN
        (size,) = (ctypes.c_int64 * 1).from_address(begin)
        before = bytes((ctypes.c_uint8 * (_MARGIN - 8)).from_address(begin + 8))
        after = bytes((ctypes.c_uint8 * _MARGIN).from_address(begin + _MARGIN + max(size, 0))) if size >= 0 else b""
        if before != bytes([_KNOWN]) * (_MARGIN - 8) or after != bytes([_KNOWN]) * _MARGIN:
            found.append(index)
    return found


@contextmanager
def _allocating(name: str, functions: tuple[Any, ...]) -> Iterator[None]:
    handler = _Handler(name.encode(), 1, None, *(each.address for each in functions))
    capsule = _python("PyCapsule_New", ctypes.py_object, ctypes.c_void_p, ctypes.c_char_p, ctypes.c_void_p)
    mine = capsule(ctypes.addressof(handler), _NAME, None)
    # arrays outlive this, and are freed by what made them
    _kept.append((handler, mine, functions))
    usual = _set_handler()(mine)
    try:
        yield
    finally:
        _set_handler()(usual)


_kept: list[Any] = []


def _python(name: str, result: Any, *arguments: Any) -> Any:
    """Return a function of Python's own interface by its name.

    Parameters
    ----------
    name : str
    result : ctypes type
    *arguments : ctypes type

    Returns
    -------
    ctypes function
    """
    return ctypes.PYFUNCTYPE(result, *arguments)((name, ctypes.pythonapi))


@functools.cache
def _set_handler() -> Any:
    native: Any = importlib.import_module("numpy._core._multiarray_umath")

    pointer = _python("PyCapsule_GetPointer", ctypes.c_void_p, ctypes.py_object, ctypes.c_char_p)
    table = pointer(native._ARRAY_API, None)
    function: Any = (ctypes.c_void_p * (_SET_HANDLER + 1)).from_address(table)[_SET_HANDLER]
    return ctypes.PYFUNCTYPE(ctypes.py_object, ctypes.py_object)(function)


def _library(name: str, *kinds: Any) -> Any:
    function = getattr(ctypes.CDLL(None), name)
    function.argtypes, function.restype = list(kinds[1:]), kinds[0]
    return function


def _compiled(allocate: Any, release: Any, size_of: Any) -> tuple[Any, ...]:
    """Return the four functions of a handler, from what allocates, releases and tells the size of an address.

    Parameters
    ----------
    allocate : callable
    release : callable
    size_of : callable

    Returns
    -------
    tuple of ctypes function
    """
    from numba import cfunc, njit, types

    long, nothing = types.int64, types.void
    copy = _library("memcpy", ctypes.c_void_p, ctypes.c_int64, ctypes.c_int64, ctypes.c_int64)
    clear = _library("memset", ctypes.c_void_p, ctypes.c_int64, ctypes.c_int, ctypes.c_int64)
    allocate, release, size_of = njit(allocate), njit(release), njit(size_of)

    @cfunc(long(long, long))
    def malloc(_: int, size: int) -> Any:
        return allocate(max(size, 1))

    @cfunc(long(long, long, long))
    def calloc(_: int, count: int, size: int) -> Any:
        index = allocate(max(count * size, 1))
        clear(index, 0, count * size)
        return index

    @cfunc(long(long, long, long))
    def realloc(_: int, old: int, size: int) -> Any:
        new = allocate(max(size, 1))
        if old != 0:
            copy(new, old, min(size_of(old), size))
            release(old)
        return new

    @cfunc(nothing(long, long, long))
    def free(_: int, index: int, __: int) -> None:
        if index != 0:
            release(index)

    return malloc, calloc, realloc, free


@functools.cache
def _margin_functions() -> tuple[Any, ...]:
    from unhurried_heron.kernels.memory.call import as_longs

    take = _library("malloc", ctypes.c_int64, ctypes.c_int64)
    give = _library("free", None, ctypes.c_int64)
    fill = _library("memset", ctypes.c_void_p, ctypes.c_int64, ctypes.c_int, ctypes.c_int64)

    def allocate(size: int) -> Any:
        begin = take(size + 2 * _MARGIN)
        fill(begin, _KNOWN, size + 2 * _MARGIN)
        as_longs(begin)[0] = size
        return begin + _MARGIN

    def release(index: int) -> None:
        give(index - _MARGIN)

    def size_of(index: int) -> Any:
        return as_longs(index - _MARGIN)[0]

    return _compiled(allocate, release, size_of)


@functools.cache
def _page_functions() -> tuple[Any, ...]:
    from unhurried_heron.kernels.memory.call import as_longs

    take = _library("mmap", ctypes.c_int64, ctypes.c_int64, ctypes.c_int64, *[ctypes.c_int] * 3, ctypes.c_int64)
    protect = _library("mprotect", ctypes.c_int, ctypes.c_int64, ctypes.c_int64, ctypes.c_int)
    give = _library("munmap", ctypes.c_int, ctypes.c_int64, ctypes.c_int64)
    both, kind = mmap.PROT_READ | mmap.PROT_WRITE, mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS
    page, none = _PAGE, 0

    # a page that holds the size, a fence, the array at the end of its pages, a fence
    def allocate(size: int) -> Any:
        pages = (size + page - 1) // page
        begin = take(none, (pages + 3) * page, both, kind, -1, none)
        as_longs(begin)[0] = size
        protect(begin + page, page, none)
        protect(begin + (pages + 2) * page, page, none)
        return begin + (pages + 2) * page - (size + 7) // 8 * 8

    def release(index: int) -> None:
        begin = index // page * page - 2 * page
        give(begin, ((as_longs(begin)[0] + page - 1) // page + 3) * page)

    def size_of(index: int) -> Any:
        return as_longs(index // page * page - 2 * page)[0]

    return _compiled(allocate, release, size_of)
