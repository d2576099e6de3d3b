"""Flows to the inside address of a translated host, by whoever has to use the outside one (§7)."""

from collections.abc import Iterator
from itertools import product

from greyheron.analysis.findings.finding import Finding, SearchGround, Severity
from greyheron.analysis.proof.answers import AddressParty
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.analysis.proof.wording import flow_between
from greyheron.core.intervals import common
from greyheron.core.network.addresses import block_of
from greyheron.core.packet import Packet
from greyheron.core.walk.addressing import FlowError, first_packet
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.steps import Hop, Outcome
from greyheron.core.world import World
from greyheron.model.device import Device, Translation
from greyheron.model.flow import Flow
from greyheron.model.item import family_of
from greyheron.model.names import TCP
from greyheron.model.notation.flows import write_expected_flow, write_flow
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.requirement import RequirementKind
from greyheron.model.services import Request
from greyheron.model.values import Family

_KIND = "inside address of a translated host"
_MOST_TRIED = 40


def to_inside_addresses(ground: SearchGround) -> Iterator[Finding]:
    """Tests and requirements that nothing can come of, with the address to use instead."""
    static = [
        rule for device in ground.network.devices for rule in device.translations if rule.kind == "static"
    ]
    if not static:
        return
    for test in ground.network.tests:
        flow = test.flow.flow
        try:
            packet = first_packet(ground.world, flow)
        except FlowError:
            continue
        used = _used(ground.world, flow) if _is_inside(packet, static) else None
        if used is not None:
            yield _finding(test.id, write_expected_flow(test.flow), flow, used)
    for requirement in ground.network.requirements:
        statement = requirement.statement
        if statement.kind is RequirementKind.BLOCK:
            continue
        for family in Family:
            found = Endpoints(ground.world.with_possible_hosts, ground.network, family)
            ends = found.of(statement.sources), found.of(statement.destinations)
            for flow in _flows(family, static, *ends):
                used = _used(ground.world, flow)
                if used is not None:
                    yield _finding(requirement.id, write_requirement(statement), flow, used)
                    break


def _is_inside(packet: Packet, static: list[Translation]) -> bool:
    return any(
        family_of(rule.source) is packet.family and block_of(rule.source).holds(packet.destination)
        for rule in static
    )


def _flows(
    family: Family, static: list[Translation], sources: tuple[Endpoint, ...], goals: tuple[Endpoint, ...]
) -> Iterator[Flow]:
    """Some conversations of a requirement to inside addresses, about what the rule is for."""
    tried = 0
    for rule in static:
        if family_of(rule.source) is not family:
            continue
        request = Request(TCP, rule.port or 80)
        for source, goal in product(sources, goals):
            region = common(goal.region, (block_of(rule.source),))
            if not region or not goal.drawn or source.device == goal.device or tried == _MOST_TRIED:
                continue
            tried += 1
            to = AddressParty(goal.device, region, goal.drawn, every=False)
            yield flow_between(
                family, AddressParty(source.device, source.region, source.drawn, every=False), to, request, 0
            )


def _used(world: World, flow: Flow) -> tuple[str, int | None] | None:
    """The outside address, and port if it is limited to one, that stands for where the flow is not let in."""
    try:
        exchanges = converse(world, flow).exchanges
    except FlowError:
        return None
    for exchange in exchanges:
        path = exchange.decider.path
        if path.outcome is Outcome.UNTRANSLATED:
            return _outside(world.topology.devices[path.last.device], path.last)
    return None


def _outside(device: Device, hop: Hop) -> tuple[str, int | None] | None:
    packet = hop.packet
    for rule in device.translations:
        if rule.kind != "static" or rule.to is None or rule.inward or rule.outside != hop.ingress:
            continue
        inside, outside = block_of(rule.source), block_of(rule.to)
        if inside.family is packet.family and inside.holds(packet.destination):
            address = outside.value + packet.destination - inside.value
            return packet.family.text(address), rule.to_port or rule.port
    return None


def _finding(key: str, written: str, flow: Flow, used: tuple[str, int | None]) -> Finding:
    address, port = used
    at = f", port {port}" if port is not None else ""
    return Finding(
        _KIND,
        Severity.WARNING,
        key,
        f"{written} goes to the inside address of a translated host, which is not let in from outside: use "
        f"{address}{at} instead.",
        (f"{write_flow(flow)}: the translated address must be used",),
        flow=write_flow(flow),
    )
