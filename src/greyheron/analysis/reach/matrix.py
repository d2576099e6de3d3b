"""Reach: who can talk to whom about which services, for every pair of devices at once."""

from collections.abc import Iterator
from copy import copy
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from greyheron.core.addresses import is_link_local
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine, Courses
from greyheron.core.bulk.headers import NONE, Ints
from greyheron.core.conversation import USUAL_SOURCE_PORT, Verdict
from greyheron.core.lists import Names
from greyheron.core.progress import Progress, unwatched
from greyheron.core.world import World
from greyheron.model.document import Device, Network
from greyheron.model.entry import NamedAddresses
from greyheron.model.names import TCP, UDP
from greyheron.model.services import OWN_SERVICES, Request, requested, written
from greyheron.model.values import Family

MOST_SERVICES = 12
MOST_ASKED = 60_000
"""Conversations that are looked at where only hosts ask."""
_AT_ONCE = 30_000
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
    """Devices that are looked at together. `members` are indices among the devices of the matrix."""

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
    """services:  words as in test flows, or OWN_SERVICES

    hosts_only:  leave routers and firewalls out
    from_hosts:  they only answer, and of very many hosts some ask, evenly picked: the work is bounded
    """

    services: tuple[str, ...]
    family: Family
    hosts_only: bool = False
    from_hosts: bool = False


Cells = NDArray[np.uint8]
"""(devices, devices) from row to column: a bit for each verdict that occurs, in VERDICT_ORDER; 0: none."""


def axis_of(world: World, network: Network, question: ReachQuestion) -> Axis:
    """The devices that have an address to talk from, and their groups."""
    family = question.family
    named = [
        device
        for device in network.devices
        if not device.traits.bridges
        and not (question.hosts_only and device.traits.forwards)
        and _addresses(world, device.name, family)
    ]
    order = sorted(named, key=lambda device: (_first_segment(world, device), device.kind.value))
    index = {device.name: number for number, device in enumerate(order)}
    return Axis(tuple(index), (*_segment_groups(world, order), *_named_groups(world, network, index, family)))


def _addresses(world: World, device: str, family: Family) -> list[int]:
    return [each for each in world.topology.addresses(device, family) if not is_link_local(family, each)]


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
    prefixes = [
        str(each.prefix)
        for family in Family
        for port in ports
        for each in world.topology.held(port, family)
        if not is_link_local(family, each.address)
    ]
    return prefixes[0] if prefixes else "not connected"


def _named_groups(world: World, network: Network, index: dict[str, int], family: Family) -> Iterator[Group]:
    """Address sets by the devices that hold an address of theirs; zones by the devices on their segments."""
    names = Names(network)
    for group in network.address_sets:
        blocks = names.addresses(NamedAddresses(group.name), family) or ()
        inside = [
            number
            for device, number in index.items()
            if any(block.holds(address) for block in blocks for address in _addresses(world, device, family))
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


def require_services(world: World, question: ReachQuestion) -> None:
    """Raise ReachError unless each service is known somewhere."""
    if not question.services:
        raise ReachError("no service is asked for: write tcp/443, ping or services, say")
    if len(question.services) > MOST_SERVICES:
        raise ReachError(f"{len(question.services)} services are asked for: at most {MOST_SERVICES} at once")
    named = {service.name for device in world.topology.devices.values() for service in device.services}
    for word in question.services:
        if word != OWN_SERVICES and word not in named and requested(word, None, question.family) is None:
            raise ReachError(
                f"no service is known by the name “{word}”: write tcp/443, ping or services, say"
            )


def requests_to(world: World, device: str, question: ReachQuestion) -> list[tuple[str, Request]]:
    """What is asked of a device, each as a test flow writes it."""
    found: dict[Request, str] = {}
    for word in question.services:
        if word == OWN_SERVICES:
            for request in _own_requests(world.topology.devices[device]):
                found.setdefault(request, written(request, question.family))
            continue
        known = requested(word, world.topology.devices[device], question.family)
        if known is not None:
            found.setdefault(known, word)
    return [(word, request) for request, word in found.items()]


def _own_requests(device: Device) -> Iterator[Request]:
    for service in device.services:
        yield Request(TCP if service.protocol == "tcp" else UDP, service.port)
    for line in device.lines:
        for port in sorted(line.ports):
            yield Request(TCP, port)


@dataclass(frozen=True, slots=True)
class _MatrixPart:
    """Some of the conversations behind a matrix: their courses, and for each row its cell and its verdict."""

    courses: Courses
    sender: Ints
    column: Ints
    verdict: Ints


@dataclass(frozen=True, slots=True)
class Changed:
    """A conversation of a matrix that ends otherwise: who, to which address, about what.

    address:  the sender's, or None where that depends on the path
    before, after:  indices in VERDICT_ORDER
    """

    source: str
    address: int | None
    destination: int
    request: Request
    before: int
    after: int


@dataclass(frozen=True, slots=True)
class Alike:
    """Conversations of a matrix that end alike, at one place, by one entry: the first, and how many."""

    source: str
    owner: str
    destination: int
    request: Request
    count: int


class Reach:
    """What of a question gets from every device to every address of every other, in one world."""

    def __init__(
        self,
        world: World,
        engine: BulkEngine,
        axis: Axis,
        question: ReachQuestion,
        progress: Progress = unwatched,
    ) -> None:
        """Raises Cancelled."""
        self.axis, self.question = axis, question
        self._engine = engine
        self._parts = tuple(self._find(world, progress))

    @property
    def nbytes(self) -> int:
        """About how much memory it takes."""
        return sum(part.courses.nbytes for part in self._parts)

    def _find(self, world: World, progress: Progress) -> Iterator[_MatrixPart]:
        count = len(self.axis.devices)
        destinations, requests, column, to, about = _goals(world, self.axis, self.question)
        step = max(1, _AT_ONCE // max(len(to), 1))
        asking = [
            index
            for index, name in enumerate(self.axis.devices)
            if not (self.question.from_hosts and world.topology.devices[name].traits.forwards)
        ]
        if self.question.from_hosts:
            most = max(1, MOST_ASKED // max(len(to), 1))
            asking = asking[:: -(-len(asking) // most)] if len(asking) > most else asking
        for first in range(0, len(asking), step):
            progress(first / count)
            senders = np.array(asking[first : first + step], dtype=np.int64)
            sender, goal = np.repeat(senders, len(to)), np.tile(np.arange(len(to)), len(senders))
            apart = sender != column[goal]
            sender, goal = sender[apart], goal[apart]
            asked = Conversations(
                self.question.family,
                [(device, None) for device in self.axis.devices],
                destinations,
                requests,
                sender,
                to[goal],
                about[goal],
                np.full(len(sender), USUAL_SOURCE_PORT),
            )
            courses = self._engine.courses(asked)
            # Every row is one conversation here: all differ in sender, address or request.
            index = np.empty(len(sender), dtype=np.int64)
            index[courses.row_of] = np.arange(len(sender))
            verdict = self._engine.row_verdicts(courses).verdict
            yield _MatrixPart(courses, sender[index], column[goal][index], verdict)

    def cells(self) -> Cells:
        count = len(self.axis.devices)
        cells = np.zeros((count, count), dtype=np.uint8)
        for part in self._parts:
            bits = np.left_shift(1, part.verdict).astype(np.uint8)
            np.bitwise_or.at(cells, (part.sender, part.column), bits)
        return cells

    def fits(self, engine: BulkEngine) -> bool:
        """Whether `cells_in` can tell what `engine` makes of it."""
        return all(engine.fits(part.courses) for part in self._parts)

    def cells_in(self, engine: BulkEngine) -> Cells:
        """The cells in another world, which `fits`: only what its lists may change is looked at again."""
        return self._again(engine).cells()

    def again(self, world: World, engine: BulkEngine) -> "Reach":
        """The same matrix in another world of the same devices."""
        return self._again(engine) if self.fits(engine) else Reach(world, engine, self.axis, self.question)

    def _again(self, engine: BulkEngine) -> "Reach":
        found = copy(self)
        parts = []
        for part in self._parts:
            rows, changed = engine.changed_rows(part.courses, self._engine)
            verdict = part.verdict.copy()
            verdict[rows] = changed.verdict
            parts.append(replace(part, verdict=verdict))
        found._engine, found._parts = engine, tuple(parts)
        return found

    def changes_to(self, other: "Reach") -> Iterator[Changed]:
        """The conversations that end otherwise in `other`, which is the same matrix."""
        for part, after in zip(self._parts, other._parts, strict=True):
            rows, values = part.courses.rows, part.courses.rows.addresses.values
            for row in np.flatnonzero(part.verdict != after.verdict).tolist():
                yield Changed(
                    part.courses.forwarding.devices[rows.device[row]],
                    None if rows.source[row] == NONE else values[rows.source[row]],
                    values[rows.destination[row]],
                    rows.asked[rows.request[row]].request,
                    int(part.verdict[row]),
                    int(after.verdict[row]),
                )

    def decided(self, verdict: Verdict, most: int | None) -> Iterator[Alike]:
        """One conversation of each group with `verdict`, at most `most`; each alone when `most` is None."""
        wanted = VERDICT_ORDER.index(verdict)
        for part in self._parts:
            rows, values = part.courses.rows, part.courses.rows.addresses.values
            indices = np.flatnonzero(part.verdict == wanted)
            counts = np.ones(len(indices), dtype=np.int64)
            if most is not None:
                found = self._engine.row_verdicts(part.courses).take(indices)
                ways = np.stack([found.outcome, found.point, found.entry, found.device])
                _, first, counts = np.unique(ways, axis=1, return_index=True, return_counts=True)
                indices = indices[first][:most]
            for row, count in zip(indices.tolist(), counts.tolist(), strict=False):
                yield Alike(
                    part.courses.forwarding.devices[rows.device[row]],
                    self.axis.devices[part.column[row]],
                    values[rows.destination[row]],
                    rows.asked[rows.request[row]].request,
                    count,
                )

    def locked(self, world: World) -> set[str]:
        """The devices with a management line that nobody else can log in to."""
        passes = VERDICT_ORDER.index(Verdict.PASSES)
        ports = [
            {port for line in world.topology.devices[name].lines for port in line.ports}
            for name in self.axis.devices
        ]
        opened = np.array([not each for each in ports], dtype=np.bool_)
        for part in self._parts:
            asked = [each.request for each in part.courses.rows.asked]
            logins = np.array(
                [[each.protocol == TCP and each.port in own for each in asked] for own in ports],
                dtype=np.bool_,
            )
            found = (part.verdict == passes) & logins[part.column, part.courses.rows.request]
            opened[part.column[found]] = True
        return {name for name, is_open in zip(self.axis.devices, opened.tolist(), strict=True) if not is_open}


def _goals(
    world: World, axis: Axis, question: ReachQuestion
) -> tuple[list[int], list[Request], Ints, Ints, Ints]:
    """What to ask for: addresses, requests, and of each goal its column and its indices in them."""
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
    """The conversations behind one cell, as test flows write them."""
    family = question.family
    return [
        f"{source} → {destination}:{family.text(address)} {word}"
        for address in _addresses(world, destination, family)
        for word, _ in requests_to(world, destination, question)
    ]


def rows_of(cells: Cells) -> list[str]:
    """Each row as a string, a character for each cell: its bits as an offset from "0"."""
    return ["".join(chr(48 + bits) for bits in row) for row in cells.tolist()]


@dataclass(frozen=True, slots=True)
class ReachFound:
    """A matrix as running and on the draft, whose devices may differ."""

    running_axis: Axis
    axis: Axis
    running: Cells
    draft: Cells

    def running_on_draft_axis(self) -> Cells:
        """The running cells in the order of the draft's devices; 0 for those that are new."""
        index = {device: number for number, device in enumerate(self.running_axis.devices)}
        here = [number for number, device in enumerate(self.axis.devices) if device in index]
        there = [index[self.axis.devices[number]] for number in here]
        cells = np.zeros_like(self.draft)
        cells[np.ix_(here, here)] = self.running[np.ix_(there, there)]
        return cells


@dataclass(frozen=True, slots=True)
class ReachChange:
    """How many cells of a matrix change, and of those how many lose or gain what passes."""

    services: tuple[str, ...]
    changed: int
    lose: int
    gain: int


def change_of(question: ReachQuestion, before: Cells, after: Cells) -> ReachChange:
    passes = 1 << VERDICT_ORDER.index(Verdict.PASSES)
    changed = before != after
    whole = before == passes
    lose = changed & whole | changed & (before & passes > 0) & (after & passes == 0)
    gain = changed & (after == passes) | changed & (before & passes == 0) & (after & passes > 0)
    return ReachChange(question.services, int(changed.sum()), int(lose.sum()), int(gain.sum()))
