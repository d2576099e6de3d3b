"""OSPF neighbours: who speaks it with whom, and which lists keep them apart (§9)."""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from ipaddress import IPv4Address, IPv6Address

from msgspec import Struct

from greyheron.core.lists.filters import InForce, stopped_between
from greyheron.core.lists.met import Filtered
from greyheron.core.lists.resolved import ListsKey, key_of_lists
from greyheron.core.network.addresses import HeldAddress, held
from greyheron.core.network.segments import InterfaceId, Segments
from greyheron.core.packet import Packet
from greyheron.core.routing.discovery import unfound
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device, Interface, Ospf
from greyheron.model.document import Network
from greyheron.model.names import PROTOCOLS
from greyheron.model.values import Direction, Family

ALL_ROUTERS = {Family.IPV4: int(IPv4Address("224.0.0.5")), Family.IPV6: int(IPv6Address("ff02::5"))}

_MOST_KNOWN = 64


class Adjacency(Struct, frozen=True):
    """A neighbour as one router has it: out of which interface, at which address, at what cost."""

    interface: str
    neighbour: str
    address: int
    cost: int


class CutNeighbour(Struct, frozen=True):
    """Two routers that would be neighbours, and the list that keeps them from it.

    unfound:  whether it lets them talk, and not find each other
    """

    port: InterfaceId
    neighbour: InterfaceId
    by: Filtered
    unfound: bool


class _Speaker(Struct, frozen=True, order=True):
    """An interface that speaks OSPF in one family, with the address its neighbours know it by."""

    device: str
    interface: str
    address: int
    cost: int

    @property
    def port(self) -> InterfaceId:
        return self.device, self.interface


class _Pair:
    """Two that would be neighbours.

    points:  where lists of packets could stand between them
    adjacencies:  each router with how it has the other
    known:  what keeps them apart, by the lists there and on the wires
    """

    def __init__(self, ends: tuple[_Speaker, _Speaker]) -> None:
        self.ends = ends
        self.points = tuple(AttachmentPoint(*end.port, way) for end in ends for way in Direction)
        self.adjacencies = tuple(
            (here.device, Adjacency(here.interface, there.device, there.address, here.cost))
            for here, there in (ends, ends[::-1])
        )
        self.known: dict[ListsKey, CutNeighbour | None] = {}


class Neighbourhood:
    """One family's neighbours under certain lists.

    cut:  pairs that lists keep apart
    parted:  their numbers among all pairs; in one network they tell neighbourhoods apart
    """

    def __init__(self, pairs: Sequence[_Pair], cut: Mapping[int, CutNeighbour]) -> None:
        """cut:  by the number of the pair"""
        self._pairs = pairs
        self.cut, self.parted = tuple(cut.values()), frozenset(cut)

    @cached_property
    def adjacent(self) -> Mapping[str, list[Adjacency]]:
        """The neighbours of each router."""
        found: dict[str, list[Adjacency]] = defaultdict(list)
        for number, pair in enumerate(self._pairs):
            if number not in self.parted:
                for device, each in pair.adjacencies:
                    found[device].append(each)
        return found


class OspfPairs:
    """The pairs of interfaces that would be neighbours in one family, if no list kept them apart."""

    def __init__(self, network: Network, segments: Segments, family: Family) -> None:
        self._family = family
        self._devices = {device.name: device for device in network.devices if device.traits.forwards}
        self._pairs = tuple(map(_Pair, self._find(segments)))
        self._at: dict[AttachmentPoint, list[int]] = defaultdict(list)
        for number, pair in enumerate(self._pairs):
            for point in pair.points:
                self._at[point].append(number)

    def under(self, in_force: InForce) -> Neighbourhood:
        """Who is whose neighbour under these lists."""
        found = [(number, self._cut(self._pairs[number], in_force)) for number in self._met(in_force)]
        cut = {number: each for number, each in found if each is not None}
        return Neighbourhood(self._pairs, cut)

    def _met(self, in_force: InForce) -> Iterable[int]:
        """The numbers of the pairs with a list between them, rising."""
        if in_force.wires.lists:
            return range(len(self._pairs))
        points = (point for point, family in in_force.lists if family is self._family)
        return sorted({number for point in points for number in self._at.get(point, ())})

    def _cut(self, pair: "_Pair", in_force: InForce) -> CutNeighbour | None:
        """What keeps a pair apart, asked once for all worlds that have the same lists between the two."""
        one, other = pair.ends
        packets = (in_force.lists.get((point, self._family)) for point in pair.points)
        lists = key_of_lists((*packets, *in_force.wires.lists_between(one.port, other.port)))
        if lists not in pair.known:
            if len(pair.known) >= _MOST_KNOWN:
                pair.known.clear()
            pair.known[lists] = self._cut_anew(pair, in_force)
        return pair.known[lists]

    def _cut_anew(self, pair: "_Pair", in_force: InForce) -> CutNeighbour | None:
        one, other = pair.ends
        unheard = self._unheard(one, other, in_force) or self._unheard(other, one, in_force)
        stopped = unheard or self._unfound(one, other, in_force) or self._unfound(other, one, in_force)
        if stopped is None:
            return None
        return CutNeighbour(one.port, other.port, stopped, unfound=unheard is None)

    def _find(self, segments: Segments) -> Iterator[tuple[_Speaker, _Speaker]]:
        for members in segments.members:
            speakers = [speaker for port in members if (speaker := self._speaker(port)) is not None]
            for one in speakers:
                for other in speakers:
                    if one < other and one.device != other.device and self._same_prefix(one, other):
                        yield one, other

    def _unheard(self, sender: _Speaker, receiver: _Speaker, in_force: InForce) -> Filtered | None:
        """The list that keeps the sender's packets from the receiver, if one does."""
        for destination in (ALL_ROUTERS[self._family], receiver.address):
            packet = Packet(self._family, sender.address, destination, PROTOCOLS["ospf"], hop_limit=1)
            stopped = stopped_between(in_force, sender.port, receiver.port, packet)
            if stopped is not None:
                return stopped
        return None

    def _unfound(self, sender: _Speaker, receiver: _Speaker, in_force: InForce) -> Filtered | None:
        """The list that keeps the sender from finding the receiver's own address, which it also sends to."""
        ports = sender.port, receiver.port
        return unfound(in_force, self._family, *ports, receiver.address, sender.address)

    def _speaker(self, port: InterfaceId) -> _Speaker | None:
        device = self._devices.get(port[0])
        if device is None:
            return None
        interface = next(item for item in device.interfaces if item.name == port[1])
        ospf: Ospf | None = interface.ospf
        address = self._speaking_address(device, interface)
        if ospf is None or ospf.passive or address is None:
            return None
        return _Speaker(device.name, interface.name, address.address, ospf.cost)

    def _speaking_address(self, device: Device, interface: Interface) -> HeldAddress | None:
        """v2 speaks from the first address, v3 from the link-local one where there is any IPv6 at all."""
        if not interface.of(self._family):
            return None
        addresses = held(device, interface, self._family)
        return addresses[0] if self._family is Family.IPV4 else addresses[-1]

    def _same_prefix(self, one: _Speaker, other: _Speaker) -> bool:
        """v2 neighbours share a prefix (RFC 2328 10.5); v3 ones only the segment."""
        if self._family is Family.IPV6:
            return True
        device = self._devices[one.device]
        interface = next(item for item in device.interfaces if item.name == one.interface)
        return held(device, interface, self._family)[0].prefix.holds(other.address)
