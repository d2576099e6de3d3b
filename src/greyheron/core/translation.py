"""Translation: binding addresses between inside and outside interfaces (§7)."""

from dataclasses import replace

from greyheron.core.addresses import block_of, held
from greyheron.core.connection import Binding, ConnectionState, Key, key_of
from greyheron.core.packet import Packet
from greyheron.model.document import Device, Prefix, Translation, family_of
from greyheron.model.entry import AddressBlock
from greyheron.model.names import TCP, UDP


def entering(
    device: Device, ingress: str, packet: Packet, connection: ConnectionState
) -> tuple[Packet, ConnectionState] | None:
    """The packet with its destination as it is inside, or None when a rule forbids the inside address.

    An earlier translation of the conversation comes first, then the first static rule.
    """
    known = _remembered(device, ingress, packet, connection, outside=True)
    if known is not None:
        return known, connection
    static = [rule for rule in device.translations if rule.kind == "static" and rule.outside == ingress]
    for rule in static:
        if rule.to is not None and _is(
            packet, rule, rule.to, packet.destination, packet.destination_port, rule.to_port or rule.port
        ):
            to = _moved(packet.destination, rule.to, rule.source)
            port = packet.destination_port if rule.port is None else rule.port
            inside = replace(packet, destination=to, destination_port=port)
            return inside, connection.with_binding(
                Binding(device.name, ingress, key_of(inside), key_of(packet))
            )
    for rule in static:
        if not packet.reply and _is(
            packet, rule, rule.source, packet.destination, packet.destination_port, rule.port
        ):
            return None
    return packet, connection


def leaving(
    device: Device, ingress: str, egress: str, packet: Packet, connection: ConnectionState
) -> tuple[Packet, ConnectionState]:
    """The packet with its source as it is outside: by its binding, the first static or dynamic rule."""
    known = _remembered(device, egress, packet, connection, outside=False)
    if known is not None:
        return known, connection
    assert packet.source is not None
    rules = [rule for rule in device.translations if rule.outside == egress and ingress in rule.inside]
    for rule in sorted(rules, key=lambda rule: rule.kind != "static"):
        if not _is(packet, rule, rule.source, packet.source, packet.source_port, rule.port):
            continue
        source = _outside_source(device, rule, packet)
        if source is None:
            continue
        port = packet.source_port
        if rule.kind == "static" and rule.port is not None:
            port = rule.to_port or rule.port
        sent = replace(packet, source=source, source_port=port)
        return sent, connection.with_binding(Binding(device.name, egress, key_of(packet), key_of(sent)))
    return packet, connection


def answered_addresses(device: Device) -> list[tuple[str, AddressBlock]]:
    """Outside interfaces, and the outside and pool addresses that the device answers for there."""
    return [(rule.outside, block_of(rule.to)) for rule in device.translations if rule.to is not None]


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


def _remembered(
    device: Device, interface: str, packet: Packet, connection: ConnectionState, outside: bool
) -> Packet | None:
    """The packet as the other side sees it, when the device translated its conversation before."""
    key = key_of(packet)
    for binding in connection.bindings:
        if (binding.device, binding.outside_interface) != (device.name, interface):
            continue
        seen, other = (binding.outside, binding.inside) if outside else (binding.inside, binding.outside)
        for before, after in ((seen, other), (seen.back, other.back)):
            if key == before:
                return _rewritten(packet, after)
    return None


def _rewritten(packet: Packet, key: Key) -> Packet:
    """`packet` with the addresses and ports of `key`; an ICMP error with the packet inside it."""
    if packet.about is None:
        return replace(
            packet,
            source=key.source,
            source_port=key.source_port,
            destination=key.destination,
            destination_port=key.destination_port,
        )
    about = packet.about
    inner = _rewritten(about, key)
    assert inner.source is not None
    source = inner.destination if packet.source == about.destination else packet.source
    return replace(packet, source=source, destination=inner.source, about=inner)
