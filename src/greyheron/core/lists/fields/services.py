"""Services by number: what is asked for, protocol by protocol."""

from collections.abc import Callable
from enum import StrEnum

from greyheron.core.intervals import Spans, span_minus, span_union
from greyheron.model.header import EVERY_FLAG, MOST_DSCP, TcpFlags
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Family

ALL_PORTS: Spans = ((0, 65535),)
ALL_PROTOCOLS: Spans = ((0, 255),)
ALL_DSCP: Spans = ((0, MOST_DSCP),)
EVERY_CODE = 255


class Tag(StrEnum):
    """Protocols as far as their services are told apart in different ways.

    Services are numbered by destination port; for ICMP by `type * 256 + code`; for all others by protocol.
    Fragments that are not the first are numbered by protocol too: no more is to be seen of them.
    """

    TCP = "tcp"
    UDP = "udp"
    ICMP = "icmp"
    OTHER = "protocol"
    FRAGMENT = "fragment"

    @property
    def with_ports(self) -> bool:
        return self in (Tag.TCP, Tag.UDP)

    def number(self, family: Family) -> int | None:
        """The protocol that it stands for; None for all others."""
        return {Tag.TCP: TCP, Tag.UDP: UDP, Tag.ICMP: family.icmp}.get(self)

    @property
    def numbers(self) -> Spans:
        """Every number that a service of it can have."""
        return ALL_PROTOCOLS if self in (Tag.OTHER, Tag.FRAGMENT) else ALL_PORTS


class HeaderPart(StrEnum):
    """What requirements tell apart in a header beside addresses and services; as numbers."""

    FLAGS = "flags"
    DSCP = "dscp"


def spans_where(holds: Callable[[TcpFlags], bool]) -> Spans:
    """The numbers of the combinations of TCP flags for which something holds."""
    return span_union((number, number) for number in range(EVERY_FLAG + 1) if holds(TcpFlags(number)))


def whole(family: Family) -> dict[Tag, Spans]:
    """Every service there is, in whole packets."""
    others = span_minus(ALL_PROTOCOLS, span_union((number, number) for number in (TCP, UDP, family.icmp)))
    return {Tag.TCP: ALL_PORTS, Tag.UDP: ALL_PORTS, Tag.ICMP: ALL_PORTS, Tag.OTHER: others}


def icmp_span(kind: int, code: int | None = None) -> tuple[int, int]:
    """The numbers of an ICMP type, or of a type and code."""
    return (kind << 8, kind << 8 | EVERY_CODE) if code is None else (kind << 8 | code, kind << 8 | code)
