"""What a process does about its memory."""

import sys

import numpy as np
import psutil
import pytest

from greyheron import memory
from greyheron.memory import GivingBack, settle_memory

MIB = 1 << 20


@pytest.mark.skipif(sys.platform != "linux", reason="asks the C library of Linux")
def test_what_was_let_go_goes_back_to_the_system(monkeypatch: pytest.MonkeyPatch) -> None:
    """Even what lies between arrays that are still there."""
    monkeypatch.setattr(memory, "_BETWEEN", 0.0)
    settle_memory()
    process, give_back = psutil.Process(), GivingBack()
    arrays = [np.ones(60_000, dtype=np.uint8) for _ in range(2000)]
    full = process.memory_info().rss
    kept = arrays[::100]
    del arrays
    give_back()
    assert full - process.memory_info().rss > 60 * MIB
    assert all(each.all() for each in kept)


def test_giving_back_waits_for_its_turn(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[None] = []
    now = [100.0]
    monkeypatch.setattr(memory, "_BETWEEN", 5.0)
    monkeypatch.setattr(memory, "monotonic", lambda: now[0])
    monkeypatch.setattr("ctypes.CDLL", lambda _: asked.append(None))
    give_back = GivingBack()
    for now[0] in (101.0, 104.9, 105.0, 106.0, 110.5):
        give_back()
    assert len(asked) == 2
