"""Captures that say of themselves what is not so: nothing is lost of them without a word."""

import struct
from random import Random

import pytest

from greyheron.formats.bundle import Bundle
from greyheron.formats.traffic import read_traffic
from greyheron.model.problems import DocumentError

PACKETS = 3
ADDRESSES = bytes.fromhex("ac14100a ac14280a")


def frame(number: int) -> bytes:
    ports = struct.pack(">HHHH", 4000 + number, 53, 8, 0)
    head = bytes.fromhex("4500 001c 0000 4000 4011 0000".replace(" ", "")) + ADDRESSES
    return bytes(12) + b"\x08\x00" + head + ports


def block(kind: int, body: bytes) -> bytes:
    length = struct.pack("<I", len(body) + 12)
    return struct.pack("<I", kind) + length + body + length


def enhanced(number: int) -> bytes:
    packet = frame(number)
    head = struct.pack("<IIIII", 0, 0, number, len(packet), len(packet))
    return block(6, head + packet + bytes(-len(packet) % 4))


def capture() -> bytes:
    section = block(0x0A0D0D0A, struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1))
    return section + block(1, struct.pack("<HHI", 1, 0, 0)) + b"".join(map(enhanced, range(PACKETS)))


FIRST = len(capture()) - PACKETS * len(enhanced(0))
LIES: dict[str, tuple[int, int, str]] = {
    "a packet longer than its block": (FIRST + 20, 5000, "say lengths of themselves that cannot be"),
    "a block longer than the file": (FIRST + 4, 1 << 20, "breaks off"),
    "a block shorter than a block": (FIRST + 4, 8, "breaks off"),
    "two lengths of one block": (FIRST + len(enhanced(0)) - 4, 64, "say lengths of themselves"),
    "an interface that is not there": (FIRST + 8, 7, "an interface that the file does not describe"),
    "a block of no kind": (FIRST, 77, "of kinds that are not known"),
}


def told(content: bytes) -> tuple[int, str]:
    records, notices, _ = read_traffic(Bundle("lies.pcapng", {"lies.pcapng": content}))
    return len(records), " ".join(map(str, notices))


def test_without_lies_nothing_is_said() -> None:
    assert told(capture()) == (PACKETS, "")


@pytest.mark.parametrize("lie", LIES)
def test_a_lie_is_told_of(lie: str) -> None:
    at, value, words = LIES[lie]
    content = bytearray(capture())
    struct.pack_into("<I", content, at, value)
    _, said = told(bytes(content))
    assert words in said


@pytest.mark.parametrize("seed", range(20))
def test_no_packet_is_lost_without_a_word(seed: int) -> None:
    chance = Random(seed)
    for _ in range(60):
        content = bytearray(capture())
        field = chance.choice([0, 4, 8, 20, len(enhanced(0)) - 4])
        value = chance.choice([0, 2, 11, 12, 16, 40, 1000, 1 << 20, 1 << 31, 0xFFFF_FFFF])
        struct.pack_into("<I", content, FIRST + chance.randrange(PACKETS) * len(enhanced(0)) + field, value)
        try:
            count, said = told(bytes(content))
        except DocumentError:
            continue
        assert count == PACKETS or said, (field, value)
