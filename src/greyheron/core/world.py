"""A network made ready for packets: a topology, the lists in force, and the routes that come of both."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

from greyheron.core.fabric import Fabric
from greyheron.core.lists.filters import InForce, Lists
from greyheron.core.lists.resolved import ResolvedLists, permitting_all
from greyheron.core.network.addresses import is_link_local
from greyheron.core.network.topology import Topology
from greyheron.core.routing.table import Lookup, NextHop, RoutingTable
from greyheron.core.routing.under_lists import RoutingState
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Network
from greyheron.model.values import Direction, Family


@dataclass(frozen=True, eq=False)
class World:
    """One network in one state. Nothing in it changes; what is costly is worked out when first asked.

    fabric:  the network without its lists, shared by worlds that differ in those
    resolved:  its lists, with every name in them looked up
    in_force:  the lists that packets and frames meet
    discovery:  those that neighbours are found under; the same, unless it is permissive
    routes:  those of the topology under the lists of the network
    """

    network: Network
    fabric: Fabric
    resolved: ResolvedLists
    in_force: InForce
    discovery: InForce
    routes: RoutingState

    @property
    def topology(self) -> Topology:
        """The network without its lists."""
        return self.fabric.topology

    @property
    def lists(self) -> Lists:
        """What packets meet at each attachment point, by family."""
        return self.in_force.lists

    @classmethod
    def of(cls, network: Network, fabric: Fabric, resolved: ResolvedLists) -> "World":
        """`network` with its lists in force; `fabric` is its own, or one just like it."""
        in_force = fabric.under(resolved.placed(), resolved.placed_frames())
        return cls(network, fabric, resolved, in_force, in_force, RoutingState(fabric.routings, in_force))

    @cached_property
    def baseline(self) -> "World":
        """The same network with every placement ignored (§8)."""
        none = self.fabric.under({}, {})
        routes = RoutingState(self.fabric.routings, none)
        return World(self.network, self.fabric, self.resolved, none, none, routes)

    @cached_property
    def permissive(self) -> "World":
        """The same network with routes as they are and no list that denies anything in transit.

        Lists that overrule zones remain, and permit all (§6). What a packet comes to in it is what it would
        come to here, up to the first list that denies it.
        """
        lists = {
            (point, family): permitting_all(placed)
            for (point, family), placed in self.lists.items()
            if self.topology.devices[point.device].traits.zoned and point.direction is Direction.IN
        }
        under = self.fabric.under
        return World(self.network, self.fabric, self.resolved, under(lists, {}), under({}, {}), self.routes)

    @cached_property
    def with_possible_hosts(self) -> "World":
        """The same network with everyone in it who could be there (see `network.possible_hosts`)."""
        fabric = self.fabric.with_possible_hosts
        in_force, discovery = (
            fabric.under(each.lists, each.wires.lists) for each in (self.in_force, self.discovery)
        )
        return World(self.network, fabric, self.resolved, in_force, discovery, self.routes)

    @cached_property
    def nbytes(self) -> int:
        """About how much memory it takes beside what it shares with others of its topology."""
        entries = sum(len(each.body.entries) for each in self.network.lists)
        return 50_000 + 60 * entries + 2500 * len(self.topology.interfaces)

    def same_topology(self, network: Network) -> bool:
        """Whether `network` differs from this one's in nothing but lists, sets, tests and the map."""
        return self.network.devices == network.devices and self.network.links == network.links

    def changed_lists(self, other: "World") -> frozenset[tuple[AttachmentPoint, Family | None]] | None:
        """Where other lists stand than in `other`; None when routes differ too, or the devices themselves.

        The family is None where frame lists differ.
        """
        if any(self.routes.routing(family) is not other.routes.routing(family) for family in Family):
            return None
        points = self.lists.keys() | other.lists.keys()
        now, then = self.in_force.wires.lists, other.in_force.wires.lists
        return frozenset(
            point for point in points if self.lists.get(point) is not other.lists.get(point)
        ) | frozenset(
            (point, None) for point in now.keys() | then.keys() if now.get(point) is not then.get(point)
        )

    def lookup(self, device: str, family: Family, destination: int) -> Lookup:
        """The route of `device` to `destination`. A link-local one is a neighbour or nobody (RFC 4291).

        Nobody is looked for on the device's first enabled interface.
        """
        if not is_link_local(family, destination):
            return self.table(device, family).lookup(destination)
        return Lookup((), self._nearby(device, family, destination), ())

    def hops_from(self, device: str, family: Family) -> Callable[[int], tuple[NextHop, ...]]:
        """What finds the next hops of `lookup` towards a destination, where that is all that is wanted."""
        routed = self.table(device, family).hops
        if family is Family.IPV4:  # where no address is link-local: it is asked very often
            return routed

        def hops(destination: int) -> tuple[NextHop, ...]:
            if is_link_local(family, destination):
                return self._nearby(device, family, destination)
            return routed(destination)

        return hops

    def _nearby(self, device: str, family: Family, destination: int) -> tuple[NextHop, ...]:
        enabled = [
            interface.name
            for interface in self.topology.devices[device].interfaces
            if self.topology.held((device, interface.name), family)
        ]
        near = [name for name in enabled if self.topology.neighbour((device, name), family, destination)]
        return tuple(NextHop(name, None) for name in near or enabled[:1])

    def table(self, device: str, family: Family) -> RoutingTable:
        """What `device` knows of where to send."""
        return self.routes.routing(family).table(self.topology.devices[device])


def build_world(network: Network, known: World | None = None, active: frozenset[str] | None = None) -> World:
    """Make `network`, which has been checked, ready for packets.

    known:  a world of a network that may differ from it in little, to take over what is the same
    active:  the periods that are on; None for those that are in `known`, or for none
    """
    if active is None:
        active = frozenset() if known is None else known.resolved.active
    if known is not None and known.same_topology(network):
        return World.of(network, known.fabric, ResolvedLists(network, known.resolved, active))
    return World.of(network, Fabric.of(network), ResolvedLists(network, active=active))
