"""Laying out the bundles of each family of methods and naming its kernel."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from unhurried_heron.kernels.bundles import OUTPUT, DenseWork, Output, System, Tableau, Watch, address_table
from unhurried_heron.kernels.collocation_constants import constants_of
from unhurried_heron.kernels.control import CONTROL, LEDGER_COLUMNS
from unhurried_heron.kernels.loading import Kernel, load_kernel
from unhurried_heron.kernels.tableau_code import compile_tableau
from unhurried_heron.march.error_scale import ErrorScale
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
    watch: Watch
    output: Output
    own: Tableau | DenseWork
    native: NativeSystem
    keep: tuple[Any, ...] = ()
    table: Any = field(init=False)

    def __post_init__(self) -> None:
        self.table = address_table(self.control, *self.system, *self.watch, *self.output, *self.own)
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
    system = System(n, *native.addresses(), state.copy(), scales.relative, scales.absolute)
    watch = _watch(native, events, n)
    if isinstance(method, RungeKutta):
        tableau, engine = _tableau(method, n)
        output = _output(n, tableau.degree)
        kernel = load_kernel("explicit_runge_kutta", "march")
        return March(kernel, control, system, watch, output, tableau, native, (engine,))
    kernel = load_kernel("collocation", "march")
    output = _output(n, method.stages + 1)
    return March(kernel, control, system, watch, output, _dense_work(method, n, scales, fixed=fixed), native)


def _tableau(method: RungeKutta, n: int) -> tuple[Tableau, Any]:
    addresses, engine = _tableau_code(method)
    lowest = min(method.order, method.embedded_order) if method.adaptive else method.order
    degree, width = method.interpolant.shape
    stages, trial, where = np.zeros((width, n)), np.zeros(n), np.zeros(1, dtype=np.int64)
    return Tableau(*addresses, degree, width, lowest + 1, stages, trial, where), engine


@functools.lru_cache(maxsize=64)
def _tableau_code(method: RungeKutta) -> tuple[tuple[int, int, int], Any]:
    a = np.array([[float(x) for x in row] for row in method.a])
    b, c = (np.array([float(x) for x in row]) for row in (method.b, method.c))
    return compile_tableau(a, b, c, method.error_weights, method.interpolant)


def _dense_work(method: Collocation, n: int, scales: ErrorScale, *, fixed: bool) -> DenseWork:
    stubborn = fixed and 3 * n <= MOST_WHOLE
    m = 3 * n if stubborn else 0
    shapes: dict[str, Any] = dict.fromkeys(DenseWork._fields, n)
    shapes |= dict.fromkeys(("jacobian", "real", "re", "im"), (n, n))
    small = n <= MOST_EIGENVALUES
    shapes |= {"spare": n * n + 1 if small else 0, "whole": (m, m), "whole_pivots": m, "stacked": m, "direction": m}
    whole_numbers = ("pivots", "pivots_complex", "whole_pivots")
    arrays = {
        name: np.zeros(shape, dtype=np.int64 if name in whole_numbers else np.float64) for name, shape in shapes.items()
    }
    addresses = {
        "insist": load_kernel("stubborn", "insist").address if stubborn else 0,
        "growth": load_kernel("eigenvalues", "growth").address if small else 0,
    }
    constants = constants_of(method, scales.newton, scales.between)
    return DenseWork(**{**arrays, **addresses, "constants": constants})  # type: ignore[arg-type]  # by name


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
