"""IPFIX files (RFC 5655): messages of RFC 7011 one after another, with the templates that they need."""

import struct
from collections.abc import Iterator, Mapping

from msgspec import Struct

from greyheron.analysis.traffic.records import LATEST, MOST_COUNTED, NO_TIME, RecordRow, Records, gathered
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice
from greyheron.model.problems import DocumentError, Problem

VERSION = 10
_HEADER = struct.Struct("!HHIII")
_TEMPLATES, _OPTIONS, _FIRST_DATA = 2, 3, 256
_VARIABLE = 0xFFFF
_MILLI, _SECOND = 1_000_000, 1_000_000_000
# Information elements (IANA IPFIX registry).
_SOURCE, _DESTINATION, _SOURCE6, _DESTINATION6 = 8, 12, 27, 28
_PROTOCOL, _SOURCE_PORT, _DESTINATION_PORT, _ICMP4, _ICMP6 = 4, 7, 11, 32, 139
_OCTETS, _PACKETS, _ALL_OCTETS, _ALL_PACKETS, _FLAGS = 1, 2, 85, 86, 6
_TIMES = {150: _SECOND, 152: _MILLI}, {151: _SECOND, 153: _MILLI}
_REVERSE = 29305
"""The enterprise of elements for the way back (RFC 5103)."""


class _Element(Struct, frozen=True):
    number: int
    enterprise: int
    length: int


_Templates = dict[tuple[int, int], list[_Element]]


def is_ipfix(content: bytes) -> bool:
    if len(content) < _HEADER.size:
        return False
    version, length, *_ = _HEADER.unpack_from(content)
    return bool(version == VERSION and _HEADER.size <= length <= len(content))


def read_ipfix(
    path: str, content: bytes, _columns: Mapping[str, str], progress: Progress
) -> tuple[Records, list[Notice]]:
    """A record for each flow. Raises DocumentError where what is no message begins."""
    templates: _Templates = {}
    rows: list[RecordRow] = []
    notices: list[Notice] = []
    place, unknown, strange = 0, 0, 0
    while place + _HEADER.size <= len(content):
        version, length, _, _, domain = _HEADER.unpack_from(content, place)
        if version != VERSION or length < _HEADER.size or length > len(content) - place:
            raise DocumentError([Problem(f"{path}, byte {place}", "no whole IPFIX message begins here")])
        progress(place / len(content))
        for kind, body in _sets(content[place + _HEADER.size : place + length]):
            if kind == _TEMPLATES:
                _learn(templates, domain, body)
            elif kind >= _FIRST_DATA:
                template = templates.get((domain, kind))
                if template is None:
                    unknown += 1
                    continue
                for values in _records(body, template):
                    row = _row(values)
                    strange += row is None
                    rows += [] if row is None else [row]
        place += length
    if unknown:
        notices.append(Notice(path, f"{unknown} sets came before their templates, or without: left out"))
    if strange:
        notices.append(Notice(path, f"{strange} records have no addresses: left out"))
    return gathered(rows), notices


def _sets(body: bytes) -> Iterator[tuple[int, bytes]]:
    at = 0
    while at + 4 <= len(body):
        kind, length = struct.unpack_from("!HH", body, at)
        if length < 4 or at + length > len(body):
            return
        yield kind, body[at + 4 : at + length]
        at += length


def _learn(templates: _Templates, domain: int, body: bytes) -> None:
    at = 0
    while at + 4 <= len(body):
        number, count = struct.unpack_from("!HH", body, at)
        at += 4
        elements: list[_Element] = []
        for _ in range(count):
            if at + 4 > len(body):
                return
            element, length = struct.unpack_from("!HH", body, at)
            at += 4
            enterprise = 0
            if element & 0x8000:
                if at + 4 > len(body):
                    return
                (enterprise,) = struct.unpack_from("!I", body, at)
                at += 4
            elements.append(_Element(element & 0x7FFF, enterprise, length))
        if number >= _FIRST_DATA and elements:
            templates[domain, number] = elements


def _records(body: bytes, template: list[_Element]) -> Iterator[dict[tuple[int, int], int]]:
    """The values of each record as numbers, by enterprise and element."""
    least = sum(1 if each.length == _VARIABLE else each.length for each in template)
    at = 0
    while least and at + least <= len(body):
        values: dict[tuple[int, int], int] = {}
        for each in template:
            length = each.length
            if length == _VARIABLE:
                length, at = body[at] if at < len(body) else 0, at + 1
                if length == 255 and at + 2 <= len(body):
                    (length,) = struct.unpack_from("!H", body, at)
                    at += 2
            if at + length > len(body):
                return
            if length <= 16:
                values[each.enterprise, each.number] = int.from_bytes(body[at : at + length], "big")
            at += length
        yield values


def _row(values: Mapping[tuple[int, int], int]) -> RecordRow | None:
    def value(*elements: int, otherwise: int = -1, enterprise: int = 0) -> int:
        return next(
            (values[enterprise, each] for each in elements if (enterprise, each) in values), otherwise
        )

    six = (0, _SOURCE6) in values
    source, destination = value(_SOURCE6, _SOURCE), value(_DESTINATION6, _DESTINATION)
    protocol = value(_PROTOCOL)
    if min(source, destination, protocol) < 0 or max(source, destination) >> (128 if six else 32):
        return None
    port = value(_DESTINATION_PORT)
    icmp = value(_ICMP6 if six else _ICMP4)
    if protocol in (1, 58):
        port = icmp >> 8 if icmp >= 0 else port >> 8 if port > 255 else (128 if six else 8)
    times = [
        next((values[0, each] * scale for each, scale in kinds.items() if (0, each) in values), NO_TIME)
        for kinds in _TIMES
    ]
    flags = value(_FLAGS, otherwise=0)
    back = value(_PACKETS, _ALL_PACKETS, enterprise=_REVERSE)
    return RecordRow(
        six,
        source,
        destination,
        min(protocol, 255),
        min(value(_SOURCE_PORT), 65535),
        min(port, 65535),
        _bounded(value(_PACKETS, _ALL_PACKETS, otherwise=1)),
        _bounded(value(_OCTETS, _ALL_OCTETS, otherwise=0)),
        _bounded(back),
        min(times[0], LATEST),
        min(times[1] or times[0], LATEST),
        opens=flags & 0x12 == 0x02 or back >= 0,
    )


def _bounded(value: int) -> int:
    """What fits into the arrays."""
    return min(value, MOST_COUNTED)
