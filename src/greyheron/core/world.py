"""A network made ready for packets: addresses, segments, tables and lists looked up once."""

from copy import copy
from dataclasses import replace
from functools import cached_property

from cachetools import LRUCache

from greyheron.core.addresses import Held, block_of, held, is_link_local
from greyheron.core.filters import Lists
from greyheron.core.lists import ResolvedLists, permitting_all
from greyheron.core.neighbours import CutNeighbour, Neighbourhood, OspfPairs
from greyheron.core.ospf import OspfArea
from greyheron.core.places import AttachmentPoint
from greyheron.core.possible import STAND_IN_PORT, stand_ins
from greyheron.core.routing import Lookup, NextHop, RoutingTable
from greyheron.core.segments import Port, Segments, find_segments
from greyheron.core.translation import answered_addresses
from greyheron.model.document import Device, Interface, Network, family_of
from greyheron.model.values import DeviceKind, Direction, Family

MOST_ROUTINGS = 8
"""Routing is kept for so many ways in which lists part neighbours."""


class World:
    """One network in one state. Nothing in it changes; what is costly is worked out when first asked.

    devices, interfaces:  by name
    segments:  see `Segments`
    lists:  what is placed at each attachment point, by family
    discovery_lists:  the lists that IPv6 neighbours are found under; the same, but when `opened`
    """

    def __init__(self, network: Network, segments: Segments) -> None:
        self._network = network
        self.segments = segments
        self._pairs: dict[Family, OspfPairs] = {}
        self._routings: LRUCache[tuple[Family, frozenset[tuple[Port, Port]]], Routing] = LRUCache(
            MOST_ROUTINGS
        )
        self._origin = self
        self._resolved = ResolvedLists(network)
        self._put_in_force(self._resolved.placed())
        self.devices: dict[str, Device] = {device.name: device for device in network.devices}
        self.interfaces: dict[Port, Interface] = {
            (device.name, interface.name): interface
            for device in network.devices
            for interface in device.interfaces
        }
        self._hold_addresses()
        self._stand_ins: dict[Family, dict[int, dict[int, str]]] = {}

    def _hold_addresses(self) -> None:
        self._held: dict[tuple[Port, Family], tuple[Held, ...]] = {}
        self._holders: dict[tuple[Family, int], Port] = {}
        self._local: dict[tuple[int, int], Port] = {}
        for port, interface in self.interfaces.items():
            if self.devices[port[0]].kind is DeviceKind.SWITCH:
                continue
            for family in Family:
                self._held[port, family] = held(port[0], interface, family)
                for each in self._held[port, family]:
                    if not is_link_local(family, each.address):
                        self._holders[family, each.address] = port
                    elif port in self.segments.of:
                        self._local[self.segments.of[port], each.address] = port
        self._outside = [
            (family_of(prefix), block_of(prefix), device.name)
            for device in self._network.devices
            for prefix in device.prefixes
        ]
        self._answered = [
            (block, (device.name, interface))
            for device in self._network.devices
            for interface, block in answered_addresses(device)
        ]

    def _put_in_force(self, lists: Lists) -> None:
        self.lists = self.discovery_lists = lists
        self._neighbourhoods: dict[Family, Neighbourhood] = {}
        self._routing: dict[Family, Routing] = {}
        for name in ("opened", "inhabited", "nbytes"):  # a copy has them from the world it was copied from
            self.__dict__.pop(name, None)

    @cached_property
    def nbytes(self) -> int:
        """About how much memory it takes beside what it shares with others of its topology."""
        entries = sum(len(each.body.entries) for each in self._network.lists)
        return 50_000 + 60 * entries + 2500 * len(self.interfaces)

    def same_topology(self, network: Network) -> bool:
        """Whether `network` differs from this one's in nothing but lists, sets, tests and the map."""
        own = self._network
        return own.devices == network.devices and own.links == network.links

    def relisted(self, network: Network) -> "World":
        """This world with the lists and placements of `network`, which has the same topology."""
        world = copy(self)
        world._network = network
        world._resolved = ResolvedLists(network, self._resolved)
        world._put_in_force(world._resolved.placed())
        return world

    def changed_lists(self, other: "World") -> frozenset[tuple[AttachmentPoint, Family]] | None:
        """Where other lists stand than in `other`; None when routes differ too, or the devices themselves."""
        if any(self.routing(family) is not other.routing(family) for family in Family):
            return None
        places = self.lists.keys() | other.lists.keys()
        return frozenset(place for place in places if self.lists.get(place) is not other.lists.get(place))

    @cached_property
    def baseline(self) -> "World":
        """The same network with every placement ignored (2-semantics §8)."""
        world = copy(self)
        world._put_in_force({})
        return world

    @cached_property
    def opened(self) -> "World":
        """The same network with routes as they are and no list that denies anything in transit.

        Lists that overrule zones remain, and permit all (§6). What a packet comes to in it is what it would
        come to here, up to the first list that denies it.
        """
        for family in Family:
            self.routing(family)
        world = copy(self)
        world.lists = {
            (point, family): permitting_all(placed)
            for (point, family), placed in self.lists.items()
            if self.devices[point.device].kind is DeviceKind.FIREWALL and point.direction is Direction.IN
        }
        world.discovery_lists = {}
        return world

    @cached_property
    def inhabited(self) -> "World":
        """The same network with everyone in it who could be there (see `greyheron.core.possible`)."""
        world = copy(self._origin._settled)
        world._network, world._resolved = self._network, self._resolved
        world.lists, world.discovery_lists = self.lists, self.discovery_lists
        world._neighbourhoods, world._routing = self._neighbourhoods, self._routing
        return world

    @cached_property
    def _settled(self) -> "World":
        """This world with a stand-in for every prefix of a segment."""
        world = copy(self)
        for name in ("baseline", "opened", "inhabited"):
            world.__dict__.pop(name, None)
        added = stand_ins(self.devices, self.segments, self._held)
        ports = {(each.device.name, STAND_IN_PORT): each for each in added}
        world.devices = self.devices | {each.device.name: each.device for each in added}
        world.interfaces = self.interfaces | {port: each.device.interfaces[0] for port, each in ports.items()}
        members = list(self.segments.members)
        for port, each in ports.items():
            members[each.segment] += (port,)
        of = self.segments.of | {port: each.segment for port, each in ports.items()}
        world.segments = replace(self.segments, of=of, members=tuple(members))
        world._held = self._held | {
            (port, family): held(port[0], each.device.interfaces[0], family)
            for port, each in ports.items()
            for family in Family
        }
        world._stand_ins = {family: {} for family in Family}
        for each in sorted(added, key=lambda each: -each.prefix.care.bit_count()):
            by_care = world._stand_ins[each.prefix.family]
            by_care.setdefault(each.prefix.care, {})[each.prefix.value] = each.device.name
        return world

    @property
    def is_inhabited(self) -> bool:
        """Whether there are stand-ins in it."""
        return bool(self._stand_ins)

    def stand_in(self, family: Family, address: int) -> str | None:
        """The stand-in for possible hosts on whose prefix `address` is, the longest one that there is."""
        by_care = self._stand_ins.get(family, {})
        found = (by_value.get(address & care) for care, by_value in by_care.items())
        return next((name for name in found if name is not None), None)

    def held(self, port: Port, family: Family) -> tuple[Held, ...]:
        """The addresses of an interface, an IPv6 link-local one last."""
        return self._held.get((port, family), ())

    def addresses(self, device: str, family: Family) -> list[int]:
        """Every address of a device in the order of its interfaces, link-local ones last."""
        every = [
            each.address
            for interface in self.devices[device].interfaces
            for each in self.held((device, interface.name), family)
        ]
        return sorted(every, key=lambda address: is_link_local(family, address))

    def owner(self, family: Family, address: int) -> str | None:
        """The device that an address belongs to; the outside has what nobody else holds (§2)."""
        if (family, address) in self._holders:
            return self._holders[family, address][0]
        possible = self.stand_in(family, address)
        if possible is not None:
            return possible
        owners = (name for which, block, name in self._outside if which is family and block.holds(address))
        return next(owners, None)

    def holder(self, device: str, family: Family, address: int) -> str | None:
        """The interface of `device` that holds `address`."""
        for interface in self.devices[device].interfaces:
            if any(each.address == address for each in self.held((device, interface.name), family)):
                return interface.name
        return None

    def owns(self, device: str, family: Family, address: int) -> bool:
        if is_link_local(family, address):
            return self.holder(device, family, address) is not None
        return self.owner(family, address) == device

    def neighbour(self, port: Port, family: Family, address: int) -> Port | None:
        """Who answers for `address` on the segment of `port`, by an enabled interface (§1, §7)."""
        segment = self.segments.of.get(port)
        if segment is None:
            return None
        if is_link_local(family, address):
            found = self._local.get((segment, address))
            return found if found != port else None
        holder = self._holders.get((family, address))
        if holder is not None:
            return holder if self.segments.of.get(holder) == segment and holder != port else None
        for block, answering in self._answered:
            on_segment = self.segments.of.get(answering) == segment and answering != port
            if on_segment and block.family is family and block.holds(address):
                return answering
        owner = self.owner(family, address)
        members = self.segments.members[segment]
        return None if owner is None else next((port for port in members if port[0] == owner), None)

    def lookup(self, device: str, family: Family, destination: int) -> Lookup:
        """The route of `device` to `destination`. A link-local one is a neighbour or nobody (RFC 4291)."""
        if not is_link_local(family, destination):
            return self.table(device, family).lookup(destination)
        hops = [
            NextHop(interface.name, None)
            for interface in self.devices[device].interfaces
            if self.neighbour((device, interface.name), family, destination)
        ]
        return Lookup((), tuple(hops), ())

    def table(self, device: str, family: Family) -> RoutingTable:
        return self.routing(family).table(self.devices[device])

    def routing(self, family: Family) -> "Routing":
        """The routing tables of one family; worlds that differ only in lists share them if they can."""
        if family not in self._routing:
            neighbourhood = self.neighbourhood(family)
            key = family, neighbourhood.parted
            found = self._routings.get(key)
            if found is None:
                found = self._routings[key] = Routing(OspfArea(self._network, neighbourhood, family))
            self._routing[family] = found
        return self._routing[family]

    def neighbourhood(self, family: Family) -> Neighbourhood:
        """OSPF neighbours, and those that lists keep apart."""
        if family not in self._neighbourhoods:
            if family not in self._pairs:
                self._pairs[family] = OspfPairs(self._network, self.segments, family)
            self._neighbourhoods[family] = self._pairs[family].under(self.lists)
        return self._neighbourhoods[family]

    def cut_neighbours(self) -> list[CutNeighbour]:
        """Routers that lists keep from being neighbours, in both families."""
        return [cut for family in Family for cut in self.neighbourhood(family).cut]


class Routing:
    """The routing tables of one family, each made when it is first asked for."""

    def __init__(self, area: OspfArea) -> None:
        self._area = area
        self._tables: dict[str, RoutingTable] = {}

    def table(self, device: Device) -> RoutingTable:
        if device.name not in self._tables:
            learnt = self._area.routes(device.name)
            self._tables[device.name] = RoutingTable(device, self._area.family, learnt)
        return self._tables[device.name]


def build_world(network: Network, known: World | None = None) -> World:
    """Make `network`, which has been checked, ready for packets.

    known:  a world of a network that may differ from it in little, to take over what is the same
    """
    if known is not None and known.same_topology(network):
        return known.relisted(network)
    return World(network, find_segments(network))
