"""Findings in where lists are placed."""

from collections.abc import Iterator, Sequence

import numpy as np

from greyheron.analysis.findings.finding import Finding, Ground, Repair, Severity, shortened
from greyheron.analysis.proof.places import Place, Places
from greyheron.analysis.proof.regions import Region, meet
from greyheron.analysis.words import place_words
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.headers import Bools, Ints
from greyheron.core.lists import Rule
from greyheron.core.places import AttachmentPoint
from greyheron.model.changes import Change, key_of, putting
from greyheron.model.document import Placement
from greyheron.model.entry import AddressBlock
from greyheron.model.services import Request
from greyheron.model.values import Action, DeviceKind, Direction, Family, LineKind, ListKind

MOST_ENDS = 1200
"""Where there are more addresses and segments, it is not looked at who comes by which place."""
_ANY_PROTOCOL = 253


def in_placements(ground: Ground) -> Iterator[Finding]:
    yield from _on_console(ground)
    yield from _near_the_source(ground)
    for family in Family:
        if any(which is family for _, which in ground.world.lists):
            yield from _facing_away(ground, family)


def _on_console(ground: Ground) -> Iterator[Finding]:
    devices = {device.name: device for device in ground.network.devices}
    families = {each.name: each.family for each in ground.network.lists}
    for placed in ground.network.placements:
        device = devices[placed.device]
        if placed.at != LineKind.CONSOLE or not any(line.name == LineKind.CONSOLE for line in device.lines):
            continue
        taken = {
            families[each.list]
            for each in ground.network.placements
            if (each.device, each.at) == (placed.device, LineKind.REMOTE)
        }
        remote = any(line.name == LineKind.REMOTE for line in device.lines)
        repair = None
        if remote and families[placed.list] not in taken:
            repair = Repair(
                f"move {placed.list} to the remote line", _moved(placed, LineKind.REMOTE, Direction.IN)
            )
        yield Finding(
            "list on the console line",
            Severity.FAULT if repair else Severity.WARNING,
            f"{placed.list} at {placed.device}",
            f"{placed.list} stands on {placed.device}’s console line, which no login over the network uses"
            + (": its remote line has no list." if repair else "."),
            devices=(placed.device,),
            lists=(placed.list,),
            repair=repair,
        )


def _moved(placed: Placement, at: str, direction: Direction) -> tuple[Change, ...]:
    moved = placed.model_copy(update={"at": at, "direction": direction})
    gone = Change(collection="placements", key=key_of("placements", placed))
    return gone, putting("placements", moved)


def _near_the_source(ground: Ground) -> Iterator[Finding]:
    """A standard list where those whom it denies come in: it keeps them from everything."""
    for (point, family), found in ground.world.lists.items():
        device = ground.world.devices[point.device]
        router = device.kind in (DeviceKind.ROUTER, DeviceKind.FIREWALL)
        port = (point.device, point.at)
        if found.kind is not ListKind.STANDARD or not router or point.direction is not Direction.IN:
            continue
        if port not in ground.world.segments.of:
            continue
        prefixes = [each.prefix for each in ground.world.held(port, family)]
        denied = [
            rule.entry.number
            for rule in found.rules
            if rule.entry.action is Action.DENY
            and rule.sources is not None
            and any(prefix.holds(block.value) for prefix in prefixes for block in rule.sources)
        ]
        if denied:
            yield Finding(
                "standard list near the source",
                Severity.WARNING,
                f"{found.name} at {point.device} {point.at}",
                f"{found.name} looks at sources only and stands where they come in, {place_words(point)}: "
                f"whom it denies there, it keeps from everything.",
                (f"entries {shortened(map(str, denied))} deny addresses of that very segment",),
                (point.device,),
                (found.name,),
            )


def _facing_away(ground: Ground, family: Family) -> Iterator[Finding]:
    """Lists whose entries look for addresses that never come by where they stand."""
    inhabited = ground.world.inhabited
    found_places = Places(inhabited, ground.network, family)
    places = (*found_places.every, *found_places.translated)
    if len(places) > MOST_ENDS:
        return
    met = _Met(ground, family, places)
    regions = [place.region for place in places]
    for (point, which), found in ground.world.lists.items():
        if which is not family or (point.device, point.at) not in ground.world.interfaces:
            continue
        own = [rule for rule in found.rules if rule.sources is not None or rule.destinations is not None]
        pairs = met.at(point)
        if own and len(pairs) and not any(_comes_by(rule, regions, pairs) for rule in own):
            turned = Direction.OUT if point.direction is Direction.IN else Direction.IN
            other = AttachmentPoint(point.device, point.at, turned)
            fits = any(_comes_by(rule, regions, met.at(other)) for rule in own)
            free = (other, family) not in ground.world.lists
            placed = Placement(list=found.name, device=point.device, at=point.at, direction=point.direction)
            repair = None
            if fits and free:
                repair = Repair(
                    f"turn {found.name} to {place_words(other)}", _moved(placed, point.at, other.direction)
                )
            where = f" They do {place_words(other)}." if fits else ""
            yield Finding(
                "list that faces the wrong way",
                Severity.FAULT,
                f"{found.name} at {point.device} {point.at} {point.direction}",
                f"{found.name} stands {place_words(point)}, where none of the addresses that its entries "
                f"name ever come by in that direction.{where}",
                devices=(point.device,),
                lists=(found.name,),
                repair=repair,
            )


def _comes_by(rule: Rule, regions: list[Region], pairs: Ints) -> bool:
    """Whether some of (source, destination) pairs of regions are such as `rule` looks for."""
    sources, goals = _ends(regions, rule.sources), _ends(regions, rule.destinations)
    return bool((sources[pairs[:, 0]] & goals[pairs[:, 1]]).any())


def _ends(regions: list[Region], blocks: tuple[AddressBlock, ...] | None) -> Bools:
    """Which regions have an address in some of `blocks`."""
    if blocks is None:
        return np.ones(len(regions), dtype=np.bool_)
    found = [any(meet(one, other) for one in region for other in blocks) for region in regions]
    return np.array(found, dtype=np.bool_)


class _Met:
    """Who comes by which place, on the way to whom, in the network without lists."""

    def __init__(self, ground: Ground, family: Family, places: Sequence[Place]) -> None:
        ends = [(place.device, place.region[0].first) for place in places]
        numbers = {device: number for number, (device, _) in enumerate(ends)}
        devices = np.array([numbers[device] for device, _ in ends], dtype=np.int64)
        sends = np.array([not place.translated for place in places], dtype=np.bool_)
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
        courses = ground.engines(ground.world.inhabited.baseline).courses(asked)
        rows, codes = courses.meetings()
        order = np.argsort(codes, kind="stable")
        self._codes, self._rows = codes[order], rows[order]
        self._pair = np.zeros((len(courses.rows), 2), dtype=np.int64)
        self._pair[courses.row_of] = np.stack([source, goal], axis=1)
        self._gate = courses.fabric.gate

    def at(self, point: AttachmentPoint) -> Ints:
        """(source, destination) pairs, as places among the ends."""
        code = self._gate[point]
        first, end = np.searchsorted(self._codes, [code, code + 1])
        found: Ints = self._pair[self._rows[first:end]]
        return found
