"""One family of a world in numbers: devices, ports, points, and the next hops of every destination class.

Nothing here depends on what lists say: worlds with equal `forwarding_key` have the same forwarding.

A point is an attachment point: a port in one direction, or a management line. Destinations fall into classes
that no route, owner or neighbour tells apart: each held address is one by itself, and so is each run of other
addresses between the borders of all prefixes that the network knows.
"""

from collections.abc import Callable, Hashable, Iterable
from itertools import groupby
from operator import itemgetter

import numpy as np

from greyheron.core.bulk.destination_classes import DestinationClasses, zone_rank
from greyheron.core.headers import NONE, Addresses, Bools, Ints
from greyheron.core.network.addresses import is_link_local
from greyheron.core.network.segments import InterfaceId
from greyheron.core.packet import Packet
from greyheron.core.routing.table import NextHop
from greyheron.core.walk.delivery import lines_for, service_for
from greyheron.core.walk.sessions import tracks
from greyheron.core.walk.walk import own_address
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Direction, Family

UNKNOWN = -2


OTHER_PROTOCOL = 3
"""Protocols are numbered 0 tcp, 1 udp, 2 the family's ICMP, 3 any other: that is how sessions tell them."""


Solicitation = tuple[InterfaceId, InterfaceId, int, int | None]
"""A neighbour asked for: by which port, at which, its address, the asker's; the packet follows on that wire.

The asker's is None for possible hosts, each of which asks from the address that its packets come from. Over
IPv4 both addresses are 0: ARP shows lists none (§14).
"""


Listening = tuple[bool, tuple[int, ...]]
"""Whether somebody listens, and the points of the lines that may take the login."""


LISTENS: Listening = (True, ())


_Branch = tuple[int, int, int]


_StepKey = tuple[int, tuple[NextHop, ...], int | None, int | None]
"""What a step rests on: device, next hops, source, and the destination if that is the neighbour itself."""


def forwarding_key(world: World, family: Family) -> Hashable:
    """What forwarding depends on: routes, who is there, where lists overrule zones (§6), any frame lists."""
    possible = world.topology.has_possible_hosts
    frames = bool(world.in_force.wires.lists)
    return world.routes.routing(family), zones_overruled(world, family), possible, frames


def zones_overruled(world: World, family: Family) -> frozenset[InterfaceId]:
    """The interfaces of firewalls that have an inbound list of the family."""
    return frozenset(
        (point.device, point.at)
        for point, which in world.lists
        if which is family
        and point.direction is Direction.IN
        and world.topology.devices[point.device].traits.zoned
        and (point.device, point.at) in world.topology.interfaces
    )


class ForwardingIndex:
    """Numbers for all that decides where packets of one family go; next hops are filled in when asked.

    devices:  names in the order of their numbers, switches last
    ports:  those of other devices than switches;  of_port:  each port's device
    points:  every point; the inbound one of port n is 2n, the outbound one 2n + 1, lines stand behind them;
        then, where there are frame lists, all points again that those can stand at; codes beyond stand
        for `solicitations`
    frame_point:  the codes of those
    solicits:  whether neighbours are asked for by what a list could stop
    point_device:  of each point
    zone:  rank of each port's zone, most trusted 0, or NONE
    overruled:  ports whose inbound list decides instead of zones
    forwards, firewall, same_zone, own_filtered, translates:  of each device
    tracks:  (devices, 4), by protocol
    tracked, tracked_alike:  of each protocol whether anybody tracks it, and a number for by whom
    known:  the prefixes whose borders part addresses into classes
    spans:  for each step its first branch and how many it has
    branches:  egress port, the port it comes to or NONE, and the code of its solicitation or NONE
    """

    def __init__(self, world: World, family: Family, solicits: bool = True) -> None:
        """solicits:  whether it is of interest where neighbours are asked for"""
        self._world, self.family = world, family
        named = [device for device in world.topology.devices.values() if not device.traits.bridges]
        bridges = [device for device in world.topology.devices.values() if device.traits.bridges]
        self.devices = [device.name for device in (*named, *bridges)]
        self.number = {name: number for number, name in enumerate(self.devices)}
        self.ports: list[InterfaceId] = [(each.name, item.name) for each in named for item in each.interfaces]
        self.port_number = {port: number for number, port in enumerate(self.ports)}
        self.of_port = np.array([self.number[port[0]] for port in self.ports], dtype=np.int64)
        ways = (Direction.IN, Direction.OUT)
        self.points = [AttachmentPoint(*port, way) for port in self.ports for way in ways]
        self.first_line = len(self.points)
        lines = [(each.name, line.at) for each in named for line in each.lines]
        self.points += [AttachmentPoint(*line, Direction.IN) for line in lines]
        self.point = {point: number for number, point in enumerate(self.points)}
        framed = bool(world.in_force.wires.lists)
        self.solicits = solicits and (framed or family is Family.IPV6)
        wired = [(each.name, item.name) for each in (*named, *bridges) for item in each.interfaces]
        self.frame_point: dict[AttachmentPoint, int] = {}
        for point in (AttachmentPoint(*port, way) for port in wired for way in ways if framed):
            self.frame_point[point] = len(self.points)
            self.points.append(point)
        self.point_device = np.array([self.number[point.device] for point in self.points], dtype=np.int64)
        self.solicitations: list[Solicitation] = []
        self._solicitation: dict[Solicitation, int] = {}
        self._solicited_at = np.zeros((0, 4), dtype=np.int64)
        overruled = zones_overruled(world, family)
        self.overruled = np.array([port in overruled for port in self.ports], dtype=np.bool_)
        self.zone = np.array([zone_rank(world.topology.devices[port[0]], port[1]) for port in self.ports])
        self.forwards = np.array([device.traits.forwards for device in named])
        self.firewall = np.array([device.traits.zoned for device in named])
        self.same_zone = np.array([device.same_zone for device in named])
        self.own_filtered = np.array([device.sends_through for device in named])
        self.translates = np.array([bool(device.translations) for device in named])
        probes = [Packet(family, None, 0, protocol) for protocol in (TCP, UDP, family.icmp, 0)]
        tracked = [[tracks(device, probe) for probe in probes] for device in named]
        self.tracks = np.array(tracked, dtype=np.bool_).reshape(-1, len(probes))
        self.tracked = np.logical_or.reduce(self.tracks, axis=0)
        self.tracked_alike = np.unique(self.tracks, axis=1, return_inverse=True)[1].ravel()
        self._delivery: dict[tuple[int, int, int], Listening] = {}
        self._classes = DestinationClasses(world, family)
        self.known = self._classes.known
        self.owner = np.zeros(0, dtype=np.int64)
        self._steps = np.full((len(named), 0), UNKNOWN, dtype=np.int64)
        self._made: dict[tuple[int, int, int | None], int] = {}
        self._hops: dict[int, Callable[[int], tuple[NextHop, ...]]] = {}
        self._alike: dict[_StepKey, int] = {}
        self._own_source: dict[tuple[str, tuple[NextHop, ...], int | None], int | None] = {}
        self._asks_from: dict[tuple[InterfaceId, int | None], int | None] = {}
        self.spans = np.zeros((0, 2), dtype=np.int64)
        self.branches = np.zeros((0, 3), dtype=np.int64)

    @property
    def nbytes(self) -> int:
        """About how much memory what it was asked about takes."""
        asked = len(self.solicitations) + len(self._classes.members) + len(self._delivery) + len(self._made)
        asked += len(self._alike) + len(self._own_source) + len(self._asks_from)
        return 300 * asked + self._steps.nbytes + self.branches.nbytes

    def solicitation(
        self, asking: InterfaceId, answering: InterfaceId, target: int, source: int | None
    ) -> int:
        """The code of the solicitation that a packet from `source` makes its sender ask."""
        if self.family is Family.IPV4:
            return self._coded((asking, answering, 0, 0))
        if (asking, source) not in self._asks_from:
            topology = self._world.topology
            possible = source is not None and topology.stand_in(self.family, source) == asking[0]
            asker = None if possible else topology.solicits_from(asking, source)
            self._asks_from[asking, source] = asker
        return self._coded((asking, answering, target, self._asks_from[asking, source]))

    def _coded(self, solicitation: Solicitation) -> int:
        if solicitation not in self._solicitation:
            self._solicitation[solicitation] = len(self.points) + len(self.solicitations)
            self.solicitations.append(solicitation)
        return self._solicitation[solicitation]

    def ends(self, solicitation: Solicitation) -> list[int]:
        """The points that it may pass, those of the asking port first."""
        numbers = (self.port_number[port] for port in solicitation[:2])
        return [2 * number + way for number in numbers for way in (0, 1)]

    def solicited_at(self) -> Ints:
        """The `ends` of every solicitation, as (solicitations, 4)."""
        known = len(self._solicited_at)
        if known < len(self.solicitations):
            fresh = np.array([self.ends(each) for each in self.solicitations[known:]], dtype=np.int64)
            self._solicited_at = np.concatenate([self._solicited_at, fresh])
        return self._solicited_at

    def later_packets_met(self, code: Ints, protocol: Ints) -> Bools:
        """Whether later packets of a conversation meet a list there: at no line, where no session is kept.

        A neighbour that the first packet found is known.
        """
        points = code < self.first_line
        device = self.point_device[np.where(points, code, 0)]
        met: Bools = points & ~self.tracks[device, protocol]
        return met

    def classes(self, addresses: Addresses) -> Ints:
        """The destination class of each address."""
        found = np.array([self._classes.of(address) for address in addresses.values], dtype=np.int64)
        known = len(self.owner)
        if len(self._classes.members) > known:
            fresh = self._classes.members[known:]
            owners = [
                self.number.get(self._world.topology.owner(self.family, each) or "", NONE) for each in fresh
            ]
            self.owner = np.append(self.owner, np.array(owners, dtype=np.int64))
            if len(self._classes.members) > self._steps.shape[1]:
                width = max(len(self._classes.members), 2 * self._steps.shape[1])
                wider = np.full((len(self._steps), width), UNKNOWN, dtype=np.int64)
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
        if self.family is Family.IPV4 or not self.solicits:
            return self.steps(device, destination)
        unique, index = np.unique(np.stack([device, destination, source]), axis=1, return_inverse=True)
        keys = [(one, to, addresses.values[from_]) for one, to, from_ in unique.T.tolist()]
        fresh = [key for key in dict.fromkeys(keys) if key not in self._made]
        self._made.update(zip(fresh, self._new_steps(fresh).tolist(), strict=True))
        return np.array([self._made[key] for key in keys], dtype=np.int64)[index.ravel()]

    def _new_steps(self, keys: Iterable[tuple[int, int, int | None]]) -> Ints:
        """Work out steps from devices to destination classes, of packets in transit or of a source's own."""
        branches: list[_Branch] = []
        spans: list[tuple[int, int]] = []
        known, found = len(self.spans), list[int]()
        for device, asked in groupby(keys, itemgetter(0)):
            hops_to = self._hops_from(device)
            for _, destination, source in asked:
                address = self._classes.members[destination]
                hops = hops_to(address)
                rests = device, hops, source, address if _is_near(hops) else None
                step = self._alike.get(rests)
                if step is None:
                    step = self._alike[rests] = known + len(spans)
                    spans.append((len(self.branches) + len(branches), len(hops)))
                    branches += [self._branch(device, hop, address, source) for hop in hops]
                found.append(step)
        self.spans = np.append(self.spans, np.array(spans, dtype=np.int64).reshape(-1, 2), axis=0)
        self.branches = np.append(self.branches, np.array(branches, dtype=np.int64).reshape(-1, 3), axis=0)
        return np.array(found, dtype=np.int64)

    def _hops_from(self, device: int) -> Callable[[int], tuple[NextHop, ...]]:
        found = self._hops.get(device)
        if found is None:
            found = self._hops[device] = self._world.hops_from(self.devices[device], self.family)
        return found

    def _branch(self, device: int, hop: NextHop, destination: int, source: int | None) -> _Branch:
        """Where a packet from `source` goes by a next hop, and whom its device asks for there."""
        port = (self.devices[device], hop.interface)
        address = destination if hop.address is None else hop.address
        neighbour = self._world.topology.neighbour(port, self.family, address, hop.address is not None)
        if neighbour is None:
            return self.port_number[port], NONE, NONE
        solicitation = self.solicitation(port, neighbour, address, source) if self.solicits else NONE
        return self.port_number[port], self.port_number[neighbour], solicitation

    def own_sources(self, device: Ints, destination: Ints, addresses: Addresses) -> Ints:
        """The source that each device chooses towards a destination; NONE where that depends on the path.

        destination, and what is given:  indices in `addresses`
        """
        source = destination.copy()
        if self.solicits and self.family is Family.IPV6:  # what a device sends takes steps of its own
            left, rests_on = np.arange(len(device)), device * len(addresses) + destination
        else:  # what a step rests on is all that a source rests on
            classes = self.classes(addresses)[destination]
            rests_on = self.steps(device, classes)
            left = np.flatnonzero((self.owner[classes] != device) & (self.spans[rests_on, 1] > 0))
        _, first, same = np.unique(rests_on[left], return_index=True, return_inverse=True)
        one = left[first]
        own = [
            self.own_source(self.devices[sender], addresses.values[to])
            for sender, to in zip(device[one].tolist(), destination[one].tolist(), strict=True)
        ]
        chosen = [NONE if each is None else addresses.index(each) for each in own]
        source[left] = np.array(chosen, dtype=np.int64)[same]
        return source

    def own_source(self, device: str, destination: int) -> int | None:
        """The source that `device` chooses towards `destination`; None if that depends on the path."""
        world, family = self._world, self.family
        if world.topology.owner(family, destination) == device:
            return destination
        hops = self._hops_from(self.number[device])(destination)
        if not hops:
            return destination
        itself = _is_near(hops) or is_link_local(family, destination)
        key = device, hops, destination if itself else None
        if key not in self._own_source:
            packet = Packet(family, None, destination, 0)
            sources = {own_address(world, device, hop, packet) for hop in hops}
            self._own_source[key] = sources.pop() if len(sources) == 1 else None
        return self._own_source[key]

    def passes_zones(self, device: Ints, ingress: Ints, egress: Ints) -> Bools:
        """Whether the zones of firewalls let packets through from a port to a port, or a list decides."""
        here, there = self.zone[ingress], self.zone[egress]
        same = (here == there) & self.same_zone[device]
        found: Bools = (here != NONE) & (there != NONE) & ((here < there) | same)
        return found | self.overruled[ingress]

    def delivers(self, device: int, protocol: int, port: int) -> Listening:
        """What becomes there of what is for the device itself."""
        key = (device, protocol, port)
        if key not in self._delivery:
            self._delivery[key] = self._delivered(
                self._world.topology.devices[self.devices[device]], protocol, port
            )
        return self._delivery[key]

    def _delivered(self, device: Device, protocol: int, port: int) -> Listening:
        if protocol not in (TCP, UDP) or device.traits.open_ended:
            return LISTENS
        lines = lines_for(device, protocol, port)
        points = tuple(self.point[AttachmentPoint(device.name, line.at, Direction.IN)] for line in lines)
        return bool(points) or service_for(device, protocol, port) is not None, points


def _is_near(hops: tuple[NextHop, ...]) -> bool:
    """Whether some next hop is the destination itself."""
    return None in [address for _, address in hops]


def protocol_index(family: Family, protocol: int) -> int:
    """The number of a protocol among those that sessions tell apart."""
    return {TCP: 0, UDP: 1, family.icmp: 2}.get(protocol, OTHER_PROTOCOL)
