"""Proposals: entries that would make a requirement hold, at every place where they could."""

from collections.abc import Iterator, Sequence
from enum import StrEnum
from itertools import count

from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.advice.entries import entry_lines, rewritten, service_terms, side_terms, with_entries
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.endpoints import Endpoints
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.core.conversation import converse, first_packet
from greyheron.core.lists import ResolvedList
from greyheron.core.matching import decide
from greyheron.core.packet import Way
from greyheron.core.world import World, build_world
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, apply, key_of, putting
from greyheron.model.document import AccessList, Network, Placement
from greyheron.model.requirement import RequirementKind, Statement
from greyheron.model.values import Action, Direction, Expectation, Family, ListKind

MOST_POINTS = 24
"""So many places are tried; those that most of the unwanted conversations come to first."""
MOST_MOVED = 8
"""A list that is there is tried at so many of them."""
_ROUNDS = 6


class Measure(StrEnum):
    """What is done with the list of a proposal."""

    NEW = "new"
    EXTENDED = "extended"
    MOVED = "moved"


class Proposal(Struct, frozen=True):
    """What to do with one list, at attachment points; see `Choice`, which is a proposal that was tried."""

    points: tuple[AttachmentPoint, ...]
    list: str
    kind: ListKind
    family: Family
    measure: Measure
    entries: tuple[str, ...]
    changes: tuple[Change, ...]


class Proposer:
    """What could be written where, for one draft."""

    def __init__(self, prover: Prover, world: World, network: Network) -> None:
        self._prover, self._world, self._network = prover, world, network
        self._endpoints: dict[Family, Endpoints] = {}
        self._lines: dict[tuple[Statement, ListKind, Family, bool], list[str]] = {}
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
        wrong = {half.classes.half.expect for half in proven.halves for part in half.parts if len(part.wrong)}
        if Expectation.PASS in wrong:
            yield from self._permits(statement, proven, family)
        if Expectation.BLOCK in wrong:
            yield from self._denials(statement, proven, family)

    # Unwanted conversations: entries that deny them, at the places they come to.

    def _denials(self, statement: Statement, proven: Proven, family: Family) -> Iterator[Proposal]:
        counts: dict[AttachmentPoint, int] = {}
        for half in proven.halves:
            if half.classes.half.expect is Expectation.BLOCK and half.classes.grounds.family is family:
                for part in half.parts:
                    for point, count in part.points_met().items():
                        counts[point] = counts.get(point, 0) + count
        everyone = self._world.with_possible_hosts.topology.devices
        points = [point for point in counts if everyone[point.device].traits.takes_lists]
        points.sort(key=lambda point: (-counts[point], point))
        kinds = [ListKind.EXTENDED, *([ListKind.STANDARD] if family is Family.IPV4 else [])]
        yield from self._moved(points, proven, family)
        for point in points[:MOST_POINTS]:
            for kind in kinds:
                yield from self._denial(statement, (point,), kind, family)
        lines = [point for point in points if point.at in _line_names(self._network, point.device)]
        sets = {
            tuple(sorted(lines)),
            tuple(sorted(_nearest(self._world, points, proven, family, Direction.IN))),
            tuple(sorted(_nearest(self._world, points, proven, family, Direction.OUT))),
        }
        for together in sorted(sets, key=len):
            if len(together) > 1:
                for kind in kinds:
                    yield from self._denial(statement, together, kind, family)

    def _denial(
        self, statement: Statement, points: tuple[AttachmentPoint, ...], kind: ListKind, family: Family
    ) -> Iterator[Proposal]:
        at_lines = all(point.at in _line_names(self._network, point.device) for point in points)
        key = statement, kind, family, at_lines
        if key not in self._lines:
            self._lines[key] = self._denying(*key)
        lines = self._lines[key]
        if not lines:
            return
        changes: list[Change] = []
        name = _free_name(statement, self._network)
        grown: dict[str, AccessList] = {}
        fresh: list[AttachmentPoint] = []
        for point in points:
            there = self._placed.get((point, family))
            if there is None:
                fresh.append(point)
            elif there.kind is not kind:
                return
            else:
                grown[there.name] = there
        for there in grown.values():
            first = there.body.entries[0].number if there.body.entries else None
            text = with_entries(there, lines, first)
            changes.append(rewritten(there, text))
        if fresh:
            everything = "permit from any" if kind is ListKind.STANDARD else "permit any from any to any"
            if not lines[-1].startswith(("deny from any", "deny any from any to any")):
                lines = [*lines, everything]
            entries = "\n".join(lines)
            item = {"name": name, "family": family.value, "kind": kind.value, "entries": entries}
            changes.append(Change(collection="lists", key=name, item=item))
            changes += [
                putting(
                    "placements",
                    Placement(list=name, device=point.device, at=point.at, direction=point.direction),
                )
                for point in fresh
            ]
        which = name if fresh else next(iter(grown))
        measure = Measure.NEW if fresh else Measure.EXTENDED
        yield Proposal(points, which, kind, family, measure, tuple(lines), tuple(changes))

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

    def _denying(self, statement: Statement, kind: ListKind, family: Family, at_lines: bool) -> list[str]:
        """Entries that deny what is unwanted; for `only` those come first that permit what is wanted."""
        endpoints = self.endpoints(family)
        sources, goals = (
            endpoints.of(statement.sources),
            endpoints.of(statement.destinations, translated=True),
        )
        if not goals or (not sources and statement.kind is not RequirementKind.ONLY):
            return []
        from_ = side_terms(statement.sources, sources, self._network, family) if sources else []
        to = ["any"] if at_lines else side_terms(statement.destinations, goals, self._network, family)
        services = service_terms(
            statement.asks, goals, self._world.with_possible_hosts, self._network, family
        )
        if statement.kind is RequirementKind.BLOCK:
            return entry_lines(Action.DENY, kind, from_, to, services, statement.header)
        return [
            *(entry_lines(Action.PERMIT, kind, from_, to, services, statement.header) if from_ else []),
            *entry_lines(Action.DENY, kind, ["any"], to, services, statement.header),
        ]

    # Wanted conversations that are stopped: entries that permit them, before the ones that deny.

    def _permits(self, statement: Statement, proven: Proven, family: Family) -> Iterator[Proposal]:
        """One proposal: permits wherever what is wanted is denied, found one after another."""
        network, world = self._network, self._world
        now, entries, points, names = proven, list[str](), dict[AttachmentPoint, None](), dict[str, None]()
        for _ in range(_ROUNDS):
            denial = self._denial_of_wanted(now, world, family)
            if denial is None:
                break
            point, line, number, name = denial
            found = next(each for each in network.lists if each.name == name)
            network = apply(network, [rewritten(found, with_entries(found, [line], number))])
            world = build_world(network, world)
            entries.append(line)
            points[point], names[name] = None, None
            now = self._prover.prove(statement, world, network, now)
            if now.proof.answer is Answer.PROVED:
                break
        if entries:
            lists = {each.name: each for each in network.lists}
            changes = tuple(putting("lists", lists[name]) for name in names)
            kind = lists[next(iter(names))].kind
            measure = Measure.EXTENDED
            yield Proposal(tuple(points), ", ".join(names), kind, family, measure, tuple(entries), changes)

    def _denial_of_wanted(
        self, proven: Proven, world: World, family: Family
    ) -> tuple[AttachmentPoint, str, int | None, str] | None:
        """Where a wanted conversation is denied, and the entry that would permit it there."""
        for half in proven.halves:
            if half.classes.half.expect is not Expectation.PASS or half.classes.grounds.family is not family:
                continue
            for part in half.parts:
                for flow in part.flows(3):
                    for exchange in converse(world, flow).exchanges:
                        path = exchange.decider.path
                        if path.denial is None or path.denial.frame is not None:
                            continue  # frames are known by other things than what is wanted
                        name = path.denial.list_name
                        found = next(each for each in self._network.lists if each.name == name)
                        line = self._permit(
                            proven.statement, found, exchange.decider.way is Way.RETURN, family
                        )
                        return path.denial.point, line, path.denial.decision.entry, name
        return None

    def _permit(self, statement: Statement, found: AccessList, returning: bool, family: Family) -> str:
        endpoints = self.endpoints(family)
        sources = endpoints.of(statement.sources)
        goals = tuple(endpoint for endpoint in endpoints.of(statement.destinations) if endpoint.drawn)
        from_ = side_terms(statement.sources, sources, self._network, family)
        to = side_terms(statement.destinations, goals, self._network, family)
        if returning:
            from_, to = to, from_
        if found.kind is ListKind.STANDARD:
            return "\n".join(entry_lines(Action.PERMIT, found.kind, from_, to, []))
        services = service_terms(
            statement.asks, goals, self._world.with_possible_hosts, self._network, family
        )
        if not returning:
            return "\n".join(entry_lines(Action.PERMIT, found.kind, from_, to, services, statement.header))
        lines = []
        for protocol, ports in services:
            what = protocol.replace("echo-request", "echo-reply")
            back = " established" if protocol == "tcp" else ""
            lines += [f"permit {what} from {one}{ports} to {other}{back}" for one in from_ for other in to]
        return "\n".join(lines)


def _line_names(network: Network, device: str) -> set[str]:
    return {line.name for each in network.devices if each.name == device for line in each.lines}


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


def _free_name(statement: Statement, network: Network) -> str:
    """A name for a new list that says what it is for."""
    words = [str(term) for term in (*statement.sources, *statement.destinations)[:2]]
    plain = ["".join(sign if sign.isalnum() else "-" for sign in word) for word in words]
    base = "-".join([statement.kind, *plain])[:50].rstrip("-")
    taken = {taken_by.name for taken_by in network.lists}
    names = (base if number == 1 else f"{base}-{number}" for number in count(1))
    return next(name for name in names if name not in taken)
