"""Segments: which interfaces reach each other with no router between (§1)."""

from collections import defaultdict, deque
from dataclasses import dataclass, field

from greyheron.model.device import Device, Interface
from greyheron.model.document import Network

InterfaceId = tuple[str, str]
"""A device's name and an interface's."""

LinkEnds = tuple[str, str]
"""The near and the far end of a link, each as `device:interface`."""

DEFAULT_VLAN = 1


@dataclass(frozen=True, slots=True)
class Segments:
    """The segments of a network, numbered from 0 in the order of their first interfaces.

    of:  the segment of every enabled interface of a device that is no switch
    members:  those interfaces, for each segment
    carriers:  the switches that carry each segment, and in which VLAN
    crossings:  from each interface, or switch in a VLAN, what comes next along each enabled link, by name
    joined_at:  the switch, in a VLAN, at a port of which interfaces stand that no link joins: possible hosts
    """

    of: dict[InterfaceId, int]
    members: tuple[tuple[InterfaceId, ...], ...]
    carriers: tuple[tuple[tuple[str, int], ...], ...]
    crossings: dict[InterfaceId, list[tuple[InterfaceId, LinkEnds]]]
    joined_at: dict[InterfaceId, InterfaceId] = field(default_factory=dict)
    _crossed: dict[tuple[InterfaceId, InterfaceId], tuple[LinkEnds, ...]] = field(
        default_factory=dict, init=False, repr=False, compare=False
    )

    def carrier(self, segment: int) -> InterfaceId:
        """The first switch that carries a segment, in its VLAN: where possible hosts are joined to it."""
        name, vlan = self.carriers[segment][0]
        return name, f"{_VLAN}{vlan}"

    def crossing(self, start: InterfaceId, goal: InterfaceId) -> tuple[LinkEnds, ...]:
        """The fewest links that carry a frame from one interface to another; none if nothing does.

        Of equal ways the first by name (§14); a frame back takes the same one.
        """
        found = self._crossed.get((start, goal))
        if found is None:
            one, other = (self.joined_at.get(port, port) for port in (start, goal))
            found = self._way(min(one, other), max(one, other))
            if one > other:
                found = tuple((far, near) for near, far in reversed(found))
            self._crossed[start, goal] = found
        return found

    def _way(self, start: InterfaceId, goal: InterfaceId) -> tuple[LinkEnds, ...]:
        came: dict[InterfaceId, tuple[InterfaceId, LinkEnds]] = {}
        ahead = deque([start])
        while ahead and goal not in came:
            here = ahead.popleft()
            for there, ends in self.crossings.get(here, ()):
                if there not in came and there != start:
                    came[there] = here, ends
                    ahead.append(there)
        way: list[LinkEnds] = []
        while goal in came:
            goal, ends = came[goal]
            way.append(ends)
        return tuple(reversed(way))


def find_segments(network: Network) -> Segments:
    """Join interfaces along enabled links: what is sent with one tag is received with the same one."""
    devices = {device.name: device for device in network.devices}
    joined = _Groups()
    enabled = [
        (device.name, interface.name)
        for device in network.devices
        if not device.traits.bridges
        for interface in device.interfaces
        if is_up(device, interface)
    ]
    for port in enabled:
        joined.add(port)
    crossings: dict[InterfaceId, list[tuple[InterfaceId, LinkEnds]]] = defaultdict(list)
    for link in network.links:
        if not link.enabled:
            continue
        near, far = (_by_tag(devices, end) for end in link.ends)
        for tag in near.keys() & far.keys():
            joined.join(near[tag], far[tag])
            crossings[near[tag]].append((far[tag], link.ends))
            crossings[far[tag]].append((near[tag], (link.ends[1], link.ends[0])))
    numbers: dict[InterfaceId, int] = {}
    members: list[list[InterfaceId]] = []
    of: dict[InterfaceId, int] = {}
    for port in enabled:
        root = joined.root(port)
        if root not in numbers:
            numbers[root] = len(members)
            members.append([])
        of[port] = numbers[root]
        members[numbers[root]].append(port)
    carriers: list[list[tuple[str, int]]] = [[] for _ in members]
    for name, vlan in joined.within(_VLAN):
        number = numbers.get(joined.root((name, vlan)))
        if number is not None:
            carriers[number].append((name, int(vlan.removeprefix(_VLAN))))
    for ahead in crossings.values():
        ahead.sort(key=lambda each: (each[0][0], each[1]))
    return Segments(
        of, tuple(map(tuple, members)), tuple(tuple(sorted(each)) for each in carriers), crossings
    )


def is_up(device: Device, interface: Interface) -> bool:
    """Whether an interface is enabled, and its parent too when it is a subinterface."""
    if interface.parent is None:
        return interface.enabled
    parent = next((other for other in device.interfaces if other.name == interface.parent), None)
    return interface.enabled and parent is not None and parent.enabled


_VLAN = "\0vlan "


def _by_tag(devices: dict[str, Device], end: str) -> dict[int | None, InterfaceId]:
    """What frames with each tag (None: without one) meet at one end of a link."""
    name, _, interface_name = end.partition(":")
    device = devices[name]
    interface = next(candidate for candidate in device.interfaces if candidate.name == interface_name)
    if not interface.enabled:
        return {}
    if not device.traits.bridges:
        met: dict[int | None, InterfaceId] = {None: (name, interface_name)}
        for sub in device.interfaces:
            if sub.parent == interface_name and sub.enabled:
                met[sub.vlan] = (name, sub.name)
        return met

    def vlan(number: int) -> InterfaceId:
        return name, f"{_VLAN}{number}"

    if not interface.trunk and interface.untagged is None:
        return {None: vlan(interface.access or DEFAULT_VLAN)}
    tagged: dict[int | None, InterfaceId] = {
        number: vlan(number) for number in interface.trunk if number != interface.untagged
    }
    return tagged if interface.untagged is None else {None: vlan(interface.untagged), **tagged}


class _Groups:
    """Disjoint sets of ports, joined pair by pair."""

    def __init__(self) -> None:
        self._parent: dict[InterfaceId, InterfaceId] = {}

    def within(self, prefix: str) -> list[InterfaceId]:
        """The members whose second part begins with `prefix`."""
        return [port for port in self._parent if port[1].startswith(prefix)]

    def add(self, port: InterfaceId) -> None:
        self._parent.setdefault(port, port)

    def root(self, port: InterfaceId) -> InterfaceId:
        self.add(port)
        while self._parent[port] != port:
            self._parent[port] = self._parent[self._parent[port]]
            port = self._parent[port]
        return port

    def join(self, one: InterfaceId, other: InterfaceId) -> None:
        self._parent[self.root(one)] = self.root(other)
