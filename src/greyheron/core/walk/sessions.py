"""Session tracking: which packets a device knows already, and which it drops (§6)."""

from greyheron.core.packet import Packet
from greyheron.core.walk.connection import Session
from greyheron.model.device import Device
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Family


def tracks(device: Device, packet: Packet) -> bool:
    """Whether the device keeps sessions of the packet's protocol, or of that which an ICMP error is about."""
    packet = packet.about or packet
    names = {TCP: "tcp", UDP: "udp", packet.family.icmp: "icmp"}
    return names.get(packet.protocol) in device.tracked


def lifetime(session: Session) -> int:
    """Seconds for which a device keeps a session after its last packet, as the standards have it.

    TCP: RFC 5382 REQ-5; ICMP: RFC 5508 REQ-2; UDP, and all else: RFC 4787 REQ-5.
    """
    if session.came.protocol == TCP:
        return 7440 if session.answered else 240
    return 60 if session.came.protocol in (Family.IPV4.icmp, Family.IPV6.icmp) else 300


def can_open(packet: Packet) -> bool:
    """Whether a packet without a session may begin one: no TCP but a SYN, no echo reply, no lone fragment."""
    if packet.fragment:
        return False
    if packet.protocol == TCP:
        return packet.opens
    return not (packet.protocol == packet.family.icmp and packet.icmp_type == packet.family.echo[1])
