"""The walk against the naive reference, on random networks with every feature."""

from ipaddress import IPv4Address, IPv6Address

from hypothesis import example, given
from hypothesis import strategies as st

from greyheron.core.conversation import Exchange, FlowError, Verdict, converse, first_packet
from greyheron.core.packet import Packet, TcpFlags
from greyheron.core.world import World, build_world
from greyheron.model.values import Family
from tests.random_networks import random_flows, random_network
from tests.reference import P, Reference

FLOWS = 12


def as_reference(packet: Packet) -> P:
    def address(value: int) -> IPv4Address | IPv6Address:
        return IPv4Address(value) if packet.family is Family.IPV4 else IPv6Address(value)

    return P(
        None if packet.source is None else address(packet.source),
        address(packet.destination),
        packet.protocol,
        packet.source_port,
        packet.destination_port,
        "S" if packet.flags == TcpFlags.SYN else "",
        None if packet.icmp_type is None else (packet.icmp_type, packet.icmp_code or 0),
    )


def decider(exchange: Exchange) -> tuple[str, object]:
    denial = exchange.decider.path.denial
    if denial is None or exchange.verdict is Verdict.PASSES:
        return exchange.verdict.value, None
    point = denial.point
    return exchange.verdict.value, (
        point.device,
        point.at,
        point.direction.value,
        denial.list_name,
        denial.decision.entry,
    )


def compare(world: World, reference: Reference, seed: int, flows: int) -> int:
    """Every flow in both; how many there were."""
    network = reference.n
    compared = 0
    for flow in random_flows(network, seed, flows):
        try:
            packet = first_packet(world, flow)
        except FlowError:
            continue
        assert flow.source.device is not None
        result = converse(world, flow)
        verdict, ends = reference.converse(as_reference(packet), flow.source.device)
        found = [decider(exchange) for exchange in result.exchanges]
        assert (result.verdict.value, found) == (verdict, ends), flow
        compared += 1
    return compared


@given(st.integers(0, 1_000_000))
@example(453)  # a path that ends at once stands in its place among the equal ones, not before them
@example(527)
def test_walk_and_reference_agree(seed: int) -> None:
    network = random_network(seed)
    world = build_world(network)
    compare(world, Reference(network), seed, FLOWS)
    compare(world.baseline, Reference(network, with_lists=False), seed, FLOWS // 3)
