"""Translation: addresses and ports rewritten between inside and outside interfaces (§7).

A rule speaks of conversations, by their first packet (RFC 3022 2.1); what becomes of the later ones is in the
device's session.
"""

from msgspec.structs import replace

from greyheron.core.network.addresses import block_of, held
from greyheron.core.packet import Packet
from greyheron.core.walk.connection import Key, Session, key_of
from greyheron.core.walk.sessions import can_open
from greyheron.model.device import Device, Translation
from greyheron.model.item import Prefix, family_of
from greyheron.model.names import TCP, UDP


def entering(device: Device, ingress: str, packet: Packet, session: Session | None) -> Packet | None:
    """The packet with its destination as it is inside, or None when a rule forbids the inside address.

    session:  that of the packet's conversation, which settled what becomes of it; else the first static rule
        decides, if the packet can begin a conversation
    """
    if session is not None:
        key = session.becomes(key_of(packet))
        return packet if key is None else _to(packet, key.destination, key.destination_port)
    if packet.about is not None or not can_open(packet):
        return packet
    static = [rule for rule in device.translations if rule.kind == "static" and rule.outside == ingress]
    for rule in static:
        if rule.to is not None and _is(
            packet, rule, rule.to, packet.destination, packet.destination_port, rule.to_port or rule.port
        ):
            to = _moved(packet.destination, rule.to, rule.source)
            return _to(packet, to, packet.destination_port if rule.port is None else rule.port)
    forbids = any(
        _is(packet, rule, rule.source, packet.destination, packet.destination_port, rule.port)
        for rule in static
        if not rule.inward
    )
    return None if forbids else packet


def leaving(
    device: Device, ingress: str, egress: str, packet: Packet, came: Packet, session: Session | None
) -> Packet:
    """The packet with its source as it is outside: as its session has it, or by the first rule that matches.

    came:  the packet as it came to the device;  session:  as for `entering`
    """
    if session is not None:
        key = session.becomes(key_of(came))
        return packet if key is None else _from(packet, key)
    if packet.about is not None or not can_open(packet):
        return packet
    assert packet.source is not None
    rules = [
        rule
        for rule in device.translations
        if rule.outside == egress and ingress in rule.inside and not rule.inward
    ]
    for rule in sorted(rules, key=lambda rule: rule.kind != "static"):
        if not _is(packet, rule, rule.source, packet.source, packet.source_port, rule.port):
            continue
        source = _outside_source(device, rule, packet)
        if source is None:
            continue
        port = packet.source_port
        if rule.kind == "static" and rule.port is not None:
            port = rule.to_port or rule.port
        return replace(packet, source=source, source_port=port)
    return packet


def _is(
    packet: Packet, rule: Translation, prefix: Prefix, address: int, port: int | None, wanted: int | None
) -> bool:
    """Whether a rule speaks of `address` (and `port`, if it is limited to one) in this packet."""
    if family_of(prefix) is not packet.family or not block_of(prefix).holds(address):
        return False
    if rule.protocol is None:
        return True
    number = TCP if rule.protocol == "tcp" else UDP
    return packet.protocol == number and (rule.port is None or port == wanted)


def _moved(address: int, here: Prefix, there: Prefix) -> int:
    return int(there.network_address) + address - int(here.network_address)


def _outside_source(device: Device, rule: Translation, packet: Packet) -> int | None:
    assert packet.source is not None
    if rule.kind == "static":
        return None if rule.to is None else _moved(packet.source, rule.source, rule.to)
    if rule.to is not None:  # one inside address keeps to one address of the pool (RFC 4787 4.1)
        offset = packet.source - int(rule.source.network_address)
        return int(rule.to.network_address) + offset % rule.to.num_addresses
    interface = next((item for item in device.interfaces if item.name == rule.outside), None)
    own = held(device, interface, packet.family) if interface else ()
    return own[0].address if own else None


def _to(packet: Packet, destination: int, port: int | None) -> Packet:
    """`packet` to another destination; an ICMP error with the source of the packet inside it."""
    about = packet.about
    if about is None:
        return replace(packet, destination=destination, destination_port=port)
    return replace(
        packet, destination=destination, about=replace(about, source=destination, source_port=port)
    )


def _from(packet: Packet, key: Key) -> Packet:
    """`packet` with the source of `key`. An ICMP error is said by the one it seems to be about.

    Its own sender is known inside only (RFC 5508 4.2); a kernel lets the other end of the conversation speak.
    """
    about = packet.about
    if about is None:
        return replace(packet, source=key.source, source_port=key.source_port)
    assert key.source is not None
    source = packet.source if about.destination == key.source else key.source
    inner = replace(about, destination=key.source, destination_port=key.source_port)
    return replace(packet, source=source, about=inner)
