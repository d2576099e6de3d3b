"""Of packets that a list decides otherwise, those that somebody sends by a place, and who that is."""

from collections.abc import Iterable, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.entries.difference import PacketBox, joined_boxes
from greyheron.analysis.findings.finding import shortened
from greyheron.analysis.network.passing import Passing
from greyheron.analysis.proof.endpoints import Endpoint
from greyheron.core.intervals import Region, Spans, common, disjoint, meet, ranges_of, span_meet
from greyheron.model.values import Family

_MOST_NAMED = 5


class WhoSends:
    """Everyone who sends, by what they are called."""

    def __init__(self, endpoints: Iterable[Endpoint]) -> None:
        known = [(each, ranges_of(each.region)) for each in endpoints]
        self._ends = [(each, spans) for each, spans in known if spans is not None]
        self._hosts = [
            [index for index, (other, _) in enumerate(self._ends) if _inside(other, spans)]
            for each, spans in self._ends
            if not each.drawn
        ]
        self._segments = [each.device for each, _ in self._ends if not each.drawn]

    def words(self, region: Region) -> str:
        """Who has the addresses in `region`: segments as a whole, then devices by name."""
        own = ranges_of(region)
        if own is None:
            return ", ".join(map(str, region[:_MOST_NAMED]))
        held = {index for index, (_, spans) in enumerate(self._ends) if _holds_all(own, spans)}
        some = {index for index, (_, spans) in enumerate(self._ends) if span_meet(own, spans)} - held
        names: list[str] = []
        for segment, members in zip(self._segments, self._hosts, strict=True):
            if held.issuperset(members):
                names.append(segment)
                held -= set(members)
            elif held.union(some).intersection(members):
                names += self._of_segment(segment, held.intersection(members), some.intersection(members))
                held, some = held - set(members), some - set(members)
        names += [self._ends[index][0].device for index in sorted(held)]
        names += [f"some of {self._ends[index][0].device}" for index in sorted(some)]
        return shortened(names, _MOST_NAMED)

    def _of_segment(self, segment: str, held: Iterable[int], some: Iterable[int]) -> list[str]:
        """Those of a segment who are meant where not all are."""
        ends = [self._ends[index][0] for index in sorted({*held, *some})]
        hosts = [f"hosts of {segment}" for each in ends if not each.drawn]
        return [*(each.device for each in ends if each.drawn), *hosts]


def _inside(endpoint: Endpoint, hosts: Spans) -> bool:
    """Whether it is on the segment of some hosts: among their addresses, as far as they go."""
    first, last = hosts[0][0], hosts[-1][1]
    return all(first - 1 <= block.first and block.last <= last + 1 for block in endpoint.region)


def _holds_all(own: Spans, spans: Spans) -> bool:
    return span_meet(spans, own) == spans


class ComingBy(Struct, frozen=True):
    """What comes by a place: from which addresses to which others, and who has them."""

    ways: tuple[tuple[Region, Region], ...]
    senders: WhoSends


def coming_by(passing: Passing, endpoints: Sequence[Endpoint], senders: WhoSends) -> ComingBy:
    """Who sends by a place to whom, sources with the same goals together. Raises TooManyParts."""
    goals = [endpoints[end].region for end in passing.goals.tolist()]
    sources = [endpoints[end].region for end in passing.sources.tolist()]
    found: list[tuple[Region, Region]] = []
    if passing.pairs is None:
        if sources and goals:
            found.append((disjoint(sources), disjoint(goals)))
    else:
        rows, which = np.unique(passing.pairs, axis=0, return_inverse=True)
        for number, row in enumerate(rows):
            from_ = disjoint(sources[index] for index in np.flatnonzero(which.ravel() == number).tolist())
            to = disjoint(goals[index] for index in np.flatnonzero(row).tolist())
            if from_ and to:
                found.append((from_, to))
    return ComingBy((*found, *passing.rewritten), senders)


def coming(boxes: Sequence[PacketBox], by: ComingBy, family: Family) -> tuple[PacketBox, ...]:
    """What of some boxes comes by, the largest first. Raises TooManyParts."""
    found: list[PacketBox] = []
    for box in boxes:
        parts = dict.fromkeys(
            (sources, destinations, box.source_ports, box.destination_ports)
            for from_, to in by.ways
            if (sources := _within(box.sources, from_)) and (destinations := _within(box.destinations, to))
        )
        for _, values in joined_boxes([(box.examples, each) for each in parts], family):
            found.append(replace(box, sources=values[0], destinations=values[1]))
    return tuple(sorted(found, key=lambda box: (not box.permitted, -box.headers(family))))


def _within(region: Region | None, some: Region) -> Region:
    if region is None:
        return some
    return common(region, some) if any(meet(one, other) for one in region for other in some) else ()
