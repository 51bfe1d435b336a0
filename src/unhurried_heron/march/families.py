"""Laying out the bundles of each family of methods and naming its kernel."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from unhurried_heron.kernels.bundles import (
    COLLOCATION_MEMORY,
    EXPLICIT_MEMORY,
    OUTPUT,
    DenseWork,
    Output,
    Parts,
    System,
    Tableau,
    Watch,
    address_table,
)
from unhurried_heron.kernels.collocation_constants import constants_of
from unhurried_heron.kernels.control import CONTROL, LEDGER_COLUMNS
from unhurried_heron.kernels.loading import Kernel
from unhurried_heron.kernels.prepare import load_kernels
from unhurried_heron.kernels.tableau_code import compile_tableau
from unhurried_heron.march.error_scale import ErrorScale
from unhurried_heron.march.linear import dense_context
from unhurried_heron.methods.catalogue import Method
from unhurried_heron.methods.collocation import Collocation
from unhurried_heron.methods.runge_kutta import RungeKutta
from unhurried_heron.native.system import NativeSystem, going_codes
from unhurried_heron.problem.event import Event
from unhurried_heron.run.trajectory import Array

# steps to a chunk: enough to make a call cheap, few enough to stay in the processor's cache
CHUNK_STEPS = 1024
CHUNK_BYTES = 4_194_304
EVENT_ROOM = 64
# so many unknowns of all stages together are solved by one full matrix, where nothing else helps
MOST_WHOLE = 1500
# so many modes are looked at one by one for growth that no error estimate can see
MOST_EIGENVALUES = 64


@dataclass
class March:
    """A march ready to run; all arrays are owned here. ``own`` is the bundle of its family."""

    kernel: Kernel
    control: Any
    system: System
    parts: Parts
    watch: Watch
    output: Output
    own: Tableau | DenseWork
    native: NativeSystem
    keep: tuple[Any, ...] = ()
    table: Any = field(init=False)

    def __post_init__(self) -> None:
        self.table = address_table(self.control, *self.system, *self.parts, *self.watch, *self.output, *self.own)
        self.control["table"] = self.table.ctypes.data

    @property
    def implicit(self) -> bool:
        """Whether an attempt solves linear systems."""
        return isinstance(self.own, DenseWork)

    def chunk(self) -> int:
        """March on until the kernel returns; its reason."""
        return self.kernel(self.table)

    def renew_output(self) -> None:
        """Take new buffers for the steps, because the present ones are being kept."""
        new = [np.empty_like(kept) for kept in (self.output.starts, self.output.steps, self.output.coefficients)]
        self.output = self.output._replace(starts=new[0], steps=new[1], coefficients=new[2])
        place = OUTPUT + Output._fields.index("starts")
        self.table[place : place + 3] = [array.ctypes.data for array in new]


def lay_out(
    method: Method, native: NativeSystem, state: Array, scales: ErrorScale, events: tuple[Event, ...], *, fixed: bool
) -> March:
    """Allocate everything a march needs.

    Parameters
    ----------
    method : RungeKutta or Collocation
    native : NativeSystem
    state : ndarray, shape (n_states,)
        The start; the march writes into a copy of it.
    scales : ErrorScale
        Tolerances of the error estimate.
    events : tuple of Event
    fixed : bool
        Whether the steps are fixed.
    """
    n = state.size
    control = np.zeros(1, dtype=CONTROL)
    watch = _watch(native, events, n)
    own: Tableau | DenseWork
    if isinstance(method, RungeKutta):
        family, *_ = kernels = _load(watch, "explicit_runge_kutta.family")
        (own, engine) = _tableau(method, n)
        output, slope = _output(n, own.degree), own.stages[0]
    else:
        stubborn, small = fixed and 3 * n <= MOST_WHOLE, n <= MOST_EIGENVALUES
        needed = {"factor": "dense_lu.factor", "solve": "dense_lu.solve"}
        needed |= {"insist": "stubborn.insist"} if stubborn else {}
        needed |= {"growth": "eigenvalues.growth"} if small else {}
        family, *others = kernels = _load(watch, "collocation.family", *needed.values())
        addresses = dict(zip(needed, (kernel.address for kernel in others), strict=False))
        own, engine = _dense_work(method, n, control, scales, addresses)
        output, slope = _output(n, method.stages + 1), np.zeros(n)
    system = System(n, *native.addresses(), state.copy(), slope, np.zeros(n), scales.relative, scales.absolute)
    parts = Parts(family.address, kernels[-2].address if watch.m else 0)
    return March(kernels[-1], control, system, parts, watch, output, own, native, (engine,))


def _load(watch: Watch, *names: str) -> list[Kernel]:
    """Return the kernels of a family, the search for events where there are any, and the march, in this order."""
    return load_kernels(*names, *(("events.search",) if watch.m else ()), "march.march")


def _tableau(method: RungeKutta, n: int) -> tuple[Tableau, Any]:
    addresses, engine = _tableau_code(method)
    lowest = min(method.order, method.embedded_order) if method.adaptive else method.order
    degree, width = method.interpolant.shape
    stages, where, memory = np.zeros((width, n)), np.zeros(1, dtype=np.int64), np.zeros(1, dtype=EXPLICIT_MEMORY)
    return Tableau(memory, *addresses, degree, width, lowest + 1, stages, where), engine


@functools.lru_cache(maxsize=64)
def _tableau_code(method: RungeKutta) -> tuple[tuple[int, int, int], Any]:
    a = np.array([[float(x) for x in row] for row in method.a])
    b, c = (np.array([float(x) for x in row]) for row in (method.b, method.c))
    return compile_tableau(a, b, c, method.error_weights, method.interpolant)


def _dense_work(
    method: Collocation, n: int, control: Any, scales: ErrorScale, addresses: dict[str, int]
) -> tuple[DenseWork, tuple[Any, ...]]:
    m = 3 * n if "insist" in addresses else 0
    shapes: dict[str, Any] = dict.fromkeys(DenseWork._fields, n)
    shapes |= {"jacobian": (n, n), "spare": n * n + 1 if "growth" in addresses else 0, "stacked": m, "direction": m}
    fields: dict[str, Any] = {name: np.zeros(shape) for name, shape in shapes.items()}
    real, complex_, whole = (
        dense_context(size, control, jacobian, complex_shift=pair)
        for size, jacobian, pair in ((n, fields["jacobian"], False), (n, fields["jacobian"], True), (m, None, False))
    )
    fields |= {
        "memory": np.zeros(1, dtype=COLLOCATION_MEMORY),
        "insist": 0,
        "growth": 0,
        **addresses,
        "real": real[0].ctypes.data,
        "complex": complex_[0].ctypes.data,
        "whole": whole[0].ctypes.data,
        "constants": constants_of(method, scales.newton, scales.between),
    }
    return DenseWork(**fields), (real, complex_, whole)


def _watch(native: NativeSystem, events: tuple[Event, ...], n: int) -> Watch:
    going, stop = going_codes(events, native.located)
    m = len(going)
    room = max(EVENT_ROOM, 2 * m) if m else 0
    times, which, states = np.zeros(room), np.zeros(room, dtype=np.int64), np.zeros((room, n))
    return Watch(m, room, native.event_addresses(), going, stop, np.zeros((3, m)), times, which, states, np.zeros(n))


def _output(n: int, degree: int) -> Output:
    room = int(min(CHUNK_STEPS, max(1, CHUNK_BYTES // (8 * (degree + 1) * n))))
    coefficients, ledger = np.empty((room, degree + 1, n)), np.empty((2 * room, len(LEDGER_COLUMNS)))
    return Output(room, 2 * room, (degree + 1) * n, np.empty(room), np.empty(room), coefficients, ledger)
