"""Sessions and translations of one conversation: sessions, and who waits for an answer (§6, §7).

A connection state belongs to one conversation along one combination of paths. It is never changed, only
replaced.
"""

from collections.abc import Iterator

from msgspec import Struct

from greyheron.core.packet import Packet
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP


class Key(Struct, frozen=True):
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
    """The packet's own key; an ICMP error goes the other way than the packet it reports on."""
    if packet.about is not None:
        return key_of(packet.about).back
    return Key(
        packet.protocol, packet.source, packet.source_port, packet.destination, packet.destination_port
    )


class Session(Struct, frozen=True):
    """A conversation as one device knows it, by the first packet of it that the device let through.

    came, sent:  that packet as it came to the device and as it went on; they differ by translation
    answered:  whether a packet the other way was seen since
    """

    device: str
    came: Key
    sent: Key
    answered: bool = False

    def becomes(self, key: Key) -> Key | None:
        """The key of one of its packets after all rewriting; None if `key` is of no packet of it."""
        if key == self.came:
            return self.sent
        return self.came.back if key == self.sent.back else None

    def includes(self, packet: Packet) -> bool:
        """Whether `packet`, which has one of its keys, is a later packet of a conversation under way.

        The first packet, seen once more, is not. A device that follows TCP takes nothing but the answer to a
        SYN until it saw that answer.
        """
        if packet.about is not None or self.answered:
            return True
        answers = key_of(packet) != self.came
        return answers and (packet.protocol != TCP or bool(packet.flags & (TcpFlags.SYN | TcpFlags.RST)))


class ConnectionState(Struct, frozen=True):
    """asked: keys of what each device began itself, and waits to be answered"""

    sessions: tuple[Session, ...] = ()
    asked: frozenset[tuple[str, Key]] = frozenset()

    def session(self, device: str, packet: Packet) -> Session | None:
        """The session of `device` that `packet` has a key of, as it comes there."""
        key = key_of(packet)
        return next((each for each in self.of(device) if each.becomes(key) is not None), None)

    def of(self, device: str) -> Iterator[Session]:
        """What `device` knows."""
        return (each for each in self.sessions if each.device == device)

    def awaited(self, device: str, packet: Packet) -> bool:
        """Whether `packet` answers something that `device` asked."""
        return (device, key_of(packet).back) in self.asked or (device, key_of(packet)) in self.asked

    def with_session(self, device: str, came: Packet, sent: Packet) -> "ConnectionState":
        """With what `device` knows once it let a packet through: a session, or that one was answered."""
        known = self.session(device, came)
        if known is None:
            new = Session(device, key_of(came), key_of(sent))
            return ConnectionState((*self.sessions, new), self.asked)
        if known.answered or came.about is not None or key_of(came) == known.came:
            return self
        answered = Session(device, known.came, known.sent, answered=True)
        sessions = tuple(answered if each is known else each for each in self.sessions)
        return ConnectionState(sessions, self.asked)

    def with_asked(self, device: str, packet: Packet) -> "ConnectionState":
        return ConnectionState(self.sessions, self.asked | {(device, key_of(packet))})
