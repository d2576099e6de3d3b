"""Packets as bytes: those that a plain socket cannot send, and the headers of those that were captured."""

import socket
import struct
from ipaddress import IPv4Address, IPv6Address

from msgspec import Struct

from greyheron.core.packet import Packet
from greyheron.model.names import PROTOCOLS, TCP, UDP, WITH_PORTS
from greyheron.model.values import Family
from greyheron.rehearsal.sendings import Signature

PAYLOAD = b"grey heron"
_ETHERNET = 14
_V4, _V6 = 0x0800, 0x86DD
_FRAGMENT_HEADER = 44
_SECOND_FRAGMENT = 1  # in units of eight bytes


class Header(Struct, frozen=True):
    """What is known of a captured packet. `code` is the ICMP type and code, if it is ICMP."""

    family: Family
    signature: Signature
    code: tuple[int, int] | None


class Captured(Struct, frozen=True):
    """A frame as one device's port had it: `outgoing` when it left. `at`: nanoseconds since 1970."""

    device: str
    port: str
    outgoing: bool
    at: int
    frame: bytes


def header_of(frame: bytes) -> Header | None:
    """The header of an IP packet in an Ethernet frame; None for anything else, or less."""
    if len(frame) < _ETHERNET + 20:
        return None
    kind = int.from_bytes(frame[12:14], "big")
    return packet_header(frame[_ETHERNET:]) if kind in (_V4, _V6) else None


def packet_header(packet: bytes) -> Header | None:
    """The header of an IP packet; None for anything else, or less."""
    version = packet[0] >> 4 if packet else 0
    if version == 4 and len(packet) >= 20:
        length = (packet[0] & 15) * 4
        protocol, source, destination = packet[9], packet[12:16], packet[16:20]
        whole = not int.from_bytes(packet[6:8], "big") & 0x1FFF
        return _header(Family.IPV4, protocol, source, destination, packet[length:], whole)
    if version == 6 and len(packet) >= 40:
        protocol, source, destination, behind = packet[6], packet[8:24], packet[24:40], packet[40:]
        whole = True
        if protocol == _FRAGMENT_HEADER and len(behind) >= 8:
            protocol, whole = behind[0], not int.from_bytes(behind[2:4], "big") >> 3
            behind = behind[8:]
        return _header(Family.IPV6, protocol, source, destination, behind, whole)
    return None


def _header(
    family: Family, protocol: int, source: bytes, destination: bytes, behind: bytes, whole: bool
) -> Header:
    ports: tuple[int | None, int | None] = (None, None)
    code = None
    if whole and protocol in WITH_PORTS and len(behind) >= 4:
        ports = struct.unpack("!HH", behind[:4])
    if whole and protocol == family.icmp and len(behind) >= 2:
        code = behind[0], behind[1]
    ends = int.from_bytes(source, "big"), int.from_bytes(destination, "big")
    return Header(family, (protocol, ends[0], ports[0], ends[1], ports[1]), code)


def crafted(opener: Packet, number: int) -> bytes:
    """What stands behind the IP header of a packet for a raw socket; `number` tells echoes apart.

    The source must be known.
    """
    if opener.fragment:
        return PAYLOAD
    if opener.protocol == opener.family.icmp:
        body = struct.pack("!BBHHH", opener.icmp_type or 0, opener.icmp_code or 0, 0, number, 1) + PAYLOAD
        return _summed(opener, body, 2, pseudo=opener.family is Family.IPV6)
    if opener.protocol == TCP:
        body = struct.pack(
            "!HHIIBBHHH",
            opener.source_port or 0,
            opener.destination_port or 0,
            1,
            0,
            5 << 4,
            opener.flags.value,
            1024,
            0,
            0,
        )
        return _summed(opener, body, 16, pseudo=True)
    if opener.protocol == UDP:
        body = (
            struct.pack("!HHHH", opener.source_port or 0, opener.destination_port or 0, 8 + len(PAYLOAD), 0)
            + PAYLOAD
        )
        return _summed(opener, body, 6, pseudo=True)
    if opener.protocol == PROTOCOLS["gre"]:
        return struct.pack("!HH", 0, _V4) + PAYLOAD  # RFC 2784: what says another version is not translated
    return PAYLOAD


def fragment(opener: Packet) -> bytes:
    """A whole packet, its IP header too: a fragment that is not the first (RFC 791, RFC 8200 4.5)."""
    assert opener.source is not None
    if opener.family is Family.IPV4:
        head = struct.pack(
            "!BBHHHBBH4s4s",
            0x45,
            opener.dscp << 2,
            20 + len(PAYLOAD),
            0x4852,
            _SECOND_FRAGMENT,
            opener.hop_limit,
            opener.protocol,
            0,
            IPv4Address(opener.source).packed,
            IPv4Address(opener.destination).packed,
        )
        return head + PAYLOAD
    piece = struct.pack("!BBHI", opener.protocol, 0, _SECOND_FRAGMENT << 3, 0x4852) + PAYLOAD
    first = 6 << 28 | opener.dscp << 22
    head = struct.pack("!IHBB", first, len(piece), _FRAGMENT_HEADER, opener.hop_limit)
    return head + IPv6Address(opener.source).packed + IPv6Address(opener.destination).packed + piece


def _summed(opener: Packet, body: bytes, at: int, pseudo: bool) -> bytes:
    """`body` with its checksum at `at` (RFC 1071)."""
    assert opener.source is not None
    width = 4 if opener.family is Family.IPV4 else 16
    ends = opener.source.to_bytes(width, "big") + opener.destination.to_bytes(width, "big")
    over = ends + struct.pack("!II", len(body), opener.protocol) + body if pseudo else body
    over += b"\0" * (len(over) % 2)
    total = sum(struct.unpack(f"!{len(over) // 2}H", over))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return body[:at] + struct.pack("!H", total ^ 0xFFFF or 0xFFFF) + body[at + 2 :]


def socket_family(family: Family) -> socket.AddressFamily:
    return socket.AF_INET if family is Family.IPV4 else socket.AF_INET6
