"""Conversations: every packet both ways, on every path, and the verdict (§8)."""

from collections.abc import Iterator, Sequence
from enum import StrEnum
from ipaddress import ip_address, ip_interface

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.network.addresses import block_of, is_link_local
from greyheron.core.network.possible_hosts import reserved
from greyheron.core.packet import Packet, Way
from greyheron.core.walk.connection import ConnectionState
from greyheron.core.walk.dns import Resolver, Unresolved, family_for, is_name, records_of, resolvers_of
from greyheron.core.walk.icmp_errors import Response, Seen, response_to
from greyheron.core.walk.steps import Outcome, Path
from greyheron.core.walk.walk import MOST_PATHS, walk
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import family_of
from greyheron.model.errors import GreyHeronError
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.header import TcpFlags
from greyheron.model.names import PORTS, TCP, UDP
from greyheron.model.services import Request, requested
from greyheron.model.values import Family

USUAL_SOURCE_PORT = 49152


class Verdict(StrEnum):
    PASSES = "passes"
    BLOCKED = "blocked"
    UNREACHABLE = "unreachable"
    REFUSED = "refused"
    MIXED = "mixed"


VERDICTS = {
    Outcome.ARRIVED: Verdict.PASSES,
    Outcome.DENIED: Verdict.BLOCKED,
    Outcome.FRAME_DENIED: Verdict.BLOCKED,
    Outcome.NO_DISCOVERY: Verdict.BLOCKED,
    Outcome.ZONE: Verdict.BLOCKED,
    Outcome.NO_SESSION: Verdict.BLOCKED,
    Outcome.UNTRANSLATED: Verdict.BLOCKED,
    Outcome.NO_ROUTE: Verdict.UNREACHABLE,
    Outcome.NO_NEIGHBOUR: Verdict.UNREACHABLE,
    Outcome.HOP_LIMIT: Verdict.UNREACHABLE,
    Outcome.LOOP: Verdict.UNREACHABLE,
    Outcome.LOST: Verdict.UNREACHABLE,
    Outcome.REFUSED: Verdict.REFUSED,
}
ARRIVING = frozenset({Verdict.PASSES, Verdict.REFUSED})
"""The verdicts of what gets where it is going, be it that nobody listens there."""


class Leg(Struct, frozen=True):
    """One packet of a conversation and where it went. `name` is the trade's: SYN, reply, …"""

    name: str
    way: Way
    path: Path


class Exchange(Struct, frozen=True):
    """A whole conversation along one combination of equal-cost paths.

    legs:  its packets in order, up to the first that did not arrive
    response:  what a device said of that one
    sees:  what the conversation's sender sees, and by whom
    """

    legs: tuple[Leg, ...]
    verdict: Verdict
    response: Response | None
    sees: Seen
    seen_from: int | None

    @property
    def decider(self) -> Leg:
        """The leg that settled the verdict."""
        return self.legs[-1]

    @property
    def reached(self) -> bool:
        """Whether the first packet got where it was going, whatever became of the answer."""
        return VERDICTS[self.legs[0].path.outcome] in ARRIVING


class Query(Struct, frozen=True):
    """A question for a name: to whom, and what became of it."""

    resolver: Resolver
    result: "Result"


class Resolution(Struct, frozen=True):
    """What came of a name before the conversation itself.

    queries:  in the order in which they were asked;  address:  what was answered, or None
    """

    name: str
    family: Family
    queries: tuple[Query, ...]
    address: int | None
    why: Unresolved | None


class Result(Struct, frozen=True):
    """A conversation on all its paths.

    more:  whether there are more combinations of paths than were walked
    unwalked:  what decides where those are reckoned with as well; None: what becomes of them is not known
    resolution:  of a destination that is a name; where it was not resolved, the exchanges are the query's
    """

    verdict: Verdict
    exchanges: tuple[Exchange, ...]
    more: bool
    resolution: Resolution | None = None
    unwalked: "Unwalked | None" = None

    @property
    def whole(self) -> bool:
        """Whether it is known what becomes of it on all its paths."""
        return not self.more or self.unwalked is not None

    @property
    def queries(self) -> tuple[Query, ...]:
        """What was asked for the destination's name."""
        return () if self.resolution is None else self.resolution.queries

    @property
    def every_leg(self) -> Iterator[Leg]:
        """Every packet, those of queries first."""
        for query in self.queries:
            yield from query.result.every_leg
        if self.resolution is None or self.resolution.address is not None:
            yield from (leg for exchange in self.exchanges for leg in exchange.legs)


class Unwalked(Struct, frozen=True):
    """What decides about a conversation with more ways than are walked, on the first of them that fails.

    device:  where it ends;  point, list_name, entry:  of the list that denies it, or None
    """

    device: str
    point: AttachmentPoint | None
    list_name: str | None
    entry: int | None


class FlowError(GreyHeronError, ValueError):
    """A test flow that cannot be tried in this network; says why."""


def first_packet(world: World, flow: Flow) -> Packet:
    """The packet that opens `flow`. Raises FlowError when the network lacks one of its ends."""
    world = world_of(world, flow)
    family = family_of_flow(world, flow)
    source = _source(world, flow.source, family)
    destination = _destination(world, flow.destination, family)
    device = world.topology.devices.get(
        flow.destination.device or world.topology.owner(family, destination) or ""
    )
    request = requested(flow.service, device, family)
    if request is None:
        raise FlowError(f"no service is known by the name “{flow.service}”: write tcp/443, say")
    if flow.flags is not None:
        if request.protocol != TCP:
            raise FlowError(f"{flow.service} is not TCP: only TCP has flags")
        request = replace(request, flags=flow.flags)
    if flow.fragment:
        request = Request(request.protocol, fragment=True)
    port = USUAL_SOURCE_PORT if flow.source_port is None else flow.source_port
    dscp = 0 if flow.dscp is None else flow.dscp.low
    return opener_of(family, replace(request, dscp=dscp), source, destination, port)


def opener_of(
    family: Family, request: Request, source: int | None, destination: int, source_port: int
) -> Packet:
    """The packet that opens what is requested; the port is used where the request has one."""
    opens = TcpFlags.SYN if request.protocol == TCP and not request.fragment else TcpFlags.NONE
    return Packet(
        family,
        source,
        destination,
        request.protocol,
        None if request.port is None else source_port,
        request.port,
        opens if request.flags is None else request.flags,
        request.icmp_type,
        request.icmp_code,
        dscp=request.dscp,
        fragment=request.fragment,
    )


def request_of(opener: Packet) -> Request:
    """What a packet that `opener_of` made asks for."""
    single = opener.protocol == TCP and not opener.fragment and opener.flags != TcpFlags.SYN
    return Request(
        opener.protocol,
        opener.destination_port,
        opener.icmp_type,
        opener.icmp_code,
        opener.flags if single else None,
        opener.fragment,
        opener.dscp,
    )


def converse(world: World, flow: Flow) -> Result:
    """Try `flow` in `world`, on every equal-cost path. Raises FlowError."""
    if is_name(world.topology, flow.destination):
        return _by_name(world, flow)
    packet = first_packet(world, flow)
    return converse_from(world_of(world, flow), packet, sender_of(flow))


def _by_name(world: World, flow: Flow) -> Result:
    """A conversation that begins with a question for its destination's name (§13)."""
    resolution = _resolved(world, flow)
    if resolution.address is None:
        first = resolution.queries[0].result
        answered = resolution.why is not Unresolved.NOT_ANSWERED
        told = resolution.queries[-1].result if answered else first
        verdict = Verdict.UNREACHABLE if answered else first.verdict
        return Result(verdict, told.exchanges, told.more, resolution)
    result = converse(world, _asked_for(flow, resolution))
    return replace(result, resolution=resolution)


def resolved_flow(flow: Flow, result: Result) -> Flow | None:
    """The flow that `result` is of, once its destination has an address; None where that has none."""
    if result.resolution is None:
        return flow
    return None if result.resolution.address is None else _asked_for(flow, result.resolution)


def _asked_for(flow: Flow, resolution: Resolution) -> Flow:
    assert resolution.address is not None
    end = FlowEnd(None, resolution.family.text(resolution.address))
    return replace(flow, destination=end, family=resolution.family)


def _resolved(world: World, flow: Flow) -> Resolution:
    name = flow.destination.device
    assert name is not None
    sender, within = sender_of(flow), world_of(world, flow)
    device = within.topology.devices.get(sender)
    if device is None:
        raise FlowError(f"there is no device “{sender}” in this network")
    resolvers = resolvers_of(device)
    if not resolvers:
        raise FlowError(f"{sender} has no resolver: it cannot ask for {name}")
    family = flow.family or family_for(within.topology, sender, name)
    queries: list[Query] = []
    for resolver in resolvers:
        source = _source(world, flow.source, family) if resolver.family is family else None
        request = Request(UDP, PORTS["domain"])
        packet = opener_of(resolver.family, request, source, resolver.address, USUAL_SOURCE_PORT)
        result = converse_from(within, packet, sender)
        queries.append(Query(resolver, result))
        if result.verdict is Verdict.PASSES:
            answers = records_of(within.topology.devices[result.exchanges[0].legs[0].path.last.device], name)
            found = [int(each) for each in answers or () if family_of(each) is family]
            why = None if found else Unresolved.NOT_IN_FAMILY if answers else Unresolved.NO_SUCH_NAME
            return Resolution(name, family, tuple(queries), found[0] if found else None, why)
    return Resolution(name, family, tuple(queries), None, Unresolved.NOT_ANSWERED)


def world_of(world: World, flow: Flow) -> World:
    """Where `flow` is tried: with everyone who could be there if one of its ends is such a host."""
    return world.with_possible_hosts if flow.source.possible or flow.destination.possible else world


def sender_of(flow: Flow) -> str:
    """The device that sends; of a possible host the stand-in on its segment."""
    if flow.source.device is not None:
        return flow.source.device
    assert flow.source.at is not None
    return str(ip_interface(flow.source.at).network)


def converse_from(world: World, packet: Packet, device: str) -> Result:
    """The conversation that `packet`, made by `device`, opens."""
    exchanges: list[Exchange] = []
    paths, more = walk(world, packet, device, ConnectionState())
    for path in paths:
        left = MOST_PATHS - len(exchanges)
        if left <= 0:
            more = True
            break
        found, cut = _exchanges(world, path, left)
        exchanges += found
        more = more or cut
    verdicts = {exchange.verdict for exchange in exchanges}
    verdict = verdicts.pop() if len(verdicts) == 1 else Verdict.MIXED
    return Result(verdict, tuple(exchanges), more)


def _exchanges(world: World, out: Path, most: int) -> tuple[list[Exchange], bool]:
    """Every exchange that begins along `out`, at most `most`, and whether there are more."""
    packet = out.packet
    first = Leg(_opener_name(packet), Way.OUT, out)
    if out.outcome is not Outcome.ARRIVED or not expects_reply(packet):
        return [_ended(world, (first,))], False
    reply_name = "SYN+ACK" if packet.protocol == TCP else "reply"
    reply = reply_to(out.last.received)
    returns, more = walk(world, reply, out.last.device, out.connection, most=most)
    exchanges = []
    for returned in returns:
        legs: tuple[Leg, ...] = (first, Leg(reply_name, Way.RETURN, returned))
        if returned.outcome is Outcome.ARRIVED and packet.protocol == TCP:
            legs += _acknowledgements(world, out, returned)
        exchanges.append(_ended(world, legs))
    return exchanges, more


def _acknowledgements(world: World, out: Path, returned: Path) -> tuple[Leg, ...]:
    """The later packets of a TCP connection, along the same paths as the first ones."""
    legs: list[Leg] = []
    connection = returned.connection
    for way, like in ((Way.OUT, out), (Way.RETURN, returned)):
        ack = replace(like.packet, flags=TcpFlags.ACK)
        path = walk(world, ack, like.hops[0].device, connection, like.choices, most=1)[0][0]
        legs.append(Leg("ACK", way, path))
        connection = path.connection
        if path.outcome is not Outcome.ARRIVED:
            break
    return tuple(legs)


def _ended(world: World, legs: Sequence[Leg]) -> Exchange:
    last = legs[-1]
    verdict = VERDICTS[last.path.outcome]
    response = response_to(world, last.path)
    sees, seen_from = Seen.NOTHING, None
    if verdict is Verdict.PASSES:
        if last.way is Way.RETURN:
            sees, seen_from = Seen.REPLY, legs[1].path.last.received.source
    elif response is not None and response.heard and last.way is Way.OUT:
        sees = response.says
        seen_from = None if response.path is None else response.path.last.received.source
    return Exchange(tuple(legs), verdict, response, sees, seen_from)


def _opener_name(packet: Packet) -> str:
    if packet.fragment:
        return "fragment"
    if packet.protocol == TCP:
        return "+".join(packet.flags.names) or "no flags"
    return "request" if expects_reply(packet) else "packet"


def expects_reply(packet: Packet) -> bool:
    """Whether a conversation follows: not on what is no opener, nor on a fragment (§8)."""
    if packet.fragment:
        return False
    echo = packet.protocol == packet.family.icmp and packet.icmp_type == packet.family.echo[0]
    return packet.opens or packet.protocol == UDP or echo


def reply_to(packet: Packet) -> Packet:
    """What the receiver of a conversation's first packet sends back."""
    back = packet.back()
    if packet.protocol == TCP:
        return replace(back, flags=TcpFlags.SYN | TcpFlags.ACK)
    if packet.protocol == UDP:
        return back
    return replace(back, icmp_type=packet.family.echo[1], icmp_code=0, dscp=packet.dscp)


def family_of_flow(world: World, flow: Flow) -> Family:
    """The family to try a flow in: as written, as its addresses are, else IPv4 where both ends have it."""
    if flow.family is not None:
        return flow.family
    for end in (flow.source, flow.destination):
        if end.at is not None and (
            end.device is None or (end.device, end.at) not in world.topology.interfaces
        ):
            return _number(end.at.partition("/")[0])[0]
    ends = [end.device for end in (flow.source, flow.destination) if end.device in world.topology.devices]
    has_ipv4 = all(world.topology.addresses(end, Family.IPV4) for end in ends if end is not None)
    return Family.IPV4 if has_ipv4 else Family.IPV6


def _possible_host(world: World, end: FlowEnd, family: Family) -> int:
    """The address of a host that could be there. Raises FlowError when nobody could have it."""
    assert end.at is not None
    interface = ip_interface(end.at)
    prefix = str(interface.network)
    address = _in_family(str(interface.ip), family)
    if world.topology.owner(family, address) == prefix and address not in reserved(
        block_of(interface.network)
    ):
        return address
    raise FlowError(
        f"no host could have {interface.ip} on {prefix}: a device has it, or no segment has that prefix"
    )


def _source(world: World, end: FlowEnd, family: Family) -> int | None:
    if end.possible:
        return _possible_host(world, end, family)
    device = world.topology.devices.get(end.device or "")
    if device is None:
        raise FlowError(f"there is no device “{end.device}” in this network")
    if device.traits.bridges:
        raise FlowError(f"{device.name} is a switch: it neither sends nor answers")
    return None if end.at is None else _address_of(world, device.name, end.at, family)


def _destination(world: World, end: FlowEnd, family: Family) -> int:
    if end.possible:
        return _possible_host(world, end, family)
    if end.device is None:
        assert end.at is not None
        return _in_family(end.at, family)
    if end.device not in world.topology.devices:
        raise FlowError(f"there is no device “{end.device}” in this network")
    if end.at is not None:
        return _address_of(world, end.device, end.at, family)
    addresses = world.topology.addresses(end.device, family)
    if not addresses or is_link_local(family, addresses[0]):
        raise FlowError(f"{end.device} has no {family.word} address to send to")
    return addresses[0]


def _address_of(world: World, device: str, at: str, family: Family) -> int:
    interface = world.topology.interfaces.get((device, at))
    if interface is None:
        address = _in_family(at, family)
        if not world.topology.owns(device, family, address):
            raise FlowError(f"{at} is neither an interface nor an address of {device}")
        return address
    if not interface.of(family):
        raise FlowError(f"{device} {at} has no {family.word} address")
    held = world.topology.held((device, at), family)
    if not held:
        raise FlowError(f"{device} {at} is disabled: its addresses are nobody's")
    return held[0].address


def _in_family(text: str, family: Family) -> int:
    found, address = _number(text)
    if found is not family:
        raise FlowError(f"{text} is no {family.word} address, and the flow is {family.word}")
    return address


def _number(text: str) -> tuple[Family, int]:
    try:
        address = ip_address(text)
    except ValueError:
        raise FlowError(f"“{text}” is no address") from None
    return (Family.IPV4 if address.version == 4 else Family.IPV6), int(address)
