"""OSPF in one area, v2 for IPv4 and v3 for IPv6: neighbours, shortest paths, routes (2-semantics §9)."""

from collections import defaultdict
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address

import numpy as np
from numpy.typing import NDArray
from scipy.sparse.csgraph import csgraph_from_dense, dijkstra

from greyheron.core.addresses import Held, block_of, held, is_link_local
from greyheron.core.filters import Lists, stopped_between
from greyheron.core.packet import Packet
from greyheron.core.routing import OSPF_PREFERENCE, KnownRoute, Origin
from greyheron.core.segments import Port, Segments
from greyheron.core.steps import Filtered
from greyheron.model.document import Device, Interface, Network, Ospf, family_of
from greyheron.model.entry import AddressBlock
from greyheron.model.names import PROTOCOLS
from greyheron.model.values import DeviceKind, Family

ALL_ROUTERS = {Family.IPV4: int(IPv4Address("224.0.0.5")), Family.IPV6: int(IPv6Address("ff02::5"))}
EXTERNAL_COST = 20
_KINDS = (DeviceKind.ROUTER, DeviceKind.FIREWALL)


@dataclass(frozen=True, slots=True)
class Adjacency:
    """A neighbour as one router has it: out of which interface, at which address, at what cost."""

    interface: str
    neighbour: str
    address: int
    cost: int


@dataclass(frozen=True, slots=True)
class CutNeighbour:
    """Two routers that would be neighbours, and the list that keeps them from it."""

    port: Port
    neighbour: Port
    by: Filtered


@dataclass(frozen=True, slots=True)
class Announced:
    """A prefix that a router tells of, and its cost beyond that router."""

    prefix: AddressBlock
    cost: int


@dataclass(frozen=True, slots=True)
class _Told:
    """Every announcement of the area, one place each in three arrays of the same length.

    by:  the place of the announcing router;  prefix:  a place in `prefixes`;  cost:  beyond that router
    """

    prefixes: list[AddressBlock]
    by: NDArray[np.int64]
    prefix: NDArray[np.int64]
    cost: NDArray[np.int64]


@dataclass(frozen=True, slots=True, order=True)
class _Speaker:
    """An interface that speaks OSPF in one family, with the address its neighbours know it by."""

    device: str
    interface: str
    address: int
    cost: int


class OspfArea:
    """One family's OSPF: who is whose neighbour, and the routes that follow.

    neighbours:  for each router
    cut:  pairs that lists keep apart
    """

    def __init__(self, network: Network, segments: Segments, lists: Lists, family: Family) -> None:
        self.family = family
        self._devices = {device.name: device for device in network.devices if device.kind in _KINDS}
        self.neighbours: dict[str, list[Adjacency]] = defaultdict(list)
        self.cut: list[CutNeighbour] = []
        self._find_neighbours(segments, lists)
        self._order = sorted(name for name in self._devices if self._speaks(self._devices[name]))
        self._place = {name: place for place, name in enumerate(self._order)}
        self._told = _gathered([self._announcements(self._devices[name]) for name in self._order])
        self._distance = self._distances()

    def routes(self, name: str) -> list[KnownRoute]:
        """What router `name` learns: every equally short way to every prefix that others announce."""
        if name not in self._place:
            return []
        here = self._place[name]
        told = self._told
        total = self._distance[here, told.by] + told.cost
        total[told.by == here] = np.inf
        best = np.full(len(told.prefixes), np.inf)
        np.minimum.at(best, told.prefix, total)
        shortest = np.flatnonzero(np.isfinite(total) & (total == best[told.prefix]))
        by: dict[int, list[str]] = defaultdict(list)
        for place in shortest.tolist():
            by[int(told.prefix[place])].append(self._order[int(told.by[place])])
        hops = {
            other: self._first_hops(name, other)
            for other in {each for others in by.values() for each in others}
        }
        return [
            KnownRoute(
                told.prefixes[prefix],
                Origin.OSPF,
                OSPF_PREFERENCE,
                hop.address,
                hop.interface,
                metric=int(best[prefix]),
            )
            for prefix, others in by.items()
            for hop in sorted(
                {hop for other in others for hop in hops[other]}, key=lambda hop: (hop.interface, hop.address)
            )
        ]

    def _first_hops(self, name: str, goal: str) -> set[Adjacency]:
        """The neighbours of `name` on shortest ways to `goal`."""
        here, there = self._place[name], self._place[goal]
        return {
            neighbour
            for neighbour in self.neighbours[name]
            if neighbour.cost + self._distance[self._place[neighbour.neighbour], there]
            == self._distance[here, there]
        }

    def _distances(self) -> NDArray[np.float64]:
        size = len(self._order)
        cheapest: dict[tuple[int, int], int] = {}
        for name in self._order:
            for each in self.neighbours[name]:
                pair = (self._place[name], self._place[each.neighbour])
                cheapest[pair] = min(each.cost, cheapest.get(pair, each.cost))
        costs = np.full((size, size), np.inf)
        for pair, cost in cheapest.items():
            costs[pair] = cost
        found: NDArray[np.float64] = dijkstra(csgraph_from_dense(costs, null_value=np.inf)) if size else costs
        return found

    def _speaks(self, device: Device) -> bool:
        return any(interface.ospf for interface in device.interfaces)

    def _announcements(self, device: Device) -> list[Announced]:
        own = [
            Announced(each.prefix, interface.ospf.cost)
            for interface in device.interfaces
            if interface.ospf is not None and interface.enabled
            for each in held(device.name, interface, self.family)
            if not is_link_local(self.family, each.address)
        ]
        if device.announces_static:
            own += [
                Announced(
                    block_of(route.to),
                    EXTERNAL_COST,
                )
                for route in device.routes
                if family_of(route.to) is self.family and route.to.prefixlen > 0
            ]
        if device.announces_default:
            own.append(Announced(AddressBlock.prefix(self.family, 0, 0), EXTERNAL_COST))
        return own

    def _find_neighbours(self, segments: Segments, lists: Lists) -> None:
        for members in segments.members:
            speakers = [speaker for port in members if (speaker := self._speaker(port)) is not None]
            for one in speakers:
                for other in speakers:
                    if one < other and one.device != other.device and self._same_prefix(one, other):
                        self._introduce(one, other, lists)

    def _introduce(self, one: _Speaker, other: _Speaker, lists: Lists) -> None:
        stopped = self._stopped(one, other, lists) or self._stopped(other, one, lists)
        if stopped is not None:
            self.cut.append(
                CutNeighbour((one.device, one.interface), (other.device, other.interface), stopped)
            )
            return
        for here, there in ((one, other), (other, one)):
            self.neighbours[here.device].append(
                Adjacency(here.interface, there.device, there.address, here.cost)
            )

    def _stopped(self, sender: _Speaker, receiver: _Speaker, lists: Lists) -> Filtered | None:
        """The list that keeps the sender's packets from the receiver, if one does."""
        for destination in (ALL_ROUTERS[self.family], receiver.address):
            packet = Packet(self.family, sender.address, destination, PROTOCOLS["ospf"], hop_limit=1)
            stopped = stopped_between(
                lists,
                self._devices[sender.device],
                sender.interface,
                receiver.device,
                receiver.interface,
                packet,
            )
            if stopped is not None:
                return stopped
        return None

    def _speaker(self, port: Port) -> _Speaker | None:
        device = self._devices.get(port[0])
        if device is None:
            return None
        interface = next(item for item in device.interfaces if item.name == port[1])
        ospf: Ospf | None = interface.ospf
        address = self._speaking_address(device, interface)
        if ospf is None or ospf.passive or address is None:
            return None
        return _Speaker(device.name, interface.name, address.address, ospf.cost)

    def _speaking_address(self, device: Device, interface: Interface) -> Held | None:
        """v2 speaks from the first address, v3 from the link-local one where there is any IPv6 at all."""
        if not interface.of(self.family):
            return None
        addresses = held(device.name, interface, self.family)
        return addresses[0] if self.family is Family.IPV4 else addresses[-1]

    def _same_prefix(self, one: _Speaker, other: _Speaker) -> bool:
        """v2 neighbours share a prefix (RFC 2328 10.5); v3 ones only the segment."""
        if self.family is Family.IPV6:
            return True
        interface = next(item for item in self._devices[one.device].interfaces if item.name == one.interface)
        return held(one.device, interface, self.family)[0].prefix.holds(other.address)


def _gathered(announcements: list[list[Announced]]) -> _Told:
    """The announcements of each router, in the order of the routers."""
    places: dict[AddressBlock, int] = {}
    rows = [
        (router, places.setdefault(each.prefix, len(places)), each.cost)
        for router, own in enumerate(announcements)
        for each in own
    ]
    table = np.array(rows, dtype=np.int64).reshape(-1, 3)
    return _Told(list(places), table[:, 0], table[:, 1], table[:, 2])
