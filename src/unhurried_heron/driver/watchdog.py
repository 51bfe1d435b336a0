"""Stopping a march in the middle of a long piece of work: a factorisation, a Jacobian by differences.

While native code runs, Python's signal handlers wait. The operating system's part of them does not: it writes a byte,
which a thread of ours reads; the same thread knows when the budget of seconds is used up. All it does is to set a cell
that the kernels look at. The byte goes through sockets, because not every system can wait for pipes.
"""

from __future__ import annotations

import math
import os
import select
import signal
import socket
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from types import TracebackType


class Watchdog:
    """While held, calls ``stop`` soon after Ctrl-C or after a number of seconds, whatever native code is running."""

    def __init__(self, stop: Callable[[], None], seconds: float) -> None:
        self._stop = stop
        self._deadline = None if seconds == math.inf else time.monotonic() + seconds
        self._before = -1
        self._on_main = threading.current_thread() is threading.main_thread()

    def __enter__(self) -> Watchdog:
        self._end_read, self._end_write = socket.socketpair()
        self._read, self._write = socket.socketpair()
        if self._on_main:
            self._write.setblocking(False)
            self._before = signal.set_wakeup_fd(self._write.fileno(), warn_on_full_buffer=False)
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._thread.start()
        return self

    def _watch(self) -> None:
        while True:
            left = None if self._deadline is None else max(0.0, self._deadline - time.monotonic())
            ready, _, _ = select.select([self._read, self._end_read], [], [], left)
            if self._end_read in ready:
                return
            if self._read in ready:
                signals = self._read.recv(64)
                if self._before != -1:
                    # a socket of the host's, where sockets are no files
                    with suppress(OSError):
                        os.write(self._before, signals)
                if signal.SIGINT in signals:
                    self._stop()
            else:
                self._deadline = None
                self._stop()

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Stop the thread.

        Parameters
        ----------
        kind : type of BaseException, or None
        error : BaseException or None
        trace : traceback or None
        """
        if self._on_main:
            signal.set_wakeup_fd(self._before, warn_on_full_buffer=False)
        self._end_write.send(b"x")
        self._thread.join()
        for end in (self._read, self._write, self._end_read, self._end_write):
            end.close()
