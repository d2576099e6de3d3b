"""Reach: who can talk to whom about which services, for every pair of devices at once."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from greyheron.core.addresses import is_link_local
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.conversation import USUAL_SOURCE_PORT, Verdict
from greyheron.core.lists import Names
from greyheron.core.world import World
from greyheron.model.document import Device, Network
from greyheron.model.entry import NamedAddresses
from greyheron.model.names import TCP, UDP
from greyheron.model.services import Request, requested
from greyheron.model.values import DeviceKind, Family

OWN_SERVICES = "services"
"""The word for whatever each destination listens on."""
MOST_SERVICES = 12
_AT_ONCE = 60_000
"""So many conversations are asked about between two looks at whether to go on."""


class ReachError(ValueError):
    """A question that cannot be asked; says why."""


class GroupKind(StrEnum):
    SEGMENT = "segment"
    SET = "set"
    ZONE = "zone"
    KIND = "kind"


@dataclass(frozen=True, slots=True)
class Group:
    """Devices that are looked at together. `members` are places among the devices of the matrix."""

    kind: GroupKind
    name: str
    members: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Axis:
    """The devices of a matrix, the same in its rows and columns, and the groups they can be folded into."""

    devices: tuple[str, ...]
    groups: tuple[Group, ...]


@dataclass(frozen=True, slots=True)
class ReachQuestion:
    """services:  words as in test flows, or OWN_SERVICES"""

    services: tuple[str, ...]
    family: Family


Cells = NDArray[np.uint8]
"""(devices, devices) from row to column: a bit for each verdict that occurs, in VERDICT_ORDER; 0: none."""


@dataclass(frozen=True, slots=True)
class Cell:
    """One conversation behind a cell: the flow as it is written, and its verdict."""

    flow: str
    verdict: Verdict


def axis_of(world: World, network: Network, family: Family) -> Axis:
    """The devices that have an address to talk from, and their groups."""
    named = [
        device
        for device in network.devices
        if device.kind is not DeviceKind.SWITCH and _addresses(world, device.name, family)
    ]
    order = sorted(named, key=lambda device: (_first_segment(world, device), device.kind.value))
    place = {device.name: number for number, device in enumerate(order)}
    return Axis(tuple(place), (*_segment_groups(world, order), *_named_groups(world, network, place, family)))


def _addresses(world: World, device: str, family: Family) -> list[int]:
    return [each for each in world.addresses(device, family) if not is_link_local(family, each)]


def _first_segment(world: World, device: Device) -> int:
    """Hosts stand by their segment; what joins segments stands behind them."""
    many = len(world.segments.members)
    if device.kind is not DeviceKind.HOST:
        return many + (device.kind is DeviceKind.OUTSIDE)
    found = [world.segments.of.get((device.name, interface.name), many) for interface in device.interfaces]
    return min(found, default=many)


def _segment_groups(world: World, devices: list[Device]) -> Iterator[Group]:
    """Every device in one group: hosts by segment, the others by kind."""
    members: dict[tuple[GroupKind, str], list[int]] = {}
    for number, device in enumerate(devices):
        segment = _first_segment(world, device)
        if device.kind is DeviceKind.HOST:
            key = GroupKind.SEGMENT, _segment_name(world, segment)
        elif device.kind is DeviceKind.OUTSIDE:
            key = GroupKind.KIND, "outside"
        else:
            key = GroupKind.KIND, "routers and firewalls"
        members.setdefault(key, []).append(number)
    for (kind, name), places in members.items():
        yield Group(kind, name, tuple(places))


def _segment_name(world: World, segment: int) -> str:
    ports = world.segments.members[segment] if segment < len(world.segments.members) else ()
    prefixes = [
        str(each.prefix)
        for family in Family
        for port in ports
        for each in world.held(port, family)
        if not is_link_local(family, each.address)
    ]
    return prefixes[0] if prefixes else "not connected"


def _named_groups(world: World, network: Network, place: dict[str, int], family: Family) -> Iterator[Group]:
    """Address sets by the devices that hold an address of theirs; zones by the devices on their segments."""
    names = Names(network)
    for group in network.address_sets:
        blocks = names.addresses(NamedAddresses(group.name), family) or ()
        inside = [
            number
            for device, number in place.items()
            if any(block.holds(address) for block in blocks for address in _addresses(world, device, family))
        ]
        if inside:
            yield Group(GroupKind.SET, f"@{group.name}", tuple(inside))
    for firewall in network.devices:
        for zone in firewall.zones:
            segments = {world.segments.of.get((firewall.name, name)) for name in zone.interfaces} - {None}
            behind = {
                port[0]
                for segment in segments
                if segment is not None
                for port in world.segments.members[segment]
            }
            found = sorted(place[device] for device in behind - {firewall.name} if device in place)
            if found:
                yield Group(GroupKind.ZONE, f"{firewall.name} {zone.name}", tuple(found))


def requests_to(world: World, device: str, question: ReachQuestion) -> list[tuple[str, Request]]:
    """What is asked of a device, each as a test flow writes it. Raises ReachError for an unknown word."""
    found: dict[Request, str] = {}
    for word in question.services:
        if word == OWN_SERVICES:
            for request in _own_requests(world.devices[device]):
                found.setdefault(request, _written(request))
            continue
        known = requested(word, world.devices[device], question.family)
        if known is None:
            raise ReachError(
                f"no service is known by the name “{word}”: write tcp/443, ping or services, say"
            )
        found.setdefault(known, word)
    return [(word, request) for request, word in found.items()]


def _own_requests(device: Device) -> Iterator[Request]:
    for service in device.services:
        yield Request(TCP if service.protocol == "tcp" else UDP, service.port)
    for line in device.lines:
        for port in sorted(line.ports):
            yield Request(TCP, port)


def _written(request: Request) -> str:
    return f"{'tcp' if request.protocol == TCP else 'udp'}/{request.port}"


class ReachCancelled(Exception):
    """Nobody waits for the matrix any more."""


def reach(
    world: World,
    engine: BulkEngine,
    axis: Axis,
    question: ReachQuestion,
    progress: Callable[[float], bool] = lambda _done: True,
) -> Cells:
    """What of `question` gets from every device to every address of every other.

    progress:  told how much is done, 0 to 1; false ends it with ReachCancelled. Raises ReachError.
    """
    count = len(axis.devices)
    cells = np.zeros((count, count), dtype=np.uint8)
    destinations, requests, column, to, about = _goals(world, axis, question)
    per_sender = len(to)
    step = max(1, _AT_ONCE // max(per_sender, 1))
    for first in range(0, count, step):
        if not progress(first / count):
            raise ReachCancelled
        senders = np.arange(first, min(first + step, count))
        sender = np.repeat(senders, per_sender)
        goal = np.tile(np.arange(per_sender), len(senders))
        apart = sender != column[goal]
        sender, goal = sender[apart], goal[apart]
        if len(sender) == 0:
            continue
        found = engine.verdicts(
            Conversations(
                question.family,
                [(device, None) for device in axis.devices],
                destinations,
                requests,
                sender,
                to[goal],
                about[goal],
                np.full(len(sender), USUAL_SOURCE_PORT),
            )
        )
        bits = np.left_shift(1, found.verdict).astype(np.uint8)
        np.bitwise_or.at(cells, (sender, column[goal]), bits)
    return cells


def _goals(
    world: World, axis: Axis, question: ReachQuestion
) -> tuple[list[int], list[Request], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """What to ask for: addresses, requests, and of each goal its column and its places in them."""
    destinations: dict[int, int] = {}
    requests: dict[Request, int] = {}
    goals: list[tuple[int, int, int]] = []
    for column, device in enumerate(axis.devices):
        asked = requests_to(world, device, question)
        for address in _addresses(world, device, question.family):
            to = destinations.setdefault(address, len(destinations))
            goals += [(column, to, requests.setdefault(request, len(requests))) for _, request in asked]
    columns = np.array(goals, dtype=np.int64).reshape(-1, 3).T
    return list(destinations), list(requests), columns[0], columns[1], columns[2]


def flows_between(world: World, source: str, destination: str, question: ReachQuestion) -> list[str]:
    """The conversations behind one cell, as test flows write them. Raises ReachError."""
    family = question.family
    return [
        f"{source} → {destination}:{family.text(address)} {word}"
        for address in _addresses(world, destination, family)
        for word, _ in requests_to(world, destination, question)
    ]


def rows_of(cells: Cells) -> list[str]:
    """Each row as a string, a character for each cell: its bits as an offset from "0"."""
    return ["".join(chr(48 + bits) for bits in row) for row in cells.tolist()]


def verdicts_in(bits: int) -> list[Verdict]:
    """The verdicts that occur in a cell."""
    return [verdict for place, verdict in enumerate(VERDICT_ORDER) if bits >> place & 1]
