"""Classes of conversations put together into as few boxes as can be read."""

from collections.abc import Iterable, Sequence
from typing import Generic, TypeVar

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.proof.answers import AddressParty, Box, Parties, ServicePorts
from greyheron.analysis.proof.services import ServiceSet
from greyheron.core.headers import Ints
from greyheron.core.intervals import (
    Region,
    Spans,
    prefixes_of,
    ranges_of,
    size,
    span_union,
    tidied,
)
from greyheron.core.lists.fields.services import HeaderPart, Tag
from greyheron.model.values import Family

T = TypeVar("T")


class ClassRows(Struct, frozen=True):
    """Conversations by classes that are alike: arrays of one length, and what their numbers stand for."""

    sources: Sequence[AddressParty]
    destinations: Sequence[AddressParty]
    services: Sequence[ServiceSet]
    ports: Sequence[Spans]
    source: Ints
    destination: Ints
    service: Ints
    port: Ints


def boxes_of(family: Family, found: Iterable[ClassRows], wholes: "PartyTotals") -> tuple[Box, ...]:
    """Few boxes that hold exactly the conversations in all cells, which are disjoint."""
    sides, services, ports = _Numbered[AddressParty](), _Numbered[ServiceSet](), _Numbered[Spans]()
    columns = [
        np.stack(
            [
                sides.of(cells.sources)[cells.source],
                sides.of(cells.destinations)[cells.destination],
                services.of(cells.services)[cells.service],
                ports.of(cells.ports)[cells.port],
            ]
        )
        for cells in found
        if len(cells.source)
    ]
    if not columns:
        return ()
    source, destination, service, port = np.concatenate(columns, axis=1)
    source, destination = np.split(sides.by_appearance(np.append(source, destination)), 2)
    service, port = services.by_appearance(service), ports.by_appearance(port)
    asked = service * max(len(ports.values), 1) + port
    order = np.lexsort((asked, destination, source))
    source, destination, asked = source[order], destination[order], asked[order]
    fresh = np.flatnonzero(np.append(True, (np.diff(source) != 0) | (np.diff(destination) != 0)))
    alike: dict[bytes, list[int]] = {}
    for first, end in zip(fresh.tolist(), [*fresh[1:].tolist(), len(source)], strict=True):
        alike.setdefault(asked[first:end].tobytes(), []).append(first)
    pairs: dict[frozenset[ServicePorts], list[int]] = {}
    for key, rows in alike.items():
        codes = (divmod(code, len(ports.values)) for code in np.frombuffer(key, dtype=np.int64).tolist())
        joined = _joined((services.values[one], ports.values[other]) for one, other in codes)
        pairs.setdefault(joined, []).extend(rows)
    boxes: list[Box] = []
    merging = _Merging(sides.values, wholes)
    for asking, rows in pairs.items():
        together = list(zip(source[rows].tolist(), destination[rows].tolist(), strict=True))
        ways = [
            merging.grouped(together),
            [(b, a) for a, b in merging.grouped([(b, a) for a, b in together])],
        ]
        ordered = tuple(sorted(asking, key=lambda each: _order(each.service)))
        boxes += [Box(family, one, other, ordered) for one, other in min(ways, key=len)]
    return tuple(sorted(boxes, key=lambda box: -box.size))


class _Numbered(Generic[T]):
    """Values, each with a number of its own."""

    def __init__(self) -> None:
        self.values: list[T] = []
        self._number: dict[T, int] = {}

    def of(self, values: Iterable[T]) -> Ints:
        """The numbers of `values`."""
        found = []
        for value in values:
            number = self._number.setdefault(value, len(self.values))
            if number == len(self.values):
                self.values.append(value)
            found.append(number)
        return np.array(found, dtype=np.int64)

    def by_appearance(self, numbers: Ints) -> Ints:
        """`numbers` anew, in the order in which they come: however values were numbered before."""
        used, first, which = np.unique(numbers, return_index=True, return_inverse=True)
        order = np.argsort(first)
        self.values = [self.values[number] for number in used[order].tolist()]
        self._number = {value: number for number, value in enumerate(self.values)}
        rank = np.empty(len(order), dtype=np.int64)
        rank[order] = np.arange(len(order))
        found: Ints = rank[which]
        return found


def _joined(services: Iterable[tuple[ServiceSet, Spans]]) -> frozenset[ServicePorts]:
    """The same as few products: ports joined where source ports are the same, and the other way about."""
    by_service: dict[ServiceSet, list[tuple[int, int]]] = {}
    for service, ports in services:
        by_service.setdefault(service, []).extend(ports)
    by_ports: dict[tuple[ServiceSet, Spans], list[tuple[int, int]]] = {}
    for service, spans in by_service.items():
        by_ports.setdefault((replace(service, spans=()), span_union(spans)), []).extend(service.spans)
    return _joined_headers(
        ServicePorts(replace(service, spans=span_union(spans)), ports)
        for (service, ports), spans in by_ports.items()
    )


def _joined_headers(asked: Iterable[ServicePorts]) -> frozenset[ServicePorts]:
    """The same with code points, and then flags, joined where all else is the same."""
    for part in (HeaderPart.DSCP, HeaderPart.FLAGS):
        alike: dict[ServicePorts, list[tuple[int, int]]] = {}
        for each in asked:
            own = each.service.header(part)
            rest = each if own is None else replace(each, service=each.service.having(part, ()))
            alike.setdefault(rest, []).extend(own or ())
        asked = [
            replace(each, service=each.service.having(part, span_union(spans))) if spans else each
            for each, spans in alike.items()
        ]
    return frozenset(asked)


def _order(service: ServiceSet) -> tuple[Tag, Spans, Spans, Spans]:
    return service.tag, service.spans, service.flags or (), service.dscp


class _Merging:
    """Products of sides from pairs of parties, which are given by number."""

    def __init__(self, parties: Sequence[AddressParty], wholes: "PartyTotals") -> None:
        self._parties, self._wholes = parties, wholes
        self._whose = [(party.device, party.drawn, party.itself) for party in parties]
        self._ranges: dict[int, Spans | None] = {}
        self._sides: dict[tuple[int, ...], Parties] = {}
        self._joined: dict[tuple[int, ...], AddressParty] = {}

    def grouped(self, pairs: Iterable[tuple[int, int]]) -> list[tuple[Parties, Parties]]:
        """Products that hold exactly `pairs`: first by what stands first, then by what goes with it."""
        beside: dict[int, list[int]] = {}
        for one, other in pairs:
            beside.setdefault(one, []).append(other)
        by_numbers: dict[tuple[int, ...], list[int]] = {}
        for one, others in beside.items():
            by_numbers.setdefault(tuple(sorted(others)), []).append(one)
        together: dict[Parties, list[int]] = {}
        for numbers, ones in by_numbers.items():
            together.setdefault(self._side(numbers), []).extend(ones)
        return [(self._side(tuple(sorted(ones))), others) for others, ones in together.items()]

    def _side(self, numbers: tuple[int, ...]) -> Parties:
        """Parties with all that is theirs in one, in the order of their names."""
        if numbers not in self._sides:
            own: dict[tuple[str, bool, bool], list[int]] = {}
            for number in numbers:
                own.setdefault(self._whose[number], []).append(number)
            self._sides[numbers] = tuple(self._one(tuple(own[whose])) for whose in sorted(own))
        return self._sides[numbers]

    def _one(self, numbers: tuple[int, ...]) -> AddressParty:
        if numbers not in self._joined:
            first = self._parties[numbers[0]]
            region = self._region(numbers)
            every = size(region) == self._wholes.size(first.device, first.drawn)
            self._joined[numbers] = AddressParty(
                first.device, region, first.drawn, every, itself=first.itself
            )
        return self._joined[numbers]

    def _region(self, numbers: tuple[int, ...]) -> Region:
        """All the addresses of some parties, in as few blocks as can be."""
        spans: list[tuple[int, int]] = []
        for number in numbers:
            if number not in self._ranges:
                self._ranges[number] = ranges_of(self._parties[number].region)
            own = self._ranges[number]
            if own is None:
                blocks = (block for each in numbers for block in self._parties[each].region)
                return tidied(tuple(dict.fromkeys(blocks)))
            spans += own
        return prefixes_of(self._parties[numbers[0]].region[0].family, span_union(spans))


class PartyTotals:
    """What each party has in all, to say whether a part of it is everything."""

    def __init__(self, parties: Iterable[tuple[str, bool, Region]]) -> None:
        self._sizes: dict[tuple[str, bool], int] = {}
        for device, drawn, region in parties:
            key = device, drawn
            self._sizes[key] = self._sizes.get(key, 0) + size(region)

    def size(self, device: str, drawn: bool) -> int:
        return self._sizes[device, drawn]
