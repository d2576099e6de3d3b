"""Packets, as far as lists, routes and translation can see them."""

from enum import StrEnum
from operator import attrgetter

from msgspec import Struct
from msgspec.structs import replace

from greyheron.model.header import DSCP, TcpFlags
from greyheron.model.names import TCP
from greyheron.model.values import Family

FIRST_HOP_LIMIT = 64
_ECN = TcpFlags.ECE | TcpFlags.CWR
_ERROR_DSCP = {Family.IPV4: DSCP["cs6"], Family.IPV6: 0}
"""IPv4 errors have the precedence of internetwork control (RFC 1812 4.3.2.5)."""


class Way(StrEnum):
    """The two ways of a conversation: out, and the return path, which people read as the way home."""

    OUT = "out"
    RETURN = "home"


class Packet(Struct, frozen=True):
    """A packet's header.

    source:  None while its sender has yet to choose (§4)
    source_port, destination_port:  for TCP and UDP
    icmp_type, icmp_code:  for ICMP
    reply:  it answers a packet of its receiver, which therefore expects it
    about:  the packet that an ICMP error reports on
    fragment:  whether it is a fragment that is not the first: it has no ports, type or flags
    """

    family: Family
    source: int | None
    destination: int
    protocol: int
    source_port: int | None = None
    destination_port: int | None = None
    flags: TcpFlags = TcpFlags.NONE
    icmp_type: int | None = None
    icmp_code: int | None = None
    hop_limit: int = FIRST_HOP_LIMIT
    reply: bool = False
    about: "Packet | None" = None
    dscp: int = 0
    fragment: bool = False

    def back(self) -> "Packet":
        """A fresh packet from this one's destination to its source, ports swapped, no flags or type.

        Raises ValueError where it has no source.
        """
        if self.source is None:
            raise ValueError("a packet without a source has nobody to go back to")
        return Packet(
            self.family,
            self.destination,
            self.source,
            self.protocol,
            self.destination_port,
            self.source_port,
            reply=True,
        )

    def forwarded(self) -> "Packet":
        """The packet with its hop limit lowered by one."""
        # At every hop of every walk: several times as fast as `replace`.
        values = (*_BEFORE_HOP_LIMIT(self), self.hop_limit - 1, *_BEHIND_HOP_LIMIT(self))
        return Packet(*values)

    def alike(self, other: "Packet") -> bool:
        """Whether both are the same packet, perhaps at different points of its way."""
        return replace(self, hop_limit=other.hop_limit) == other

    @property
    def opens(self) -> bool:
        """Whether this begins a TCP connection: a SYN, with ECN set-up or without (RFC 3168 6.1.1)."""
        return self.protocol == TCP and self.flags & ~_ECN == TcpFlags.SYN


def kind_of(packet: Packet) -> Packet:
    """The packet between nobody: what its header holds beside addresses and ports."""
    return Packet(
        packet.family,
        0,
        0,
        packet.protocol,
        flags=packet.flags,
        icmp_type=packet.icmp_type,
        icmp_code=packet.icmp_code,
        dscp=packet.dscp,
        fragment=packet.fragment,
    )


_FIELDS = Packet.__struct_fields__
_BEHIND_THE_ENDS = attrgetter(*_FIELDS[_FIELDS.index("flags") :])
_BEFORE_HOP_LIMIT = attrgetter(*_FIELDS[: _FIELDS.index("hop_limit")])
_BEHIND_HOP_LIMIT = attrgetter(*_FIELDS[_FIELDS.index("hop_limit") + 1 :])


def between(
    kind: Packet,
    source: int,
    destination: int,
    source_port: int | None = None,
    destination_port: int | None = None,
) -> Packet:
    """A packet of a kind with ends. It is made very often: several times as fast as `replace`."""
    return Packet(
        kind.family,
        source,
        destination,
        kind.protocol,
        source_port,
        destination_port,
        *_BEHIND_THE_ENDS(kind),
    )


def icmp_error(about: Packet, icmp_type: int, icmp_code: int, source: int | None) -> Packet:
    """The ICMP error that goes to the source of `about`; None as its own source: it is not chosen yet.

    Raises ValueError where `about` has no source.
    """
    if about.source is None:
        raise ValueError("a packet without a source cannot be reported on")
    return Packet(
        about.family,
        source,
        about.source,
        about.family.icmp,
        icmp_type=icmp_type,
        icmp_code=icmp_code,
        reply=True,
        about=about,
        dscp=_ERROR_DSCP[about.family],
    )
