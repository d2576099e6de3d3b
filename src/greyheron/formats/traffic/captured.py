"""Where packets lie in pcap and pcapng."""

import struct
from collections import Counter

from msgspec import Struct

from greyheron.analysis.traffic.records import LATEST
from greyheron.formats.format import Notice
from greyheron.formats.traffic.frames import LINKS
from greyheron.model.problems import DocumentError, Problem

_PCAP = {
    b"\xd4\xc3\xb2\xa1": ("<", 1000), b"\xa1\xb2\xc3\xd4": (">", 1000),
    b"\x4d\x3c\xb2\xa1": ("<", 1), b"\xa1\xb2\x3c\x4d": (">", 1),
}  # fmt: skip
"""Byte order, and nanoseconds of the smaller unit of time, by the first bytes."""
_PCAP_HEADER = 24
_SECTION = b"\x0a\x0d\x0d\x0a"
_INTERFACE, _OBSOLETE, _SIMPLE, _ENHANCED = 1, 2, 3, 6
_WITHOUT_PACKETS = frozenset({_INTERFACE, 4, 5, 9, 10, 0xBAD, 0x4000_0BAD, 0x0A0D_0D0A})
"""Names, statistics, journals, secrets, blocks of somebody's own, sections."""
_LYING, _NOWHERE, _STRANGE = (
    "say lengths of themselves that cannot be",
    "say that they were captured at an interface that the file does not describe",
    "are of kinds that are not known",
)
"""Why blocks of a section are left out."""
_RESOLUTION, _OFFSET = 9, 14
_SHORTEST_BLOCK = 12
_LINK = 0xFFFF
"""The bits of a link type; those above tell of frame check sequences."""
_SECOND = 1_000_000_000


class Packets(Struct, frozen=True):
    """Where captured packets lie: offset and length in the file, length on the wire, time, kind of link."""

    at: list[int]
    captured: list[int]
    whole: list[int]
    time: list[int]
    link: list[int]

    def add(self, at: int, captured: int, whole: int, time: int, link: int) -> None:
        self.at.append(at)
        self.captured.append(captured)
        self.whole.append(whole)
        self.time.append(max(0, min(time, LATEST)))
        self.link.append(link)


def is_capture(content: bytes) -> bool:
    return content[:4] in _PCAP or content[:4] == _SECTION


def packets_in(path: str, content: bytes) -> tuple[Packets, list[Notice]]:
    """All packets of links that are read, of a file that breaks off too. Raises DocumentError."""
    found = Packets([], [], [], [], [])
    notices: list[Notice] = []
    unread: Counter[int] = Counter()
    amiss: Counter[str] = Counter()
    if content[:4] == _SECTION:
        whole = _pcapng(content, found, unread, amiss)
    elif len(content) < _PCAP_HEADER:
        raise DocumentError([Problem(path, "this capture breaks off in its header")])
    else:
        whole = _pcap(content, found, unread)
    if not whole:
        notices.append(Notice(path, f"it breaks off in packet {len(found.at) + 1}: read as far as it goes"))
    kinds = ", ".join(map(str, sorted(unread)))
    if unread and not found.at:
        raise DocumentError(
            [Problem(path, f"captures of links of the kind {kinds} are not read: Ethernet or IP")]
        )
    if unread:
        many = f"{unread.total()} packets are of links of the kind {kinds}, which are not read: left out"
        notices.append(Notice(path, many))
    notices += [
        Notice(path, f"{count} of its blocks {why}: left out") for why, count in sorted(amiss.items())
    ]
    return found, notices


def _pcap(content: bytes, found: Packets, unread: Counter[int]) -> bool:
    """Adds to `found` and `unread`; whether the file ends where a packet does. So do those below."""
    order, unit = _PCAP[content[:4]]
    link = struct.unpack_from(f"{order}I", content, 20)[0] & _LINK
    if link not in LINKS:
        unread[link] += 1
        return True
    head = struct.Struct(f"{order}IIII")
    place, end = _PCAP_HEADER, len(content)
    while place + 16 <= end:
        seconds, part, length, wire = head.unpack_from(content, place)
        place += 16
        if length > end - place:
            return False
        found.add(place, length, wire, seconds * _SECOND + part * unit, link)
        place += length
    return place == end


class _CaptureInterface(Struct, frozen=True):
    """What a section says of where packets were captured.

    most:  bytes of a packet that were kept
    per_second:  units of its time in a second;  offset:  seconds to be added
    """

    link: int
    most: int
    per_second: int
    offset: int


class _Block(Struct, frozen=True):
    """A packet in a section, before all its interfaces are known; `ticks` is None where no time is told."""

    interface: int
    at: int
    captured: int
    whole: int
    ticks: int | None


def _pcapng(content: bytes, found: Packets, unread: Counter[int], amiss: Counter[str]) -> bool:
    """As `_pcap`; to `amiss` it adds why blocks are left out."""
    order, place, end = "<", 0, len(content)
    interfaces: list[_CaptureInterface] = []
    blocks: list[_Block] = []
    whole = True
    while place + _SHORTEST_BLOCK <= end:
        if content[place : place + 4] == _SECTION:
            _settle(blocks, interfaces, found, unread, amiss)
            order = "<" if content[place + 8 : place + 12] == b"\x4d\x3c\x2b\x1a" else ">"
            interfaces, blocks = [], []
        kind, length = struct.unpack_from(f"{order}II", content, place)
        if length < _SHORTEST_BLOCK or length % 4 or length > end - place:
            whole = False
            break
        body, last = place + 8, place + length - 4
        if struct.unpack_from(f"{order}I", content, last)[0] != length:
            amiss[_LYING] += 1
        if kind == _INTERFACE and last - body >= 8:
            interfaces.append(_interface(content, body, last, order))
        elif kind in (_ENHANCED, _OBSOLETE, _SIMPLE):
            block = _packet(content, kind, body, last, order)
            if block is None:
                amiss[_LYING] += 1
            else:
                blocks.append(block)
        elif kind not in _WITHOUT_PACKETS or kind == _INTERFACE:
            amiss[_STRANGE if kind != _INTERFACE else _LYING] += 1
        place += length
    _settle(blocks, interfaces, found, unread, amiss)
    return whole and place == end


def _packet(content: bytes, kind: int, body: int, last: int, order: str) -> _Block | None:
    """A packet block of any make; None if it holds less than it says."""
    room = last - body
    if kind == _ENHANCED and room >= 20:
        port, high, low, captured, wire = struct.unpack_from(f"{order}IIIII", content, body)
    elif kind == _OBSOLETE and room >= 20:
        port, _, high, low, captured, wire = struct.unpack_from(f"{order}HHIIII", content, body)
    elif kind == _SIMPLE and room >= 4:
        (wire,) = struct.unpack_from(f"{order}I", content, body)
        return _Block(0, body + 4, min(wire, room - 4), wire, None)
    else:
        return None
    return _Block(port, body + 20, captured, wire, high << 32 | low) if captured <= room - 20 else None


def _settle(
    blocks: list[_Block],
    interfaces: list[_CaptureInterface],
    found: Packets,
    unread: Counter[int],
    amiss: Counter[str],
) -> None:
    """The packets of a section, now that it is known where each was captured."""
    for block in blocks:
        if block.interface >= len(interfaces):
            amiss[_NOWHERE] += 1
            continue
        port = interfaces[block.interface]
        if port.link not in LINKS:
            unread[port.link] += 1
            continue
        time = 0
        if block.ticks is not None:
            time = block.ticks * _SECOND // port.per_second + port.offset * _SECOND
        kept = min(block.captured, port.most) if block.ticks is None and port.most else block.captured
        found.add(block.at, kept, block.whole, time, port.link)


def _interface(content: bytes, body: int, last: int, order: str) -> _CaptureInterface:
    link, _, most = struct.unpack_from(f"{order}HHI", content, body)
    per_second, offset, at = 1_000_000, 0, body + 8
    while at + 4 <= last:
        code, length = struct.unpack_from(f"{order}HH", content, at)
        if code == 0 or at + 4 + length > last:
            break
        if code == _RESOLUTION and length >= 1:
            value = content[at + 4]
            per_second = 1 << (value & 0x7F) if value & 0x80 else 10 ** min(value, 38)
        elif code == _OFFSET and length >= 8:
            (offset,) = struct.unpack_from(f"{order}q", content, at + 4)
        at += 4 + length + -length % 4
    return _CaptureInterface(link, most, per_second, offset)
