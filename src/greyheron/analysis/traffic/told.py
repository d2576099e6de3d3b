"""Traffic in words: a row for each conversation that was there, with what becomes of it in each state."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from greyheron.analysis.traffic.folding import SeenTraffic
from greyheron.analysis.traffic.judging import Between, Impossibility, Judged, request_of_seen
from greyheron.core.bulk.engine import VERDICT_ORDER
from greyheron.core.headers import NONE
from greyheron.core.intervals import prefixes_of, span_union
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World
from greyheron.model.entry import AddressBlock
from greyheron.model.names import port_name, protocol_name
from greyheron.model.services import Request, written
from greyheron.model.values import Family


@dataclass(frozen=True, slots=True)
class TrafficRow:
    """Conversations of one source, destination and service.

    index:  in what was seen;  source, destination:  addresses;  from_device, to_device:  whose, if anybody's
    flow:  as a test flow has it, without what is expected; None where it cannot be one
    statement:  what would require that it gets through; None likewise
    baseline, running, draft:  what becomes of it in these states; None where it cannot be tried
    decided:  the list and entry that stops it on the draft, where one does
    first, last:  nanoseconds since 1970, 0 where not known
    """

    index: int
    source: str
    from_device: str | None
    destination: str
    to_device: str | None
    service: str
    flow: str | None
    statement: str | None
    count: int
    packets: int
    octets: int
    answered: bool
    first: int
    last: int
    baseline: Verdict | None
    running: Verdict | None
    draft: Verdict | None
    decided: str | None
    odd: Impossibility | None

    @property
    def would_stop(self) -> bool:
        """Whether the draft stops what gets through as running."""
        return self.running is Verdict.PASSES and self.draft is not Verdict.PASSES


def rows_of(
    seen: SeenTraffic,
    parties: Between,
    states: Sequence[Judged],
    odds: Sequence[Impossibility | None],
    world: World,
) -> list[TrafficRow]:
    """states:  baseline, running and draft, in this order"""
    return [_row(seen, parties, states, odds[index], world, index) for index in range(len(seen))]


def _row(
    seen: SeenTraffic,
    parties: Between,
    states: Sequence[Judged],
    strange: Impossibility | None,
    world: World,
    at: int,
) -> TrafficRow:
    six, source = seen.addresses[seen.source[at]]
    destination = seen.addresses[seen.destination[at]][1]
    family = Family.IPV6 if six else Family.IPV4
    request = request_of_seen(seen, at)
    service = written(request, family)
    whole = world.with_possible_hosts.topology
    ends = [
        None if device is None else _end(device, family, address, device in whole.stand_ins)
        for device, address in ((parties.source[at], source), (parties.destination[at], destination))
    ]
    known = None not in ends and not parties.group[at]
    sides = family.text(source), family.text(destination)
    baseline, running, draft = (_verdict(state, at) for state in states)
    return TrafficRow(
        at,
        sides[0],
        _drawn(parties.source[at], whole.stand_ins),
        sides[1],
        _drawn(parties.destination[at], whole.stand_ins),
        service,
        f"{ends[0]} → {ends[1]} {service}" if known else None,
        f"allow {sides[0]} → {sides[1]} {service}" if known else None,
        int(seen.count[at]),
        int(seen.packets[at]),
        int(seen.octets[at]),
        bool(seen.answered[at]),
        int(seen.first[at]),
        int(seen.last[at]),
        baseline,
        running,
        draft,
        _decided(states[2], at),
        strange,
    )


def _end(device: str, family: Family, address: int, possible: bool) -> str:
    """As a test flow names it: a device and its address, or who could be on the prefix that a stand-in is."""
    text = family.text(address)
    return f"{text}/{device.partition('/')[2]}" if possible else f"{device}:{text}"


def _drawn(device: str | None, stand_ins: frozenset[str]) -> str | None:
    return None if device in stand_ins else device


def _verdict(state: Judged, at: int) -> Verdict | None:
    return None if state.verdict[at] < 0 else VERDICT_ORDER[state.verdict[at]]


def _decided(state: Judged, at: int) -> str | None:
    if state.point[at] == NONE:
        return None
    entry = int(state.entry[at])
    number = "implicit deny" if entry == NONE else f"entry {entry}"
    return f"{state.names[state.point[at]]} {state.points[state.point[at]]}, {number}"


@dataclass(frozen=True, slots=True)
class Letting:
    """Entries that let conversations through. `more`: how many others they would let through."""

    entries: tuple[str, ...]
    more: int


def letting_through(seen: SeenTraffic, rows: Iterable[int]) -> tuple[Letting, Letting]:
    """The entries that let just these through, and the fewest: one a service, between whole prefixes."""
    alike: dict[tuple[Family, Request], dict[int, set[int]]] = {}
    for at in rows:
        six, source = seen.addresses[seen.source[at]]
        destination = seen.addresses[seen.destination[at]][1]
        key = Family.IPV6 if six else Family.IPV4, request_of_seen(seen, at)
        alike.setdefault(key, {}).setdefault(destination, set()).add(source)
    exact: list[str] = []
    few: list[str] = []
    more = 0
    for (family, request), by_destination in alike.items():
        same: dict[frozenset[int], set[int]] = {}
        for destination, sources in by_destination.items():
            same.setdefault(frozenset(sources), set()).add(destination)
        for together, destinations in same.items():
            exact += [
                _entry(family, request, one, other)
                for one in _blocks(family, together)
                for other in _blocks(family, destinations)
            ]
        every = set().union(*by_destination.values())
        one, other = _cover(family, every), _cover(family, set(by_destination))
        few.append(_entry(family, request, one, other))
        more += one.size * other.size - sum(map(len, by_destination.values()))
    return Letting(tuple(exact), 0), Letting(tuple(few), more)


def _blocks(family: Family, addresses: Iterable[int]) -> Sequence[AddressBlock]:
    return prefixes_of(family, span_union((each, each) for each in addresses))


def _cover(family: Family, addresses: set[int]) -> AddressBlock:
    """The smallest prefix that holds them all."""
    differing = (min(addresses) ^ max(addresses)).bit_length()
    return AddressBlock.prefix(family, min(addresses), family.bits - differing)


def _entry(family: Family, request: Request, one: AddressBlock, other: AddressBlock) -> str:
    words = ["permit", protocol_name(request.protocol, family)]
    if request.protocol == family.icmp and request.icmp_type is not None:
        words.append("echo-request" if request.icmp_type == family.echo[0] else str(request.icmp_type))
    words += ["from", str(one), "to", str(other)]
    if request.port is not None:
        words += ["port", port_name(request.port) or str(request.port)]
    return " ".join(words)
