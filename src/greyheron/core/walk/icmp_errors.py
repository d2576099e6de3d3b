"""What a device says of a packet that got no further, and who hears it (§4)."""

from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.network.addresses import is_link_local
from greyheron.core.packet import Packet, icmp_error
from greyheron.core.walk.steps import Outcome, Path
from greyheron.core.walk.walk import walk
from greyheron.core.world import World
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP
from greyheron.model.values import DenialAnswer, Family, LoginAnswer


class Seen(StrEnum):
    """What the sender of a conversation sees of it."""

    REPLY = "reply"
    RESET = "reset"
    PROHIBITED = "administratively prohibited"
    NETWORK_UNREACHABLE = "network unreachable"
    HOST_UNREACHABLE = "host unreachable"
    PORT_UNREACHABLE = "port unreachable"
    HOP_LIMIT = "hop limit reached"
    NOTHING = "nothing"


ICMP_ERRORS: dict[Seen, dict[Family, tuple[int, int]]] = {
    Seen.PROHIBITED: {Family.IPV4: (3, 13), Family.IPV6: (1, 1)},
    Seen.NETWORK_UNREACHABLE: {Family.IPV4: (3, 0), Family.IPV6: (1, 0)},
    Seen.HOST_UNREACHABLE: {Family.IPV4: (3, 1), Family.IPV6: (1, 3)},
    Seen.PORT_UNREACHABLE: {Family.IPV4: (3, 3), Family.IPV6: (1, 4)},
    Seen.HOP_LIMIT: {Family.IPV4: (11, 0), Family.IPV6: (3, 0)},
}
"""RFC 792, RFC 1812 and RFC 4443: type and code."""

_V4_ERRORS = frozenset({3, 4, 5, 11, 12})
_FIRST_INFORMATION = 128
_REPORTS = {
    Outcome.DENIED: Seen.PROHIBITED,
    Outcome.ZONE: Seen.PROHIBITED,
    Outcome.NO_DISCOVERY: Seen.HOST_UNREACHABLE,
    Outcome.NO_ROUTE: Seen.NETWORK_UNREACHABLE,
    Outcome.NO_NEIGHBOUR: Seen.HOST_UNREACHABLE,
    Outcome.HOP_LIMIT: Seen.HOP_LIMIT,
    Outcome.LOOP: Seen.HOP_LIMIT,
}


_DENIALS = {
    DenialAnswer.PROHIBITED: Seen.PROHIBITED,
    DenialAnswer.HOST_UNREACHABLE: Seen.HOST_UNREACHABLE,
    DenialAnswer.NETWORK_UNREACHABLE: Seen.NETWORK_UNREACHABLE,
    DenialAnswer.PORT_UNREACHABLE: Seen.PORT_UNREACHABLE,
    DenialAnswer.RESET: Seen.PORT_UNREACHABLE,
}
"""What ICMP says of a denied packet; a reset is for TCP alone."""


class Response(Struct, frozen=True):
    """A report about a packet, and its own way home.

    says:  what it tells
    device:  who sends it
    path:  its walk; None when the sender of the packet reports to itself
    """

    says: Seen
    device: str
    path: Path | None

    @property
    def heard(self) -> bool:
        """Whether it gets home."""
        return self.path is None or self.path.outcome is Outcome.ARRIVED


def response_to(world: World, path: Path) -> Response | None:
    """What comes back about a packet that did not arrive, or was refused; None for silence."""
    if path.outcome is Outcome.REFUSED:
        return _refusal(world, path)
    says = _REPORTS.get(path.outcome)
    last = path.last
    if says is None or path.packet.about is not None:
        return None
    device = _end_of_loop(path) if path.outcome is Outcome.LOOP else last.device
    if last.ingress is None and path.outcome is Outcome.NO_ROUTE:
        return Response(says, device, None)
    if _not_spoken_of(path.packet):
        return None
    if says is Seen.PROHIBITED:
        return _denial(world, path)
    if last.ingress is None:
        return Response(says, device, None)
    return _report(world, says, device, path) if world.topology.devices[device].traits.forwards else None


def _not_spoken_of(packet: Packet) -> bool:
    """Whether no error is sent about it: it is one itself, or an IPv4 fragment that is not the first.

    RFC 1122 3.2.2, RFC 4443 2.4 e.
    """
    if packet.fragment and packet.family is Family.IPV4:
        return True
    if packet.protocol != packet.family.icmp or packet.icmp_type is None:
        return False
    return (
        packet.icmp_type in _V4_ERRORS
        if packet.family is Family.IPV4
        else packet.icmp_type < _FIRST_INFORMATION
    )


def _refusal(world: World, path: Path) -> Response | None:
    """A reset for TCP, port unreachable for UDP (§5)."""
    if path.last.packet.protocol != TCP:
        return _report(world, Seen.PORT_UNREACHABLE, path.last.device, path)
    return _reset(world, path)


def _reset(world: World, path: Path) -> Response | None:
    """In the name of whom the packet was for; None about a packet that is one itself (RFC 9293 3.10.7.1)."""
    packet, device = path.last.packet, path.last.device
    if packet.flags & TcpFlags.RST:
        return None
    reset = replace(packet.back(), flags=TcpFlags.RST | TcpFlags.ACK, dscp=packet.dscp)
    return Response(Seen.RESET, device, walk(world, reset, device, path.connection, most=1)[0][0])


def _denial(world: World, path: Path) -> Response | None:
    """What is said of a packet that a list, a line or a zone denied: as the device is set (§4, §5)."""
    denial, device = path.denial, world.topology.devices[path.last.device]
    if denial is not None and denial.decision.silent:
        return None
    if denial is not None and denial.point.is_line:
        return _reset(world, path) if device.answers_logins is LoginAnswer.RESET else None
    answer = device.denial_answer
    if answer is DenialAnswer.RESET and path.last.packet.protocol == TCP and not path.last.packet.fragment:
        return _reset(world, path)
    says = _DENIALS.get(answer)
    return None if says is None else _report(world, says, device.name, path)


def _report(world: World, says: Seen, device: str, path: Path) -> Response | None:
    """An ICMP error about the packet as it came to the device that stopped it; None where it cannot be sent.

    Over IPv6 an address of the device's own that the packet was sent to answers for itself (RFC 4443 2.2). So
    does, in either family, one that the device had translated.
    """
    about = path.last.packet
    six = about.family is Family.IPV6
    own = six and world.topology.owns(device, about.family, about.destination)
    translated = device == path.last.device and path.last.received.destination != about.destination
    given = _given_source(path, device)
    if given is not None and not _reaches(world, device, about.family, given):
        return None
    source = about.destination if own or translated else _outside(world, path, device, given)
    if source is None and six:
        source = _came_by(world, path, device)
    error = icmp_error(about, *ICMP_ERRORS[says][about.family], source)
    return Response(says, device, walk(world, error, device, path.connection, most=1)[0][0])


def _given_source(path: Path, device: str) -> int | None:
    """The source that the device had given the packet before it got no further; None if it had not."""
    last = path.last
    if device != last.device or last.egress is None or last.sent is None:
        return None
    return None if last.sent.source == last.packet.source else last.sent.source


def _reaches(world: World, device: str, family: Family, address: int) -> bool:
    """Whether a device has a way to `address`, which a kernel looks for before it translates back."""
    return world.topology.owns(device, family, address) or bool(world.lookup(device, family, address).hops)


def _outside(world: World, path: Path, device: str, given: int | None) -> int | None:
    """Who speaks of a packet that the device had given another source: the interface it was to leave by.

    To the device it comes from there; a kernel lets it speak, and translates the error's destination back.
    Over IPv6 only where the source was one of the device's own.
    """
    egress, family = path.last.egress, path.last.packet.family
    if given is None or egress is None:
        return None
    if family is Family.IPV6 and not world.topology.owns(device, family, given):
        return None
    held = world.topology.held((device, egress), family)
    return held[0].address if held else None


def _came_by(world: World, path: Path, device: str) -> int | None:
    """Who speaks over IPv6: the interface by which the packet came, which tells most (RFC 4443 2.2 b).

    Of its addresses the one nearest to whom it speaks to; None where it has none that reaches so far.
    """
    ingress = next((hop.ingress for hop in reversed(path.hops) if hop.device == device), None)
    source = path.last.packet.source
    if ingress is None or source is None:
        return None
    local = is_link_local(Family.IPV6, source)
    held = [
        each.address
        for each in world.topology.held((device, ingress), Family.IPV6)
        if is_link_local(Family.IPV6, each.address) == local
    ]
    return min(held, key=lambda address: (address ^ source).bit_length(), default=None)


def _end_of_loop(path: Path) -> str:
    """The device in the circle where the hop limit runs out."""
    circle = loop_of(path)
    return circle[(path.last.packet.hop_limit - 1) % len(circle)]


def loop_of(path: Path) -> list[str]:
    """The devices that a packet goes round, beginning with the one where it was last."""
    last = path.last
    begins = next(
        index
        for index, hop in enumerate(path.hops)
        if (hop.device, hop.ingress) == (last.device, last.ingress) and hop.packet.alike(last.packet)
    )
    return [hop.device for hop in path.hops[begins:-1]]
