"""Captures as pcapng files, which every analyser reads (the capture format's open draft, version 1.0)."""

import os
import struct
from collections.abc import Iterable
from pathlib import Path

from greyheron.rehearsal.packets import Captured

_SECTION, _INTERFACE, _PACKET = 0x0A0D0D0A, 1, 6
_ETHERNET = 1
_NAME, _RESOLUTION, _NANOSECONDS = 2, 9, 9
_FLAGS, _INBOUND, _OUTBOUND = 2, 1, 2


def write_captures(file: Path, captured: Iterable[Captured]) -> None:
    """Put frames into a file, each at the port that had it: named `device port`. Raises OSError."""
    numbers: dict[tuple[str, str], int] = {}
    blocks: list[bytes] = []
    for each in sorted(captured, key=lambda each: each.at):
        port = each.device, each.port
        if port not in numbers:
            numbers[port] = len(numbers)
            options = (
                _option(_NAME, " ".join(port).encode())
                + _option(_RESOLUTION, bytes([_NANOSECONDS]))
                + bytes(4)
            )
            blocks.append(_block(_INTERFACE, struct.pack("<HHI", _ETHERNET, 0, 0) + options))
        high, low = each.at >> 32, each.at & 0xFFFF_FFFF
        length = len(each.frame)
        head = struct.pack("<IIIII", numbers[port], high, low, length, length)
        way = _option(_FLAGS, struct.pack("<I", _OUTBOUND if each.outgoing else _INBOUND)) + bytes(4)
        blocks.append(_block(_PACKET, head + _padded(each.frame) + way))
    section = struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1)
    _write_whole(file, b"".join([_block(_SECTION, section), *blocks]))


def _write_whole(file: Path, content: bytes) -> None:
    """Beside what is there, and in its place when it is whole; for its owner only, for it holds packets."""
    half = file.with_name(f".{file.name}.part")
    try:
        with os.fdopen(
            os.open(half, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, 0o600), "wb"
        ) as at:
            at.write(content)
        half.replace(file)
    except OSError:
        half.unlink(missing_ok=True)
        raise


def _block(kind: int, body: bytes) -> bytes:
    length = struct.pack("<I", len(body) + 12)
    return struct.pack("<I", kind) + length + body + length


def _option(code: int, value: bytes) -> bytes:
    return struct.pack("<HH", code, len(value)) + _padded(value)


def _padded(value: bytes) -> bytes:
    return value + bytes(-len(value) % 4)
