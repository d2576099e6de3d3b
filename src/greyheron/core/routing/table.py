"""Routes: which one a packet takes, by which next hops, and why the others lost (§2)."""

from collections import defaultdict
from collections.abc import Collection, Sequence
from enum import StrEnum
from typing import NamedTuple, Protocol

from msgspec import Struct

from greyheron.core.network.addresses import block_of, held, is_link_local
from greyheron.core.network.segments import is_up
from greyheron.model.device import Device
from greyheron.model.entry import AddressBlock
from greyheron.model.item import family_of
from greyheron.model.values import Family

DEEPEST = 8
MOST_REMEMBERED = 8192
"""So many look-ups are remembered of one table."""
CONNECTED_PREFERENCE = 0
GATEWAY_PREFERENCE = 5
OSPF_PREFERENCE = 110


PrefixKey = tuple[int, int]
"""Its value and its mask."""


class Origin(StrEnum):
    CONNECTED = "connected"
    STATIC = "static"
    GATEWAY = "gateway"
    OSPF = "OSPF"


class KnownRoute(Struct, frozen=True):
    """One line of a routing table.

    via:  next-hop address, or None where the destination itself is the neighbour
    interface:  None when the next hop's own route says which
    """

    prefix: AddressBlock
    origin: Origin
    preference: int
    via: int | None = None
    interface: str | None = None
    discard: bool = False
    metric: int = 0


class NextHop(NamedTuple):
    """Where a packet goes next; `address` is None when the destination is on the segment itself."""

    interface: str
    address: int | None


class Loss(StrEnum):
    """Why a route that covers the destination is not the one used."""

    SHORTER = "a longer prefix covers it"
    PREFERENCE = "another route of the same prefix is preferred"
    METRIC = "another route of the same prefix has a lower metric"
    UNRESOLVED = "its next hop cannot be reached"
    DOWN = "its interface is disabled"


class LostRoute(Struct, frozen=True):
    route: KnownRoute
    why: Loss


class Lookup(Struct, frozen=True):
    """What a table says of a destination.

    routes:  the routes in use, all equal; empty when there is none
    hops:  their next hops, sorted; empty when there is no route, or it discards
    lost:  the other routes that cover the destination, and why each lost
    """

    routes: tuple[KnownRoute, ...]
    hops: tuple[NextHop, ...]
    lost: tuple[LostRoute, ...]


class Learnt(Protocol):
    """Routes that a routing protocol brings."""

    @property
    def masks(self) -> Collection[int]:
        """The prefix masks that occur."""

    def to(self, prefix: PrefixKey) -> Sequence[KnownRoute]:
        """The routes to one prefix."""

    @property
    def prefixes(self) -> Collection[PrefixKey]:
        """Every prefix that is told of, be it that no route leads there."""

    def ways(self, prefix: PrefixKey) -> tuple[tuple[str, int], ...]:
        """The interfaces and next hops of the routes to one prefix, all of which are equally good."""

    def every(self) -> Sequence[KnownRoute]:
        """All of them."""


class RoutingTable:
    """The routes of one device for one family: its own, and those it learnt."""

    def __init__(self, device: Device, family: Family, learnt: Learnt | None = None) -> None:
        self._enabled = frozenset(
            interface.name for interface in device.interfaces if is_up(device, interface)
        )
        self._own = _known_routes(device, family)
        self._learnt = learnt
        self._by_prefix: dict[PrefixKey, list[KnownRoute]] = defaultdict(list)
        for route in self._own:
            self._by_prefix[route.prefix.value, route.prefix.mask].append(route)
        self._told: Collection[PrefixKey] = () if learnt is None else learnt.prefixes
        masks = {route.prefix.mask for route in self._own}.union(() if learnt is None else learnt.masks)
        self._masks = sorted(masks, reverse=True)
        self._found: dict[tuple[PrefixKey | None, int], Lookup] = {}
        self._usable: dict[tuple[tuple[str, int], ...], tuple[NextHop, ...]] = {}

    @property
    def routes(self) -> tuple[KnownRoute, ...]:
        """Every route, its own and those that were learnt."""
        return (*self._own, *(() if self._learnt is None else self._learnt.every()))

    def uses(self, route: KnownRoute) -> bool:
        """Whether one of its routes is in use: it leads somewhere, and no better one to there is known."""
        same = self._covering(route.prefix.first)
        usable = [
            each
            for each in same
            if each.prefix == route.prefix and (each.discard or self._next_hops(each, DEEPEST))
        ]
        best = usable[0] if usable else route
        return route in usable and (best.preference, best.metric) == (route.preference, route.metric)

    def unusable(self, route: KnownRoute) -> Loss | None:
        """Why nothing can be sent by one of its routes, be there a better one or not; None where it can."""
        return None if route.discard or self._next_hops(route, DEEPEST) else self._hindrance(route)

    def _hindrance(self, route: KnownRoute) -> Loss:
        """Why a route leads nowhere."""
        down = route.interface is not None and route.interface not in self._enabled
        return Loss.DOWN if down else Loss.UNRESOLVED

    def next_hops(self, route: KnownRoute) -> set[NextHop]:
        """Those of one of its routes, through the table; none where it discards or leads nowhere."""
        return self._next_hops(route, DEEPEST)

    def lookup(self, destination: int) -> Lookup:
        """The route to `destination`: longest prefix, then preference, then metric; equal ones all."""
        return self._look_up(destination, self._longest(destination), DEEPEST)

    def hops(self, destination: int) -> tuple[NextHop, ...]:
        """The next hops of `lookup`, where that is all that is wanted."""
        longest = self._longest(destination)
        if self._learnt is not None and longest is not None and longest not in self._by_prefix:
            ways = self._learnt.ways(longest)
            found = self._usable.get(ways)
            if found is None:
                usable = {NextHop(interface, via) for interface, via in ways if interface in self._enabled}
                found = self._usable[ways] = tuple(sorted(usable, key=_by_name))
            if found:
                return found
        return self._look_up(destination, longest, DEEPEST).hops

    def _longest(self, destination: int) -> PrefixKey | None:
        """The longest prefix of any route that covers `destination`: all that decides about it."""
        for mask in self._masks:
            prefix = destination & mask, mask
            if prefix in self._by_prefix or prefix in self._told:
                return prefix
        return None

    def _look_up(self, destination: int, longest: PrefixKey | None, depth: int) -> Lookup:
        key = longest, depth
        found = self._found.get(key)
        if found is None:
            if len(self._found) > MOST_REMEMBERED:
                self._found.clear()
            found = self._found[key] = self._choose(destination, depth)
        return found

    def _choose(self, destination: int, depth: int) -> Lookup:
        used: list[KnownRoute] = []
        hops: set[NextHop] = set()
        lost: list[LostRoute] = []
        for route in self._covering(destination):
            if used and route.prefix != used[0].prefix:
                lost.append(LostRoute(route, Loss.SHORTER))
                continue
            if used and (route.preference, route.metric) != (used[0].preference, used[0].metric):
                worse = Loss.PREFERENCE if route.preference != used[0].preference else Loss.METRIC
                lost.append(LostRoute(route, worse))
                continue
            found = self._next_hops(route, depth)
            if not found and not route.discard:
                lost.append(LostRoute(route, self._hindrance(route)))
                continue
            used.append(route)
            hops |= found
        return Lookup(tuple(used), tuple(sorted(hops, key=_by_name)), tuple(lost))

    def _covering(self, destination: int) -> list[KnownRoute]:
        """Routes that cover `destination`, best first."""
        found: list[KnownRoute] = []
        for mask in self._masks:
            prefix = destination & mask, mask
            same = list(self._by_prefix.get(prefix, ()))
            if self._learnt is not None:
                same += self._learnt.to(prefix)
            found += sorted(same, key=lambda route: (route.preference, route.metric))
        return found

    def _next_hops(self, route: KnownRoute, depth: int) -> set[NextHop]:
        if route.discard:
            return set()
        if route.interface is not None:
            return {NextHop(route.interface, route.via)} if route.interface in self._enabled else set()
        if route.via is None or depth == 0:
            return set()
        reached = self._look_up(route.via, self._longest(route.via), depth - 1)
        return {
            NextHop(hop.interface, route.via if hop.address is None else hop.address) for hop in reached.hops
        }


def static_routes(device: Device, family: Family) -> list[KnownRoute]:
    """The static routes of a device, as they are written."""
    return [
        KnownRoute(
            block_of(route.to),
            Origin.STATIC,
            route.preference,
            None if route.via is None else int(route.via),
            route.interface,
            route.discard,
        )
        for route in device.routes
        if family_of(route.to) is family
    ]


def _by_name(hop: NextHop) -> tuple[str, int]:
    return hop.interface, -1 if hop.address is None else hop.address


def _known_routes(device: Device, family: Family) -> list[KnownRoute]:
    """Connected and static routes. Link-local prefixes are no routes: every segment has the same one."""
    routes = [
        KnownRoute(each.prefix, Origin.CONNECTED, CONNECTED_PREFERENCE, interface=interface.name)
        for interface in device.interfaces
        for each in held(device, interface, family)
        if not is_link_local(family, each.address)
    ]
    routes += static_routes(device, family)
    gateway = device.gateway if family is Family.IPV4 else device.gateway6
    if gateway is not None:
        everywhere = AddressBlock.prefix(family, 0, 0)
        only = device.interfaces[0].name if is_link_local(family, int(gateway)) else None
        routes.append(KnownRoute(everywhere, Origin.GATEWAY, GATEWAY_PREFERENCE, int(gateway), only))
    return routes
