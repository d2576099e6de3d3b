"""Where lists tell packets apart: regions of addresses, services and source ports in parts that are alike.

An entry that looks at an address sees a packet's source on the way there, and its destination on the way
back; neighbour discovery (RFC 4861) shows an IPv6 address too, and the group of its last 24 bits.
"""

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from greyheron.analysis.proof.regions import Region, Spans, meet, parts_by, size, span_parts, tells_apart
from greyheron.analysis.proof.services import (
    Service,
    back,
    telling,
    telling_source_ports,
    there,
)
from greyheron.core.addresses import block_of
from greyheron.core.discovery import ADVERTISEMENT, SOLICITATION, SOLICITED_NODE
from greyheron.core.lists import ResolvedList, Rule
from greyheron.model.document import Device, Translation, family_of
from greyheron.model.entry import AddressBlock
from greyheron.model.values import Family

Blocks = tuple[AddressBlock, ...]
_ROUNDS = 2
"""A packet is rewritten by so many devices at most before entries are expected to see it."""


class Role(StrEnum):
    SOURCE = "source"
    DESTINATION = "destination"


@dataclass(frozen=True, slots=True)
class _Spans:
    """The sets of services and of source ports by which a list tells packets of one service apart."""

    services: frozenset[Spans]
    source_ports: frozenset[Spans]


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
        self._found: dict[tuple[int, Service, Role], Borders] = {}
        self._near: dict[tuple[int, Service, Role, Region], frozenset[Blocks]] = {}
        self._parts: dict[tuple[Region, frozenset[Blocks]], list[Region]] = {}
        self._kept: list[ResolvedList] = []  # so that their ids stay theirs
        self._told: dict[tuple[int, Service], _Spans] = {}

    def regions(
        self, region: Region, lists: Sequence[ResolvedList], service: Service, role: Role
    ) -> list[Region]:
        """`region` in parts that no entry of `lists` tells apart in packets of `service`."""
        if size(region) == 1:
            return [region]
        told = frozenset(blocks for found in lists for blocks in self._between(found, service, role, region))
        key = region, told
        if key not in self._parts:
            self._parts[key] = parts_by(region, told)
        return self._parts[key]

    def _between(
        self, found: ResolvedList, service: Service, role: Role, region: Region
    ) -> frozenset[Blocks]:
        """The sets of blocks in a list that may part `region`."""
        key = id(found), service, role, region
        if key not in self._near:
            low, high = min(block.first for block in region), max(block.last for block in region)
            near = self._telling(found, service, role).between(low, high)
            self._near[key] = frozenset(blocks for blocks in near if tells_apart(blocks, region))
        return self._near[key]

    def services(self, service: Service, lists: Sequence[ResolvedList]) -> list[Service]:
        """`service` in parts that no entry of `lists` tells apart."""
        first, last = service.spans[0][0], service.spans[-1][1]
        if first == last:
            return [service]
        told = {spans for found in lists for spans in self._spans(found, service).services}
        return [Service(service.tag, part) for part in span_parts(service.spans, told)]

    def source_ports(self, ports: Spans, service: Service, lists: Sequence[ResolvedList]) -> list[Spans]:
        """Source ports of `service` in parts that no entry of `lists` tells apart."""
        if not ports:
            return [ports]
        return span_parts(
            ports, {spans for found in lists for spans in self._spans(found, service).source_ports}
        )

    def _spans(self, found: ResolvedList, service: Service) -> "_Spans":
        key = id(found), service
        if key not in self._told:
            self._kept.append(found)
            family = self._family
            rules = [
                rule for rule in found.rules if there(rule, service, family) or back(rule, service, family)
            ]
            self._told[key] = _Spans(
                telling(rules, service, family), telling_source_ports(rules, service, family)
            )
        return self._told[key]

    def _telling(self, found: ResolvedList, service: Service, role: Role) -> "Borders":
        key = id(found), service, role
        if key not in self._found:
            self._kept.append(found)
            seen = {blocks for rule in found.rules for blocks in self._seen(rule, service, role) if blocks}
            self._found[key] = Borders(seen)
        return self._found[key]

    def _seen(self, rule: Rule, service: Service, role: Role) -> Iterator[Blocks]:
        """The sets of addresses by which `rule` may tell one packet from another, on that side of it."""
        sides = (rule.sources, rule.destinations)
        own, other = sides if role is Role.SOURCE else sides[::-1]
        if own is not None and there(rule, service, self._family):
            yield from self._rewritten(own)
        if other is not None and back(rule, service, self._family):
            yield from self._rewritten(other)
        if self._family is Family.IPV6 and _is_discovery(rule):
            for blocks in sides:
                if blocks is not None:
                    yield blocks
                    yield tuple(_low_bits(block) for block in blocks if meet(block, _GROUPS))

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


_GROUPS = AddressBlock.prefix(Family.IPV6, SOLICITED_NODE, 104)


def _is_discovery(rule: Rule) -> bool:
    entry = rule.entry
    if entry.protocol not in (None, Family.IPV6.icmp) or entry.established:
        return False
    if rule.source_ports is not None or rule.destination_ports is not None:
        return False
    return entry.icmp is None or entry.icmp.type in (SOLICITATION, ADVERTISEMENT)


def _low_bits(block: AddressBlock) -> AddressBlock:
    """The addresses whose solicited-node group is in `block`."""
    care = block.care & 0xFF_FFFF
    return AddressBlock(Family.IPV6, block.value & care, care)


def _moved(blocks: Blocks, rule: Translation) -> Iterator[Blocks]:
    assert rule.to is not None
    inside, outside = block_of(rule.source), block_of(rule.to)
    if rule.kind == "static":
        for here, target in ((inside, outside), (outside, inside)):
            found = (meet(block, here) for block in blocks)
            yield tuple(
                AddressBlock(each.family, each.value - here.value + target.value, each.care)
                for each in found
                if each is not None
            )
        return
    offsets = inside.size - 1
    pooled = (meet(block, outside) for block in blocks)
    yield tuple(
        AddressBlock(
            each.family,
            inside.value | (each.value & offsets & (outside.size - 1)),
            inside.care | each.care & offsets & (outside.size - 1),
        )
        for each in pooled
        if each is not None and not (each.value - outside.value) & ~offsets & (outside.size - 1)
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
