"""What an IPFIX flow record says (IANA IPFIX registry): whose flow, how much each way, and when."""

from collections.abc import Callable, Mapping

from msgspec import Struct

from greyheron.analysis.traffic.records import LATEST, MOST_COUNTED, NO_TIME, RecordRow
from greyheron.model.names import ICMP_TYPES
from greyheron.model.values import Family

REVERSE = 29305
"""The enterprise of elements for the way back (RFC 5103)."""
SYSTEM_START = 160
_Values = Mapping[tuple[int, int], int]
"""The elements of a record as numbers, by enterprise and element."""
_SECOND, _MILLI, _MICRO = 1_000_000_000, 1_000_000, 1000
_VERSION = 60
_SOURCE, _DESTINATION, _SOURCE6, _DESTINATION6 = 8, 12, 27, 28
_PROTOCOL, _FLAGS, _DIRECTION = 4, 6, 239
_SOURCE_PORTS, _DESTINATION_PORTS = (7, 180, 182), (11, 181, 183)
_ICMP, _ICMP_KINDS = {4: 32, 6: 139}, {4: 176, 6: 178}
_OCTETS, _PACKETS, _ASKING_OCTETS, _ASKING_PACKETS = (1, 85), (2, 86), 231, 298
_ANSWERING_OCTETS, _ANSWERING_PACKETS = 232, 299
_DURATIONS = {161: _MILLI, 162: _MICRO}
_ERA = 2_208_988_800
"""Seconds from 1900, where NTP counts from (RFC 5905 6), to 1970."""
_SINCE_THE_OTHER_SIDE = 2


class Exported(Struct, frozen=True):
    """How a record came: when it was sent, in seconds since 1970, and when its exporter had started.

    started:  in milliseconds since 1970; None where that is not known
    """

    at: int
    started: int | None


def row_of(values: _Values, exported: Exported) -> RecordRow | None:
    """A flow as a record; None where it names no addresses or no protocol."""

    def value(*elements: int, otherwise: int = -1, enterprise: int = 0) -> int:
        return next(
            (values[enterprise, each] for each in elements if (enterprise, each) in values), otherwise
        )

    version = _version(values)
    ends = (_SOURCE6, _DESTINATION6) if version == 6 else (_SOURCE, _DESTINATION)
    source, destination = map(value, ends)
    protocol = value(_PROTOCOL)
    if min(source, destination, protocol) < 0 or max(source, destination) >> (128 if version == 6 else 32):
        return None
    port = value(*_DESTINATION_PORTS)
    if protocol in (1, 58):
        port = _icmp_type(version, values, port)
    first, last = _times(values, exported)
    back = value(*_PACKETS, enterprise=REVERSE, otherwise=value(_ANSWERING_PACKETS))
    octets = value(*_OCTETS, _ASKING_OCTETS, otherwise=0)
    octets += value(*_OCTETS, enterprise=REVERSE, otherwise=value(_ANSWERING_OCTETS, otherwise=0))
    asks = back >= 0 and value(_DIRECTION) != _SINCE_THE_OTHER_SIDE
    return RecordRow(
        version == 6,
        source,
        destination,
        min(protocol, 255),
        min(value(*_SOURCE_PORTS), 65535),
        min(port, 65535),
        _bounded(value(*_PACKETS, _ASKING_PACKETS, otherwise=1)),
        _bounded(octets),
        _bounded(back),
        first,
        last,
        opens=value(_FLAGS, otherwise=0) & 0x12 == 0x02 or asks,
    )


def _icmp_type(version: int, values: _Values, port: int) -> int:
    """As an element of its own, with the code, or with the code where else the port stands; else an echo."""
    alone, both = (values.get((0, each[version]), -1) for each in (_ICMP_KINDS, _ICMP))
    if alone >= 0:
        return alone
    if both >= 0 or port > 255:
        return (both if both >= 0 else port) >> 8
    return ICMP_TYPES[Family.IPV6 if version == 6 else Family.IPV4]["echo-request"][0]


def tells_no_time(values: _Values, exported: Exported) -> bool:
    """Whether it tells times only by how long its exporter had run, which nobody says."""
    return exported.started is None and (0, 22) in values and _times(values, exported)[0] == NO_TIME


def _version(values: _Values) -> int:
    """4 or 6. A template may hold addresses of both, those of the other family left empty."""
    told = values.get((0, _VERSION), 0)
    if told in (4, 6):
        return told
    if (0, _SOURCE6) not in values:
        return 4
    four = values.get((0, _SOURCE), 0) | values.get((0, _DESTINATION), 0)
    six = values[0, _SOURCE6] | values.get((0, _DESTINATION6), 0)
    return 4 if four and not six else 6


def _times(values: _Values, exported: Exported) -> tuple[int, int]:
    """When the flow began and ended, in nanoseconds since 1970; NO_TIME where that is not told."""
    first, last = (_told(values, kinds, exported) for kinds in (_STARTS, _ENDS))
    lasted = next((values[0, each] * unit for each, unit in _DURATIONS.items() if (0, each) in values), None)
    seen = _told(values, _SEEN, exported)
    if lasted is not None and first is None and last is not None:
        first = last - lasted
    if lasted is not None and last is None and first is not None:
        last = first + lasted
    first, last = (next((each for each in some if each is not None), NO_TIME) for some in (
        (first, seen, last), (last, seen, first),
    ))  # fmt: skip
    return max(0, min(first, LATEST)), max(0, min(last, LATEST))


def _told(values: _Values, kinds: Mapping[int, "_Clock"], exported: Exported) -> int | None:
    told = (kind(values[0, element], exported) for element, kind in kinds.items() if (0, element) in values)
    return next((time for time in told if time is not None), None)


_Clock = Callable[[int, Exported], int | None]
"""Makes nanoseconds since 1970 of what an element holds."""


def _seconds(value: int, _exported: Exported) -> int:
    return value * _SECOND


def _milliseconds(value: int, _exported: Exported) -> int:
    return value * _MILLI


def _microseconds_before(value: int, exported: Exported) -> int:
    return exported.at * _SECOND - value * _MICRO


def _uptime(value: int, exported: Exported) -> int | None:
    return None if exported.started is None else (exported.started + value) * _MILLI


def _microseconds(value: int, exported: Exported) -> int:
    """Of NTP's fraction what is below a microsecond is nothing (RFC 7011 6.1.9)."""
    return _nanoseconds(value & ~0x7FF, exported)


def _nanoseconds(value: int, _exported: Exported) -> int:
    """NTP's seconds and their fraction (RFC 7011 6.1.10); they began anew in 2036."""
    seconds, part = value >> 32, value & 0xFFFF_FFFF
    return ((seconds - _ERA) % (1 << 32)) * _SECOND + (part * _SECOND >> 32)


_STARTS: dict[int, _Clock] = {
    150: _seconds,
    152: _milliseconds,
    154: _microseconds,
    156: _nanoseconds,
    158: _microseconds_before,
    22: _uptime,
}
_ENDS: dict[int, _Clock] = {
    151: _seconds,
    153: _milliseconds,
    155: _microseconds,
    157: _nanoseconds,
    159: _microseconds_before,
    21: _uptime,
}
_SEEN: dict[int, _Clock] = {322: _seconds, 323: _milliseconds, 324: _microseconds, 325: _nanoseconds}


def _bounded(value: int) -> int:
    """What fits into the arrays."""
    return min(value, MOST_COUNTED)
