"""The walk: one packet, hop by hop, with every step recorded (§4).

Plain code that reads like the semantics. Equal-cost routes make several paths of one walk.
"""

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.lists.filters import meet
from greyheron.core.lists.layer2_paths import denied_in
from greyheron.core.lists.met import Unfiltered, denies
from greyheron.core.network.addresses import is_link_local
from greyheron.core.network.segments import InterfaceId
from greyheron.core.packet import Packet
from greyheron.core.routing.discovery import unfound
from greyheron.core.routing.table import Lookup, NextHop
from greyheron.core.walk.connection import ConnectionState, Key, Session, key_of
from greyheron.core.walk.delivery import deliver
from greyheron.core.walk.sessions import can_open, tracks
from greyheron.core.walk.steps import (
    DiscoveryStopped,
    Enters,
    Gathered,
    Hop,
    HopLimitReached,
    Leaves,
    LoopFound,
    NobodyAnswers,
    NoSession,
    NotForwarded,
    Outcome,
    Path,
    Routed,
    Sends,
    SessionHistory,
    Step,
    Tracked,
    Translated,
    TranslatedAddressNeeded,
    Unrouted,
    ZonesDeny,
)
from greyheron.core.walk.translation import entering, leaving
from greyheron.core.walk.zones import lets_through, zone_of
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device
from greyheron.model.values import Direction, Family, Sees

MOST_PATHS = 64


class _Visit(Struct, frozen=True):
    """A packet at a device: where it came in (None: made here), and everything on its way so far.

    session:  what the device knows of its conversation, if it follows that
    tracked:  whether that lets it pass with no list or zone asked
    """

    device: str
    ingress: str | None
    arrived: Packet
    hops: tuple[Hop, ...]
    connection: ConnectionState
    packet: Packet
    steps: tuple[Step, ...] = ()
    session: Session | None = None
    tracked: bool = False

    def did(
        self,
        *steps: Step,
        packet: Packet | None = None,
        connection: ConnectionState | None = None,
        session: Session | None = None,
        tracked: bool = False,
    ) -> "_Visit":
        """The visit after some steps, with what came of them where that is something new."""
        # Made at every step of every walk: several times as fast as `replace`.
        return _Visit(
            self.device,
            self.ingress,
            self.arrived,
            self.hops,
            connection or self.connection,
            packet or self.packet,
            (*self.steps, *steps),
            session or self.session,
            tracked or self.tracked,
        )

    def ends(self, outcome: Outcome, *last: Step) -> Path:
        hop = Hop(self.device, self.ingress, None, self.arrived, None, (*self.steps, *last))
        return Path((*self.hops, hop), outcome, self.connection)


Choices = Mapping[tuple[str, Key], NextHop]


def walk(
    world: World,
    packet: Packet,
    origin: str,
    connection: ConnectionState,
    choices: Choices | None = None,
    most: int = MOST_PATHS,
) -> tuple[tuple[Path, ...], bool]:
    """Every path of `packet` from device `origin`, and whether there were more than `most`.

    connection:  what devices remember of the conversation so far
    choices:  next hops to keep to where equal routes offer them, so that later packets of a
        conversation follow the first
    """
    paths: list[Path] = []
    ahead: list[Path | _Visit] = [_Visit(origin, None, packet, (), connection, packet)]
    while ahead:
        if len(paths) == most:
            return tuple(paths), True
        found = ahead.pop()
        if isinstance(found, Path):
            paths.append(found)
        else:
            ahead += reversed(_visit(world, found, choices or {}))
    return tuple(paths), False


def _visit(world: World, visit: _Visit, choices: Choices) -> list[Path | _Visit]:
    """One device: the ways in which the walk ends here and those in which it goes on (§4)."""
    ingress = visit.ingress
    if ingress is None:
        return _make(world, visit, choices)
    if _came_before(visit):
        return [visit.ends(Outcome.LOOP, LoopFound())]
    entered = _enter(world, visit, ingress)
    if isinstance(entered, Path):
        return [entered]
    if world.topology.owns(visit.device, entered.packet.family, entered.packet.destination):
        return _delivered(world, entered)
    return _forward(world, entered, ingress, choices)


def _came_before(visit: _Visit) -> bool:
    """Whether the same packet came to this device by the same interface; its hop limit may be lower now."""
    return any(
        (hop.device, hop.ingress) == (visit.device, visit.ingress) and hop.packet.alike(visit.packet)
        for hop in visit.hops
    )


def _enter(world: World, visit: _Visit, ingress: str) -> Path | _Visit:
    """Steps 1 to 3: session, inbound list, translation of the destination."""
    device = world.topology.devices[visit.device]
    session = visit.connection.session(visit.device, visit.packet) if _follows(device, visit.packet) else None
    included = session is not None and session.includes(visit.packet)
    begins = visit.packet.about is not None or can_open(visit.packet)
    if visit.packet.fragment and _follows(device, visit.packet):
        # Who follows conversations puts packets together first; who it is for, waits for the rest.
        if not world.topology.owns(visit.device, visit.packet.family, visit.packet.destination):
            return visit.ends(Outcome.NO_SESSION, NoSession(SessionHistory.FRAGMENT))
        visit = visit.did(Gathered(), tracked=True)
    elif tracks(device, visit.packet):
        if included:
            visit = visit.did(Tracked(), tracked=True)
        elif not begins:
            return visit.ends(Outcome.NO_SESSION, NoSession(_saw(visit, session)))
    if session is not None and (included or begins):
        visit = visit.did(session=session)
    steps = (_meet_inbound, _translate_entering)
    for step in steps if device.inbound_sees is Sees.BEFORE else reversed(steps):
        found = step(world, visit, ingress)
        if isinstance(found, Path):
            return found
        visit = found
    return visit


def _meet_inbound(world: World, visit: _Visit, ingress: str) -> Path | _Visit:
    if visit.tracked:
        return visit
    met = meet(world.lists, AttachmentPoint(visit.device, ingress, Direction.IN), visit.packet)
    if denies(met):
        return visit.ends(Outcome.DENIED, met)
    return visit.did(met)


def _translate_entering(world: World, visit: _Visit, ingress: str) -> Path | _Visit:
    device = world.topology.devices[visit.device]
    if not device.translations:
        return visit
    translated = entering(device, ingress, visit.packet, visit.session)
    if translated is None:
        return visit.ends(Outcome.UNTRANSLATED, TranslatedAddressNeeded())
    return _rewritten(visit, translated)


def _follows(device: Device, packet: Packet) -> bool:
    """Whether the device keeps sessions of such packets, to let them pass or to translate them."""
    return bool(device.translations) or tracks(device, packet)


def _saw(visit: _Visit, session: Session | None) -> SessionHistory:
    if session is not None:
        return SessionHistory.ONE_WAY
    return SessionHistory.OTHERWISE if any(visit.connection.of(visit.device)) else SessionHistory.NOTHING


def _rewritten(visit: _Visit, packet: Packet) -> _Visit:
    if packet == visit.packet:
        return visit
    return visit.did(Translated(visit.packet, packet), packet=packet)


def _make(world: World, visit: _Visit, choices: Choices) -> list[Path | _Visit]:
    """A packet of the device's own: it skips the outbound list where §4 says so."""
    asked, family = visit.packet, visit.packet.family
    if world.topology.owns(visit.device, family, asked.destination):
        source = asked.destination if asked.source is None else asked.source
        made = _made(visit, replace(asked, source=source))
        return _delivered(world, made)
    lookup = world.lookup(visit.device, family, asked.destination)
    if not lookup.hops:
        return [visit.ends(Outcome.NO_ROUTE, Sends(asked), Unrouted(lookup))]
    found: list[Path | _Visit] = []
    device = world.topology.devices[visit.device]
    for chosen in _kept(lookup, visit, choices):
        packet = asked
        if packet.source is None:
            packet = replace(asked, source=own_address(world, visit.device, chosen, asked))
        sending = _made(visit, packet).did(Routed(lookup, chosen))
        out = AttachmentPoint(visit.device, chosen.interface, Direction.OUT)
        met: Step | None
        if not device.sends_through:
            met = Unfiltered(out, own=(out, family) in world.lists)
        elif tracks(device, packet) and _known(visit, packet):
            met = None
        else:
            met = meet(world.lists, out, packet)
        found.append(_leave(world, sending, chosen, met))
    return found


def _known(visit: _Visit, packet: Packet) -> bool:
    """Whether it belongs to a session; what is said of a packet belongs to that packet’s."""
    if packet.about is not None:
        return True
    session = visit.connection.session(visit.device, packet)
    return session is not None and session.includes(packet)


def _made(visit: _Visit, packet: Packet) -> _Visit:
    """The visit with its packet made; the device waits for answers unless it is an answer itself."""
    connection = visit.connection if packet.reply else visit.connection.with_asked(visit.device, packet)
    return _Visit(visit.device, None, packet, visit.hops, connection, packet, (*visit.steps, Sends(packet)))


def _delivered(world: World, visit: _Visit) -> list[Path | _Visit]:
    """Step 4: the packet is for the device itself. A login may be taken by several lines."""
    admitted = _admitted(world, visit, visit.packet)
    return [
        (admitted if outcome in (Outcome.ARRIVED, Outcome.REFUSED) else visit).ends(outcome, *last)
        for outcome, last in deliver(world, visit.device, visit.packet, visit.connection)
    ]


def _admitted(world: World, visit: _Visit, sent: Packet) -> _Visit:
    """What the device knows when it let the packet through, as it came and as it goes on."""
    came = visit.arrived
    if came.about is not None or came.fragment or not _follows(world.topology.devices[visit.device], came):
        return visit
    session = visit.connection.session(visit.device, came) if visit.ingress is None else visit.session
    if session is None and not can_open(came):
        return visit
    return visit.did(connection=visit.connection.with_session(visit.device, came, sent))


def _forward(world: World, visit: _Visit, ingress: str, choices: Choices) -> list[Path | _Visit]:
    """Steps 5 to 8 for a packet in transit, by each of the equal next hops."""
    device = world.topology.devices[visit.device]
    family = visit.packet.family
    if not device.traits.forwards:
        return [visit.ends(Outcome.LOST, NotForwarded())]
    if visit.packet.hop_limit <= 1:
        return [visit.ends(Outcome.HOP_LIMIT, HopLimitReached())]
    lookup = world.lookup(visit.device, family, visit.packet.destination)
    if not lookup.hops or _is_local(visit.packet):
        return [visit.ends(Outcome.NO_ROUTE, Unrouted(lookup))]
    ahead = visit.did(packet=visit.packet.forwarded())
    listed = (AttachmentPoint(visit.device, ingress, Direction.IN), family) in world.lists
    found: list[Path | _Visit] = []
    for chosen in _kept(lookup, visit, choices):
        routed = ahead.did(Routed(lookup, chosen))
        if not (visit.tracked or listed or lets_through(device, ingress, chosen.interface)):
            zones = ZonesDeny(zone_of(device, ingress), zone_of(device, chosen.interface))
            found.append(routed.ends(Outcome.ZONE, zones))
            continue
        found.append(_translate_leaving(world, routed, ingress, chosen))
    return found


def _translate_leaving(world: World, visit: _Visit, ingress: str, chosen: NextHop) -> Path | _Visit:
    """Steps 6 to 8: translation of the source, the outbound list before or after it, and the wire."""
    device = world.topology.devices[visit.device]
    out = AttachmentPoint(visit.device, chosen.interface, Direction.OUT)
    sent = visit.packet
    if device.translations:
        sent = leaving(device, ingress, chosen.interface, visit.packet, visit.arrived, visit.session)
    if device.outbound_sees is Sees.BEFORE and sent != visit.packet and not visit.tracked:
        met = meet(world.lists, out, visit.packet)
        if not denies(met):
            return _leave(world, _rewritten(visit.did(met), sent), chosen, None)
        return _leave(world, visit, chosen, met)
    visit = _rewritten(visit, sent)
    return _leave(world, visit, chosen, None if visit.tracked else meet(world.lists, out, visit.packet))


def _leave(world: World, visit: _Visit, chosen: NextHop, met: Step | None) -> Path | _Visit:
    """What the outbound list and the next hop's neighbour make of a packet that is about to leave.

    met:  what the list did with it; None where none is asked, or it is behind us
    """
    sent = visit.packet
    came = visit

    def hop(*last: Step, egress: str | None = chosen.interface) -> Hop:
        return Hop(came.device, came.ingress, egress, came.arrived, sent, (*came.steps, *last), chosen)

    def ends(outcome: Outcome, *last: Step, egress: str | None = chosen.interface) -> Path:
        return Path((*visit.hops, hop(*last, egress=egress)), outcome, visit.connection)

    if denies(met):
        return ends(Outcome.DENIED, met, egress=None)
    steps = () if met is None else (met,)
    visit = _admitted(world, visit, sent)
    address = sent.destination if chosen.address is None else chosen.address
    port: InterfaceId = (visit.device, chosen.interface)
    neighbour = world.topology.neighbour(port, sent.family, address, chosen.address is not None)
    if neighbour is None:
        return ends(Outcome.NO_NEIGHBOUR, *steps, NobodyAnswers(chosen.interface, address))
    asker = 0 if sent.family is Family.IPV4 else world.topology.solicits_from(port, sent.source)
    stopped = unfound(world.discovery, sent.family, port, neighbour, address, asker)
    if stopped is not None:
        return ends(
            Outcome.NO_DISCOVERY, *steps, DiscoveryStopped(chosen.interface, neighbour, address, stopped)
        )
    frames = world.in_force.wires.carrying(port, neighbour, sent)
    begin = frames[:1] if frames and frames[0].point.device == visit.device else ()
    if denied_in(begin):
        return ends(Outcome.FRAME_DENIED, *steps, *begin)
    end = frames[-1:] if frames and frames[-1].point == AttachmentPoint(*neighbour, Direction.IN) else ()
    leaves = Leaves(chosen.interface, neighbour, address)
    on_wire = frames[len(begin) : len(frames) - len(end)]
    if denied_in(on_wire):
        return ends(Outcome.FRAME_DENIED, *steps, *begin, leaves, *on_wire)
    hops = (*visit.hops, hop(*steps, *begin, leaves, *on_wire))
    entered: tuple[Step, ...] = (Enters(neighbour[1]), *end)
    arrived = _Visit(neighbour[0], neighbour[1], sent, hops, visit.connection, sent, entered)
    return arrived.ends(Outcome.FRAME_DENIED) if denied_in(end) else arrived


def _kept(lookup: Lookup, visit: _Visit, choices: Choices) -> tuple[NextHop, ...]:
    """The next hops to walk: of equal ones that which the device took before for such packets, else all."""
    if len(lookup.hops) < 2:
        return lookup.hops
    key = key_of(visit.arrived)
    taken = [hop.next_hop for hop in visit.hops if (hop.device, key_of(hop.packet)) == (visit.device, key)]
    kept = choices.get((visit.device, key)) or next(iter(taken), None)
    return (kept,) if kept in lookup.hops else lookup.hops


def _is_local(packet: Packet) -> bool:
    """Whether a packet may not leave its segment: either end is link-local (RFC 4291 2.5.6)."""
    ends = (packet.source, packet.destination)
    return any(end is not None and is_link_local(packet.family, end) for end in ends)


def own_address(world: World, device: str, hop: NextHop, packet: Packet) -> int | None:
    """The source of a packet that a device sends itself by `hop` (§4).

    The address of the interface it leaves by, the one on the neighbour's prefix if there are several.
    An interface without one lends the device's first. A link-local address speaks only to link-local ones.
    """
    family = packet.family
    toward = packet.destination if hop.address is None else hop.address
    local = is_link_local(family, packet.destination)
    held = [
        address
        for address in world.topology.held((device, hop.interface), family)
        if is_link_local(family, address.address) == local
    ]
    near = [address for address in held if address.prefix.holds(toward)]
    if near or held:
        return (near or held)[0].address
    return next(iter(world.topology.addresses(device, family)), None)
