"""A network without its lists: devices, interfaces, segments, and who holds which address."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

from greyheron.core.network.addresses import HeldAddress, block_of, held, is_link_local
from greyheron.core.network.answered_addresses import answered_addresses
from greyheron.core.network.possible_hosts import STAND_IN_PORT, Holdings, StandIn, stand_ins
from greyheron.core.network.segments import InterfaceId, Segments, find_segments
from greyheron.model.device import Device, Interface
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock
from greyheron.model.values import Family

PossibleHosts = Mapping[Family, Mapping[int, Mapping[int, str]]]
"""Stand-ins for possible hosts by family, prefix mask (the longest first) and prefix value."""


@dataclass(frozen=True, eq=False)
class Topology:
    """What does not depend on lists. Nothing in it changes.

    devices, interfaces:  by name
    segments:  see `Segments`
    holdings:  the addresses of each interface, an IPv6 link-local one last
    holders:  which interface has an address;  local_holders:  the same for link-local ones, by segment
    answered:  addresses that a device answers for by translation, and at which interface (§7)
    possible:  the stand-ins among the devices; empty unless made by `with_possible_hosts`
    """

    devices: Mapping[str, Device]
    interfaces: Mapping[InterfaceId, Interface]
    segments: Segments
    holdings: Holdings
    holders: Mapping[tuple[Family, int], InterfaceId]
    local_holders: Mapping[tuple[int, int], InterfaceId]
    outside: tuple[tuple[AddressBlock, str], ...]
    answered: tuple[tuple[AddressBlock, InterfaceId], ...]
    possible: PossibleHosts

    @classmethod
    def of(cls, network: Network) -> "Topology":
        """That of a network, which has been checked."""
        devices = {device.name: device for device in network.devices}
        segments = find_segments(network)
        holdings = {
            ((device.name, interface.name), family): held(device, interface, family)
            for device in network.devices
            if not device.traits.bridges
            for interface in device.interfaces
            for family in Family
        }
        holders: dict[tuple[Family, int], InterfaceId] = {}
        local_holders: dict[tuple[int, int], InterfaceId] = {}
        for (port, family), addresses in holdings.items():
            for each in addresses:
                if not is_link_local(family, each.address):
                    holders[family, each.address] = port
                elif port in segments.of:
                    local_holders[segments.of[port], each.address] = port
        return cls(
            devices,
            {(name, interface.name): interface for name, interface in _interfaces(network)},
            segments,
            holdings,
            holders,
            local_holders,
            tuple(
                (block_of(prefix), device.name) for device in network.devices for prefix in device.prefixes
            ),
            tuple(
                (block, (device.name, interface))
                for device in network.devices
                for interface, block in answered_addresses(device)
            ),
            {},
        )

    @cached_property
    def with_possible_hosts(self) -> "Topology":
        """This one with a stand-in for every prefix of a segment that has room (§10)."""
        added = stand_ins(self.devices, self.segments, self.holdings)
        ports = {(each.device.name, STAND_IN_PORT): each for each in added}
        members = list(self.segments.members)
        for port, each in ports.items():
            members[each.segment] += (port,)
        of = self.segments.of | {port: each.segment for port, each in ports.items()}
        return replace(
            self,
            devices={**self.devices, **{each.device.name: each.device for each in added}},
            interfaces={
                **self.interfaces,
                **{port: each.device.interfaces[0] for port, each in ports.items()},
            },
            segments=replace(
                self.segments,
                of=of,
                members=tuple(members),
                joined_at={
                    port: self.segments.carrier(each.segment)
                    for port, each in ports.items()
                    if self.segments.carriers[each.segment]
                },
            ),
            holdings={
                **self.holdings,
                **{
                    (port, family): held(each.device, each.device.interfaces[0], family)
                    for port, each in ports.items()
                    for family in Family
                },
            },
            possible=_by_mask(added),
        )

    @property
    def has_possible_hosts(self) -> bool:
        """Whether there are stand-ins in it."""
        return bool(self.possible)

    @cached_property
    def stand_ins(self) -> frozenset[str]:
        """The names of all stand-ins for possible hosts."""
        return frozenset(
            name
            for by_mask in self.possible.values()
            for by_value in by_mask.values()
            for name in by_value.values()
        )

    def stand_in(self, family: Family, address: int) -> str | None:
        """The stand-in for possible hosts on whose prefix `address` is, the longest one that there is."""
        by_mask = self.possible.get(family, {})
        names = (by_value.get(address & mask) for mask, by_value in by_mask.items())
        return next((name for name in names if name is not None), None)

    def held(self, port: InterfaceId, family: Family) -> tuple[HeldAddress, ...]:
        """The addresses of an interface, an IPv6 link-local one last."""
        return self.holdings.get((port, family), ())

    def solicits_from(self, port: InterfaceId, source: int | None) -> int:
        """The IPv6 address from which a neighbour is solicited (RFC 4861 7.2.2).

        source:  of the packet that wants to go there; it is asked from if the sender has it
        """
        held = self.held(port, Family.IPV6)
        if source is not None and (
            any(each.address == source for each in held) or self.stand_in(Family.IPV6, source) == port[0]
        ):
            return source
        return held[-1].address

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
        if (family, address) in self.holders:
            return self.holders[family, address][0]
        possible = self.stand_in(family, address)
        if possible is not None:
            return possible
        owners = (name for block, name in self.outside if block.family is family and block.holds(address))
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

    def neighbour(
        self, port: InterfaceId, family: Family, address: int, next_hop: bool = False
    ) -> InterfaceId | None:
        """Who answers for `address` on the segment of `port`, by an enabled interface (§1, §7).

        next_hop:  whether it is that of a route: whoever could be there is nobody's (§10)
        """
        segment = self.segments.of.get(port)
        if segment is None:
            return None
        if is_link_local(family, address):
            local = self.local_holders.get((segment, address))
            return local if local != port else None
        holder = self.holders.get((family, address))
        if holder is not None:
            return holder if self.segments.of.get(holder) == segment and holder != port else None
        for block, answering in self.answered:
            on_segment = self.segments.of.get(answering) == segment and answering != port
            if on_segment and block.family is family and block.holds(address):
                return answering
        owner = self.owner(family, address)
        if next_hop and owner in self.stand_ins:
            return None
        members = self.segments.members[segment]
        return None if owner is None else next((port for port in members if port[0] == owner), None)


def _interfaces(network: Network) -> Iterator[tuple[str, Interface]]:
    return ((device.name, interface) for device in network.devices for interface in device.interfaces)


def _by_mask(added: list[StandIn]) -> PossibleHosts:
    """The names of stand-ins, those of longer prefixes first."""
    names: dict[Family, dict[int, dict[int, str]]] = {family: {} for family in Family}
    for each in sorted(added, key=lambda each: -each.prefix.mask.bit_count()):
        by_mask = names[each.prefix.family]
        by_mask.setdefault(each.prefix.mask, {})[each.prefix.value] = each.device.name
    return names
