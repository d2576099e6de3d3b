"""Lists whose entries look for addresses that never come by where they stand."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from greyheron.analysis.findings.finding import Finding, Ground, Repair, Severity, moving
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.headers import Bools, Ints
from greyheron.core.regions import Region, meet
from greyheron.core.rules import Rule
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Placement
from greyheron.model.entry import AddressBlock
from greyheron.model.services import Request
from greyheron.model.values import Direction, Family

MOST_ENDS = 1200
"""Where there are more addresses and segments, only places before segments of hosts are judged."""
_ANY_PROTOCOL = 253


@dataclass(frozen=True, slots=True)
class Passing:
    """Who sends by a place and to whom, as indices among the endpoints.

    pairs:  which source to which goal, by their indices in those two; None: each to each
    """

    sources: Ints
    goals: Ints
    pairs: Bools | None


Passers = Callable[[AttachmentPoint], Passing | None]
"""Who comes by a place in the network without lists; None where that is not known."""


def passers_of(ground: Ground, family: Family, everyone: Endpoints) -> Passers:
    """Who comes by each place, as indices among all endpoints, those that are translated last."""
    endpoints = (*everyone.every, *everyone.translated)
    few = len(endpoints) <= MOST_ENDS
    return _traced(ground, family, endpoints) if few else _before_hosts(ground.world, endpoints)


def facing_away(ground: Ground, family: Family, everyone: Endpoints, passers: Passers) -> Iterator[Finding]:
    """Placed lists none of whose entries can ever match for their addresses."""
    placed = [
        point
        for point, which in ground.world.lists
        if which is family and (point.device, point.at) in ground.world.topology.interfaces
    ]
    regions = [endpoint.region for endpoint in (*everyone.every, *everyone.translated)]
    for number, point in enumerate(placed):
        ground.progress(number / len(placed))
        yield from _judged(ground, family, point, passers, regions)


def _judged(
    ground: Ground, family: Family, point: AttachmentPoint, passers: Passers, regions: Sequence[Region]
) -> Iterator[Finding]:
    found = ground.world.lists[point, family]
    own = [rule for rule in found.rules if rule.sources is not None or rule.destinations is not None]
    passing = passers(point)
    if not own or passing is None or len(passing.sources) == 0:
        return
    if any(_comes_by(rule, regions, passing) for rule in own):
        return
    turned = Direction.OUT if point.direction is Direction.IN else Direction.IN
    other = AttachmentPoint(point.device, point.at, turned)
    there = passers(other)
    fits = there is not None and any(_comes_by(rule, regions, there) for rule in own)
    repair = None
    if fits and (other, family) not in ground.world.lists:
        placed = Placement(list=found.name, device=point.device, at=point.at, direction=point.direction)
        label = f"turn {found.name} to {other}"
        repair = Repair(label, moving(placed, other))
    where = f" They do {other}." if fits else ""
    yield Finding(
        "list that faces the wrong way",
        Severity.FAULT,
        f"{found.name} at {point.device} {point.at} {point.direction}",
        f"{found.name} stands {point}, where none of the addresses that its entries "
        f"name ever come by in that direction.{where}",
        devices=(point.device,),
        lists=(found.name,),
        repair=repair,
    )


def _comes_by(rule: Rule, regions: Sequence[Region], passing: Passing) -> bool:
    """Whether some of those who come by are such as `rule` looks for."""
    sides = [(passing.sources, rule.sources), (passing.goals, rule.destinations)]
    few = 0 if len(passing.sources) <= len(passing.goals) else 1
    found: dict[int, Ints] = {}
    for side in (few, 1 - few):
        found[side] = _within(*sides[side], regions)
        if len(found[side]) == 0:
            return False
    return passing.pairs is None or bool(passing.pairs[np.ix_(found[0], found[1])].any())


def _within(ends: Ints, blocks: tuple[AddressBlock, ...] | None, regions: Sequence[Region]) -> Ints:
    """The indices in `ends` of those that have an address in some of `blocks`."""
    if blocks is None:
        return np.arange(len(ends))
    held = [
        number
        for number, end in enumerate(ends.tolist())
        if any(meet(one, other) for one in regions[end] for other in blocks)
    ]
    return np.array(held, dtype=np.int64)


def _traced(ground: Ground, family: Family, endpoints: Sequence[Endpoint]) -> Passers:
    """Everyone sends to everyone else, and it is seen by which places that goes."""
    ends = [(endpoint.device, endpoint.region[0].first) for endpoint in endpoints]
    numbers = {device: number for number, (device, _) in enumerate(ends)}
    devices = np.array([numbers[device] for device, _ in ends], dtype=np.int64)
    sends = np.array([not endpoint.translated for endpoint in endpoints], dtype=np.bool_)
    source, goal = np.divmod(np.arange(len(ends) ** 2), max(len(ends), 1))
    apart = (devices[source] != devices[goal]) & sends[source]
    source, goal = source[apart], goal[apart]
    nothing = np.zeros(len(source), dtype=np.int64)
    asked = Conversations(
        family,
        ends,
        [address for _, address in ends],
        [Request(_ANY_PROTOCOL)],
        source,
        goal,
        nothing,
        nothing,
    )
    courses = ground.engines(ground.world.with_possible_hosts.baseline).courses(asked)
    rows, codes = courses.meetings()
    order = np.argsort(codes, kind="stable")
    codes, rows = codes[order], rows[order]
    pair = np.zeros((len(courses.rows), 2), dtype=np.int64)
    pair[courses.row_of] = np.stack([source, goal], axis=1)

    def at(point: AttachmentPoint) -> Passing:
        code = courses.forwarding.point[point]
        first, end = np.searchsorted(codes, [code, code + 1])
        (sources, from_), (goals, to) = (
            np.unique(side, return_inverse=True) for side in pair[rows[first:end]].T
        )
        pairs = np.zeros((len(sources), len(goals)), dtype=np.bool_)
        pairs[from_, to] = True
        return Passing(sources, goals, pairs)

    return at


def _before_hosts(world: World, endpoints: Sequence[Endpoint]) -> Passers:
    """Where a segment has hosts and one router only: what enters comes from them, what leaves is for them."""
    topology, drawn = world.with_possible_hosts.topology, world.topology.devices

    def at(point: AttachmentPoint) -> Passing | None:
        own = topology.devices[point.device]
        segment = topology.segments.of.get((point.device, point.at))
        if segment is None or own.translations:
            return None
        members = {name for name, _ in topology.segments.members[segment]} - {point.device}
        traits = [drawn[name].traits for name in members if name in drawn]
        if any(each.forwards or each.open_ended for each in traits):
            return None
        near = np.array([endpoint.device in members for endpoint in endpoints], dtype=np.bool_)
        far = np.array([endpoint.device != point.device for endpoint in endpoints], dtype=np.bool_) & ~near
        if point.direction is Direction.OUT:
            return Passing(np.flatnonzero(far), np.flatnonzero(near), None)
        return Passing(np.flatnonzero(near), np.flatnonzero(~near), None)

    return at
