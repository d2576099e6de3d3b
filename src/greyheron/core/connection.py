"""What devices remember of one conversation: sessions, translations, and who waits for an answer.

A connection belongs to one conversation along one combination of paths. It is never changed, only replaced.
"""

from dataclasses import dataclass, replace

from greyheron.core.packet import Packet


@dataclass(frozen=True, slots=True)
class Key:
    """The addresses and ports that tell a conversation from others, as one packet of it has them."""

    protocol: int
    source: int | None
    source_port: int | None
    destination: int
    destination_port: int | None

    @property
    def back(self) -> "Key":
        """The key of a packet the other way."""
        assert self.source is not None
        return Key(self.protocol, self.destination, self.destination_port, self.source, self.source_port)


def key_of(packet: Packet) -> Key:
    """The packet's own key; for an ICMP error that of the packet it reports on."""
    packet = packet.about or packet
    return Key(
        packet.protocol, packet.source, packet.source_port, packet.destination, packet.destination_port
    )


@dataclass(frozen=True, slots=True)
class Binding:
    """A translation that a device did: the same packet as seen inside and outside of `outside_interface`."""

    device: str
    outside_interface: str
    inside: Key
    outside: Key


@dataclass(frozen=True, slots=True)
class ConnectionState:
    """sessions: conversations that a tracking device admitted; asked: those that a device began itself"""

    sessions: frozenset[tuple[str, Key]] = frozenset()
    asked: frozenset[tuple[str, Key]] = frozenset()
    bindings: tuple[Binding, ...] = ()

    def knows(self, device: str, packet: Packet) -> bool:
        """Whether `device` tracks the conversation that `packet` belongs to."""
        return _either_way(self.sessions, device, packet)

    def awaited(self, device: str, packet: Packet) -> bool:
        """Whether `packet` answers something that `device` asked."""
        return _either_way(self.asked, device, packet)

    def with_session(self, device: str, *packets: Packet) -> "ConnectionState":
        return replace(self, sessions=self.sessions | {(device, key_of(packet)) for packet in packets})

    def with_asked(self, device: str, packet: Packet) -> "ConnectionState":
        return replace(self, asked=self.asked | {(device, key_of(packet))})

    def with_binding(self, binding: Binding) -> "ConnectionState":
        return replace(self, bindings=(*self.bindings, binding))


def _either_way(known: frozenset[tuple[str, Key]], device: str, packet: Packet) -> bool:
    key = key_of(packet)
    return key.source is not None and ((device, key) in known or (device, key.back) in known)
