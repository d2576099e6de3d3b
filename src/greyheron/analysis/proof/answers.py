"""Answers to requirements: proved, violated by what, or inconclusive and why."""

from collections.abc import Iterable, Sequence
from enum import StrEnum
from typing import Generic, TypeVar

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.proof.services import ServiceSet
from greyheron.core.headers import Ints
from greyheron.core.intervals import (
    Region,
    Spans,
    prefixes_of,
    ranges_of,
    size,
    span_size,
    span_union,
    tidied,
)
from greyheron.core.lists.fields.services import ALL_DSCP, ALL_PORTS, ALL_PROTOCOLS, HeaderPart, Tag, whole
from greyheron.core.walk.conversation import USUAL_SOURCE_PORT, Verdict
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.header import DscpSpan, TcpFlags
from greyheron.model.names import icmp_name, port_name, protocol_name
from greyheron.model.services import Request, written
from greyheron.model.values import Expectation, Family

T = TypeVar("T")
EPHEMERAL: Spans = ((1024, 65535),)


class Answer(StrEnum):
    PROVED = "proved"
    VIOLATED = "violated"
    INCONCLUSIVE = "inconclusive"


class Party(Struct, frozen=True):
    """Some addresses of one device, or of the hosts that could be on a segment.

    every:  whether these are all that it has
    translated:  whether another device has them, and it is reached by them
    itself:  whether they are a router's or firewall's own, where hosts are spoken of
    """

    device: str
    region: Region
    drawn: bool
    every: bool
    translated: bool = False
    itself: bool = False


class Asking(Struct, frozen=True):
    """Services, and the source ports they are asked from; those are empty where there are none."""

    service: ServiceSet
    source_ports: Spans


class Box(Struct, frozen=True):
    """Conversations of one family: everyone in `sources` with everyone in `destinations` about `asking`.

    A conversation of an address with itself is none.
    """

    family: Family
    sources: tuple[Party, ...]
    destinations: tuple[Party, ...]
    asking: tuple[Asking, ...]

    @property
    def size(self) -> int:
        """How many conversations, those of an address with itself among them."""
        sides = [sum(size(party.region) for party in side) for side in (self.sources, self.destinations)]
        asked = (each.service.count * max(span_size(each.source_ports), 1) for each in self.asking)
        return sides[0] * sides[1] * sum(asked)


class Counterexample(Struct, frozen=True):
    """One conversation that violates: as a test flow, what was expected of it, and what becomes of it."""

    flow: Flow
    expect: Expectation
    verdict: Verdict


class Violation(Struct, frozen=True):
    """Conversations that do what they should not, by what was expected of them, and when if not always."""

    expect: Expectation
    boxes: tuple[Box, ...]
    when: str = ""


class Proof(Struct, frozen=True):
    """The answer to a requirement, and what it covers.

    classes:  so many kinds of conversations were tried, which stand for `conversations`
    paths:  over so many different ways through the network
    lists:  the lists that were met on them
    reason:  why it is inconclusive, or what else is to be said
    decided, undecided:  coarse classes that were decided for all of them, and of which only some were tried
    kinds:  so many kinds of address, and more, are in one of the latter
    crowded:  so many of them have more ways than can be followed, of which only some were
    remaining:  what devices themselves do that is not wanted of the hosts it speaks of; it holds all the same
    answers:  an unwanted conversation that arrives, and of which only the answers are stopped
    offered:  devices, and what each of them has, where any service of theirs is to be let through
    """

    answer: Answer
    classes: int
    conversations: int
    paths: int
    lists: tuple[str, ...]
    violations: tuple[Violation, ...]
    counterexample: Counterexample | None
    reason: str
    decided: int = 0
    undecided: int = 0
    kinds: int = 0
    crowded: int = 0
    remaining: tuple[Violation, ...] = ()
    answers: Counterexample | None = None
    offered: tuple[tuple[str, tuple[str, ...]], ...] = ()


class ClassRows(Struct, frozen=True):
    """Conversations by classes that are alike: arrays of one length, and what their numbers stand for."""

    sources: Sequence[Party]
    destinations: Sequence[Party]
    services: Sequence[ServiceSet]
    ports: Sequence[Spans]
    source: Ints
    destination: Ints
    service: Ints
    port: Ints


Parties = tuple[Party, ...]


def boxes_of(family: Family, found: Iterable[ClassRows], wholes: "Wholes") -> tuple[Box, ...]:
    """Few boxes that hold exactly the conversations in all cells, which are disjoint."""
    sides, services, ports = _Numbered[Party](), _Numbered[ServiceSet](), _Numbered[Spans]()
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
    pairs: dict[frozenset[Asking], list[int]] = {}
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


def _joined(services: Iterable[tuple[ServiceSet, Spans]]) -> frozenset[Asking]:
    """The same as few products: ports joined where source ports are the same, and the other way about."""
    by_service: dict[ServiceSet, list[tuple[int, int]]] = {}
    for service, ports in services:
        by_service.setdefault(service, []).extend(ports)
    by_ports: dict[tuple[ServiceSet, Spans], list[tuple[int, int]]] = {}
    for service, spans in by_service.items():
        by_ports.setdefault((replace(service, spans=()), span_union(spans)), []).extend(service.spans)
    return _joined_headers(
        Asking(replace(service, spans=span_union(spans)), ports)
        for (service, ports), spans in by_ports.items()
    )


def _joined_headers(asked: Iterable[Asking]) -> frozenset[Asking]:
    """The same with code points, and then flags, joined where all else is the same."""
    for part in (HeaderPart.DSCP, HeaderPart.FLAGS):
        alike: dict[Asking, list[tuple[int, int]]] = {}
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

    def __init__(self, parties: Sequence[Party], wholes: "Wholes") -> None:
        self._parties, self._wholes = parties, wholes
        self._whose = [(party.device, party.drawn, party.itself) for party in parties]
        self._ranges: dict[int, Spans | None] = {}
        self._sides: dict[tuple[int, ...], Parties] = {}
        self._joined: dict[tuple[int, ...], Party] = {}

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

    def _one(self, numbers: tuple[int, ...]) -> Party:
        if numbers not in self._joined:
            first = self._parties[numbers[0]]
            region = self._region(numbers)
            every = size(region) == self._wholes.size(first.device, first.drawn)
            self._joined[numbers] = Party(first.device, region, first.drawn, every, itself=first.itself)
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


class Wholes:
    """What each party has in all, to say whether a part of it is everything."""

    def __init__(self, parties: Iterable[tuple[str, bool, Region]]) -> None:
        self._sizes: dict[tuple[str, bool], int] = {}
        for device, drawn, region in parties:
            key = device, drawn
            self._sizes[key] = self._sizes.get(key, 0) + size(region)

    def size(self, device: str, drawn: bool) -> int:
        return self._sizes[device, drawn]


def flow_between(family: Family, source: Party, destination: Party, request: Request, port: int) -> Flow:
    """The conversation as a test flow would write it."""
    with_port = request.port is not None and port != USUAL_SOURCE_PORT
    ends = [_end(family, party) for party in (source, destination)]
    dscp = DscpSpan(request.dscp, request.dscp) if request.dscp else None
    return Flow(
        ends[0],
        ends[1],
        written(request, family),
        port if with_port else None,
        request.flags,
        request.fragment,
        dscp,
    )


def _end(family: Family, party: Party) -> FlowEnd:
    address = family.text(party.region[0].first)
    if party.translated:
        return FlowEnd(None, address)
    if party.drawn:
        return FlowEnd(party.device, address)
    return FlowEnd(None, f"{address}/{party.device.partition('/')[2]}")


MOST_NAMED = 6


def side_words(side: Parties, most: int = MOST_NAMED) -> list[str]:
    """Everyone of a side, each in a few words."""
    found = [party_words(party) for party in side]
    return found if len(found) <= most else [*found[: most - 1], f"{len(found) - most + 1} more"]


def party_words(party: Party) -> str:
    if party.every and not party.itself:
        return party.device if party.drawn else f"any other host on {party.device}"
    blocks = [str(block) for block in party.region]
    shown = ", ".join(blocks[:MOST_NAMED]) + (
        f" and {len(blocks) - MOST_NAMED} more" * (len(blocks) > MOST_NAMED)
    )
    if party.itself:
        return f"{party.device} itself ({shown})"
    return f"{party.device} ({shown})" if party.drawn else f"a host at {shown}"


def asking_words(asking: Asking, family: Family) -> str:
    ports = asking.source_ports
    usual = not ports or ports in (ALL_PORTS, EPHEMERAL)
    return service_words(asking.service, family) + ("" if usual else f" from port {span_words(ports)}")


def service_words(service: ServiceSet, family: Family) -> str:
    """“tcp/443 (https)”, “fragments of udp”, “tcp with SYN+FIN”; code points as far as not all are meant."""
    words = _number_words(service, family)
    if service.tag is Tag.FRAGMENT:
        words = f"fragments of {words}"
    if service.flags is not None:
        some = [_flag_words(low) for low, high in service.flags for low in range(low, high + 1)]
        words += f" with {' or '.join(some[:MOST_NAMED])}" + (
            f" and {len(some) - MOST_NAMED} more" * (len(some) > MOST_NAMED)
        )
    return words if service.dscp == ALL_DSCP else f"{words} dscp {span_words(service.dscp)}"


def _flag_words(number: int) -> str:
    return "+".join(TcpFlags(number).names) or "no flags"


def _number_words(service: ServiceSet, family: Family) -> str:
    if service.tag is Tag.FRAGMENT and service.spans == ALL_PROTOCOLS:
        return "every protocol"
    if service.tag in (Tag.OTHER, Tag.FRAGMENT):
        if service.spans == whole(family)[Tag.OTHER]:
            return "every other protocol"
        names = [protocol_name(low, family) for low, high in service.spans if low == high]
        names += [f"protocols {low}–{high}" for low, high in service.spans if low < high]
        return ", ".join(names)
    if service.spans == ALL_PORTS:
        return service.tag
    if service.tag is Tag.ICMP:
        return ", ".join(_icmp_words(low, high, family) for low, high in service.spans)
    if len(service.spans) == 1 and service.spans[0][0] == service.spans[0][1]:
        port = service.spans[0][0]
        name = port_name(port)
        return f"{service.tag}/{port}" + (f" ({name})" if name else "")
    return f"{service.tag}/{span_words(service.spans)}"


def _icmp_words(low: int, high: int, family: Family) -> str:
    kind = low >> 8
    if high >> 8 != kind:
        return f"icmp types {kind}–{high >> 8}"
    if (kind, low & 255, high & 255) == (family.echo[0], 0, 0):
        return "ping"
    whole = low & 255 == 0 and high & 255 == 255
    name = icmp_name(family, kind, None if whole else low & 255) or f"icmp/{kind}"
    return name if whole or name != f"icmp/{kind}" else f"icmp/{kind}/{low & 255}"


def span_words(spans: Sequence[tuple[int, int]]) -> str:
    return ",".join(str(low) if low == high else f"{low}-{high}" for low, high in spans)
