"""One family of a world in numbers: devices, ports, lists, and the next hops of every destination class.

Destinations fall into classes that no route, owner or neighbour tells apart: each held address is one by
itself, and so is each run of other addresses between the borders of all prefixes that the network knows.
"""

from bisect import bisect_right
from collections.abc import Iterable

import numpy as np

from greyheron.core.addresses import block_of
from greyheron.core.bulk.headers import Addresses, Ints
from greyheron.core.bulk.points import NONE, Points
from greyheron.core.delivery import LOGIN_PORTS, line_for, service_for
from greyheron.core.discovery import stopped_discovery
from greyheron.core.filters import sends_through
from greyheron.core.packet import Packet
from greyheron.core.places import AttachmentPoint
from greyheron.core.routing import NextHop
from greyheron.core.segments import Port
from greyheron.core.sessions import tracks
from greyheron.core.steps import Filtered
from greyheron.core.walk import own_address
from greyheron.core.world import FORWARDING, World
from greyheron.model.document import Device
from greyheron.model.names import TCP, UDP
from greyheron.model.values import DeviceKind, Direction, Family

UNKNOWN = -2
OTHER_PROTOCOL = 3
"""Protocols are numbered 0 tcp, 1 udp, 2 the family's ICMP, 3 any other: that is how sessions tell them."""


class Forwarding:
    """Numbers for everything in one family that decides where packets go; next hops are filled in when asked.

    devices, ports:  names in the order of their numbers (switches have none)
    of_port:  the device of each port;  inbound, outbound:  the point where a list stands, or NONE
    zone:  rank of each port's zone, most trusted 0, or NONE
    forwards, firewall, same_zone, own_filtered, translates:  of each device
    tracks:  (devices, 4), by protocol
    spans:  for each step its first branch and how many it has
    branches:  egress port, the port it comes to or NONE, and the point and entry that stop discovery or NONE
    point_device:  of each point where a list stands
    """

    def __init__(self, world: World, family: Family, points: Points) -> None:
        self._world, self.family, self._points = world, family, points
        named = [device for device in world.devices.values() if device.kind is not DeviceKind.SWITCH]
        self.devices = [device.name for device in named]
        self.number = {name: number for number, name in enumerate(self.devices)}
        self.ports: list[Port] = [(each.name, item.name) for each in named for item in each.interfaces]
        self.port_number = {port: number for number, port in enumerate(self.ports)}
        self.of_port = np.array([self.number[port[0]] for port in self.ports], dtype=np.int64)
        self.inbound = self._placed(Direction.IN)
        self.outbound = self._placed(Direction.OUT)
        self.zone = np.array([_zone_rank(world.devices[port[0]], port[1]) for port in self.ports])
        self.forwards = np.array([device.kind in FORWARDING for device in named])
        self.firewall = np.array([device.kind is DeviceKind.FIREWALL for device in named])
        self.same_zone = np.array([device.same_zone for device in named])
        self.own_filtered = np.array([sends_through(device) for device in named])
        self.translates = np.array([bool(device.translations) for device in named])
        self.point_device = np.array([self.number[point.device] for point in points.points], dtype=np.int64)
        probes = [Packet(family, None, 0, protocol) for protocol in (TCP, UDP, family.icmp, 0)]
        self.tracks = np.array([[tracks(device, probe) for probe in probes] for device in named])
        self._delivery: dict[tuple[int, int, int], tuple[bool, int]] = {}
        self._classes = _Classes(world, family)
        self.owner = np.zeros(0, dtype=np.int64)
        self._steps = np.full((len(named), 0), UNKNOWN, dtype=np.int64)
        self._made: dict[tuple[int, int, int | None], int] = {}
        self.spans = np.zeros((0, 2), dtype=np.int64)
        self.branches = np.zeros((0, 4), dtype=np.int64)

    def _placed(self, direction: Direction) -> Ints:
        return np.array(
            [self._points.number.get(AttachmentPoint(*port, direction), NONE) for port in self.ports],
            dtype=np.int64,
        )

    def classes(self, addresses: Addresses) -> Ints:
        """The destination class of each address."""
        found = np.array([self._classes.of(address) for address in addresses.values], dtype=np.int64)
        known = len(self.owner)
        if len(self._classes.members) > known:
            fresh = self._classes.members[known:]
            owners = [self.number.get(self._world.owner(self.family, each) or "", NONE) for each in fresh]
            self.owner = np.append(self.owner, np.array(owners, dtype=np.int64))
            width = max(len(self._classes.members), 2 * self._steps.shape[1])
            wider = np.full((len(self.devices), width), UNKNOWN, dtype=np.int64)
            wider[:, : self._steps.shape[1]] = self._steps
            self._steps = wider
        return found

    def steps(self, device: Ints, destination: Ints) -> Ints:
        """The step that packets in transit take from each device towards each destination class."""
        found = self._steps[device, destination]
        missing = found == UNKNOWN
        if missing.any():
            width = self._steps.shape[1]
            devices, classes = np.divmod(np.unique(device[missing] * width + destination[missing]), width)
            self._steps[devices, classes] = self._new_steps(
                (one, to, None) for one, to in zip(devices.tolist(), classes.tolist(), strict=True)
            )
            found = self._steps[device, destination]
        return found

    def made_steps(self, device: Ints, destination: Ints, source: Ints, addresses: Addresses) -> Ints:
        """The same for packets that devices make; an IPv6 neighbour is asked for from the packet's source."""
        if self.family is Family.IPV4:
            return self.steps(device, destination)
        unique, place = np.unique(np.stack([device, destination, source]), axis=1, return_inverse=True)
        keys = [(one, to, addresses.values[from_]) for one, to, from_ in unique.T.tolist()]
        fresh = [key for key in dict.fromkeys(keys) if key not in self._made]
        self._made.update(zip(fresh, self._new_steps(fresh).tolist(), strict=True))
        return np.array([self._made[key] for key in keys], dtype=np.int64)[place.ravel()]

    def _new_steps(self, keys: Iterable[tuple[int, int, int | None]]) -> Ints:
        """Work out steps from devices to destination classes, of packets in transit or of a source's own."""
        branches: list[tuple[int, int, int, int]] = []
        spans: list[tuple[int, int]] = []
        for device, destination, source in keys:
            name, address = self.devices[device], self._classes.members[destination]
            hops = self._world.lookup(name, self.family, address).hops
            spans.append((len(self.branches) + len(branches), len(hops)))
            branches += [self._branch(name, hop, address, source) for hop in hops]
        first = len(self.spans)
        self.spans = np.append(self.spans, np.array(spans, dtype=np.int64).reshape(-1, 2), axis=0)
        self.branches = np.append(self.branches, np.array(branches, dtype=np.int64).reshape(-1, 4), axis=0)
        return np.arange(first, len(self.spans))

    def _branch(
        self, device: str, hop: NextHop, destination: int, source: int | None
    ) -> tuple[int, int, int, int]:
        """One of `branches`: where the packet goes by `hop`."""
        world, family = self._world, self.family
        port = (device, hop.interface)
        address = destination if hop.address is None else hop.address
        neighbour = world.neighbour(port, family, address)
        egress = self.port_number[port]
        if neighbour is None:
            return egress, NONE, NONE, NONE
        stopped = (
            stopped_discovery(world, port, neighbour, address, source) if family is Family.IPV6 else None
        )
        if stopped is None:
            return egress, self.port_number[neighbour], NONE, NONE
        entry = NONE if stopped.decision.entry is None else stopped.decision.entry
        return egress, self.port_number[neighbour], self._point_of(stopped), entry

    def _point_of(self, stopped: Filtered) -> int:
        return self._points.number[stopped.point]

    def own_source(self, device: str, destination: int) -> int | None:
        """The source that `device` chooses towards `destination`; None if that depends on the path."""
        world, family = self._world, self.family
        if world.owner(family, destination) == device:
            return destination
        packet = Packet(family, None, destination, 0)
        hops = world.lookup(device, family, destination).hops
        sources = {own_address(world, device, hop, packet) for hop in hops} or {destination}
        return sources.pop() if len(sources) == 1 else None

    def delivers(self, device: int, protocol: int, port: int) -> tuple[bool, int]:
        """Whether somebody listens, and the point of the list on the line that takes the login (or NONE)."""
        key = (device, protocol, port)
        if key not in self._delivery:
            self._delivery[key] = self._delivered(self._world.devices[self.devices[device]], protocol, port)
        return self._delivery[key]

    def _delivered(self, device: Device, protocol: int, port: int) -> tuple[bool, int]:
        if protocol not in (TCP, UDP) or device.kind is DeviceKind.OUTSIDE:
            return True, NONE
        line = line_for(device, port) if protocol == TCP and port in LOGIN_PORTS else None
        if line is not None:
            return True, self._points.number.get(AttachmentPoint(device.name, line.name, Direction.IN), NONE)
        return service_for(device, protocol, port) is not None, NONE


class _Classes:
    """Destination classes, numbered as they are met; `members` has one address of each."""

    def __init__(self, world: World, family: Family) -> None:
        self._family = family
        self._held = {each.address for port in world.interfaces for each in world.held(port, family)}
        devices = world.devices.values()
        near = [each.prefix for port in world.interfaces for each in world.held(port, family)]
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
        blocks = {block for block in known if block.family is family}
        self._cuts = sorted({edge for block in blocks for edge in (block.first, block.last + 1)})
        # An IPv6 neighbour is asked for by its own address, and a list may tell one question from another.
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


def _zone_rank(device: Device, interface: str) -> int:
    ranks = [rank for rank, zone in enumerate(device.zones) if interface in zone.interfaces]
    return ranks[0] if ranks else NONE


def protocol_place(family: Family, protocol: int) -> int:
    """The number of a protocol among those that sessions tell apart."""
    return {TCP: 0, UDP: 1, family.icmp: 2}.get(protocol, OTHER_PROTOCOL)
