"""Delivery: services, management lines and who answers (§5)."""

from greyheron.core.lists.filters import meet
from greyheron.core.lists.met import denies
from greyheron.core.packet import Packet
from greyheron.core.walk.connection import ConnectionState
from greyheron.core.walk.steps import Delivered, NoSession, Outcome, Refused, SessionHistory, Step
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device, ManagementLine
from greyheron.model.names import PORTS, TCP, UDP
from greyheron.model.values import Direction

LOGIN_PORTS = frozenset(PORTS[name] for name in ("ssh", "telnet", "https", "http"))


Delivery = tuple[Outcome, tuple[Step, ...]]


def deliver(world: World, name: str, packet: Packet, connection: ConnectionState) -> list[Delivery]:
    """What device `name` makes of a packet for one of its own addresses: of a login, at each line that may
    take it.
    """
    device = world.topology.devices[name]
    holder = world.topology.holder(name, packet.family, packet.destination)
    if packet.reply:
        if connection.awaited(name, packet):
            return [(Outcome.ARRIVED, (Delivered(holder),))]
        return [(Outcome.NO_SESSION, (Delivered(holder), NoSession(SessionHistory.OTHERWISE)))]
    if packet.protocol not in (TCP, UDP) or packet.fragment or device.traits.open_ended:
        return [(Outcome.ARRIVED, (Delivered(holder),))]
    lines = lines_for(device, packet.protocol, packet.destination_port)
    if lines and not packet.opens:  # whichever took the login, its list is not asked about later packets
        lines = lines[:1]
    if lines:
        return [_log_in(world, name, line, holder, packet) for line in lines]
    service = service_for(device, packet.protocol, packet.destination_port)
    if service is None and packet.protocol == TCP and not packet.opens:
        return [(Outcome.ARRIVED, (Delivered(holder),))]
    if service is None:
        login = bool(device.lines) and packet.protocol == TCP and packet.destination_port in LOGIN_PORTS
        return [(Outcome.REFUSED, (Delivered(holder), Refused(login)))]
    return [(Outcome.ARRIVED, (Delivered(holder, service),))]


def _log_in(world: World, device: str, line: ManagementLine, holder: str | None, packet: Packet) -> Delivery:
    """The line's own list is asked for the packet that opens a login, not for the later ones."""
    delivered = Delivered(holder, line=line.at)
    if not packet.opens:
        return Outcome.ARRIVED, (delivered,)
    met = meet(world.lists, AttachmentPoint(device, line.at, Direction.IN), packet)
    denied = denies(met)
    return (Outcome.DENIED if denied else Outcome.ARRIVED), (delivered, met)


def lines_for(device: Device, protocol: int, port: int | None) -> tuple[ManagementLine, ...]:
    """The lines that may take a login at `port`: the first of a kind that offers it, and its next ones.

    Each login gets the first free line: which one that is depends on who is logged in.
    """
    if protocol != TCP or port not in LOGIN_PORTS:
        return ()
    offering = tuple(line for line in device.lines if port in line.ports)
    return tuple(line for line in offering if line.name is offering[0].name)


def service_for(device: Device, protocol: int, port: int | None) -> str | None:
    """The name of the service that listens there, if one does; `protocol` is TCP or UDP."""
    word = "tcp" if protocol == TCP else "udp"
    for service in device.services:
        if (service.protocol, service.port) == (word, port):
            return service.name
    return None
