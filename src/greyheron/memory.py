"""How a process goes about its memory."""

import ctypes
import gc
from contextlib import suppress
from threading import Lock
from time import monotonic

_THRESHOLDS = (20_000, 20, 20)
_ARENA_MAX = -8
"""M_ARENA_MAX of mallopt(3)."""
_BETWEEN = 20.0
"""Seconds between two times that memory is given back."""


def settle_memory() -> None:
    """Raise the cyclic collector's thresholds, and let all threads share one heap.

    Networks are values without circles: to look for those less often takes a fifth off reading one. Where
    each thread has a place of its own, what one gives back is of no use to the others, and a server that
    runs for long takes ever more.
    """
    gc.set_threshold(*_THRESHOLDS)
    with suppress(AttributeError, OSError):  # a system whose library has no such places
        ctypes.CDLL(None).mallopt(_ARENA_MAX, 1)


class GivingBack:
    """Gives the system back what this process has let go: arrays that came and went leave holes."""

    def __init__(self) -> None:
        self._last = monotonic()
        self._lock = Lock()

    def __call__(self) -> None:
        """After a piece of work; nothing is done where it was done a moment ago. See malloc_trim(3)."""
        with self._lock:
            if monotonic() - self._last < _BETWEEN:
                return
            self._last = monotonic()
        with suppress(AttributeError, OSError):
            ctypes.CDLL(None).malloc_trim(0)
