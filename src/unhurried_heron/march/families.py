"""Laying out the bundles of each family of methods and naming its kernel."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np

from unhurried_heron.kernels.bundles import (
    DENSE_VECTORS,
    DenseWork,
    Output,
    System,
    Tableau,
    Watch,
)
from unhurried_heron.kernels.control import CONTROL, LEDGER_COLUMNS
from unhurried_heron.methods.catalogue import Method
from unhurried_heron.methods.runge_kutta import RungeKutta
from unhurried_heron.native.system import NativeSystem, going_codes
from unhurried_heron.problem.event import Event
from unhurried_heron.run.trajectory import Array

# steps to a chunk: enough to make a call cheap, few enough to stay in the processor's cache
CHUNK_STEPS = 1024
CHUNK_BYTES = 4_194_304
EVENT_ROOM = 64


@dataclass
class March:
    """A march ready to run; all arrays are owned here. ``arguments`` are what the kernel takes before the output."""

    kernel: Any
    arguments: tuple[Any, ...]
    control: Any
    system: System
    watch: Watch
    output: Output
    native: NativeSystem
    trial: Array
    keep: tuple[Any, ...] = ()

    def chunk(self) -> int:
        """March on until the kernel returns; its reason."""
        return int(self.kernel(*self.arguments, self.output))

    def renew_output(self) -> None:
        """Take new buffers for the steps, because the present ones are being kept."""
        _, degree, n = self.output.coefficients.shape
        self.output = _output(n, degree - 1)


def lay_out(
    method: Method, native: NativeSystem, state: Array, scales: tuple[Array, Array], events: tuple[Event, ...]
) -> March:
    """Allocate everything a march needs.

    Parameters
    ----------
    method : RungeKutta or Collocation
    native : NativeSystem
    state : ndarray, shape (n_states,)
        The start; the march writes into a copy of it.
    scales : tuple of ndarray, shape (n_states,) each
        Relative and absolute tolerance of the error estimate.
    events : tuple of Event
    """
    n = state.size
    control = np.zeros(1, dtype=CONTROL)
    system = System(native.addresses(), state.copy(), *scales)
    watch = _watch(native, events, n)
    if isinstance(method, RungeKutta):
        from unhurried_heron.kernels.explicit_runge_kutta import march

        tableau, engine = _tableau(method, n)
        output = _output(n, method.interpolant.shape[0])
        arguments = (system, tableau, control, watch)
        return March(march, arguments, control, system, watch, output, native, tableau.trial, (engine,))
    from unhurried_heron.kernels import collocation
    from unhurried_heron.kernels.collocation_constants import constants_of

    work = _dense_work(n)
    output = _output(n, method.stages)
    march_arguments = (system, constants_of(method), control, work, watch)
    return March(collocation.march, march_arguments, control, system, watch, output, native, work.vectors[0])


def _tableau(method: RungeKutta, n: int) -> tuple[Tableau, Any]:
    addresses, engine = _tableau_code(method)
    lowest = min(method.order, method.embedded_order) if method.adaptive else method.order
    degree, width = method.interpolant.shape
    tableau = Tableau(
        addresses=np.array(addresses, dtype=np.int64),
        shape=np.array([method.stages, degree, width, lowest + 1], dtype=np.int64),
        stages=np.zeros((width, n)),
        trial=np.zeros(n),
        where=np.zeros(1, dtype=np.int64),
    )
    return tableau, engine


@functools.lru_cache(maxsize=64)
def _tableau_code(method: RungeKutta) -> tuple[tuple[int, int, int], Any]:
    from unhurried_heron.kernels.tableau_code import compile_tableau

    a = np.array([[float(x) for x in row] for row in method.a])
    b, c = (np.array([float(x) for x in row]) for row in (method.b, method.c))
    return compile_tableau(a, b, c, method.error_weights, method.interpolant)


def _dense_work(n: int) -> DenseWork:
    return DenseWork(
        jacobian=np.zeros((n, n)),
        real=np.zeros((n, n)),
        re=np.zeros((n, n)),
        im=np.zeros((n, n)),
        pivots=np.zeros((2, n), dtype=np.int64),
        vectors=np.zeros((DENSE_VECTORS, n)),
    )


def _watch(native: NativeSystem, events: tuple[Event, ...], n: int) -> Watch:
    going, stop = going_codes(events)
    m = len(events)
    room = max(EVENT_ROOM, 2 * m) if m else 0
    return Watch(
        native.event_addresses(),
        going,
        stop,
        np.zeros((3, m)),
        np.zeros(room),
        np.zeros(room, dtype=np.int64),
        np.zeros((room, n)),
        np.zeros(n),
    )


def _output(n: int, degree: int) -> Output:
    room = int(min(CHUNK_STEPS, max(1, CHUNK_BYTES // (8 * (degree + 1) * n))))
    return Output(
        np.empty(room),
        np.empty(room),
        np.empty((room, degree + 1, n)),
        np.empty((2 * room, len(LEDGER_COLUMNS))),
    )
