"""Entries that would make a requirement hold, proposed at every place where they could stand."""

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum

from msgspec.structs import replace

from greyheron.analysis.advice.entries import entry_lines, on_top, placed_anew, service_terms, side_terms
from greyheron.analysis.advice.opening import Opener
from greyheron.analysis.advice.proposal import Measure, Proposal, free_name
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.analysis.proof.services import meant
from greyheron.core.intervals import span_minus, span_union
from greyheron.core.lists.fields.services import Tag
from greyheron.core.lists.matching import decide
from greyheron.core.lists.resolved import Names, ResolvedList
from greyheron.core.walk.addressing import first_packet
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, key_of, putting
from greyheron.model.document import AccessList, Network, Placement
from greyheron.model.header import NOTHING_SAID
from greyheron.model.requirement import RequirementKind, Statement
from greyheron.model.values import Action, Direction, Expectation, Family, ListKind

MOST_POINTS = 24
"""So many places are tried; those that most of the unwanted conversations come to first."""
MOST_MOVED = 8
"""A list that is there is tried at so many of them."""


class Proposer:
    """What could be written where, for one draft."""

    def __init__(self, prover: Prover, world: World, network: Network) -> None:
        self._prover, self._world, self._network = prover, world, network
        self._endpoints: dict[Family, Endpoints] = {}
        self._opener = Opener(prover, world, network)
        self._lines: dict[tuple[Statement, ListKind, Family, bool, Addressed], list[str]] = {}
        lists = {found.name: found for found in network.lists}
        self._placed = {
            (AttachmentPoint(each.device, each.at, each.direction), lists[each.list].family): lists[each.list]
            for each in network.placements
        }

    def endpoints(self, family: Family) -> Endpoints:
        """Everyone in the draft with everyone who could be there."""
        if family not in self._endpoints:
            self._endpoints[family] = Endpoints(self._world.with_possible_hosts, self._network, family)
        return self._endpoints[family]

    def proposals(self, statement: Statement, proven: Proven, family: Family) -> Iterator[Proposal]:
        """Entries that deny what is unwanted, at the places it comes to, and that open what is wanted."""
        wrong = {half.classes.half.expect for half in proven.halves for part in half.parts if len(part.wrong)}
        if Expectation.PASS in wrong:
            yield from self._opener.openings(statement, proven, family, self.endpoints(family))
        if Expectation.BLOCK in wrong:
            yield from self._denials(statement, proven, family)

    def _denials(self, statement: Statement, proven: Proven, family: Family) -> Iterator[Proposal]:
        counts: dict[AttachmentPoint, int] = {}
        for half in proven.halves:
            if half.classes.half.expect is Expectation.BLOCK and half.classes.grounds.family is family:
                for part in half.parts:
                    for point, count in part.points_met().items():
                        counts[point] = counts.get(point, 0) + count
        everyone = self._world.with_possible_hosts.topology.devices
        points = [point for point in counts if everyone[point.device].traits.takes_lists]
        entering = _nearest(self._world, points, proven, family, Direction.IN)
        leaving = _nearest(self._world, points, proven, family, Direction.OUT)
        near = {*entering, *leaving}
        points.sort(key=lambda point: (point not in near, -counts[point], point))
        kinds = [ListKind.EXTENDED, *([ListKind.STANDARD] if family is Family.IPV4 else [])]
        yield from self._moved(points, proven, family)
        goals = self.endpoints(family).of(statement.destinations, translated=True)
        addressed = list(Addressed) if any(goal.translated for goal in goals) else [Addressed.INSIDE]
        for point in points[:MOST_POINTS]:
            for kind in kinds:
                for each in addressed if kind is ListKind.EXTENDED and not point.is_line else addressed[:1]:
                    yield from self._denial(statement, (point,), kind, family, each)
        lines = [point for point in points if point.at in _line_names(self._network, point.device)]
        sets = {tuple(sorted(each)) for each in (lines, entering, leaving)}
        for together in sorted(sets, key=len):
            if len(together) > 1:
                for kind in kinds:
                    yield from self._denial(statement, together, kind, family, addressed[-1])

    def _denial(
        self,
        statement: Statement,
        points: tuple[AttachmentPoint, ...],
        kind: ListKind,
        family: Family,
        addressed: "Addressed",
    ) -> Iterator[Proposal]:
        at_lines = all(point.at in _line_names(self._network, point.device) for point in points)
        key = statement, kind, family, at_lines, addressed
        if key not in self._lines:
            self._lines[key] = self.denying(*key)
        lines = self._lines[key]
        if not lines:
            return
        changes: list[Change] = []
        name = free_name(statement, self._network)
        grown: dict[str, AccessList] = {}
        fresh: list[AttachmentPoint] = []
        for point in points:
            there = self._placed.get((point, family))
            if there is None:
                fresh.append(point)
            elif there.kind is not kind and kind is ListKind.STANDARD:
                return  # it stands there already, and tells more apart
            else:
                grown[there.name] = there
        for there in grown.values():
            changes.append(on_top(there, lines, kind))
        if fresh:
            everything = "permit from any" if kind is ListKind.STANDARD else "permit any from any to any"
            if not lines[-1].startswith(("deny from any", "deny any from any to any")):
                lines = [*lines, everything]
            changes += placed_anew(name, family, kind, "\n".join(lines), fresh)
        which = name if fresh else next(iter(grown))
        widened = any(there.kind is not kind for there in grown.values())
        measure = Measure.NEW if fresh else Measure.WIDENED if widened else Measure.EXTENDED
        exact = at_lines and self._whole_lines(statement, points, family)
        yield Proposal(points, which, kind, family, measure, tuple(lines), tuple(changes), exact)

    def _towards(
        self, statement: Statement, goals: tuple[Endpoint, ...], endpoints: Endpoints, addressed: "Addressed"
    ) -> list[str]:
        """Destinations as the addresses of entries."""
        inside = tuple(goal for goal in goals if not goal.translated)
        outside = [str(block) for goal in goals if goal.translated for block in goal.region]
        if addressed is Addressed.OUTSIDE:
            return outside
        own = side_terms(statement.destinations, inside, self._network, endpoints)
        return own if addressed is Addressed.INSIDE else [*own, *outside]

    def _whole_lines(self, statement: Statement, points: Iterable[AttachmentPoint], family: Family) -> bool:
        """Whether all that can come to lines is asked for, so that the source alone decides."""
        if statement.header != NOTHING_SAID:
            return False
        topology, names = self._world.topology, Names(self._network)
        for point in points:
            device = topology.devices[point.device]
            line = next(line for line in device.lines if line.at == point.at)
            asked = (each for each in meant(statement.asks, device, names, family) if each.tag is Tag.TCP)
            spans = span_union(span for service in asked for span in service.spans)
            if span_minus(tuple((port, port) for port in sorted(line.ports)), spans):
                return False
        return True

    def _moved(self, points: Sequence[AttachmentPoint], proven: Proven, family: Family) -> Iterator[Proposal]:
        """Lists that deny what is unwanted and stand where it does not come by, or nowhere."""
        unwanted = proven.proof.counterexample
        if unwanted is None or unwanted.expect is not Expectation.BLOCK:
            return
        packet = first_packet(self._world, unwanted.flow)
        for found in self._network.lists:
            placements = [each for each in self._network.placements if each.list == found.name]
            if found.family is not family or len(placements) > 1 or packet.family is not family:
                continue
            rules = self._world.resolved[found.name]
            assert isinstance(rules, ResolvedList)  # of a family
            decision = decide(rules, replace(packet, source=packet.source or 0))
            deciding = next((rule for rule in rules.rules if rule.entry.number == decision.entry), None)
            # A list that denies everybody is not meant for these.
            if (
                not decision.denies
                or deciding is None
                or (deciding.sources, deciding.destinations) == (None, None)
            ):
                continue
            for point in points[:MOST_MOVED]:
                if (point, family) in self._placed:
                    continue
                new = Placement(list=found.name, device=point.device, at=point.at, direction=point.direction)
                changes = (
                    *(Change(collection="placements", key=key_of("placements", old)) for old in placements),
                    putting("placements", new),
                )
                yield Proposal((point,), found.name, found.kind, family, Measure.MOVED, (), changes)

    def denying(
        self, statement: Statement, kind: ListKind, family: Family, at_lines: bool, addressed: "Addressed"
    ) -> list[str]:
        """Entries that deny what is unwanted; for `only` those come first that permit what is wanted."""
        endpoints = self.endpoints(family)
        sources, goals = (
            endpoints.of(statement.sources),
            endpoints.of(statement.destinations, translated=True),
        )
        if not goals or (not sources and statement.kind is not RequirementKind.ONLY):
            return []
        from_ = side_terms(statement.sources, sources, self._network, endpoints) if sources else []
        to = ["any"] if at_lines else self._towards(statement, goals, endpoints, addressed)
        services = service_terms(
            statement.asks, goals, self._world.with_possible_hosts, self._network, family
        )
        if statement.kind is RequirementKind.BLOCK:
            return entry_lines(Action.DENY, kind, from_, to, services, statement.header)
        return [
            *(entry_lines(Action.PERMIT, kind, from_, to, services, statement.header) if from_ else []),
            *entry_lines(Action.DENY, kind, ["any"], to, services, statement.header),
        ]


class Addressed(StrEnum):
    """By which addresses entries name what translation rules publish: where they stand decides."""

    INSIDE = "inside"
    OUTSIDE = "outside"
    BOTH = "both"


def _line_names(network: Network, device: str) -> set[str]:
    return {line.at for each in network.devices if each.name == device for line in each.lines}


def _nearest(
    world: World, points: Sequence[AttachmentPoint], proven: Proven, family: Family, way: Direction
) -> list[AttachmentPoint]:
    """Of `points` those where unwanted packets come from their own segments, or go out to their goals'."""
    with_possible_hosts = world.with_possible_hosts
    ends: set[str] = set()
    for half in proven.halves:
        for part in half.parts:
            if half.classes.half.expect is Expectation.BLOCK and part.family is family:
                ends |= part.ends(way is Direction.IN)
    segments = {
        with_possible_hosts.topology.segments.of.get((name, interface.name))
        for name in ends
        for interface in with_possible_hosts.topology.devices[name].interfaces
    } - {None}
    return [
        point
        for point in points
        if point.direction is way
        and world.topology.segments.of.get((point.device, point.at)) in segments
        and world.topology.devices[point.device].traits.forwards
        and (way is Direction.IN or point.device not in ends)
    ]
