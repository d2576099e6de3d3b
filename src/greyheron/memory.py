"""How a process goes about its memory."""

import ctypes
import gc
from contextlib import suppress

_THRESHOLDS = (20_000, 20, 20)
_ARENA_MAX = -8
"""M_ARENA_MAX of mallopt(3)."""


def settle_memory() -> None:
    """Circles are looked for seldom, and all threads take memory from one place.

    Networks are values without circles: to look for those less often takes a fifth off reading one. Where
    each thread has a place of its own, what one gives back is of no use to the others, and a server that
    runs for long takes ever more.
    """
    gc.set_threshold(*_THRESHOLDS)
    with suppress(AttributeError, OSError):  # a system whose library has no such places
        ctypes.CDLL(None).mallopt(_ARENA_MAX, 1)
