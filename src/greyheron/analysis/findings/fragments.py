"""Holes for fragments: a deny with ports never meets them, and a permit below lets them by (RFC 1858)."""

from collections.abc import Iterator
from itertools import islice, product

from greyheron.analysis.findings.finding import Finding, Ground, Severity, line_of
from greyheron.core.conversation import Verdict, converse
from greyheron.core.lists import ResolvedList
from greyheron.core.matching import decide
from greyheron.core.packet import Packet
from greyheron.core.rules import Rule
from greyheron.core.steps import Filtered
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.entry import AddressBlock
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.names import WITH_PORTS
from greyheron.model.notation.flows import write_flow
from greyheron.model.values import Action, Family

_MOST_ENDS, _MOST_PAIRS, _MOST_TRIED = 60, 400, 12
_Ends = dict[int, str]
"""Devices by address."""


def holes_for_fragments(ground: Ground) -> Iterator[Finding]:
    """For each placed list at most one: the first deny with ports whose fragments get through."""
    ends = {family: _ends(ground.world, family) for family in Family}
    told: set[str] = set()
    for (point, family), found in ground.world.lists.items():
        if found.name in told or not any(map(_lets_fragments_by, found.rules)):
            continue
        for rule in found.rules:
            witness = _witness(ground.world, point, found, rule, ends[family])
            if witness is not None:
                told.add(found.name)
                yield _finding(ground, point, found, rule, *witness)
                break


def _ends(world: World, family: Family) -> _Ends:
    return {
        address: name
        for name, device in world.topology.devices.items()
        if not device.traits.bridges
        for address in world.topology.addresses(name, family)[:1]
    }


def _lets_fragments_by(rule: Rule) -> bool:
    """Whether it denies packets by what fragments lack, as far as they have ports at all."""
    entry = rule.entry
    with_ports = bool(entry.source_ports or entry.destination_ports)
    return entry.action is Action.DENY and entry.protocol in WITH_PORTS and with_ports


def _witness(
    world: World, point: AttachmentPoint, found: ResolvedList, rule: Rule, ends: _Ends
) -> tuple[Flow, int] | None:
    """A fragment of what a rule denies that gets through by the list, and the entry that permits it."""
    if not _lets_fragments_by(rule):
        return None
    family = found.family
    protocol = rule.entry.protocol or 0
    sources, goals = (
        list(islice((each for each in ends if _in(each, blocks)), _MOST_ENDS))
        for blocks in (rule.sources, rule.destinations)
    )
    tried = 0
    for source, goal in islice(product(sources, goals), _MOST_PAIRS):
        decision = decide(found, Packet(family, source, goal, protocol, fragment=True))
        if ends[source] == ends[goal] or decision.denies or decision.entry is None:
            continue
        flow = Flow(
            FlowEnd(ends[source], family.text(source)),
            FlowEnd(ends[goal], family.text(goal)),
            f"protocol/{protocol}",
            fragment=True,
        )
        result = converse(world, flow)
        by_it = any(
            isinstance(step, Filtered) and step.point == point
            for exchange in result.exchanges
            for hop in exchange.legs[0].path.hops
            for step in hop.steps
        )
        if result.verdict is Verdict.PASSES and by_it:
            return flow, decision.entry
        tried += 1
        if tried == _MOST_TRIED:
            return None
    return None


def _in(address: int, blocks: tuple[AddressBlock, ...] | None) -> bool:
    return blocks is None or any(block.holds(address) for block in blocks)


def _finding(
    ground: Ground, point: AttachmentPoint, found: ResolvedList, rule: Rule, flow: Flow, permit: int
) -> Finding:
    access_list = next(each for each in ground.network.lists if each.name == found.name)
    number = rule.entry.number
    return Finding(
        "hole for fragments",
        Severity.NOTE,
        f"{found.name} entry {number}",
        f"{found.name} entry {number} denies by port, and entry {permit} below lets fragments that are not "
        "the first through to the same place: they have no ports.",
        (
            line_of(access_list, number),
            line_of(access_list, permit),
            f"{write_flow(flow)}: passes {point}",
            "an entry that denies `fragment` above the permit would close it",
        ),
        (point.device,),
        (found.name,),
        write_flow(flow),
    )
