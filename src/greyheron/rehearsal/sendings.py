"""What is sent in a rehearsal, and what is predicted of it: pure values, made of conversations (§8)."""

from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.bulk.trying import try_flow
from greyheron.core.packet import Packet
from greyheron.core.walk.addressing import sender_of
from greyheron.core.walk.connection import key_of
from greyheron.core.walk.conversation import expects_reply
from greyheron.core.walk.icmp_errors import Seen
from greyheron.core.walk.steps import Delivered, Path
from greyheron.core.walk.verdicts import Exchange, Result, Verdict
from greyheron.core.world import World
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_flow
from greyheron.model.values import Family
from greyheron.rehearsal.asking import RehearsedFlow
from greyheron.rehearsal.rulebook import Counted

Signature = tuple[int, int | None, int | None, int, int | None]
"""Protocol, source, its port, destination, its port, as a packet has them somewhere on its way."""


class Predicted(Struct, frozen=True):
    """What should come of a conversation, on one of its equal paths.

    sees, by:  what its sender sees, and from which address; None: it says so itself
    way:  the devices that its first packet comes to, in order;  signatures:  of that packet at each of them
    decider:  the entry that denies it, or denies what belongs to it
    """

    verdict: Verdict
    sees: Seen
    by: str | None
    way: tuple[str, ...]
    signatures: tuple[Signature, ...]
    decider: Counted | None


class NameQuery(Struct, frozen=True):
    """A name that is asked for; `address` is what should be answered, None where there is none."""

    name: str
    family: Family
    address: str | None


class Probe(Struct, frozen=True):
    """One conversation to send.

    name:  the flow as it is written, or the query that comes before it
    query:  what is asked for, where it is one, and what should be answered
    opener:  its first packet; the source is None where its sender chooses
    answered:  whether an answer is waited for
    """

    asked: RehearsedFlow
    name: str
    query: NameQuery | None
    sender: str
    opener: Packet
    answered: bool
    predicted: tuple[Predicted, ...]

    @property
    def outward(self) -> frozenset[Signature]:
        """All by which its packets can be known anywhere on the way out."""
        return frozenset(each for one in self.predicted for each in one.signatures)

    @property
    def signatures(self) -> frozenset[Signature]:
        """All by which its packets can be known anywhere, either way."""
        return self.outward | frozenset(map(other_way, self.outward))


def sendings_of(asked: RehearsedFlow, world: World) -> list[Probe]:
    """What a flow takes: queries for its name first. Raises FlowError."""
    flow = asked.flow
    result = try_flow(world, flow)
    resolution = result.resolution
    if resolution is None:
        return [_sending(asked, result, world)]
    found = []
    for query in result.queries:
        held = resolution.address if query is result.queries[-1] else None
        address = None if held is None else resolution.family.text(held)
        named = NameQuery(resolution.name, resolution.family, address)
        found.append(_sending(asked, query.result, world, named))
    if resolution.address is not None:
        found.append(_sending(asked, result, world))
    return found


def guests_of(flows: Iterable[Flow]) -> Mapping[str, tuple[str, ...]]:
    """The possible hosts that flows speak of: addresses with lengths, by the stand-in on their segment."""
    found: dict[str, dict[str, None]] = {}
    for flow in flows:
        for end in (flow.source, flow.destination):
            if end.possible and end.at is not None:
                stand_in = sender_of(Flow(end, end, "ping"))
                found.setdefault(stand_in, {})[end.at] = None
    return {name: tuple(addresses) for name, addresses in found.items()}


def apart(sendings: Iterable[Probe], most: int, one_each: bool = False) -> Iterator[list[Probe]]:
    """Groups of at most `most` that cannot be taken for each other; `one_each`: one of each sender."""
    left = list(sendings)
    while left:
        group: list[Probe] = []
        known: set[Signature] = set()
        later: list[Probe] = []
        for sending in left:
            waits = one_each and any(each.sender == sending.sender for each in group)
            if len(group) < most and not waits and known.isdisjoint(sending.signatures):
                group.append(sending)
                known |= sending.signatures
            else:
                later.append(sending)
        yield group
        left = later


def signature_of(packet: Packet) -> Signature:
    key = key_of(packet)
    return key.protocol, key.source, key.source_port, key.destination, key.destination_port


def _sending(asked: RehearsedFlow, result: Result, world: World, query: NameQuery | None = None) -> Probe:
    flow, opener = asked.flow, result.exchanges[0].legs[0].path.packet
    chosen = flow.source.at is None
    return Probe(
        asked,
        write_flow(flow) if query is None else f"query for {query.name} of {write_flow(flow)}",
        query,
        sender_of(flow),
        opener if not chosen else replace(opener, source=None),
        expects_reply(opener),
        tuple(_predicted(exchange, world) for exchange in result.exchanges),
    )


def _predicted(exchange: Exchange, world: World) -> Predicted:
    first: Path = exchange.legs[0].path
    denial = exchange.decider.path.denial
    packets = [packet for hop in first.hops for packet in (hop.packet, hop.sent) if packet is not None]
    signatures = tuple(dict.fromkeys(signature_of(packet) for packet in packets if packet.source is not None))
    decider = None if denial is None else Counted(denial.point, denial.list_name, denial.decision.entry)
    family = first.packet.family
    by, sees = None, exchange.sees
    response = exchange.response
    returned = exchange.decider.path.last.ingress is not None
    came_back = response is not None and response.device == first.hops[0].device and returned
    if came_back and family is Family.IPV4 and sees is Seen.PROHIBITED:
        sees = Seen.NOTHING  # of its own packet that came back to it a kernel tells itself nothing
    elif exchange.seen_from is not None:
        speaker = _speaker(exchange, exchange.seen_from)
        own = sees is not Seen.REPLY and world.topology.owns(first.hops[0].device, family, speaker)
        by = None if own and sees is not Seen.RESET else family.text(speaker)
    way = tuple(dict.fromkeys(hop.device for hop in first.hops))
    return Predicted(exchange.verdict, sees, by, way, signatures, decider)


def _speaker(exchange: Exchange, address: int) -> int:
    """Who speaks: of an IPv4 device that was asked itself the kernel lets that address speak (§15)."""
    response = exchange.response
    if response is None or response.path is None or response.says is Seen.RESET:
        return address
    asked = exchange.decider.path.last
    own = asked.packet.family is Family.IPV4 and any(isinstance(step, Delivered) for step in asked.steps)
    return exchange.legs[0].path.packet.destination if own else address


def other_way(there: Signature) -> Signature:
    """Of the packets that answer those of a signature."""
    protocol, source, source_port, destination, destination_port = there
    return protocol, destination, destination_port, source or 0, source_port
