"""Lists whose entries look for addresses that never come by where they stand."""

from collections.abc import Callable, Iterator, Sequence
from functools import partial

import numpy as np
from msgspec import Struct

from greyheron.analysis.findings.finding import Finding, Ground, Repair, Severity, moving
from greyheron.analysis.findings.translated import (
    as_translated,
    translated_blocks,
    translated_with,
    translations_of,
)
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import BulkEngine, Courses
from greyheron.core.bulk.indexes import ForwardingIndexes
from greyheron.core.headers import Bools, Ints, Words, split
from greyheron.core.intervals import Region, Spans, meet, ranges_of, spans_touch
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Network, Placement, Translation
from greyheron.model.entry import AddressBlock
from greyheron.model.services import Request
from greyheron.model.values import Action, Direction, Family

MOST_ENDS = 600
"""Where there are more addresses and segments, only places before segments of hosts are judged."""
ANY_PROTOCOL = 253
"""Of no protocol that an entry would name (RFC 3692)."""
_FEW = 8


class Passing(Struct, frozen=True):
    """Who sends by a place and to whom, as indices among the endpoints.

    pairs:  which source to which goal, by their indices in those two; None: each to each
    rewritten:  sources and goals as they are there, of those who come by with another address than their own
    """

    sources: Ints
    goals: Ints
    pairs: Bools | None
    rewritten: tuple[tuple[Region, Region], ...] = ()

    @property
    def nobody(self) -> bool:
        return len(self.sources) == 0 and not self.rewritten


Passers = Callable[[AttachmentPoint], Passing | None]
"""Who comes by a place in the network without lists; None where that is not known."""


class Ends:
    """The addresses of endpoints in arrays, to see at once which of them are in some blocks."""

    def __init__(self, endpoints: Sequence[Endpoint]) -> None:
        self._regions = [endpoint.region for endpoint in endpoints]
        blocks = [block for region in self._regions for block in region]
        self._owner = np.repeat(np.arange(len(endpoints)), [len(region) for region in self._regions])
        self._value, self._mask = (
            split([each.value for each in blocks]),
            split([each.mask for each in blocks]),
        )
        self._found: dict[tuple[AddressBlock, ...], Bools] = {}
        self._ranges = [ranges_of(region) for region in self._regions]

    def within(self, blocks: tuple[AddressBlock, ...] | None) -> Bools:
        """For each endpoint whether it has an address in some of `blocks`; None is any."""
        if blocks is None:
            return np.ones(len(self._regions), dtype=np.bool_)
        if blocks not in self._found:
            found = np.zeros(len(self._regions), dtype=np.bool_)
            for block in blocks:
                found[self._owner[self._meeting(block)]] = True
            self._found[blocks] = found
        return self._found[blocks]

    def some_within(self, some: Ints, blocks: tuple[AddressBlock, ...] | None) -> Ints:
        """The places in `some`, indices of endpoints, of those that have an address in some of `blocks`."""
        if blocks is None:
            return np.arange(len(some))
        if len(some) > _FEW:
            return np.flatnonzero(self.within(blocks)[some])
        ranges = ranges_of(blocks)
        found = [place for place, end in enumerate(some.tolist()) if self._meets(end, blocks, ranges)]
        return np.array(found, dtype=np.int64)

    def _meets(self, end: int, blocks: tuple[AddressBlock, ...], ranges: Spans | None) -> bool:
        """ranges:  of `blocks`, where they are prefixes"""
        own = self._ranges[end]
        if own is not None and ranges is not None:
            return spans_touch(own, ranges)
        return any(meet(one, other) for one in self._regions[end] for other in blocks)

    def _meeting(self, block: AddressBlock) -> Bools:
        differs: Words = np.zeros(len(self._owner), dtype=np.uint64)
        for own, mask, value, wanted in zip(
            self._value, self._mask, split([block.value]), split([block.mask]), strict=True
        ):
            differs |= (own ^ value) & mask & wanted
        return np.equal(differs, 0)


def passers_of(ground: Ground, family: Family, everyone: Endpoints) -> Passers:
    """Who comes by each place, as indices among all endpoints, those that are translated last."""
    endpoints = (*everyone.every, *everyone.translated)
    few = len(endpoints) <= MOST_ENDS
    return _traced(ground, family, endpoints) if few else _before_hosts(ground.world, endpoints)


def facing_away(ground: Ground, family: Family, everyone: Endpoints, passers: Passers) -> Iterator[Finding]:
    """Placed lists none of whose entries can ever match for their addresses.

    everyone, passers:  the same objects from one search to the next as long as they would say the same
    """
    placed = [
        point
        for point, which in ground.world.lists
        if which is family
        and (point.device, point.at) in ground.world.topology.interfaces
        and ground.share.has(ground.world.lists[point, which].name)
    ]
    ends = ends_of(ground, family, everyone)
    translations = translations_of(ground.network, family)
    for number, point in enumerate(placed):
        ground.progress(number / len(placed))
        found = ground.world.lists[point, family]
        free = (_turned(point), family) not in ground.world.lists
        yield from ground.kept.of(
            ("facing away", point, family, ground.world.resolved.active),
            (found, everyone, free),
            partial(_judged, point, found, free, passers, ends, translations),
        )


def _turned(point: AttachmentPoint) -> AttachmentPoint:
    """The same place in the other direction."""
    turned = Direction.OUT if point.direction is Direction.IN else Direction.IN
    return AttachmentPoint(point.device, point.at, turned)


def _judged(
    point: AttachmentPoint,
    found: ResolvedList,
    free: bool,
    passers: Passers,
    ends: Ends,
    translations: Sequence[Translation],
) -> tuple[Finding, ...]:
    """free:  whether no list stands there in the other direction"""
    own = [rule for rule in found.rules if rule.sources is not None or rule.destinations is not None]
    passing = passers(point)
    if not own or passing is None or passing.nobody:
        return ()
    if any(comes_by(rule, ends, passing) for rule in own):
        return ()
    if any(comes_by(each.rule, ends, passing) for rule in own for each in as_translated(rule, translations)):
        return ()  # that is said of each entry
    other = _turned(point)
    there = passers(other)
    fits = there is not None and any(comes_by(rule, ends, there) for rule in own)
    repair = None
    if fits and free:
        placed = Placement(list=found.name, device=point.device, at=point.at, direction=point.direction)
        label = f"turn {found.name} to {other}"
        repair = Repair(label, moving(placed, other))
    where = f" They do {other}." if fits else ""
    rest = [rule for rule in found.rules if rule.sources is None and rule.destinations is None]
    idle = bool(rest) and rest[0].entry.action is Action.PERMIT and not rest[0].constraints
    if idle:
        where = f" It changes nothing there.{where}"
    finding = Finding(
        "list that faces the wrong way",
        Severity.WARNING if idle else Severity.FAULT,
        f"{found.name} at {point.device} {point.at} {point.direction}",
        f"{found.name} stands {point}, where none of the addresses that its entries "
        f"name ever come by in that direction.{where}",
        devices=(point.device,),
        lists=(found.name,),
        repair=repair,
    )
    return (finding,)


def ends_of(ground: Ground, family: Family, everyone: Endpoints) -> Ends:
    """The addresses of everyone, kept as long as they are the same."""
    endpoints = (*everyone.every, *everyone.translated)
    return ground.kept.of(("ends", family), (everyone,), lambda: Ends(endpoints))


def comes_by(rule: Rule, ends: Ends, passing: Passing) -> bool:
    """Whether some of those who come by are such as `rule` looks for."""
    for sources, goals in passing.rewritten:
        if _meets(rule.sources, sources) and _meets(rule.destinations, goals):
            return True
    sides = [(passing.sources, rule.sources), (passing.goals, rule.destinations)]
    few = 0 if len(passing.sources) <= len(passing.goals) else 1
    found: dict[int, Ints] = {}
    for side in (few, 1 - few):
        found[side] = ends.some_within(*sides[side])
        if len(found[side]) == 0:
            return False
    return passing.pairs is None or bool(passing.pairs[np.ix_(found[0], found[1])].any())


def _meets(wanted: Region | None, there: Region) -> bool:
    return wanted is None or any(meet(one, other) for one in wanted for other in there)


def _traced(ground: Ground, family: Family, endpoints: Sequence[Endpoint]) -> Passers:
    """Everyone sends to everyone else, and it is seen by which places that goes."""
    ends = [(endpoint.device, endpoint.region[0].first) for endpoint in endpoints]
    numbers = {device: number for number, (device, _) in enumerate(ends)}
    devices = np.array([numbers[device] for device, _ in ends], dtype=np.int64)
    sends = np.array([not endpoint.translated for endpoint in endpoints], dtype=np.bool_)
    source, goal = np.divmod(np.arange(len(ends) ** 2), max(len(ends), 1))
    apart = (devices[source] != devices[goal]) & sends[source]
    source, goal = source[apart], goal[apart]
    nothing = np.zeros(len(source), dtype=np.int64)
    asked = Conversations(
        family,
        ends,
        [address for _, address in ends],
        [Request(ANY_PROTOCOL)],
        source,
        goal,
        nothing,
        nothing,
    )
    engine = BulkEngine(ground.world.with_possible_hosts.baseline, ForwardingIndexes(solicits=False))
    courses = engine.courses(asked)
    points = courses.forwarding.point
    rows, codes = courses.meetings()
    order = np.argsort(codes, kind="stable")
    codes, rows = codes[order], rows[order]
    pair = np.zeros((len(courses.rows), 2), dtype=np.int64)
    pair[courses.row_of] = np.stack([source, goal], axis=1)
    elsewhere = _rewritten(ground.network, family, endpoints, courses, pair)
    in_vain, at_once = courses.recorded.in_vain()
    same = ~np.isin(rows << 32 | codes, np.append(elsewhere.met, in_vain << 32 | at_once))
    codes, rows = codes[same], rows[same]
    codes, pair = codes.astype(np.int32), pair[rows].astype(np.int32)

    def at(point: AttachmentPoint) -> Passing:
        code = points[point]
        first, end = np.searchsorted(codes, [code, code + 1])
        (sources, from_), (goals, to) = (np.unique(side, return_inverse=True) for side in pair[first:end].T)
        pairs = np.zeros((len(sources), len(goals)), dtype=np.bool_)
        pairs[from_, to] = True
        return Passing(sources, goals, pairs, tuple(elsewhere.at.get(code, ())))

    return at


class _Rewritten(Struct, frozen=True):
    """Who comes by with another address than their own.

    met:  row and code of each such packet;  at:  by code, the sources and goals as they are there
    """

    met: Ints
    at: dict[int, dict[tuple[Region, Region], None]]


def _rewritten(
    network: Network, family: Family, endpoints: Sequence[Endpoint], courses: Courses, pair: Ints
) -> _Rewritten:
    """pair:  the source and goal of each row, as indices among the endpoints"""
    rows, codes, sources, destinations = courses.recorded.rewritten()
    blocks = translated_blocks(network, family)
    values = courses.rows.addresses.values
    found: dict[int, dict[tuple[Region, Region], None]] = {}
    for row, code, source, goal in zip(
        *(each.tolist() for each in (rows, codes, sources, destinations)), strict=True
    ):
        ends = (
            endpoints[end].region if now == made else (translated_with(values[now], blocks),)
            for end, now, made in (
                (pair[row, 0], source, courses.rows.source[row]),
                (pair[row, 1], goal, courses.rows.destination[row]),
            )
        )
        from_, to = ends
        found.setdefault(code, {})[from_, to] = None
    return _Rewritten(rows << 32 | codes, found)


def _before_hosts(world: World, endpoints: Sequence[Endpoint]) -> Passers:
    """Where a segment has hosts and one router only: what enters comes from them, what leaves is for them."""
    topology, drawn = world.with_possible_hosts.topology, world.topology.devices
    own_ends: dict[str, list[int]] = {}
    for number, endpoint in enumerate(endpoints):
        own_ends.setdefault(endpoint.device, []).append(number)

    def at(point: AttachmentPoint) -> Passing | None:
        own = topology.devices[point.device]
        segment = topology.segments.of.get((point.device, point.at))
        if segment is None or own.translations:
            return None
        members = {name for name, _ in topology.segments.members[segment]} - {point.device}
        traits = [drawn[name].traits for name in members if name in drawn]
        if any(each.forwards or each.open_ended for each in traits):
            return None
        near, far = np.zeros(len(endpoints), dtype=np.bool_), np.ones(len(endpoints), dtype=np.bool_)
        near[[number for name in members for number in own_ends.get(name, [])]] = True
        far[own_ends.get(point.device, [])] = False
        far &= ~near
        if point.direction is Direction.OUT:
            return Passing(np.flatnonzero(far), np.flatnonzero(near), None)
        return Passing(np.flatnonzero(near), np.flatnonzero(~near), None)

    return at
