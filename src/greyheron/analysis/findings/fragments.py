"""Holes for fragments: a deny with ports never meets them, and a permit below lets them by (RFC 1858)."""

from collections.abc import Hashable, Iterator, Mapping, Sequence
from itertools import chain, pairwise

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.findings.finding import Finding, SearchGround, Severity, line_of
from greyheron.analysis.findings.repairs import without_ports
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.headers import (
    NO_PORT,
    NONE,
    Addresses,
    Bools,
    Headers,
    Ints,
    Words,
    distinct,
    rank_within,
    split,
)
from greyheron.core.intervals import Sorted, ranges_of
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.core.progress import Progress, part
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.entry import AddressBlock
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.names import WITH_PORTS
from greyheron.model.notation.flows import write_flow
from greyheron.model.services import Request
from greyheron.model.values import Action, Family

_MOST_ENDS, _MOST_PAIRS, _MOST_TRIED = 60, 400, 12
_PASSES = VERDICT_ORDER.index(Verdict.PASSES)
_Place = tuple[AttachmentPoint, Family]
_Slot = tuple[Hashable, tuple[object, ...]]
_NOTHING = np.zeros(0, dtype=np.int64)


class _Hole(Struct, frozen=True):
    """A fragment of what a rule denies that gets through by the list, and the entry that permits it."""

    found: ResolvedList
    rule: Rule
    flow: Flow
    permit: int


class _Searched(Struct, frozen=True):
    """What was found at one place, in a world, and by which points and solicitations that was tried.

    codes:  see `ForwardingIndex`; None where all of them may have a say
    """

    hole: _Hole | None
    engine: BulkEngine
    codes: Ints | None

    def holds(self, engine: BulkEngine, family: Family) -> bool:
        """Whether it is the same in a world of the same forwarding."""
        differs = engine.changed_codes(self.engine, family)
        return not (differs if self.codes is None else differs[self.codes]).any()


class _Fragments(Struct, frozen=True):
    """Fragments that are tried at one place, in order: arrays of one length.

    rule:  index of the rule that denies packets with ports;  source, goal:  indices among the ends
    permit:  the number of the entry that lets them by
    """

    rule: Ints
    source: Ints
    goal: Ints
    permit: Ints


def holes_for_fragments(ground: SearchGround) -> Iterator[Finding]:
    """For each placed list at most one: the first deny with ports whose fragments get through."""
    told: set[str] = set()
    for (point, _), searched in _searched(ground).items():
        hole = searched.hole
        if hole is not None and hole.found.name not in told:
            told.add(hole.found.name)
            yield _finding(ground, point, hole)


def _lets_fragments_by(rule: Rule) -> bool:
    """Whether it denies packets by what fragments lack, as far as they have ports at all."""
    entry = rule.entry
    with_ports = bool(entry.source_ports or entry.destination_ports)
    return entry.action is Action.DENY and entry.protocol in WITH_PORTS and with_ports


def _searched(ground: SearchGround) -> dict[_Place, _Searched]:
    """The search at every place of a world; those are kept that nothing has changed for."""
    world, engine = ground.world, ground.engines(ground.world)
    slots: dict[_Place, _Slot] = {}
    known: dict[_Place, _Searched] = {}
    for (point, family), found in world.lists.items():
        if ground.share.has(found.name) and any(map(_lets_fragments_by, found.rules)):
            slot: _Slot = (
                ("fragments", point, family, world.resolved.active),
                (found, engine.forwarding(family)),
            )
            before = ground.kept.get(*slot)
            slots[point, family] = slot
            if isinstance(before, _Searched) and before.holds(engine, family):
                known[point, family] = replace(before, engine=engine)
    for family in Family:
        fresh = {place: world.lists[place] for place in slots.keys() - known.keys() if place[1] is family}
        if fresh:
            known |= _Senders(world, family, ground.progress).search(engine, fresh)
    for place, slot in slots.items():
        ground.kept.put(*slot, known[place])
    return {place: known[place] for place in slots}


class _Senders:
    """Every device with its first address, as both ends of what is tried."""

    def __init__(self, world: World, family: Family, progress: Progress) -> None:
        self._family, self._progress = family, progress
        self._held = [
            (name, address)
            for name, device in world.topology.devices.items()
            if not device.traits.bridges
            for address in world.topology.addresses(name, family)[:1]
        ]
        self._addresses = Addresses(family, [address for _, address in self._held])
        self._rising = Sorted(self._addresses.values)
        self._some: dict[tuple[AddressBlock, ...] | None, Ints] = {}

    def search(self, engine: BulkEngine, places: Mapping[_Place, ResolvedList]) -> dict[_Place, _Searched]:
        tried = [self._tried(engine, found) for found in places.values()]
        ends = np.cumsum([0, *(len(each.rule) for each in tried)]).tolist()
        if ends[-1] == 0:
            return {place: _Searched(None, engine, _NOTHING) for place in places}
        protocols = [
            [found.rules[rule].entry.protocol or 0 for rule in each.rule.tolist()]
            for each, found in zip(tried, places.values(), strict=True)
        ]
        number = {each: index for index, each in enumerate(dict.fromkeys(chain.from_iterable(protocols)))}
        conversations = Conversations(
            self._family,
            self._held,
            [address for _, address in self._held],
            [Request(protocol, fragment=True) for protocol in number],
            np.concatenate([each.source for each in tried]),
            np.concatenate([each.goal for each in tried]),
            np.array([number[each] for each in chain.from_iterable(protocols)], dtype=np.int64),
            np.full(ends[-1], NO_PORT),
        )
        traced_paths = engine.traced_paths(conversations)
        passes = engine.row_verdicts(traced_paths).verdict[traced_paths.row_of] == _PASSES
        rows, codes = traced_paths.meetings()
        crowded = np.zeros(len(traced_paths.rows), dtype=np.bool_)
        crowded[traced_paths.crowded] = True
        found: dict[_Place, _Searched] = {}
        for place, each, (begin, end) in zip(places, tried, pairwise(ends), strict=True):
            own = np.zeros(len(traced_paths.rows), dtype=np.bool_)
            own[traced_paths.row_of[begin:end]] = True
            here = np.zeros(len(traced_paths.rows), dtype=np.bool_)
            here[rows[codes == traced_paths.forwarding.point[place[0]]]] = True
            through = np.flatnonzero(passes[begin:end] & here[traced_paths.row_of[begin:end]])
            hole = self._hole(places[place], each, int(through[0])) if len(through) else None
            met = None if (crowded & own).any() else distinct(codes[own[rows]])
            found[place] = _Searched(hole, engine, met)
        return found

    def _hole(self, found: ResolvedList, tried: _Fragments, index: int) -> _Hole:
        rule = found.rules[tried.rule[index]]
        (source, from_), (goal, to) = self._held[tried.source[index]], self._held[tried.goal[index]]
        flow = Flow(
            FlowEnd(source, self._family.text(from_)),
            FlowEnd(goal, self._family.text(to)),
            f"protocol/{rule.entry.protocol or 0}",
            fragment=True,
        )
        return _Hole(found, rule, flow, int(tried.permit[index]))

    def _tried(self, engine: BulkEngine, found: ResolvedList) -> _Fragments:
        """What the list itself lets by, some of each rule, rule after rule."""
        denying = [number for number, rule in enumerate(found.rules) if _lets_fragments_by(rule)]
        sides = [
            self._pairs(found.rules[number], part(self._progress, done, len(denying)))
            for done, number in enumerate(denying)
        ]
        counts = [len(source) for source, _ in sides]
        source, goal = (np.concatenate(side) for side in zip(*sides, strict=True))
        protocols = [found.rules[number].entry.protocol or 0 for number in denying]
        number_of = {protocol: number for number, protocol in enumerate(dict.fromkeys(protocols))}
        kinds = tuple(Packet(self._family, 0, 0, protocol, fragment=True) for protocol in number_of)
        rule = np.repeat(denying, counts)
        kind = np.repeat([number_of[protocol] for protocol in protocols], counts)
        ends = len(self._held)
        _, first, same = np.unique(
            (kind * ends + source) * ends + goal, return_index=True, return_inverse=True
        )
        ports = np.full(len(first), NO_PORT)
        table = engine.table(found)
        decider = table.first_match(
            Headers(self._addresses, kinds, source[first], goal[first], kind[first], ports, ports)
        )[same]
        by = np.flatnonzero(~table.denies[decider] & (table.entries[decider] != NONE))
        by = by[rank_within(rule[by]) < _MOST_TRIED]
        return _Fragments(rule[by], source[by], goal[by], table.entries[decider][by])

    def _pairs(self, rule: Rule, progress: Progress) -> tuple[Ints, Ints]:
        """Who could send what a rule is about to whom, as indices among the ends. Raises Cancelled."""
        progress(0)
        sources, goals = self._within(rule.sources), self._within(rule.destinations)
        each = np.arange(min(len(sources) * len(goals), _MOST_PAIRS))
        source, goal = sources[each // max(len(goals), 1)], goals[each % max(len(goals), 1)]
        return source[source != goal], goal[source != goal]

    def _within(self, blocks: tuple[AddressBlock, ...] | None) -> Ints:
        if blocks not in self._some:
            self._some[blocks] = np.array(self._ends_within(blocks)[:_MOST_ENDS], dtype=np.int64)
        return self._some[blocks]

    def _ends_within(self, blocks: tuple[AddressBlock, ...] | None) -> Sequence[int]:
        if blocks is None:
            return range(len(self._held))
        ranges = ranges_of(blocks)
        if ranges is None:
            return np.flatnonzero(np.logical_or.reduce([self._held_by(block) for block in blocks])).tolist()
        return sorted(end for low, high in ranges for end in self._rising.within(low, high))

    def _held_by(self, block: AddressBlock) -> Bools:
        """For each end whether a block, of whatever mask, holds its address."""
        differs: Words = np.zeros(len(self._held), dtype=np.uint64)
        halves = self._addresses.halves(), split([block.value]), split([block.mask])
        for own, value, mask in zip(*halves, strict=True):
            differs |= (own ^ value) & mask
        return np.equal(differs, 0)


def _finding(ground: SearchGround, point: AttachmentPoint, hole: _Hole) -> Finding:
    name = hole.found.name
    access_list = next(each for each in ground.network.lists if each.name == name)
    number = hole.rule.entry.number
    return Finding(
        "hole for fragments",
        Severity.NOTE,
        f"{name} entry {number}",
        f"{name} entry {number} denies by port, and entry {hole.permit} below lets fragments that are "
        "not the first through to the same place: they have no ports.",
        (
            line_of(access_list, number),
            line_of(access_list, hole.permit),
            f"{write_flow(hole.flow)}: passes {point}",
            "an entry that denies `fragment` above the permit would close it",
        ),
        (point.device,),
        (name,),
        write_flow(hole.flow),
        without_ports(access_list, hole.rule.entry, hole.permit),
    )
