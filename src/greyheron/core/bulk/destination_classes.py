"""Destinations that routes and owners do not tell apart."""

from bisect import bisect_right

from greyheron.core.headers import NONE
from greyheron.core.network.addresses import block_of
from greyheron.core.world import World
from greyheron.model.device import Device
from greyheron.model.values import Family


class DestinationClasses:
    """Destination classes, numbered as they are met; `members` has one address of each.

    known:  every prefix at whose borders addresses part
    """

    def __init__(self, world: World, family: Family) -> None:
        self._family = family
        self._held = {
            each.address for port in world.topology.interfaces for each in world.topology.held(port, family)
        }
        devices = world.topology.devices.values()
        near = [
            each.prefix for port in world.topology.interfaces for each in world.topology.held(port, family)
        ]
        static = [(route, block_of(route.to)) for device in devices for route in device.routes]
        outside = [block_of(prefix) for device in devices for prefix in device.prefixes]
        rules = [
            block_of(prefix)
            for device in devices
            for rule in device.translations
            for prefix in (rule.source, rule.to)
            if prefix is not None
        ]
        known = [*near, *(block for _, block in static), *outside, *rules]
        self.known = frozenset(block for block in known if block.family is family)
        self._cuts = sorted({edge for block in self.known for edge in (block.first, block.last + 1)})
        # An IPv6 neighbour is solicited by its own address: a list may tell one solicitation from another.
        direct = [*near, *(block for route, block in static if route.via is None)]
        self._direct = {block for block in direct if block.family is family is Family.IPV6}
        self._answered = {block for block in (*outside, *rules) if block.family is family is Family.IPV6}
        self.members: list[int] = []
        self._number: dict[tuple[bool, int], int] = {}

    def of(self, address: int) -> int:
        alone = address in self._held or (
            any(block.holds(address) for block in self._answered)
            and any(block.holds(address) for block in self._direct)
        )
        key = (alone, address if alone else bisect_right(self._cuts, address))
        if key not in self._number:
            self._number[key] = len(self.members)
            self.members.append(address)
        return self._number[key]


def zone_rank(device: Device, interface: str) -> int:
    ranks = [rank for rank, zone in enumerate(device.zones) if interface in zone.interfaces]
    return ranks[0] if ranks else NONE
