"""Lists whose entries look for addresses that never come by where they stand."""

from collections.abc import Iterator, Sequence
from functools import partial

import numpy as np

from greyheron.analysis.findings.finding import Finding, Repair, SearchGround, Severity, moving
from greyheron.analysis.network.passing import Passers, Passing
from greyheron.analysis.network.translated import (
    as_translated,
    translations_of,
)
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.core.headers import Bools, Ints, Words, split
from greyheron.core.intervals import Region, Spans, meet, ranges_of, spans_touch
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Translation
from greyheron.model.document import Placement
from greyheron.model.entry import AddressBlock
from greyheron.model.values import Action, Direction, Family

_FEW = 8


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


def facing_away(
    ground: SearchGround, family: Family, everyone: Endpoints, passers: Passers
) -> Iterator[Finding]:
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
    where = f" Packets {other} do." if fits else ""
    rest = [rule for rule in found.rules if rule.sources is None and rule.destinations is None]
    idle = bool(rest) and rest[0].entry.action is Action.PERMIT and not rest[0].constraints
    if idle:
        where = f" It has no effect there.{where}"
    finding = Finding(
        "list that faces the wrong way",
        Severity.WARNING if idle else Severity.FAULT,
        f"{found.name} at {point.device} {point.at} {point.direction}",
        f"{found.name} is placed {point}, where no packet has the addresses that its entries name.{where}",
        devices=(point.device,),
        lists=(found.name,),
        repair=repair,
    )
    return (finding,)


def ends_of(ground: SearchGround, family: Family, everyone: Endpoints) -> Ends:
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
