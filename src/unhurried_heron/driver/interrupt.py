"""Deferring Ctrl-C while a march runs, so that no exception lands inside a callback."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable
from types import FrameType, TracebackType
from typing import Any

# `signal` wraps plain numbers into enumerations, which costs a twentieth of a short run; these are plain numbers.
_INTERRUPT, _IGNORED = int(signal.SIGINT), int(signal.SIG_IGN)
_BARE: Any = vars(signal).get("_signal", signal)
_get, _set = _BARE.getsignal, _BARE.signal


class DeferredInterrupt:
    """While held, the first Ctrl-C only sets ``hit`` and calls ``stop``; a second one raises at once.

    Signals reach the main thread only; elsewhere this does nothing. A handler that the host set itself is called
    afterwards (`call_host`).
    """

    def __init__(self, stop: Callable[[], None]) -> None:
        self.hit = False
        self._stop = stop
        self._before: Any = None

    def __enter__(self) -> DeferredInterrupt:
        # None: a handler that was not set from Python, which could not be put back
        on_main = threading.current_thread() is threading.main_thread()
        present = _get(_INTERRUPT) if on_main else None
        # where Ctrl-C is ignored on purpose, as in a job in the background, it stays so
        if present is not None and present != _IGNORED:
            self._before = _set(_INTERRUPT, self._handle)
        return self

    def _handle(self, number: int, frame: FrameType | None) -> None:
        if self.hit:
            raise KeyboardInterrupt
        self.hit = True
        self._stop()

    def call_host(self) -> bool:
        """Call the handler that the host set, if it set one of its own; return whether it did."""
        own = callable(self._before) and self._before is not signal.default_int_handler
        if own:
            self._before(_INTERRUPT, None)
        return own

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Give Ctrl-C back to whom it belonged.

        Parameters
        ----------
        kind : type of BaseException, or None
        error : BaseException or None
        trace : traceback or None
        """
        if self._before is not None:
            _set(_INTERRUPT, self._before)
