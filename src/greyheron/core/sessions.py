"""Session tracking: which packets a device knows already, and which it drops (§6)."""

from greyheron.core.packet import Packet
from greyheron.model.document import Device
from greyheron.model.names import TCP, UDP


def tracks(device: Device, packet: Packet) -> bool:
    """Whether the device keeps sessions of the packet's protocol, or of that which an ICMP error is about."""
    packet = packet.about or packet
    tracked = device.traits.tracks if device.tracks is None else device.tracks
    names = {TCP: "tcp", UDP: "udp", packet.family.icmp: "icmp"}
    return names.get(packet.protocol) in tracked


def can_open(packet: Packet) -> bool:
    """Whether a packet without a session may begin one: no TCP but a SYN, no echo reply, no lone fragment."""
    if packet.fragment:
        return False
    if packet.protocol == TCP:
        return packet.opens
    return not (packet.protocol == packet.family.icmp and packet.icmp_type == packet.family.echo[1])
