"""What routes come of a topology under certain lists: lists may part OSPF neighbours (§9)."""

from threading import Lock
from weakref import WeakValueDictionary

from cachetools import LRUCache

from greyheron.core.lists.filters import InForce
from greyheron.core.network.segments import Segments
from greyheron.core.routing.ospf import OspfArea
from greyheron.core.routing.ospf_neighbours import CutNeighbour, Neighbourhood, OspfPairs
from greyheron.core.routing.table import RoutingTable
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.values import Family

MOST_ROUTINGS = 8
"""Routing tables are kept for so many ways in which lists part neighbours, beside what worlds have."""


class RoutingTables:
    """The routing tables of one family, each made when it is first asked for."""

    def __init__(self, area: OspfArea) -> None:
        self._area = area
        self._tables: dict[str, RoutingTable] = {}

    def table(self, device: Device) -> RoutingTable:
        if device.name not in self._tables:
            learnt = self._area.routes(device.name)
            self._tables[device.name] = RoutingTable(device, self._area.family, learnt)
        return self._tables[device.name]


_Parted = tuple[Family, frozenset[int]]
"""A family, and the pairs of its neighbours that lists part."""


class RoutingCache:
    """The routing of one topology for each way in which lists part its neighbours, from any thread.

    One that some world has stays the one of its key: worlds of the same routes are told by that.
    """

    def __init__(self, network: Network, segments: Segments) -> None:
        self._network, self._segments = network, segments
        self._pairs: dict[Family, OspfPairs] = {}
        self._held: WeakValueDictionary[_Parted, RoutingTables] = WeakValueDictionary()
        self._last: LRUCache[_Parted, RoutingTables] = LRUCache(MOST_ROUTINGS)
        self._lock = Lock()

    def neighbourhood(self, family: Family, in_force: InForce) -> Neighbourhood:
        """Who is whose neighbour under these lists."""
        with self._lock:
            if family not in self._pairs:
                self._pairs[family] = OspfPairs(self._network, self._segments, family)
        return self._pairs[family].under(in_force)

    def among(self, neighbourhood: Neighbourhood, family: Family) -> RoutingTables:
        """The routing of those neighbours: the same one for all lists that part the same."""
        key = family, neighbourhood.parted
        with self._lock:
            routing = self._held.get(key)
            if routing is None:
                routing = self._held[key] = RoutingTables(OspfArea(self._network, neighbourhood, family))
            self._last[key] = routing
            return routing


class RoutingState:
    """The routes of a topology when certain lists are in force, worked out when first asked for."""

    def __init__(self, routings: RoutingCache, in_force: InForce) -> None:
        self._routings, self._in_force = routings, in_force
        self._neighbourhoods: dict[Family, Neighbourhood] = {}
        self._routing: dict[Family, RoutingTables] = {}

    def routing(self, family: Family) -> RoutingTables:
        """The routing tables of one family; worlds that differ only in lists share them if they can."""
        if family not in self._routing:
            self._routing[family] = self._routings.among(self.neighbourhood(family), family)
        return self._routing[family]

    def neighbourhood(self, family: Family) -> Neighbourhood:
        """OSPF neighbours, and those that lists keep apart."""
        if family not in self._neighbourhoods:
            self._neighbourhoods[family] = self._routings.neighbourhood(family, self._in_force)
        return self._neighbourhoods[family]

    def cut_neighbours(self) -> list[CutNeighbour]:
        """Routers that lists keep from being neighbours, in both families."""
        return [cut for family in Family for cut in self.neighbourhood(family).cut]
