"""Conversations whose packets change on their way: walked once for each class, with the lists they meet.

The walk goes through the permissive world, where no list decides. Ports that no rule, service or line names
are walked as numbers beyond all ports, and stand for the conversation's own when the lists are asked.
"""

from collections.abc import Sequence, Set

import numpy as np
from cachetools import LRUCache
from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.bulk.conversations import Exchanges, Rows
from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.bulk.list_decisions import Meetings, PlacedLists, point_of
from greyheron.core.bulk.tracer import OUTCOMES
from greyheron.core.headers import NO_PORT, NONE, Bools, Headers, Ints, distinct, within_spans
from greyheron.core.lists.met import Filtered, Unfiltered
from greyheron.core.packet import Packet, kind_of
from greyheron.core.walk.conversation import converse_from
from greyheron.core.walk.delivery import LOGIN_PORTS
from greyheron.core.walk.steps import Hop, Leaves, Outcome, Step
from greyheron.core.walk.verdicts import Exchange
from greyheron.core.world import World
from greyheron.model.values import Direction

SOME_SOURCE_PORT = 1 << 16
SOME_PORT = SOME_SOURCE_PORT + 1


class _Meeting(Struct, frozen=True):
    """A point or solicitation that a packet comes to, and its header there; ports may be of the class."""

    code: int
    source: int
    destination: int
    kind: Packet
    source_port: int
    destination_port: int


class _WalkedPath(Struct, frozen=True):
    """One exchange: all that its packets come to, in order, and how and where it ends if nothing denies.

    first:  so many of the meetings are of its first packet;  reached:  whether that gets where it is going
    """

    meetings: tuple[_Meeting, ...]
    outcome: int
    end: int
    first: int
    reached: bool


MOST_RECORDED = 8_000
"""So many classes of conversations are remembered, some 2 kB each; those that were asked about last."""


class Recorder:
    """The paths in one forwarding, each class of conversations walked once.

    ports:  the ports that services, lines and translations name
    """

    def __init__(self, world: World, forwarding: ForwardingIndex) -> None:
        self._permissive, self._forwarding = world.permissive, forwarding
        devices = world.topology.devices.values()
        services = {service.port for device in devices for service in device.services}
        rules = {
            port for device in devices for rule in device.translations for port in (rule.port, rule.to_port)
        }
        self.ports = LOGIN_PORTS | services | {port for port in rules if port is not None}
        self._found: LRUCache[tuple[str, Packet], tuple[_WalkedPath, ...] | None] = LRUCache(MOST_RECORDED)
        self._kinds: dict[Packet, Packet] = {}

    def traced_paths(self, device: str, packet: Packet) -> tuple[_WalkedPath, ...] | None:
        """Every exchange of the conversation that `packet` opens; None when it has too many paths."""
        if packet.destination_port is not None:
            from_, to = packet.source_port, packet.destination_port
            packet = replace(
                packet,
                source_port=from_ if from_ in self.ports else SOME_SOURCE_PORT,
                destination_port=to if to in self.ports else SOME_PORT,
            )
        key = (device, packet)
        if key not in self._found:
            result = converse_from(self._permissive, packet, device)
            self._found[key] = None if result.more else tuple(map(self._walked_path, result.exchanges))
        found: tuple[_WalkedPath, ...] | None = self._found[key]
        return found

    def _walked_path(self, exchange: Exchange) -> _WalkedPath:
        path = exchange.decider.path
        met = [
            [
                meeting
                for hop in leg.path.hops
                for step, packet in hop.seen
                if (meeting := self._meeting(step, packet, hop)) is not None
            ]
            for leg in exchange.legs
        ]
        return _WalkedPath(
            tuple(meeting for of_leg in met for meeting in of_leg),
            OUTCOMES.index(path.outcome),
            self._forwarding.number[path.last.device],
            len(met[0]),
            exchange.reached,
        )

    def _meeting(self, step: Step, packet: Packet, hop: Hop) -> _Meeting | None:
        """What a packet comes to at a step, which had that header there; None where that is nothing."""
        if isinstance(step, Filtered | Unfiltered):
            own = hop.ingress is None and step.point.direction is Direction.OUT
            if own and not self._permissive.topology.devices[hop.device].sends_through:
                return None
            code = self._forwarding.point[step.point]
        elif isinstance(step, Leaves) and self._forwarding.solicits:
            code = self._forwarding.solicitation(
                (hop.device, step.interface), step.to, step.to_address, packet.source
            )
        else:
            return None
        assert packet.source is not None
        kind = kind_of(packet)
        return _Meeting(
            code,
            packet.source,
            packet.destination,
            self._kinds.setdefault(kind, kind),  # there are few, and very many meetings
            NO_PORT if packet.source_port is None else packet.source_port,
            NO_PORT if packet.destination_port is None else packet.destination_port,
        )


class WalkedClassPaths:
    """The paths of the rows at `indices`, which rise.

    crowded:  rows with too many paths to say which of them a list cuts off
    """

    def __init__(self, recorder: Recorder, forwarding: ForwardingIndex, rows: Rows, indices: Ints) -> None:
        self._forwarding, self._rows = forwarding, rows
        first, alike = _walked_alike(recorder, rows, indices)
        found = [
            recorder.traced_paths(*opener_of(forwarding, rows, index)) for index in indices[first].tolist()
        ]
        crowded = np.array([each is None for each in found], dtype=np.bool_)
        self.crowded = indices[crowded[alike]]
        kept = np.flatnonzero(~crowded[alike])
        every = [walked for each in found for walked in each or ()]
        counts = np.array([len(each or ()) for each in found], dtype=np.int64)
        of_row, number = within_spans((np.cumsum(counts) - counts)[alike[kept]], counts[alike[kept]])
        self._gather(every, indices[kept][of_row], number)

    def _gather(self, traced_paths: Sequence[_WalkedPath], row: Ints, number: Ints) -> None:
        """All meetings in arrays, those of one path together and in their order.

        row, number:  of each path of each row
        """
        addresses, kinds = self._rows.addresses, dict[Packet, int]()
        met = [
            (
                meeting.code,
                addresses.index(meeting.source),
                addresses.index(meeting.destination),
                kinds.setdefault(meeting.kind, len(kinds)),
                meeting.source_port,
                meeting.destination_port,
            )
            for walked in traced_paths
            for meeting in walked.meetings
        ]
        known = [
            (each.outcome, each.end, each.first, each.reached, len(each.meetings)) for each in traced_paths
        ]
        outcome, end, firsts, reached, lengths = np.array(known, dtype=np.int64).reshape(-1, 5).T
        self._row, self._outcome, self._end = row, outcome[number], end[number]
        self._reached = reached[number].astype(np.bool_)
        self._ways = len({tuple(each.code for each in walked.meetings) for walked in traced_paths})
        begins = np.cumsum(lengths) - lengths
        self._path, meeting = within_spans(begins[number], lengths[number])
        self._code, source, destination, kind, *ports = (
            np.array(met, dtype=np.int64).reshape(-1, 6)[meeting].T
        )
        from_, to = (self._own_ports(row[self._path], port) for port in ports)
        self._headers = Headers(addresses, tuple(kinds), source, destination, kind, from_, to)
        self._of_first = meeting - begins[number][self._path] < firsts[number][self._path]

    def _own_ports(self, row: Ints, port: Ints) -> Ints:
        rows = self._rows
        asked = np.array([NO_PORT if each.request.port is None else each.request.port for each in rows.asked])
        own = np.where(port == SOME_SOURCE_PORT, rows.source_port[row], port)
        return np.where(port == SOME_PORT, asked[rows.request[row]], own)

    def meetings(self) -> tuple[Ints, Ints]:
        """Every row with every code that a packet of it comes to, each pair once."""
        found = distinct(self._row[self._path] << 32 | self._code)
        return found >> 32, found & 0xFFFF_FFFF

    def rewritten(self) -> tuple[Ints, Ints, Ints, Ints]:
        """Where packets are not as they were made: row, code, source and destination there, each once.

        The addresses are indices in the table of them. Of conversations that are not answered.
        """
        row, rows = self._row[self._path], self._rows
        source, destination = self._headers.source, self._headers.destination
        other = np.flatnonzero((source != rows.source[row]) | (destination != rows.destination[row]))
        found = np.stack([row[other], self._code[other], source[other], destination[other]])
        row, code, source, destination = np.unique(found, axis=1)
        return row, code, source, destination

    def in_vain(self) -> tuple[Ints, Ints]:
        """Where packets come to a device that drops them, as the outside address must be used: row, code."""
        dropped = self._outcome == OUTCOMES.index(Outcome.UNTRANSLATED)
        ends = self._forwarding.point_device[np.minimum(self._code, len(self._forwarding.point_device) - 1)]
        there = np.flatnonzero(dropped[self._path] & (ends == self._end[self._path]))
        return self._row[self._path[there]], self._code[there]

    def paths(self) -> int:
        return self._ways

    def rows_passing(self, codes: Bools) -> Bools:
        """Whether each row has a packet that comes to a point or solicitation marked in `codes`."""
        found = np.zeros(len(self._rows), dtype=np.bool_)
        found[self._row[self._path[codes[self._code]]]] = True
        return found

    def decided_otherwise(self, placed: PlacedLists, before: PlacedLists) -> Bools:
        """Whether each row has a packet that some list denies otherwise in `placed` than in `before`."""
        met = np.flatnonzero(placed.changed_from(before)[self._code])
        differs = placed.decides_otherwise(before, self._code[met], self._headers.take(met))
        found = np.zeros(len(self._rows), dtype=np.bool_)
        found[self._row[self._path[met[differs]]]] = True
        return found

    def decided(self, placed: PlacedLists, only: Bools | None = None) -> Exchanges:
        """The exchanges of every row, or of those marked in `only`, as the lists in `placed` leave them."""
        acting = placed.acts()[self._code]
        if only is not None:
            acting &= only[self._row[self._path]]
        acting_indices = np.flatnonzero(acting)
        path, code = self._path[acting_indices], self._code[acting_indices]
        headers = self._headers.take(acting_indices)
        first = np.flatnonzero(self._of_first[acting_indices])
        denials, of_first = placed.first_denials_of_each(
            [
                Meetings(path, code, headers, len(self._row)),
                Meetings(path[first], code[first], headers.take(first), len(self._row)),
            ]
        )
        denied = denials.point != NONE
        found = Exchanges(
            self._row,
            np.where(denied, denials.outcome, self._outcome),
            np.where(denied, self._forwarding.point_device[np.maximum(denials.point, 0)], self._end),
            denials.point,
            denials.entry,
            self._reached & (of_first.point == NONE),
        )
        return found if only is None else found.take(np.flatnonzero(only[self._row]))


def _walked_alike(recorder: Recorder, rows: Rows, indices: Ints) -> tuple[Ints, Ints]:
    """One of each of the rows at `indices` that the recorder tells apart, and which of them each is like."""
    ports = np.array(sorted(recorder.ports), dtype=np.int64)
    requests: dict[tuple[Packet, int | None], int] = {}
    numbers = np.array(
        [
            requests.setdefault((each.kinds[0], _told(recorder.ports, each.request.port)), len(requests))
            for each in rows.asked
        ],
        dtype=np.int64,
    )
    source_port = rows.source_port[indices]
    source_port = np.where(np.isin(source_port, ports), source_port, NO_PORT)
    code = rows.device[indices]
    ends = rows.source[indices], rows.destination[indices]
    for part in (*ends, numbers[rows.request[indices]], source_port):
        # NONE and NO_PORT are -1. Numbered anew each time: together they may be more than a number holds.
        code = np.unique(code * (int(part.max(initial=0)) + 2) + part + 1, return_inverse=True)[1]
    _, first, alike = np.unique(code, return_index=True, return_inverse=True)
    return first, alike


def _told(ports: Set[int], port: int | None) -> int | None:
    """A port as the recorder tells it from others."""
    return port if port is None or port in ports else SOME_PORT


def opener_of(forwarding: ForwardingIndex, rows: Rows, index: int) -> tuple[str, Packet]:
    """The packet that opens the conversation at `index`, and the device that makes it."""
    values, source = rows.addresses.values, int(rows.source[index])
    opener = rows.asked[rows.request[index]].opener
    packet = replace(
        opener,
        source=None if source == NONE else values[source],
        destination=values[rows.destination[index]],
        source_port=None if opener.source_port is None else int(rows.source_port[index]),
    )
    return forwarding.devices[rows.device[index]], packet


def walked_exchanges(world: World, forwarding: ForwardingIndex, rows: Rows, indices: Ints) -> Exchanges:
    """The exchanges of the rows at `indices`, each walked by itself."""
    found: list[tuple[int, int, int, int, int, int]] = []
    for index in indices.tolist():
        device, packet = opener_of(forwarding, rows, index)
        for exchange in converse_from(world, packet, device).exchanges:
            path = exchange.decider.path
            denial = path.denial
            point = NONE if denial is None else point_of(forwarding, denial)
            entry = NONE if denial is None or denial.decision.entry is None else denial.decision.entry
            end = forwarding.number[path.last.device]
            found.append((index, OUTCOMES.index(path.outcome), end, point, entry, exchange.reached))
    columns = np.array(found, dtype=np.int64).reshape(-1, 6).T
    row, outcome, end_, point_, entry_ = columns[:5]
    return Exchanges(row, outcome, end_, point_, entry_, columns[5].astype(np.bool_))
