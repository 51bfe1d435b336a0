"""Factorisations of SuperLU, which nothing stops, in threads that can be left to themselves."""

from __future__ import annotations

import atexit
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any, Final

# Unknowns from which a factorisation has a thread of its own.
_OWN_THREAD: Final = 2000
# Seconds between two looks whether it must end.
_LOOK_SECONDS: Final = 0.05
# Seconds that the process waits for such threads at its end.
_LAST_SECONDS: Final = 5.0

# Threads for whose factors nobody waits any more.
_left: list[threading.Thread] = []


@atexit.register
def _wait_for_those_left() -> None:
    """Give factorisations that were left to themselves some seconds before the interpreter ends under them."""
    deadline = time.monotonic() + _LAST_SECONDS
    for thread in _left:
        thread.join(max(0.0, deadline - time.monotonic()))


def apart(make: Callable[[], Any], n: int, control: Any) -> Any:
    """Return the factors of SuperLU; None where the matrix is singular, or the march is stopped meanwhile.

    Nothing stops the factorisation itself, so a large one has a thread, which is left to itself.

    Parameters
    ----------
    make : callable
        Returns them.
    n : int
        Order of the matrix.
    control : CONTROL

    Returns
    -------
    object or None

    Raises
    ------
    Exception
        Any but that of a singular matrix.
    """
    if n < _OWN_THREAD:
        with suppress(RuntimeError):
            return make()
        return None
    found: list[Any] = []
    wrong: list[Exception] = []
    done = threading.Event()

    def work() -> None:
        try:
            found.append(make())
        except RuntimeError:
            found.append(None)
        except Exception as error:  # it is raised where it is waited for
            wrong.append(error)
        done.set()

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    while not done.wait(_LOOK_SECONDS):
        if control["stop"][0] != 0:
            _left[:] = [*(each for each in _left if each.is_alive()), thread]
            return None
    if wrong:
        raise wrong[0]
    return found[0]
