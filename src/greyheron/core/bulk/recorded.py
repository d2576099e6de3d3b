"""Conversations whose packets change on their way: walked once for each class, with the lists they meet.

The walk goes through the opened world, where lists permit all in transit. Ports that no rule, service or line
names are walked as numbers beyond all ports, and stand for the conversation's own when the lists are asked.
"""

from dataclasses import dataclass, replace

import numpy as np

from greyheron.core.bulk.conversations import Exchanges, Rows, kind_of
from greyheron.core.bulk.forwarding import Forwarding
from greyheron.core.bulk.headers import NO_PORT, Headers, Ints, Kind
from greyheron.core.bulk.points import NONE, Points
from greyheron.core.bulk.tracing import DENIED, OUTCOMES
from greyheron.core.conversation import Exchange, converse_from
from greyheron.core.delivery import LOGIN_PORTS
from greyheron.core.packet import Packet
from greyheron.core.steps import Filtered
from greyheron.core.world import World

SOME_SOURCE_PORT = 1 << 16
SOME_PORT = SOME_SOURCE_PORT + 1


@dataclass(frozen=True, slots=True)
class _Meeting:
    """A list that one packet of a conversation meets, and its header there; ports may be of the class."""

    point: int
    source: int
    destination: int
    kind: Kind
    source_port: int
    destination_port: int


@dataclass(frozen=True, slots=True)
class _Course:
    """One exchange: every list it meets, in order, and how it ends if none denies (as in `Exchanges`)."""

    meetings: tuple[_Meeting, ...]
    outcome: int
    end: int
    point: int
    entry: int


class Recorder:
    """The courses of one world, each class of conversations walked once.

    ports:  the ports that services, lines and translations name
    """

    def __init__(self, world: World, net: Forwarding, points: Points) -> None:
        self._world, self._net, self._points = world, net, points
        devices = world.devices.values()
        services = {service.port for device in devices for service in device.services}
        rules = {
            port for device in devices for rule in device.translations for port in (rule.port, rule.to_port)
        }
        self.ports = LOGIN_PORTS | services | {port for port in rules if port is not None}
        self._found: dict[tuple[str, Packet], tuple[_Course, ...] | None] = {}

    def find(self, rows: Rows, places: Ints) -> Exchanges:
        """The exchanges of the rows at `places`, which rise."""
        courses: list[_Course] = []
        row_of: list[int] = []
        for place in places.tolist():
            device, packet = self._opener(rows, place)
            found = self._courses(device, packet)
            if found is None:  # too many paths to say which of them a list cuts off: walked as it is
                result = converse_from(self._world, packet, device)
                found = tuple(self._course(exchange, ()) for exchange in result.exchanges)
            courses += found
            row_of += [place] * len(found)
        return self._decided(rows, courses, np.array(row_of, dtype=np.int64))

    def _opener(self, rows: Rows, place: int) -> tuple[str, Packet]:
        values, source = rows.addresses.values, int(rows.source[place])
        opener = rows.asked[rows.request[place]].opener
        packet = replace(
            opener,
            source=None if source == NONE else values[source],
            destination=values[rows.destination[place]],
            source_port=None if opener.source_port is None else int(rows.source_port[place]),
        )
        return self._net.devices[rows.device[place]], packet

    def _courses(self, device: str, packet: Packet) -> tuple[_Course, ...] | None:
        """Every exchange of the conversation that `packet` opens; None when it has too many."""
        if packet.destination_port is not None:
            packet = replace(
                packet,
                source_port=packet.source_port if packet.source_port in self.ports else SOME_SOURCE_PORT,
                destination_port=packet.destination_port
                if packet.destination_port in self.ports
                else SOME_PORT,
            )
        key = (device, packet)
        if key not in self._found:
            result = converse_from(self._world.opened, packet, device)
            courses = tuple(self._course(each, self._meetings(each)) for each in result.exchanges)
            self._found[key] = None if result.more else courses
        return self._found[key]

    def _course(self, exchange: Exchange, meetings: tuple[_Meeting, ...]) -> _Course:
        path = exchange.decider.path
        denial = path.denial
        return _Course(
            meetings,
            OUTCOMES.index(path.outcome),
            self._net.number[path.last.device],
            NONE if denial is None else self._points.number[denial.point],
            NONE if denial is None or denial.decision.entry is None else denial.decision.entry,
        )

    def _meetings(self, exchange: Exchange) -> tuple[_Meeting, ...]:
        met = (
            (step.point, hop.header_at(step.point))
            for leg in exchange.legs
            for hop in leg.path.hops
            for step in hop.steps
            if isinstance(step, Filtered)
        )
        return tuple(
            _Meeting(
                self._points.number[point],
                packet.source or 0,
                packet.destination,
                kind_of(packet),
                NO_PORT if packet.source_port is None else packet.source_port,
                NO_PORT if packet.destination_port is None else packet.destination_port,
            )
            for point, packet in met
        )

    def _decided(self, rows: Rows, courses: list[_Course], row: Ints) -> Exchanges:
        """The exchanges of `courses`, each of one of `rows`, once the lists are asked."""
        place, kinds = rows.addresses.place, dict[Kind, int]()
        met = [
            (
                course,
                meeting.point,
                place(meeting.source),
                place(meeting.destination),
                kinds.setdefault(meeting.kind, len(kinds)),
                meeting.source_port,
                meeting.destination_port,
            )
            for course, found in enumerate(courses)
            for meeting in found.meetings
        ]
        path, point, source, destination, kind, *ports = np.array(met, dtype=np.int64).reshape(-1, 7).T
        source_port, destination_port = (self._own_ports(rows, row[path], port) for port in ports)
        headers = Headers(
            rows.addresses, tuple(kinds), source, destination, kind, source_port, destination_port
        )
        denials = self._points.first_denials(path, point, headers, len(courses))
        known = [(course.outcome, course.end, course.point, course.entry) for course in courses]
        outcome, end, stopped, entry = np.array(known, dtype=np.int64).reshape(-1, 4).T
        denied = denials.point != NONE
        return Exchanges(
            row,
            np.where(denied, DENIED, outcome),
            np.where(denied, self._net.point_device[denials.point], end) if len(self._points.points) else end,
            np.where(denied, denials.point, stopped),
            np.where(denied, denials.entry, entry),
        )

    @staticmethod
    def _own_ports(rows: Rows, row: Ints, port: Ints) -> Ints:
        asked = np.array([NO_PORT if each.request.port is None else each.request.port for each in rows.asked])
        own = np.where(port == SOME_SOURCE_PORT, rows.source_port[row], port)
        return np.where(port == SOME_PORT, asked[rows.request[row]], own)
