"""Conversations: every packet both ways, on every path, and the verdict (§8)."""

from collections.abc import Sequence

from msgspec.structs import replace

from greyheron.core.packet import Packet, Way
from greyheron.core.walk.addressing import (
    USUAL_SOURCE_PORT,
    FlowError,
    first_packet,
    opener_of,
    sender_of,
    source_of,
    world_of,
)
from greyheron.core.walk.connection import ConnectionState
from greyheron.core.walk.dns import Unresolved, family_for, is_name, records_of, resolvers_of
from greyheron.core.walk.icmp_errors import Seen, response_to
from greyheron.core.walk.steps import Outcome, Path
from greyheron.core.walk.verdicts import VERDICTS, Exchange, PacketTrace, Query, Resolution, Result, Verdict
from greyheron.core.walk.walk import MOST_PATHS, walk
from greyheron.core.world import World
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.header import TcpFlags
from greyheron.model.item import family_of
from greyheron.model.names import PORTS, TCP, UDP
from greyheron.model.services import Request


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
        source = source_of(world, flow.source, family) if resolver.family is family else None
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
    first = PacketTrace(_opener_name(packet), Way.OUT, out)
    if out.outcome is not Outcome.ARRIVED or not expects_reply(packet):
        return [_ended(world, (first,))], False
    reply_name = "SYN+ACK" if packet.protocol == TCP else "reply"
    reply = reply_to(out.last.received)
    returns, more = walk(world, reply, out.last.device, out.connection, most=most)
    exchanges = []
    for returned in returns:
        legs: tuple[PacketTrace, ...] = (first, PacketTrace(reply_name, Way.RETURN, returned))
        if returned.outcome is Outcome.ARRIVED and packet.protocol == TCP:
            legs += _acknowledgements(world, out, returned)
        exchanges.append(_ended(world, legs))
    return exchanges, more


def _acknowledgements(world: World, out: Path, returned: Path) -> tuple[PacketTrace, ...]:
    """The later packets of a TCP connection, along the same paths as the first ones."""
    legs: list[PacketTrace] = []
    connection = returned.connection
    for way, like in ((Way.OUT, out), (Way.RETURN, returned)):
        ack = replace(like.packet, flags=TcpFlags.ACK)
        path = walk(world, ack, like.hops[0].device, connection, like.choices, most=1)[0][0]
        legs.append(PacketTrace("ACK", way, path))
        connection = path.connection
        if path.outcome is not Outcome.ARRIVED:
            break
    return tuple(legs)


def _ended(world: World, legs: Sequence[PacketTrace]) -> Exchange:
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
