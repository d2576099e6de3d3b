"""A network made ready for packets: addresses, segments, tables and lists looked up once."""

from dataclasses import dataclass, replace
from functools import cached_property

from greyheron.core.lists import Names, ResolvedList, resolve
from greyheron.core.places import AttachmentPoint
from greyheron.core.routing import RoutingTable
from greyheron.core.segments import Port, Segments, find_segments
from greyheron.model.document import Device, Interface, Network
from greyheron.model.entry import AddressBlock
from greyheron.model.values import DeviceKind, Family

FORWARDING = frozenset({DeviceKind.ROUTER})


@dataclass(frozen=True)
class World:
    """One network in one state.

    holders:  the device and interface that hold each address, enabled or not
    lists:  what is placed at each attachment point, by family
    """

    devices: dict[str, Device]
    interfaces: dict[Port, Interface]
    segments: Segments
    tables: dict[tuple[str, Family], RoutingTable]
    holders: dict[int, Port]
    outside: tuple[tuple[AddressBlock, str], ...]
    lists: dict[tuple[AttachmentPoint, Family], ResolvedList]

    @cached_property
    def baseline(self) -> "World":
        """The same world with every placement ignored (2-semantics §8)."""
        return replace(self, lists={})

    def owner(self, address: int) -> str | None:
        """The device that an address belongs to; the outside has what nobody else holds (§2)."""
        if address in self.holders:
            return self.holders[address][0]
        return next((name for block, name in self.outside if block.holds(address)), None)

    def neighbour(self, port: Port, address: int) -> Port | None:
        """Who holds `address` on the segment of `port`, by an enabled interface (§1)."""
        holder = self.holders.get(address)
        if holder is not None:
            here, there = self.segments.of.get(port), self.segments.of.get(holder)
            return holder if here is not None and here == there and holder != port else None
        return self._outside_neighbour(port, address)

    def _outside_neighbour(self, port: Port, address: int) -> Port | None:
        owner = self.owner(address)
        segment = self.segments.of.get(port)
        if owner is None or segment is None:
            return None
        return next((member for member in self.segments.members[segment] if member[0] == owner), None)

    def addresses(self, device: str) -> list[int]:
        """Every address of a device, in the order of its interfaces."""
        return [int(address.ip) for item in self.devices[device].interfaces for address in item.addresses]


def build_world(network: Network) -> World:
    """Make `network`, which has been checked, ready for packets."""
    names = Names(network)
    lists = {access_list.name: resolve(access_list, names) for access_list in network.lists}
    return World(
        devices={device.name: device for device in network.devices},
        interfaces={
            (device.name, interface.name): interface
            for device in network.devices
            for interface in device.interfaces
        },
        segments=find_segments(network),
        tables={(device.name, Family.IPV4): RoutingTable(device, Family.IPV4) for device in network.devices},
        holders={
            int(address.ip): (device.name, interface.name)
            for device in network.devices
            for interface in device.interfaces
            for address in interface.addresses
        },
        outside=tuple(
            (AddressBlock.prefix(Family.IPV4, int(prefix.network_address), prefix.prefixlen), device.name)
            for device in network.devices
            for prefix in device.prefixes
        ),
        lists={
            (AttachmentPoint(placed.device, placed.at, placed.direction), lists[placed.list].family): lists[
                placed.list
            ]
            for placed in network.placements
        },
    )
