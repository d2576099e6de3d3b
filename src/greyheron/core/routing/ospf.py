"""OSPF in one area, v2 for IPv4 and v3 for IPv6: shortest paths and routes (§9)."""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray
from rustworkx import PyDiGraph, digraph_all_pairs_dijkstra_path_lengths

from greyheron.core.network.addresses import held, is_link_local
from greyheron.core.routing.ospf_neighbours import Neighbourhood
from greyheron.core.routing.table import (
    OSPF_PREFERENCE,
    KnownRoute,
    Origin,
    PrefixKey,
    RoutingTable,
    static_routes,
)
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock
from greyheron.model.values import Family

EXTERNAL_COST = 20


class Announced(Struct, frozen=True):
    """A prefix that a router tells of, and its cost beyond that router.

    external:  it is no part of the area: one inside the area beats it whatever it costs (RFC 2328 11, 16.4)
    origin:  whose it is, where others announce it as theirs too
    through:  an interface of the announcing router, and who is there: packets go to him (RFC 2328 12.4.4.1)
    """

    prefix: AddressBlock
    cost: int
    external: bool = False
    origin: int | None = None
    through: tuple[str, int] | None = None


class _Told(Struct, frozen=True):
    """Every announcement of the area, those of one prefix behind each other, in arrays of the same length.

    by:  the index of the announcing router;  cost:  beyond that router;  external, through:  see `Announced`
    origin:  the index of the router that need not be told
    prefix:  the number of the prefix that is announced
    first:  where the announcements of each prefix begin;  prefixes:  by value and mask, with their numbers
    blocks:  each prefix;  masks:  those that occur
    """

    by: NDArray[np.int64]
    cost: NDArray[np.int64]
    external: NDArray[np.bool_]
    origin: NDArray[np.int64]
    through: tuple[tuple[str, int] | None, ...]
    prefix: NDArray[np.int64]
    first: NDArray[np.int64]
    prefixes: dict[PrefixKey, int]
    blocks: tuple[AddressBlock, ...]
    masks: frozenset[int]


class OspfArea:
    """One family's OSPF: the routes that follow from who is whose neighbour."""

    def __init__(self, network: Network, neighbourhood: Neighbourhood, family: Family) -> None:
        self.family = family
        self._devices = {device.name: device for device in network.devices if device.traits.forwards}
        self._adjacent = neighbourhood.adjacent
        self._order = sorted(name for name in self._devices if self._speaks(self._devices[name]))
        self._index = {name: index for index, name in enumerate(self._order)}
        self._distance = self._distances()
        announced = [self._announcements(self._devices[name]) for name in self._order]
        self.told = _gathered(announced)
        inside = [list(own) for own in announced]
        for router, route in self._in_use_whatever_is_learnt():
            self._announce(router, route, inside, announced)
        self.told = _gathered(announced)
        for router, route in self._learnt_in_use():
            self._announce(router, route, inside, announced)
            self.told = _gathered(announced)

    def routes(self, name: str) -> "LearntRoutes | None":
        """What router `name` learns: every equally short way to every prefix that others announce."""
        if name not in self._index:
            return None
        here = self._index[name]
        total = self._distance[here, self.told.by] + self.told.cost
        straight = [at for at, through in enumerate(self.told.through) if through is not None]
        kept = total[straight]
        total[self.told.by == here] = np.inf
        if straight:
            own = self._own(here)
            to_itself = [through[1] in own for through in self.told.through if through is not None]
            total[straight] = np.where(to_itself, np.inf, kept)
        total[self.told.origin == here] = np.inf
        return LearntRoutes(self, name, total)

    def _own(self, router: int) -> frozenset[int]:
        device = self._devices[self._order[router]]
        return frozenset(
            each.address for interface in device.interfaces for each in held(device, interface, self.family)
        )

    def _announce(
        self, router: int, route: KnownRoute, inside: list[list[Announced]], announced: list[list[Announced]]
    ) -> None:
        """A static route is announced by its router, or as if by all that are where its next hop is."""
        through = self._forwarder(router, route)
        if through is None:
            announced[router].append(Announced(route.prefix, EXTERNAL_COST, external=True, origin=router))
            return
        there = max(
            (each.prefix for own in inside for each in own if each.prefix.holds(through)),
            key=lambda prefix: prefix.length or 0,
        )
        for other, own in enumerate(inside):
            for each in own:
                if each.prefix == there and each.through is not None:
                    announced[other].append(
                        Announced(
                            route.prefix,
                            EXTERNAL_COST + each.cost,
                            external=True,
                            origin=router,
                            through=(each.through[0], through),
                        )
                    )

    def _forwarder(self, router: int, route: KnownRoute) -> int | None:
        """The next hop of a static route, where OSPF knows the way to it: others may go to it straight.

        OSPFv3 may say so too (RFC 5340 4.4.3.5); next hops there are mostly link-local, and it is not said.
        """
        if self.family is not Family.IPV4 or route.via is None:
            return None
        device = self._devices[self._order[router]]
        speaking = (interface for interface in device.interfaces if interface.ospf is not None)
        near = any(
            each.prefix.holds(route.via)
            for interface in speaking
            for each in held(device, interface, self.family)
        )
        return route.via if near else None

    def _in_use_whatever_is_learnt(self) -> Iterator[tuple[int, KnownRoute]]:
        for router, name in enumerate(self._order):
            device = self._devices[name]
            for route in self._announced_static(device):
                if self._in_use_anyway(device, route):
                    yield router, route

    def index(self, name: str) -> int:
        """The place of a router among those that speak."""
        return self._index[name]

    def first_hops(self, name: str) -> tuple[list[tuple[str, int]], NDArray[np.bool_]]:
        """Interfaces and addresses of the neighbours of `name`, and whether they are on a shortest way.

        Returns (neighbours, routers): to each router by index; none is to `name` itself.
        """
        here = self._index[name]
        near = sorted(self._adjacent.get(name, ()), key=lambda hop: (hop.interface, hop.address))
        beyond = self._distance[[self._index[hop.neighbour] for hop in near]]
        costs = np.array([hop.cost for hop in near], dtype=np.float64)
        leads = beyond + costs[:, None] == self._distance[here]
        leads[:, here] = False
        return [(hop.interface, hop.address) for hop in near], leads

    def _distances(self) -> NDArray[np.float64]:
        area: PyDiGraph[str, int] = PyDiGraph()
        area.add_nodes_from(self._order)
        for name in self._order:
            for each in self._adjacent.get(name, ()):
                area.add_edge(self._index[name], self._index[each.neighbour], each.cost)
        found = np.full((len(self._order), len(self._order)), np.inf)
        np.fill_diagonal(found, 0)
        for router, beyond in digraph_all_pairs_dijkstra_path_lengths(area, float).items():
            found[router, list(beyond.keys())] = list(beyond.values())
        return found

    def _speaks(self, device: Device) -> bool:
        return any(interface.ospf for interface in device.interfaces)

    def _learnt_in_use(self) -> Iterator[tuple[int, KnownRoute]]:
        """Static routes whose use turns on learnt ones, as far as they are in use, with their routers.

        One may lead by a route that another's announcement brings, or yield to it. So they are asked again
        while there are more, the most preferred first.
        """
        waiting = sorted(
            (
                (route.preference, router, route)
                for router, name in enumerate(self._order)
                for route in self._announced_static(self._devices[name])
                if not self._in_use_anyway(self._devices[name], route)
            ),
            key=lambda each: each[:2],
        )
        while waiting:
            idle = []
            for each in waiting:
                _, router, route = each
                name = self._order[router]
                if RoutingTable(self._devices[name], self.family, self.routes(name)).uses(route):
                    yield router, route
                else:
                    idle.append(each)
            if len(idle) == len(waiting):
                return
            waiting = idle

    def _in_use_anyway(self, device: Device, route: KnownRoute) -> bool:
        """Whether a static route is in use, whatever the device learns."""
        return route.preference < OSPF_PREFERENCE and RoutingTable(device, self.family).uses(route)

    def _announced_static(self, device: Device) -> list[KnownRoute]:
        routes = static_routes(device, self.family) if device.announces_static else []
        return [route for route in routes if route.prefix.mask]

    def _announcements(self, device: Device) -> list[Announced]:
        """All but static routes; those of interfaces say which."""
        own = [
            Announced(each.prefix, interface.ospf.cost, through=(interface.name, each.address))
            for interface in device.interfaces
            if interface.ospf is not None
            for each in held(device, interface, self.family)
            if not is_link_local(self.family, each.address)
        ]
        if device.announces_default:
            everywhere = AddressBlock.prefix(self.family, 0, 0)
            own.append(Announced(everywhere, EXTERNAL_COST, external=True))
        return own


class LearntRoutes:
    """The routes that one router learns, each made when it is asked for: most tables are asked for few.

    prefixes:  every prefix that is announced in the area
    """

    def __init__(self, area: OspfArea, name: str, total: NDArray[np.float64]) -> None:
        """total:  the cost of every announcement of the area, infinite where it leads nowhere"""
        told = self._told = area.told
        self.prefixes = told.prefixes
        hops, leads = area.first_hops(name)
        own = told.by == area.index(name)
        straight = sorted({way for at in np.flatnonzero(own) if (way := told.through[at]) is not None})
        self._hops = [*hops, *straight]
        self._least, best = _least(told, total)
        by_way = [leads[:, told.by].T]
        by_way += [
            np.array([through == way for through in told.through])[:, None] & own[:, None] for way in straight
        ]
        self._ways: dict[bytes, tuple[tuple[str, int], ...]] = {}
        bits = np.packbits(np.concatenate(by_way, axis=1) & best[:, None], axis=1)
        self._width = bits.shape[1]
        self._taken = np.bitwise_or.reduceat(bits, told.first, axis=0).tobytes() if len(bits) else b""

    @property
    def masks(self) -> frozenset[int]:
        """The prefix masks that occur."""
        return self._told.masks

    def to(self, prefix: PrefixKey) -> list[KnownRoute]:
        """The routes to one prefix."""
        number = self.prefixes.get(prefix)
        if number is None:
            return []
        block, cost = self._told.blocks[number], self._least[number]
        return [
            KnownRoute(block, Origin.OSPF, OSPF_PREFERENCE, address, interface, metric=int(cost))
            for interface, address in self.ways(prefix)
        ]

    def ways(self, prefix: PrefixKey) -> tuple[tuple[str, int], ...]:
        """The interfaces and next hops of the routes to one prefix; none where it is not told of."""
        number = self.prefixes.get(prefix)
        if number is None:
            return ()
        taken = self._taken[number * self._width : (number + 1) * self._width]
        found = self._ways.get(taken)
        if found is None:
            bits = np.unpackbits(np.frombuffer(taken, dtype=np.uint8))
            found = tuple(dict.fromkeys(self._hops[at] for at in np.flatnonzero(bits)))
            self._ways[taken] = found
        return found

    def every(self) -> list[KnownRoute]:
        return [route for prefix in self.prefixes for route in self.to(prefix)]


def _least(told: _Told, total: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """The least cost to each prefix, and which announcements have it: those inside the area come first."""
    if not len(total):
        return total, np.zeros(0, dtype=np.bool_)
    inside = np.where(told.external, np.inf, total)
    nearest = np.minimum.reduceat(inside, told.first)
    known_inside = nearest < np.inf
    least = np.where(known_inside, nearest, np.minimum.reduceat(total, told.first))
    cost = np.where(known_inside[told.prefix], inside, total)
    return least, (cost == least[told.prefix]) & (cost < np.inf)


def _gathered(announcements: list[list[Announced]]) -> _Told:
    """The announcements of each router, by prefix; those of one prefix in the order of the routers."""
    of: dict[PrefixKey, list[tuple[int, Announced]]] = {}
    for router, own in enumerate(announcements):
        for each in own:
            of.setdefault((each.prefix.value, each.prefix.mask), []).append((router, each))
    rows = [row for same in of.values() for row in same]
    counts = np.array([len(same) for same in of.values()], dtype=np.int64)
    return _Told(
        by=np.array([router for router, _ in rows], dtype=np.int64),
        cost=np.array([each.cost for _, each in rows], dtype=np.int64),
        external=np.array([each.external for _, each in rows], dtype=np.bool_),
        origin=np.array(
            [router if each.origin is None else each.origin for router, each in rows], dtype=np.int64
        ),
        through=tuple(each.through if each.external else None for _, each in rows),
        prefix=np.repeat(np.arange(len(of)), counts),
        first=np.cumsum(counts) - counts,
        prefixes={prefix: number for number, prefix in enumerate(of)},
        blocks=tuple(same[0][1].prefix for same in of.values()),
        masks=frozenset(mask for _, mask in of),
    )
