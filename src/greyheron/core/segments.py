"""Segments: which interfaces reach each other with no router between (2-semantics §1)."""

from dataclasses import dataclass

from greyheron.model.document import Network
from greyheron.model.values import DeviceKind

Port = tuple[str, str]
"""A device's name and an interface's."""


@dataclass(frozen=True, slots=True)
class Segments:
    """The segments of a network, numbered from 0 in the order of their first interfaces.

    of:  the segment of every enabled interface of a device that is no switch
    members:  those interfaces, for each segment
    switches:  for each switch, one interface of the segment that it carries
    """

    of: dict[Port, int]
    members: tuple[tuple[Port, ...], ...]
    switches: dict[str, Port]


def find_segments(network: Network) -> Segments:
    """Join interfaces along enabled links, and the ports of each switch with each other."""
    switches = {device.name for device in network.devices if device.kind is DeviceKind.SWITCH}
    enabled: list[Port] = [
        (device.name, interface.name)
        for device in network.devices
        for interface in device.interfaces
        if interface.enabled
    ]
    joined = _Groups()
    for device, interface in enabled:
        joined.add((device, interface))
        if device in switches:
            joined.join((device, interface), (device, ""))
    for link in network.links:
        ends = [(device, interface) for device, _, interface in (end.partition(":") for end in link.ends)]
        if link.enabled and all(end in joined for end in ends):
            joined.join(ends[0], ends[1])
    numbers: dict[Port, int] = {}
    members: list[list[Port]] = []
    of: dict[Port, int] = {}
    for port in enabled:
        if port[0] in switches:
            continue
        root = joined.root(port)
        if root not in numbers:
            numbers[root] = len(members)
            members.append([])
        of[port] = numbers[root]
        members[numbers[root]].append(port)
    carried = {root: members[number][0] for root, number in numbers.items()}
    roots = {switch: joined.root((switch, "")) for switch in switches}
    return Segments(
        of,
        tuple(map(tuple, members)),
        {switch: carried[root] for switch, root in sorted(roots.items()) if root in carried},
    )


class _Groups:
    """Disjoint sets of ports, joined pair by pair."""

    def __init__(self) -> None:
        self._parent: dict[Port, Port] = {}

    def __contains__(self, port: Port) -> bool:
        return port in self._parent

    def add(self, port: Port) -> None:
        self._parent.setdefault(port, port)

    def root(self, port: Port) -> Port:
        self.add(port)
        while self._parent[port] != port:
            self._parent[port] = self._parent[self._parent[port]]
            port = self._parent[port]
        return port

    def join(self, one: Port, other: Port) -> None:
        self._parent[self.root(one)] = self.root(other)
