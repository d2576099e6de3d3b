"""The places of a network in words: segments, and every attachment point a list could take."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from greyheron.core.network.segments import find_segments
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device, Interface
from greyheron.model.document import Network
from greyheron.model.values import Direction, Family

MOST_NAMED = 3

Takes = Literal["ipv4", "ipv6", "frame"]


@dataclass(frozen=True, slots=True)
class SegmentReport:
    """Interfaces (`device:interface`) with no router between, their prefixes, and the switches there.

    vlans:  the VLAN that each of the switches carries it in
    """

    prefixes: tuple[str, ...]
    members: tuple[str, ...]
    switches: tuple[str, ...]
    vlans: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class PointReport:
    """An attachment point.

    line:  whether it is a management line
    words:  it in words, seen from the device, with who is on the other side
    takes:  what it can take a list of: `ipv4`, `ipv6`, `frame`
    placed:  the lists that stand there
    """

    device: str
    at: str
    direction: Direction
    line: bool
    words: str
    takes: tuple[Takes, ...]
    placed: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Places:
    segments: tuple[SegmentReport, ...]
    points: tuple[PointReport, ...]


_ListsByPoint = dict[AttachmentPoint, list[tuple[str, Family | None]]]
"""The names and families of the lists at each point; None of a frame list."""


def places_of(network: Network) -> Places:
    """Every segment with more than one interface, and every attachment point."""
    segments = find_segments(network)
    interfaces = {
        (device.name, interface.name): interface
        for device in network.devices
        for interface in device.interfaces
    }
    devices = {device.name: device for device in network.devices}
    placed = _placed(network)
    neighbours: dict[tuple[str, str], list[str]] = {}
    reports = []
    for members, carriers in zip(segments.members, segments.carriers, strict=True):
        for port in members:
            neighbours[port] = list(dict.fromkeys(device for device, _ in members if device != port[0]))
        if len(members) > 1:
            reports.append(_segment(interfaces, members, carriers))
    for link in network.links:
        for near, far in (link.ends, link.ends[::-1]):
            name, _, at = near.partition(":")
            if link.enabled and devices[name].traits.bridges:
                neighbours[name, at] = [far.partition(":")[0]]
    points = [
        point
        for device in network.devices
        if device.traits.takes_lists or device.traits.takes_frame_lists
        for point in _points(device, neighbours, placed)
    ]
    return Places(tuple(reports), tuple(points))


def _placed(network: Network) -> _ListsByPoint:
    families = {access_list.name: access_list.family for access_list in network.lists}
    found: _ListsByPoint = {}
    for each in network.placements:
        point = AttachmentPoint(each.device, each.at, each.direction)
        found.setdefault(point, []).append((each.list, families[each.list]))
    return found


def _segment(
    interfaces: dict[tuple[str, str], Interface],
    members: tuple[tuple[str, str], ...],
    carriers: tuple[tuple[str, int], ...],
) -> SegmentReport:
    prefixes = [str(address.network) for port in members for address in interfaces[port].addresses]
    return SegmentReport(
        tuple(dict.fromkeys(prefixes)),
        tuple(f"{device}:{interface}" for device, interface in members),
        tuple(switch for switch, _ in carriers),
        tuple(vlan for _, vlan in carriers),
    )


def _points(
    device: Device, neighbours: dict[tuple[str, str], list[str]], placed: _ListsByPoint
) -> Iterable[PointReport]:
    takes_packets: tuple[Takes, ...] = ("ipv4", "ipv6") if device.traits.takes_lists else ()
    for interface in device.interfaces:
        others = neighbours.get((device.name, interface.name), [])
        for direction in Direction:
            point = AttachmentPoint(device.name, interface.name, direction)
            takes = takes_packets + (("frame",) if device.traits.takes_frame_lists else ())
            yield _report(placed, point, takes, False, _beyond(interface, others, direction))
    for line in device.lines:
        point = AttachmentPoint(device.name, line.at, Direction.IN)
        offers = (
            f", for logins by {' and '.join(line.transports)}"
            if line.transports
            else ", for no network login"
        )
        yield _report(placed, point, takes_packets, True, offers)


def _report(
    placed: _ListsByPoint, point: AttachmentPoint, could_take: tuple[Takes, ...], line: bool, more: str
) -> PointReport:
    here = placed.get(point, ())
    taken = {"frame" if family is None else family.value for _, family in here}
    takes = tuple(each for each in could_take if each not in taken)
    names = tuple(name for name, _ in here)
    return PointReport(point.device, point.at, point.direction, line, str(point) + more, takes, names)


def _beyond(interface: Interface, others: list[str], direction: Direction) -> str:
    if not interface.enabled:
        return ", which is disabled"
    if not others:
        return ", where nobody else is"
    named = others[:MOST_NAMED]
    more = f" and {len(others) - MOST_NAMED} more" if len(others) > MOST_NAMED else ""
    listed = ", ".join(named) if more or len(named) == 1 else f"{', '.join(named[:-1])} and {named[-1]}"
    return f", {'from' if direction is Direction.IN else 'toward'} {listed}{more}"
