"""Entries that other entries leave nothing to do: never matched, or matched to no effect.

An entry's packets are cut into classes by the entries that overlap it; one packet of each class is looked up.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import product
from random import Random
from weakref import WeakKeyDictionary

import numpy as np

from greyheron.analysis.proof.regions import Region, TooManyParts, parts_by, span_parts
from greyheron.analysis.proof.services import ALL_PORTS, spans_of
from greyheron.core.lists import ResolvedList, Rule
from greyheron.core.matching import first_mismatch
from greyheron.core.packet import Packet, TcpFlags
from greyheron.model.entry import AddressBlock, IcmpMatch, NotPort, PortSpan
from greyheron.model.names import TCP, UDP, WITH_PORTS
from greyheron.model.values import Family

Terms = tuple[PortSpan | NotPort, ...] | None
_Kind = tuple[int, int | None, int | None, bool]
"""Protocol, ICMP type and code, and whether it is TCP with ACK."""
MOST_CLASSES = 4096
"""Entries whose packets fall into more classes are not judged; some are tried first at random."""
_TRIES = 200
_MOST_SETS = 32


@dataclass(frozen=True, slots=True)
class Ineffective:
    """An entry that has nothing to do.

    number:  its own;  by:  the entries that leave it nothing, or that would do the same
    matched:  whether packets come to it at all;  opposite:  whether those entries do the opposite
    """

    number: int
    by: tuple[int, ...]
    matched: bool
    opposite: bool


class IneffectiveEntries:
    """The entries of lists that have nothing to do, worked out once for each list."""

    def __init__(self) -> None:
        self._found: WeakKeyDictionary[ResolvedList, tuple[Ineffective, ...]] = WeakKeyDictionary()

    def of(self, found: ResolvedList) -> tuple[Ineffective, ...]:
        if found not in self._found:
            self._found[found] = tuple(_idle(found))
        return self._found[found]


def _idle(found: ResolvedList) -> Iterator[Ineffective]:
    rules = found.rules
    hulls = _Hulls(rules, found.family)
    for index, rule in enumerate(rules):
        near = hulls.overlapping(index)
        earlier = [rules[other] for other in near if other < index]
        later = [rules[other] for other in near if other > index]
        yield from _judged(rule, earlier, later, found.family)


def _judged(
    rule: Rule, earlier: Sequence[Rule], later: Sequence[Rule], family: Family
) -> Iterator[Ineffective]:
    if earlier and not _comes_to(rule, earlier, family):
        classes = _classes(rule, earlier, family)
        if classes is None:
            return
        deciding = [_first(earlier, packet) for packet in classes]
        if None not in deciding:
            by = {each.entry.number: each for each in deciding if each is not None}
            opposite = any(each.entry.action is not rule.entry.action for each in by.values())
            yield Ineffective(rule.entry.number, tuple(sorted(by)), matched=False, opposite=opposite)
            return
    if rule.entry.log or not later:
        return
    classes = _classes(rule, [*earlier, *later], family)
    if classes is None:
        return
    instead: set[int] = set()
    for packet in classes:
        if _first(earlier, packet) is not None:
            continue
        other = _first(later, packet)
        if other is None or other.entry.action is not rule.entry.action or other.entry.log:
            return
        instead.add(other.entry.number)
    yield Ineffective(rule.entry.number, tuple(sorted(instead)), matched=True, opposite=False)


def _first(rules: Sequence[Rule], packet: Packet) -> Rule | None:
    return next((each for each in rules if first_mismatch(each, packet) is None), None)


def _comes_to(rule: Rule, earlier: Sequence[Rule], family: Family) -> bool:
    """Whether a packet is quickly found that no earlier entry takes: at the borders of what they take."""
    chance = Random(rule.entry.number)
    kinds = _own_kinds(rule, earlier, family)
    sources = _borders(rule.sources, [each.sources for each in earlier], family)
    destinations = _borders(rule.destinations, [each.destinations for each in earlier], family)
    from_ = _port_borders(rule.source_ports, [each.source_ports for each in earlier])
    to = _port_borders(rule.destination_ports, [each.destination_ports for each in earlier])
    if not (kinds and sources and destinations and from_ and to):
        return False
    for _ in range(_TRIES):
        packet = _packet(
            family,
            chance.choice(kinds),
            chance.choice(sources),
            chance.choice(destinations),
            chance.choice(from_),
            chance.choice(to),
        )
        if _first(earlier, packet) is None:
            return True
    return False


def _borders(
    own: tuple[AddressBlock, ...] | None, others: Sequence[tuple[AddressBlock, ...] | None], family: Family
) -> list[int]:
    """Addresses of `own`: its first and last ones, and those next to where others begin and end."""
    blocks = (AddressBlock(family, 0, 0),) if own is None else own
    found = [address for block in blocks for address in (block.first, block.last)]
    near = [block for each in others if each is not None for block in each]
    for block in near:
        found += [
            address
            for address in (block.first - 1, block.last + 1)
            if 0 <= address <= family.every_bit and any(each.holds(address) for each in blocks)
        ]
    return found


def _port_borders(own: Terms, others: Sequence[Terms]) -> list[int]:
    spans = ALL_PORTS if own is None else spans_of(own)
    found = [port for span in spans for port in span]
    for terms in others:
        for low, high in () if terms is None else spans_of(terms):
            found += [
                port for port in (low - 1, high + 1) if any(first <= port <= last for first, last in spans)
            ]
    return found


def _classes(rule: Rule, others: Sequence[Rule], family: Family) -> list[Packet] | None:
    """One packet of each class of what `rule` matches; None when there are too many."""
    told = (
        {each.sources for each in others},
        {each.destinations for each in others},
        {each.source_ports for each in others},
        {each.destination_ports for each in others},
    )
    if any(len(each) > _MOST_SETS for each in told):
        return None
    try:
        parts = _parts(rule, others, family)
    except TooManyParts:
        return None
    if len(parts) > MOST_CLASSES:
        return None
    every = product(
        parts.kinds, parts.sources, parts.destinations, parts.source_ports, parts.destination_ports
    )
    return [_packet(family, *choice) for choice in every]


@dataclass(frozen=True, slots=True)
class _Parts:
    """For each field values of what an entry matches, one for each way in which others tell them apart."""

    kinds: list[_Kind]
    sources: list[int]
    destinations: list[int]
    source_ports: list[int]
    destination_ports: list[int]

    def __len__(self) -> int:
        ends = len(self.sources) * len(self.destinations)
        return len(self.kinds) * ends * len(self.source_ports) * len(self.destination_ports)


def _own_kinds(rule: Rule, others: Sequence[Rule], family: Family) -> list[_Kind]:
    """The kinds of packets that `rule` matches, as far as it and `others` tell them apart."""
    entry = rule.entry
    with_ports = rule.source_ports is not None or rule.destination_ports is not None
    named = frozenset((each.entry.protocol, each.entry.icmp) for each in (rule, *others))
    return [
        kind
        for kind in _kinds(family, named)
        if entry.protocol in (None, kind[0])
        and (entry.icmp is None or (kind[1] == entry.icmp.type and entry.icmp.code in (None, kind[2])))
        and (not with_ports or kind[0] in WITH_PORTS)
        and (not entry.established or (kind[0] == TCP and kind[3]))
    ]


def _parts(rule: Rule, others: Sequence[Rule], family: Family) -> _Parts:
    everyone = (AddressBlock(family, 0, 0),)
    return _Parts(
        _own_kinds(rule, others, family),
        _addresses(everyone if rule.sources is None else rule.sources, [each.sources for each in others]),
        _addresses(
            everyone if rule.destinations is None else rule.destinations,
            [each.destinations for each in others],
        ),
        _ports(rule.source_ports, [each.source_ports for each in others]),
        _ports(rule.destination_ports, [each.destination_ports for each in others]),
    )


@lru_cache(maxsize=1024)
def _kinds(family: Family, named: frozenset[tuple[int | None, IcmpMatch | None]]) -> list[_Kind]:
    """Protocols, ICMP types and TCP flags that entries with those tell apart, and some they do not name."""
    protocols = {protocol for protocol, _ in named if protocol is not None} | {TCP, UDP, family.icmp}
    other = next(number for number in range(253, 0, -1) if number not in protocols)
    found: list[_Kind] = []
    for protocol in sorted({*protocols, other}):
        if protocol == TCP:
            found += [(TCP, None, None, False), (TCP, None, None, True)]
        elif protocol == family.icmp:
            types = {(icmp.type, icmp.code or 0) for _, icmp in named if icmp is not None}
            types |= {(kind, 200) for kind, _ in types} | {(250, 0)}
            found += [(protocol, kind, code, False) for kind, code in sorted(types)]
        else:
            found.append((protocol, None, None, False))
    return found


def _addresses(own: Region, others: Sequence[tuple[AddressBlock, ...] | None]) -> list[int]:
    parts = parts_by(own, {each for each in others if each is not None})
    return [part[0].first for part in parts if part]


def _ports(own: Terms, others: Sequence[Terms]) -> list[int]:
    whole = ALL_PORTS if own is None else spans_of(own)
    parts = span_parts(whole, [spans_of(terms) for terms in {each for each in others if each is not None}])
    return [part[0][0] for part in parts]


def _packet(family: Family, kind: _Kind, source: int, destination: int, from_: int, to: int) -> Packet:
    protocol, icmp_type, icmp_code, answers = kind
    with_ports = protocol in WITH_PORTS
    flags = (TcpFlags.ACK if answers else TcpFlags.SYN) if protocol == TCP else TcpFlags.NONE
    return Packet(
        family,
        source,
        destination,
        protocol,
        from_ if with_ports else None,
        to if with_ports else None,
        flags,
        icmp_type,
        icmp_code,
    )


class _Hulls:
    """The ends of what entries match, to see quickly which have nothing in common."""

    def __init__(self, rules: Sequence[Rule], family: Family) -> None:
        protocols = [-1 if rule.entry.protocol is None else rule.entry.protocol for rule in rules]
        self._protocol = np.array(protocols, dtype=np.int64)
        ends = np.array(
            [_ranked(each) for each in zip(*(_ends(rule, family) for rule in rules), strict=True)]
        )
        self._low, self._high = ends.reshape(4, -1, 2)[..., 0], ends.reshape(4, -1, 2)[..., 1]

    def overlapping(self, index: int) -> list[int]:
        """The entries that may match some of what the one at `index` does."""
        own = self._protocol[index]
        alike = (self._protocol == own) | (self._protocol == -1) | (own == -1)
        low, high = self._low[:, index, None], self._high[:, index, None]
        alike &= ((self._low <= high) & (low <= self._high)).all(axis=0)
        alike[index] = False
        return [int(other) for other in np.flatnonzero(alike)]


def _ends(rule: Rule, family: Family) -> list[tuple[int, int]]:
    """The first and the last of each field."""
    ends: list[tuple[int, int]] = []
    for blocks in (rule.sources, rule.destinations):
        every = (AddressBlock(family, 0, 0),) if blocks is None else blocks
        first = min((each.first for each in every), default=1)
        ends.append((first, max((each.last for each in every), default=0)))
    for terms in (rule.source_ports, rule.destination_ports):
        spans = ALL_PORTS if terms is None else spans_of(terms)
        ends.append((spans[0][0], spans[-1][1]) if spans else (1, 0))
    return ends


def _ranked(pairs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Large numbers as their indices among each other."""
    rank = {number: index for index, number in enumerate(sorted({end for pair in pairs for end in pair}))}
    return [(rank[low], rank[high]) for low, high in pairs]
