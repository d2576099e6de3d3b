"""A topology with what stands under its lists: layer-2 paths between devices, and routing."""

from dataclasses import dataclass
from functools import cached_property

from greyheron.core.lists.filters import InForce, Lists
from greyheron.core.lists.frames import FrameLists
from greyheron.core.lists.layer2_paths import Layer2Paths
from greyheron.core.network.topology import Topology
from greyheron.core.routing.under_lists import RoutingCache
from greyheron.model.document import Network


@dataclass(frozen=True, eq=False)
class Fabric:
    """What worlds share that differ in their lists only.

    routings:  routing tables, computed for each way in which lists separate neighbours
    """

    topology: Topology
    routings: RoutingCache

    @classmethod
    def of(cls, network: Network) -> "Fabric":
        """That of a network, which has been checked."""
        topology = Topology.of(network)
        return cls(topology, RoutingCache(network, topology.segments))

    @cached_property
    def with_possible_hosts(self) -> "Fabric":
        """The same with a stand-in for every prefix of a segment that has room (§10), and no other routes."""
        return Fabric(self.topology.with_possible_hosts, self.routings)

    def under(self, lists: Lists, frames: FrameLists) -> InForce:
        """These lists in force in it."""
        return InForce(lists, self._wires.under(frames))

    @cached_property
    def _wires(self) -> Layer2Paths:
        return Layer2Paths(self.topology.devices, self.topology.segments, {})
