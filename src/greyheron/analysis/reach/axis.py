"""The devices of a matrix, in their order, and the groups that they can be folded into."""

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

from greyheron.analysis.reach.question import ReachQuestion, talking_addresses
from greyheron.core.lists.resolved import Names
from greyheron.core.network.addresses import is_link_local
from greyheron.core.world import World
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.entry import NamedAddresses
from greyheron.model.values import Family


class GroupKind(StrEnum):
    SEGMENT = "segment"
    SET = "set"
    ZONE = "zone"
    KIND = "kind"


@dataclass(frozen=True, slots=True)
class Group:
    """Devices that are looked at together. `members` are indices among the devices of the matrix."""

    kind: GroupKind
    name: str
    members: tuple[int, ...]


@dataclass(frozen=True)
class Axis:
    """The devices of a matrix, the same in its rows and columns, and the groups they can be folded into.

    segments:  a name for where each device is: those that have one in common are near each other
    """

    devices: tuple[str, ...]
    groups: tuple[Group, ...]

    @cached_property
    def segments(self) -> tuple[str, ...]:
        near = {
            member: group.name
            for group in self.groups
            if group.kind is GroupKind.SEGMENT
            for member in group.members
        }
        return tuple(near.get(index, device) for index, device in enumerate(self.devices))


def axis_of(world: World, network: Network, question: ReachQuestion) -> Axis:
    """The devices that have an address to talk from, and their groups."""
    family = question.family
    named = [
        device
        for device in network.devices
        if not device.traits.bridges
        and not (question.hosts_only and device.traits.forwards)
        and talking_addresses(world, device.name, family)
    ]
    order = sorted(named, key=lambda device: (_first_segment(world, device), device.kind.value))
    index = {device.name: number for number, device in enumerate(order)}
    return Axis(tuple(index), (*_segment_groups(world, order), *_named_groups(world, network, index, family)))


def _first_segment(world: World, device: Device) -> int:
    """Hosts stand by their segment; what joins segments stands behind them."""
    many = len(world.topology.segments.members)
    if not device.traits.end_system:
        return many + device.traits.open_ended
    found = [
        world.topology.segments.of.get((device.name, interface.name), many) for interface in device.interfaces
    ]
    return min(found, default=many)


def _segment_groups(world: World, devices: list[Device]) -> Iterator[Group]:
    """Every device in one group: hosts by segment, the others by kind."""
    members: dict[tuple[GroupKind, str], list[int]] = {}
    for number, device in enumerate(devices):
        segment = _first_segment(world, device)
        if device.traits.end_system:
            key = GroupKind.SEGMENT, _segment_name(world, segment)
        elif device.traits.open_ended:
            key = GroupKind.KIND, "outside"
        else:
            key = GroupKind.KIND, "routers and firewalls"
        members.setdefault(key, []).append(number)
    for (kind, name), indices in members.items():
        yield Group(kind, name, tuple(indices))


def _segment_name(world: World, segment: int) -> str:
    ports = world.topology.segments.members[segment] if segment < len(world.topology.segments.members) else ()
    prefixes = (
        each.prefix
        for family in Family
        for port in ports
        for each in world.topology.held(port, family)
        if not is_link_local(family, each.address)
    )
    return str(next(prefixes, "not connected"))


def _named_groups(world: World, network: Network, index: dict[str, int], family: Family) -> Iterator[Group]:
    """Address sets by the devices that hold an address of theirs; zones by the devices on their segments."""
    names = Names(network)
    for group in network.address_sets:
        blocks = names.addresses(NamedAddresses(group.name), family) or ()
        inside = [
            number
            for device, number in index.items()
            if any(
                block.holds(address)
                for block in blocks
                for address in talking_addresses(world, device, family)
            )
        ]
        if inside:
            yield Group(GroupKind.SET, f"@{group.name}", tuple(inside))
    for firewall in network.devices:
        for zone in firewall.zones:
            segments = {world.topology.segments.of.get((firewall.name, name)) for name in zone.interfaces} - {
                None
            }
            behind = {
                port[0]
                for segment in segments
                if segment is not None
                for port in world.topology.segments.members[segment]
            }
            found = sorted(index[device] for device in behind - {firewall.name} if device in index)
            if found:
                yield Group(GroupKind.ZONE, f"{firewall.name} {zone.name}", tuple(found))
