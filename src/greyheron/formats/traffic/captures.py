"""Packet captures: pcap, and pcapng (both as their open specifications say), read as arrays.

Where records lie is found one after another; what is in them is read of all at once.
"""

import struct
from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from greyheron.analysis.traffic.records import LATEST, Halves, Records, joined
from greyheron.core.bulk.headers import Bools, Ints
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice
from greyheron.model.problems import DocumentError, Problem

_PCAP = {
    b"\xd4\xc3\xb2\xa1": ("<", 1000), b"\xa1\xb2\xc3\xd4": (">", 1000),
    b"\x4d\x3c\xb2\xa1": ("<", 1), b"\xa1\xb2\x3c\x4d": (">", 1),
}  # fmt: skip
"""Byte order, and nanoseconds of the smaller unit of time, by the first bytes."""
_PCAPNG = b"\x0a\x0d\x0d\x0a"
_ETHERNET, _RAW, _COOKED, _COOKED_2, _NULL, _LOOP = 1, (12, 14, 101, 228, 229), 113, 276, 0, 108
_SHORTEST_BLOCK = 12
_AT_ONCE = 1 << 18
_V4, _V6 = 0x0800, 0x86DD
_TAGS = (0x8100, 0x88A8, 0x9100)
_OPTIONS = (0, 43, 60)
"""IPv6 extension headers that are passed over, each by its own length (RFC 8200 4)."""
_FRAGMENT, _TCP, _UDP, _SCTP, _ICMP, _ICMP6 = 44, 6, 17, 132, 1, 58
_SYN, _ACK, _SYN_ACK = 0x02, 0x10, 0x12
_TELLING = 0x16  # SYN, RST, ACK
_SECOND = 1_000_000_000
Bytes = NDArray[np.uint8]


class _Packets(Struct, frozen=True):
    """Where captured packets lie: offset and length in the file, length on the wire, time, kind of link."""

    at: Sequence[int]
    captured: Sequence[int]
    whole: Sequence[int]
    time: Sequence[int]
    link: Sequence[int]


def is_capture(content: bytes) -> bool:
    return content[:4] in _PCAP or content[:4] == _PCAPNG


def read_capture(
    path: str, content: bytes, _columns: Mapping[str, str], progress: Progress
) -> tuple[Records, list[Notice]]:
    """The packets in a capture. A file that breaks off is read as far as it goes. Raises DocumentError."""
    notices: list[Notice] = []
    packets = _pcapng(path, content, notices) if content[:4] == _PCAPNG else _pcap(path, content, notices)
    whole = np.frombuffer(content, dtype=np.uint8)
    found: list[Records] = []
    strange = 0
    count = len(packets.at)
    for first in range(0, count, _AT_ONCE):
        progress(first / count)
        records, others = _read(whole, packets, slice(first, first + _AT_ONCE))
        found.append(records)
        strange += others
    if strange:
        notices.append(Notice(path, f"{strange} of {count} frames hold no IP packet: left out"))
    return joined(found), notices


def _pcap(path: str, content: bytes, notices: list[Notice]) -> _Packets:
    order, unit = _PCAP[content[:4]]
    if len(content) < 24:
        raise DocumentError([Problem(path, "this capture breaks off in its header")])
    (link,) = struct.unpack_from(f"{order}I", content, 20)
    link &= 0x0FFF_FFFF
    _require_link(path, link)
    head = struct.Struct(f"{order}IIII")
    at: list[int] = []
    captured: list[int] = []
    whole: list[int] = []
    time: list[int] = []
    place, end = 24, len(content)
    while place + 16 <= end:
        seconds, part, length, wire = head.unpack_from(content, place)
        place += 16
        if length > end - place:
            notices.append(Notice(path, f"it breaks off in packet {len(at) + 1}: read as far as it goes"))
            break
        at.append(place)
        captured.append(length)
        whole.append(wire)
        time.append(seconds * _SECOND + part * unit)
        place += length
    return _Packets(at, captured, whole, time, [link] * len(at))


def _pcapng(path: str, content: bytes, notices: list[Notice]) -> _Packets:
    found: tuple[list[int], ...] = ([], [], [], [], [])
    order, place, end = "<", 0, len(content)
    links: list[tuple[int, int]] = []
    while place + _SHORTEST_BLOCK <= end:
        if content[place : place + 4] == _PCAPNG:
            order = "<" if content[place + 8 : place + 12] == b"\x4d\x3c\x2b\x1a" else ">"
            links = []
        kind, length = struct.unpack_from(f"{order}II", content, place)
        if length < _SHORTEST_BLOCK or length % 4 or length > end - place:
            notices.append(
                Notice(path, f"it breaks off in packet {len(found[0]) + 1}: read as far as it goes")
            )
            break
        body, last = place + 8, place + length - 4
        if kind == 1 and last - body >= 8:
            links.append(
                (*struct.unpack_from(f"{order}H", content, body), _unit(content, body + 8, last, order))
            )
            _require_link(path, links[-1][0])
        elif kind == 6 and last - body >= 20:
            port, high, low, captured, wire = struct.unpack_from(f"{order}IIIII", content, body)
            if port < len(links) and captured <= last - body - 20:
                link, unit = links[port]
                time = min((high << 32 | low) * unit, LATEST)
                for into, value in zip(found, (body + 20, captured, wire, time, link), strict=True):
                    into.append(value)
        elif kind == 3 and links:
            (wire,) = struct.unpack_from(f"{order}I", content, body)
            captured = min(wire, last - body - 4)
            for into, value in zip(found, (body + 4, captured, wire, 0, links[0][0]), strict=True):
                into.append(value)
        place += length
    return _Packets(*found)


def _unit(content: bytes, at: int, end: int, order: str) -> int:
    """Nanoseconds of an interface's unit of time: its option if_tsresol, else microseconds."""
    while at + 4 <= end:
        code, length = struct.unpack_from(f"{order}HH", content, at)
        if code == 0 or at + 4 + length > end:
            break
        if code == 9 and length >= 1:
            value = content[at + 4]
            return max(1, _SECOND >> (value & 0x7F) if value & 0x80 else _SECOND // 10 ** min(value, 9))
        at += 4 + length + -length % 4
    return 1000


def _require_link(path: str, link: int) -> None:
    if link not in (_ETHERNET, _COOKED, _COOKED_2, _NULL, _LOOP, *_RAW):
        raise DocumentError(
            [Problem(path, f"captures of links of the kind {link} are not read: Ethernet or IP")]
        )


class _Heads:
    """The bytes of many packets, by their place in each; behind what was captured nothing stands."""

    def __init__(self, whole: Bytes, at: Ints, room: Ints) -> None:
        self._whole, self._at, self.room = whole, at, room

    def __len__(self) -> int:
        return len(self._at)

    def take(self, which: Ints) -> "_Heads":
        return _Heads(self._whole, self._at[which], self.room[which])

    def one(self, place: Ints | int) -> Ints:
        found = self._whole[np.minimum(self._at + place, len(self._whole) - 1)]
        return np.where(place < self.room, found, 0).astype(np.int64)

    def two(self, place: Ints | int) -> Ints:
        return self.one(place) << 8 | self.one(place + 1)

    def four(self, place: Ints) -> Ints:
        return self.two(place) << 16 | self.two(place + 2)

    def eight(self, place: Ints) -> Halves:
        high, low = self.four(place).astype(np.uint64), self.four(place + 4).astype(np.uint64)
        return high << np.uint64(32) | low


def _read(whole: Bytes, packets: _Packets, which: slice) -> tuple[Records, int]:
    """Some packets in arrays, and how many hold no IP packet."""
    link = np.array(packets.link[which], dtype=np.int64)
    every = _Heads(
        whole,
        np.array(packets.at[which], dtype=np.int64),
        np.array(packets.captured[which], dtype=np.int64),
    )
    start, kind = _network(every, link)
    six = kind == _V6
    keep = np.flatnonzero(((kind == _V4) & (every.room >= start + 20)) | (six & (every.room >= start + 40)))
    heads, start, six = every.take(keep), start[keep], six[keep]
    behind, protocol, first = _behind(heads, start, six)
    ported = first & np.isin(protocol, (_TCP, _UDP, _SCTP)) & (heads.room >= behind + 4)
    icmp = first & np.isin(protocol, (_ICMP, _ICMP6)) & (heads.room >= behind + 1)
    kinds = np.where(icmp, heads.one(behind), -1)
    flags = np.where(ported & (protocol == _TCP), heads.one(behind + 13), 0)
    echo = icmp & (kinds == np.where(six, 128, 8))
    source_high = destination_high = np.zeros(len(keep), dtype=np.uint64)
    source_low = heads.four(start + 12).astype(np.uint64)
    destination_low = heads.four(start + 16).astype(np.uint64)
    if six.any():
        source_high = np.where(six, heads.eight(start + 8), source_high)
        source_low = np.where(six, heads.eight(start + 16), source_low)
        destination_high = np.where(six, heads.eight(start + 24), destination_high)
        destination_low = np.where(six, heads.eight(start + 32), destination_low)
    time = np.array(packets.time[which], dtype=np.int64)[keep]
    records = Records(
        six=six,
        source_high=source_high,
        source_low=source_low,
        destination_high=destination_high,
        destination_low=destination_low,
        protocol=protocol,
        source_port=np.where(ported, heads.two(behind), -1),
        destination_port=np.where(ported, heads.two(behind + 2), kinds),
        packets=np.ones(len(keep), dtype=np.int64),
        octets=np.array(packets.whole[which], dtype=np.int64)[keep],
        back=np.full(len(keep), -1, dtype=np.int64),
        first=time,
        last=time,
        opens=echo | ((protocol == _TCP) & (flags & _SYN_ACK == _SYN)),
        hears=np.where(protocol == _TCP, flags & _TELLING == _ACK, -1),
    )
    return records, len(every) - len(keep)


def _network(heads: _Heads, link: Ints) -> tuple[Ints, Ints]:
    """Where the network header of each packet begins, and its EtherType."""
    kinds = [link == _ETHERNET, link == _COOKED, link == _COOKED_2, (link == _NULL) | (link == _LOOP)]
    start = np.select(kinds, [14, 16, 20, 4], 0)
    typed = np.select(kinds[:3], [12, 14, 0], -1)
    kind = np.where(typed >= 0, heads.two(np.maximum(typed, 0)), 0)
    for _ in range(2):
        tagged = np.isin(kind, _TAGS)
        if not tagged.any():
            break
        kind = np.where(tagged, heads.two(start + 2), kind)
        start = np.where(tagged, start + 4, start)
    version = heads.one(start) >> 4
    plain = np.where(version == 4, _V4, np.where(version == 6, _V6, 0))
    return start, np.where(typed < 0, plain, np.where(plain == kind, kind, 0))


def _behind(heads: _Heads, start: Ints, six: Bools) -> tuple[Ints, Ints, Bools]:
    """Where what stands behind the IP header begins, its protocol, and whether it is a first fragment."""
    behind = np.where(six, start + 40, start + (heads.one(start) & 15) * 4)
    protocol = np.where(six, heads.one(start + 6), heads.one(start + 9))
    first = six | (heads.two(start + 6) & 0x1FFF == 0)
    for _ in range(4):
        more = six & np.isin(protocol, _OPTIONS)
        piece = six & (protocol == _FRAGMENT)
        if not (more | piece).any():
            break
        first &= ~piece | (heads.two(behind + 2) >> 3 == 0)
        length = np.where(more, (heads.one(behind + 1) + 1) * 8, np.where(piece, 8, 0))
        protocol = np.where(more | piece, heads.one(behind), protocol)
        behind = behind + length
    return behind, protocol, first
