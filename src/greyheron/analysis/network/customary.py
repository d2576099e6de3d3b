"""Where the trade puts a list of its kind, told from what its entries name: to be seen while it is carried.

A full list belongs near the source, where packets enter; a source-only one near the destination, where they
leave, or on a management line. Nothing is forbidden: what is different elsewhere is said.
"""

from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from greyheron.core.intervals import meet
from greyheron.core.lists.resolved import Names
from greyheron.core.network.addresses import block_of, is_link_local
from greyheron.core.network.segments import InterfaceId, find_segments
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import AddressBlock
from greyheron.model.item import family_of
from greyheron.model.values import Direction, Family, ListKind


@dataclass(frozen=True, slots=True)
class OtherPlace:
    """What is different where the trade would not put the list."""

    point: AttachmentPoint
    words: str


@dataclass(frozen=True, slots=True)
class Customary:
    """The places for one list.

    rule:  the trade's, in a sentence; empty where it says nothing of such a list
    points:  the places that it means;  elsewhere:  every other place, with what is different there
    """

    rule: str
    points: tuple[AttachmentPoint, ...]
    elsewhere: tuple[OtherPlace, ...]


NOTHING = Customary("", (), ())


def customary_places(network: Network, access_list: AccessList) -> Customary:
    """Where the trade would put a list of `network`."""
    if access_list.family is None:
        return NOTHING
    return _ListInNetwork(network, access_list, access_list.family).found()


class _ListInNetwork:
    """Through the places of a network, for one list."""

    def __init__(self, network: Network, access_list: AccessList, family: Family) -> None:
        self._network, self._family = network, family
        self._devices = {device.name: device for device in network.devices}
        self._segments = find_segments(network)
        names = Names(network)
        entries = access_list.body.entries
        self._sources = [block for entry in entries for block in names.addresses(entry.source, family) or ()]
        self._goals = [
            block for entry in entries for block in names.addresses(entry.destination, family) or ()
        ]
        self._source_only = access_list.kind is ListKind.STANDARD

    def found(self) -> Customary:
        senders = self._segments_of(self._sources)
        if self._source_only:
            points = [*self._next_to(self._end_segments() - senders, Direction.OUT), *self._lines()]
            rule = "A source-only list belongs where packets leave for their destination, or on a line."
        elif senders:
            points = list(self._next_to(senders, Direction.IN))
            rule = "A full list belongs where its sources enter."
        else:
            points = list(self._next_to(self._segments_of(self._goals), Direction.OUT))
            rule = "It names no source: it belongs where packets leave for what it names."
        if not points:
            return NOTHING
        near = set(points)
        away = self._away({point.device for point in points if not point.is_line})
        elsewhere = tuple(
            OtherPlace(point, self._difference(point, points, senders, away))
            for point in self._every_point()
            if point not in near
        )
        return Customary(rule, tuple(points), elsewhere)

    def _segments_of(self, blocks: Iterable[AddressBlock]) -> set[int]:
        """The segments on which some of `blocks` are, or from which an outside network has them."""
        blocks = tuple(blocks)
        return {
            number
            for port, number in self._segments.of.items()
            for prefix in self._prefixes(port)
            if any(meet(prefix, block) for block in blocks)
        }

    def _prefixes(self, port: InterfaceId) -> Iterator[AddressBlock]:
        """The prefixes on an interface's segment, and those behind it where it is an outside network's."""
        device = self._devices[port[0]]
        interface = next(each for each in device.interfaces if each.name == port[1])
        for address in interface.of(self._family):
            block = block_of(address.network)
            if not is_link_local(self._family, block.value):
                yield block
        yield from (block_of(each) for each in device.prefixes if family_of(each) is self._family)

    def _end_segments(self) -> set[int]:
        """The segments with somebody on them who is no router or firewall."""
        return {
            number
            for (name, _), number in self._segments.of.items()
            if not self._devices[name].traits.forwards
        }

    def _next_to(self, segments: set[int], direction: Direction) -> Iterator[AttachmentPoint]:
        for (name, at), number in self._segments.of.items():
            if number in segments and self._devices[name].traits.forwards:
                yield AttachmentPoint(name, at, direction)

    def _lines(self) -> Iterator[AttachmentPoint]:
        for device in self._network.devices:
            for line in device.lines:
                if line.transports:
                    yield AttachmentPoint(device.name, line.at, Direction.IN)

    def _every_point(self) -> Iterator[AttachmentPoint]:
        for device in self._network.devices:
            if device.traits.takes_lists:
                for interface in device.interfaces:
                    for direction in Direction:
                        yield AttachmentPoint(device.name, interface.name, direction)
                for line in device.lines:
                    yield AttachmentPoint(device.name, line.at, Direction.IN)

    def _away(self, nearest: Iterable[str]) -> dict[str, int]:
        """How many routers on from the nearest of some each one is."""
        found = dict.fromkeys(nearest, 0)
        ahead = deque(found)
        while ahead:
            here = ahead.popleft()
            for (name, _), number in self._segments.of.items():
                if name != here:
                    continue
                for other, _ in self._segments.members[number]:
                    if other not in found and self._devices[other].traits.forwards:
                        found[other] = found[here] + 1
                        ahead.append(other)
        return found

    def _difference(
        self,
        point: AttachmentPoint,
        points: list[AttachmentPoint],
        senders: set[int],
        away: dict[str, int],
    ) -> str:
        device = self._devices[point.device]
        if point.is_line:
            line = next(line for line in device.lines if line.at == point.at)
            return (
                f"Here it sees logins to {point.device} only, and nothing that passes through."
                if line.transports
                else "Nobody comes to this line over the network: here it stops nothing."
            )
        if not device.traits.forwards:
            return f"Here it is {point.device}’s own filter: the network carries the packets all the way."
        turned = Direction.OUT if point.direction is Direction.IN else Direction.IN
        if AttachmentPoint(point.device, point.at, turned) in points:
            return f"Here it faces the other way: what it is about comes by {turned}bound."
        at_source = self._segments.of.get((point.device, point.at)) in senders
        if self._source_only and at_source and point.direction is Direction.IN:
            return "Here it keeps its sources from everything, and not from one destination alone."
        near = [each for each in points if not each.is_line]
        further = away.get(point.device)
        if further is None or not near:
            return ""
        if self._source_only:
            behind = "more than one destination lies behind it"
            return f"Here it is {_routers(further)} earlier: {behind}." if further else f"Here {behind}."
        first = next((each for each in near if each.device == point.device), near[0])
        if further == 0:
            return f"Here packets have been let in and routed already; {first} they are stopped first."
        return f"Here packets come {_routers(further)} further than {first}."


def _routers(count: int) -> str:
    return "one router" if count == 1 else f"{count} routers"
