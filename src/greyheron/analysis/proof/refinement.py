"""Where lists tell packets apart: regions of addresses, services and source ports in parts that are alike.

An entry that looks at an address sees a packet's source on the way there, and its destination on the way
back; neighbour discovery (RFC 4861) shows an IPv6 address too, and the group of its last 24 bits.
"""

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import chain, islice
from weakref import WeakKeyDictionary

from cachetools import LRUCache
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.proof.services import (
    Matched,
    Matching,
    ServiceSet,
    telling,
    telling_headers,
    telling_source_ports,
)
from greyheron.core.intervals import Blocks, Region, Spans, meet, parts_by, size, span_parts, tells_apart
from greyheron.core.lists.fields import ADDRESS_FIELDS
from greyheron.core.lists.fields.address import AddressField, Role
from greyheron.core.lists.fields.services import HeaderPart, Tag
from greyheron.core.lists.frames import group_mac
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.network.addresses import block_of
from greyheron.core.packet import Packet, Way
from greyheron.core.routing.discovery import ADVERTISEMENT, SOLICITATION, SOLICITED_NODE
from greyheron.model.device import Device, Translation
from greyheron.model.document import AccessList
from greyheron.model.entry import AddressBlock
from greyheron.model.item import family_of
from greyheron.model.values import Family

MOST_KEPT = 200_000
"""Parts are kept of regions that come to so many blocks, some 200 bytes each."""
_ROUNDS = 2
"""A packet is rewritten by so many devices at most before entries are expected to see it."""


class _TellingSpans(Struct, frozen=True):
    """The sets of services, source ports and so on by which a list tells packets of one service apart."""

    services: frozenset[Spans]
    source_ports: frozenset[Spans]
    headers: Mapping[HeaderPart, frozenset[Spans]]


@dataclass(frozen=True, slots=True)
class _OfList:
    """What is known of one list, as long as the list is in use."""

    matched: dict[Tag, list[Matched]] = field(default_factory=dict)
    matching: dict[ServiceSet, Matching] = field(default_factory=dict)
    spans: "dict[ServiceSet, _TellingSpans]" = field(default_factory=dict)
    borders: "dict[tuple[ServiceSet, Role], Borders]" = field(default_factory=dict)
    near: "dict[tuple[ServiceSet, Role, Region], frozenset[Blocks]]" = field(default_factory=dict)


class Cutter:
    """Cuts for one family of one world; what it finds for a list is kept.

    devices:  for their translations, whose rewritten addresses lists may see
    """

    def __init__(self, family: Family, devices: Iterable[Device]) -> None:
        self._family = family
        self._rewriting = [
            rule
            for device in devices
            for rule in device.translations
            if family_of(rule.source) is family and rule.to is not None
        ]
        self._lists: WeakKeyDictionary[ResolvedList, _OfList] = WeakKeyDictionary()
        self._parts: LRUCache[tuple[Region, frozenset[Blocks]], list[Region]] = LRUCache(
            MOST_KEPT, getsizeof=lambda parts: 1 + sum(map(len, parts))
        )

    def regions(
        self, region: Region, lists: Sequence[ResolvedList], service: ServiceSet, role: Role
    ) -> list[Region]:
        """`region` in parts that no entry of `lists` tells apart in packets of `service`.

        Raises TooManyParts.
        """
        if size(region) == 1:
            return [region]
        key = region, self._told(region, lists, service, role)
        parts = self._parts.get(key)
        if parts is None:
            parts = self._parts[key] = parts_by(*key)
        return parts

    def some(
        self, region: Region, lists: Sequence[ResolvedList], service: ServiceSet, role: Role, most: int
    ) -> list[Region]:
        """At most `most` single addresses of `region`, in some of the parts that `lists` tell apart."""
        told = sorted(
            self._told(region, lists, service, role), key=lambda blocks: (len(blocks), blocks[0].value)
        )
        near = (meet(piece, block) for blocks in told for block in blocks for piece in region)
        held = (block.first for block in near if block is not None)
        addresses = islice(dict.fromkeys(chain((block.first for block in region[:most]), held)), most)
        return [(AddressBlock(self._family, address, self._family.every_bit),) for address in addresses]

    def _told(
        self, region: Region, lists: Sequence[ResolvedList], service: ServiceSet, role: Role
    ) -> frozenset[Blocks]:
        return frozenset(blocks for found in lists for blocks in self._between(found, service, role, region))

    def _between(
        self, found: ResolvedList, service: ServiceSet, role: Role, region: Region
    ) -> frozenset[Blocks]:
        """The sets of blocks in a list that may part `region`."""
        near, key = self._of(found).near, (service, role, region)
        if key not in near:
            low, high = min(block.first for block in region), max(block.last for block in region)
            between = self._telling(found, service, role).between(low, high)
            near[key] = frozenset(blocks for blocks in between if tells_apart(blocks, region))
        return near[key]

    def services(self, service: ServiceSet, lists: Sequence[ResolvedList]) -> list[ServiceSet]:
        """`service` in parts that no entry of `lists` tells apart."""
        telling = [self._spans(found, service) for found in lists]
        parts = [service]
        if service.spans[0][0] != service.spans[-1][1]:
            told = {spans for each in telling for spans in each.services}
            parts = [replace(service, spans=part) for part in span_parts(service.spans, told)]
        for header in HeaderPart:
            own = service.header(header)
            told = {spans for each in telling for spans in each.headers[header]}
            if own is not None and told:
                cut = span_parts(own, told)
                parts = [part.having(header, spans) for part in parts for spans in cut]
        return parts

    def source_ports(self, ports: Spans, service: ServiceSet, lists: Sequence[ResolvedList]) -> list[Spans]:
        """Source ports of `service` in parts that no entry of `lists` tells apart."""
        if not ports:
            return [ports]
        return span_parts(
            ports, {spans for found in lists for spans in self._spans(found, service).source_ports}
        )

    def _matching(self, found: ResolvedList, service: ServiceSet) -> Matching:
        known = self._of(found)
        if service.tag not in known.matched:
            every = [Matched.of(rule, service.tag, self._family) for rule in found.rules]
            known.matched[service.tag] = every
        if service not in known.matching:
            both = ((each, each.ways(service)) for each in known.matched[service.tag])
            known.matching[service] = [(each, ways) for each, ways in both if ways]
        return known.matching[service]

    def _spans(self, found: ResolvedList, service: ServiceSet) -> "_TellingSpans":
        known = self._of(found).spans
        if service not in known:
            matching = self._matching(found, service)
            headers = {part: telling_headers(matching, part) for part in HeaderPart}
            known[service] = _TellingSpans(telling(matching), telling_source_ports(matching), headers)
        return known[service]

    def _telling(self, found: ResolvedList, service: ServiceSet, role: Role) -> "Borders":
        known, key = self._of(found).borders, (service, role)
        if key not in known:
            seen = {
                blocks
                for each, ways in self._matching(found, service)
                for blocks in self._seen(each.rule, ways, role)
                if blocks
            }
            if self._family is Family.IPV6:
                seen |= {blocks for rule in found.rules for blocks in _seen_in_discovery(rule) if blocks}
            known[key] = Borders(seen)
        return known[key]

    def _of(self, found: ResolvedList) -> "_OfList":
        return self._lists.setdefault(found, _OfList())

    def _seen(self, rule: Rule, ways: tuple[Way, ...], role: Role) -> Iterator[Blocks]:
        """The sets of addresses by which a rule may tell one packet from another, on that side of it."""
        for way in ways:
            for side in ADDRESS_FIELDS:
                blocks = side.blocks(rule)
                if blocks is not None and side.shows(way) is role:
                    yield from self._rewritten(blocks)

    def _rewritten(self, blocks: Blocks) -> Iterator[Blocks]:
        """`blocks`, and the addresses that are rewritten into them or from them."""
        ahead, seen = [blocks], {blocks}
        for _ in range(_ROUNDS if self._rewriting else 0):
            ahead = [
                moved
                for each in ahead
                for rule in self._rewriting
                for moved in _moved(each, rule)
                if moved and moved not in seen
            ]
            seen.update(ahead)
        yield from seen


def groups_of_frames(lists: Iterable[AccessList]) -> frozenset[Blocks]:
    """The sets of IPv6 addresses by whose solicited-node groups frame lists tell frames apart (§14)."""
    asked = (
        entry.frame.destination
        for each in lists
        if each.family is None
        for entry in each.body.entries
        if entry.frame is not None and entry.frame.destination is not None
    )
    every = group_mac(Family.IPV6, SOLICITED_NODE) or 0
    low = 0xFF_FFFF
    return frozenset(
        Blocks((AddressBlock(Family.IPV6, block.value & low, block.mask & low),))
        for block in asked
        if block.mask & low and every & block.mask == block.value & ~low
    )


_GROUPS = AddressBlock.prefix(Family.IPV6, SOLICITED_NODE, 104)


_DISCOVERY = tuple(
    Packet(Family.IPV6, 0, 0, Family.IPV6.icmp, icmp_type=kind, icmp_code=0)
    for kind in (SOLICITATION, ADVERTISEMENT)
)


def _is_discovery(rule: Rule) -> bool:
    """Whether `rule` can match neighbour discovery, addresses apart."""
    fields = [field for field in rule.constraints if not isinstance(field, AddressField)]
    return any(all(field.matches(rule, packet) for field in fields) for packet in _DISCOVERY)


def _seen_in_discovery(rule: Rule) -> Iterator[Blocks]:
    """The sets of addresses by which `rule` may tell neighbour discovery apart, on either side."""
    if _is_discovery(rule):
        for side in ADDRESS_FIELDS:
            blocks = side.blocks(rule)
            if blocks is not None:
                yield blocks
                yield Blocks(_low_bits(block) for block in blocks if meet(block, _GROUPS))


def _low_bits(block: AddressBlock) -> AddressBlock:
    """The addresses whose solicited-node group is in `block`."""
    mask = block.mask & 0xFF_FFFF
    return AddressBlock(Family.IPV6, block.value & mask, mask)


def _moved(blocks: Blocks, rule: Translation) -> Iterator[Blocks]:
    assert rule.to is not None
    inside, outside = block_of(rule.source), block_of(rule.to)
    if rule.kind == "static":
        for here, target in ((inside, outside), (outside, inside)):
            found = (meet(block, here) for block in blocks)
            yield Blocks(
                AddressBlock(block.family, block.value - here.value + target.value, block.mask)
                for block in found
                if block is not None
            )
        return
    offsets = inside.size - 1
    pooled = (meet(block, outside) for block in blocks)
    yield Blocks(
        AddressBlock(
            block.family,
            inside.value | (block.value & offsets & (outside.size - 1)),
            inside.mask | block.mask & offsets & (outside.size - 1),
        )
        for block in pooled
        if block is not None and not (block.value - outside.value) & ~offsets & (outside.size - 1)
    )


class Borders:
    """Sets of blocks, found by where some of their blocks begins or ends."""

    def __init__(self, sets: Iterable[Blocks]) -> None:
        edges: list[tuple[int, Blocks]] = []
        self._scattered: list[Blocks] = []
        for blocks in sets:
            if any(block.length is None for block in blocks):
                self._scattered.append(blocks)
                continue
            for block in blocks:
                edges += [(block.first, blocks), (block.last + 1, blocks)]
        edges.sort(key=lambda edge: edge[0])
        self._at = [edge for edge, _ in edges]
        self._sets = [blocks for _, blocks in edges]

    def between(self, low: int, high: int) -> Iterable[Blocks]:
        """The sets that may part the addresses from `low` to `high`."""
        first, end = bisect_right(self._at, low), bisect_right(self._at, high)
        return {*self._sets[first:end], *self._scattered}
