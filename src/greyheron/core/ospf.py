"""OSPF in one area, v2 for IPv4 and v3 for IPv6: shortest paths and routes (2-semantics §9)."""

from collections import defaultdict
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse.csgraph import csgraph_from_dense, dijkstra

from greyheron.core.addresses import block_of, held, is_link_local
from greyheron.core.neighbours import SPEAKING, Adjacency, Neighbourhood
from greyheron.core.routing import OSPF_PREFERENCE, KnownRoute, Origin
from greyheron.model.document import Device, Network, family_of
from greyheron.model.entry import AddressBlock
from greyheron.model.values import Family

EXTERNAL_COST = 20


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


class OspfArea:
    """One family's OSPF: the routes that follow from who is whose neighbour."""

    def __init__(self, network: Network, neighbourhood: Neighbourhood, family: Family) -> None:
        self.family = family
        self._devices = {device.name: device for device in network.devices if device.kind in SPEAKING}
        self._adjacent = neighbourhood.adjacent
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
            for neighbour in self._adjacent.get(name, ())
            if neighbour.cost + self._distance[self._place[neighbour.neighbour], there]
            == self._distance[here, there]
        }

    def _distances(self) -> NDArray[np.float64]:
        size = len(self._order)
        cheapest: dict[tuple[int, int], int] = {}
        for name in self._order:
            for each in self._adjacent.get(name, ()):
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
