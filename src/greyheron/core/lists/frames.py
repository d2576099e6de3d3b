"""Frames, and the lists that see them: MAC addresses and EtherTypes (§14)."""

from collections.abc import Mapping
from functools import lru_cache
from hashlib import sha256

from msgspec import Struct

from greyheron.core.lists.matching import Decision, Mismatch
from greyheron.core.lists.resolved import FrameList
from greyheron.core.packet import Packet
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device
from greyheron.model.entry import FrameMatch
from greyheron.model.names import ETHER_TYPES
from greyheron.model.notation.frames import read_mac
from greyheron.model.values import Action, Family

BROADCAST = (1 << 48) - 1
ARP = ETHER_TYPES["arp"]
_LOCAL, _GROUP = 0x02 << 40, 0x01 << 40


class Frame(Struct, frozen=True):
    """What a frame list sees: the EtherType, and MAC addresses as numbers."""

    ether_type: int
    source: int
    destination: int


FrameLists = Mapping[AttachmentPoint, FrameList]


def decide_frame(found: FrameList, frame: Frame) -> Decision:
    """The first entry that matches `frame`, or the implicit deny."""
    passed_over: list[Mismatch] = []
    for entry in found.entries:
        field = _first_mismatch(entry.frame or FrameMatch(), frame)
        if field is None:
            return Decision(entry.number, entry.action, entry.silent, entry.log, tuple(passed_over))
        passed_over.append(Mismatch(entry.number, field))
    return Decision(None, Action.DENY, silent=False, log=False, passed_over=tuple(passed_over))


def _first_mismatch(match: FrameMatch, frame: Frame) -> str | None:
    if match.ether_type not in (None, frame.ether_type):
        return "EtherType"
    if match.source is not None and not match.source.holds(frame.source):
        return "source MAC"
    if match.destination is not None and not match.destination.holds(frame.destination):
        return "destination MAC"
    return None


def mac_of(device: Device, interface: str) -> int:
    """The MAC address of an interface: given, or made of its names; a subinterface has its parent’s."""
    found = next(each for each in device.interfaces if each.name == interface)
    if found.mac is not None:
        return read_mac(found.mac)
    return derived_mac(device.name, interface) if found.parent is None else mac_of(device, found.parent)


@lru_cache(maxsize=65536)
def derived_mac(device: str, interface: str) -> int:
    """A locally administered address of one interface (IEEE 802 8.4)."""
    digest = int.from_bytes(sha256(f"{device}/{interface}".encode()).digest()[:6], "big")
    return digest & ~_GROUP | _LOCAL


def group_mac(family: Family, address: int) -> int | None:
    """The MAC address of a multicast group (RFC 1112 6.4, RFC 2464 7); None for any other address."""
    if family is Family.IPV4:
        return 0x0100_5E00_0000 | address & 0x7F_FFFF if address >> 28 == 0xE else None
    return 0x3333_0000_0000 | address & 0xFFFF_FFFF if address >> 120 == 0xFF else None


def frame_of(packet: Packet, source: int, destination: int) -> Frame:
    """The frame that carries `packet` between the interfaces with these MAC addresses."""
    group = group_mac(packet.family, packet.destination)
    return Frame(ETHER_TYPES[packet.family.value], source, destination if group is None else group)
