"""How long work is watched: it tells how much is done, and ends where nobody waits for it any more."""

from collections.abc import Callable, Sequence
from time import monotonic
from typing import Any


class Cancelled(Exception):
    """Nobody waits for the result any more."""


Progress = Callable[[float], None]
"""Told how much is done, 0 to 1. Raises Cancelled where the work should end."""


def unwatched(_done: float) -> None:
    """Progress that nobody looks at."""


Found = Callable[[Sequence[Any]], None]
"""Told what work has found since it was told last, before all of it is done."""


def unheard(_found: Sequence[Any]) -> None:
    """Findings that nobody waits for before the work is done."""


def within(seconds: float) -> Progress:
    """Progress of work that is ended when it has taken so long."""
    end = monotonic() + seconds

    def on(_done: float) -> None:
        if monotonic() > end:
            raise Cancelled

    return on


def part(progress: Progress, number: int, count: int) -> Progress:
    """The progress of one of `count` equal parts of a piece of work."""

    def on(done: float) -> None:
        progress((number + done) / count)

    return on
