"""Advice: where a list would make a requirement hold, and what else it would change.

Every choice is tried for real: the changes are made to a copy of the draft, and the requirement, the others,
the test flows and the matrix of who reaches whom are looked at again.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import count

from greyheron.analysis.book import Tries
from greyheron.analysis.entries import entry_lines, service_terms, side_terms, with_entries
from greyheron.analysis.judge import Standing, judge
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.places import Place, Places
from greyheron.analysis.proof.prover import ProofCancelled
from greyheron.analysis.proof.proving import Engines, Proven, Prover
from greyheron.analysis.proof.regions import common
from greyheron.analysis.proof.services import Service, Tag, meant
from greyheron.analysis.reach import OWN_SERVICES, Changed, Reach, ReachQuestion, axis_of
from greyheron.analysis.words import place_words
from greyheron.core.bulk.engine import VERDICT_ORDER
from greyheron.core.conversation import FlowError, Verdict, converse
from greyheron.core.lists import Names
from greyheron.core.places import AttachmentPoint
from greyheron.core.world import World, build_world
from greyheron.model.changes import Change, apply
from greyheron.model.document import AccessList, Network, to_data
from greyheron.model.entry import AddressBlock
from greyheron.model.flow import ExpectedFlow, FlowEnd
from greyheron.model.names import TCP, UDP
from greyheron.model.requirement import RequirementKind, Statement, Term, TermKind
from greyheron.model.services import Request, written
from greyheron.model.values import Action, DeviceKind, Direction, Expectation, Family, ListKind

MOST_EXAMPLES = 5
MOST_POINTS = 24
"""So many places are tried; those that most of the unwanted conversations come to first."""
_ROUNDS = 6


@dataclass(frozen=True, slots=True)
class Collateral:
    """What a choice changes beyond what was asked.

    conversations:  how many end otherwise, of those in the matrix of services and ping that hosts and outside
        networks begin;  examples:  some of them, in words
    requirements, tests:  the ids of those that hold now and would not
    """

    conversations: int
    examples: tuple[str, ...]
    requirements: tuple[str, ...]
    tests: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Choice:
    """One way to make a requirement hold.

    points:  where;  list:  which list;  entries:  what is written into it;  new:  whether the list is new
    holds:  whether the requirement holds then;  left:  how many classes of conversations still violate it
    hops:  devices that an unwanted packet still passes before it is stopped
    cut:  routing neighbours it would part;  locked:  devices that nobody could log in to any more
    text:  why, in a sentence;  changes:  what taking it does to the draft
    """

    points: tuple[AttachmentPoint, ...]
    list: str
    kind: ListKind
    family: Family
    new: bool
    entries: tuple[str, ...]
    holds: bool
    left: int
    collateral: Collateral
    hops: int | None
    cut: tuple[str, ...]
    locked: tuple[str, ...]
    text: str
    changes: tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class Advice:
    """The choices, the best first, and what there is to say of them all, or of there being none."""

    text: str
    choices: tuple[Choice, ...]


@dataclass(frozen=True, slots=True)
class _Proposal:
    points: tuple[AttachmentPoint, ...]
    list: str
    kind: ListKind
    family: Family
    new: bool
    entries: tuple[str, ...]
    changes: tuple[Change, ...]


def statement_of(expected: ExpectedFlow) -> Statement:
    """A test flow as the requirement that it stands for."""
    flow = expected.flow
    kind = RequirementKind.ALLOW if expected.expect is Expectation.PASS else RequirementKind.BLOCK
    return Statement(kind, (_term(flow.source),), (_term(flow.destination),), (flow.service,), flow.family)


def _term(end: FlowEnd) -> Term:
    if end.at is not None and (end.device is None or ":" in end.at or end.at[0].isdigit()):
        address = end.at.partition("/")[0]
        return Term(TermKind.PREFIX, f"{address}/{128 if ':' in address else 32}")
    if end.at is not None:
        return Term(TermKind.INTERFACE, end.device or "", end.at)
    return Term(TermKind.NAMED, end.device or "")


class Advisor:
    """Advice about one draft."""

    def __init__(
        self,
        prover: Prover,
        engines: Engines,
        world: World,
        network: Network,
        known: Mapping[str, Proven] | None = None,
    ) -> None:
        """known:  what is known of the network's requirements, by their ids, perhaps of an earlier draft"""
        self._prover, self._engines, self._world, self._network = prover, engines, world, network
        self._reaches: dict[Family, Reach] = {}
        self._known = known or {}
        self._others: dict[str, Proven] = {}
        self._tries = Tries()

    def advise(
        self,
        statement: Statement,
        known: Proven | None = None,
        progress: Callable[[float], bool] = lambda _done: True,
    ) -> Advice:
        """Where lists would make `statement` hold. Raises ProofCancelled."""
        proof = self._prover.prove(statement, self._world, self._network, known).proof
        if proof.answer is Answer.PROVED:
            return Advice("It holds already: nothing needs to be placed.", ())
        if proof.answer is Answer.INCONCLUSIVE:
            return Advice(f"No list would change that. {proof.reason}", ())
        tried = [
            (one, before, proposal)
            for family in ([statement.family] if statement.family else Family)
            for one in (replace(statement, family=family),)
            for before in (self._prover.prove(one, self._world, self._network),)
            if before.proof.answer is Answer.VIOLATED
            for proposal in self._proposals(one, before, family)
        ]
        choices: list[Choice] = []
        for number, (one, before, proposal) in enumerate(tried):
            if not progress(number / len(tried)):
                raise ProofCancelled
            choice = self._tried(one, before, proposal)
            if choice is not None:
                choices.append(choice)
        choices.sort(key=_rank)
        holding = sum(choice.holds for choice in choices)
        if not choices:
            return Advice("No list changes it: look at the routes and services first.", ())
        if holding == 0:
            return Advice("None of these is enough alone; each of them stops a part.", tuple(choices))
        each = " IPv4 and IPv6 need a list each." if len({choice.family for choice in choices}) > 1 else ""
        text = f"{holding} of {len(choices)} ways make it hold; the first changes least else.{each}"
        return Advice(text, tuple(choices))

    def _proposals(self, statement: Statement, proven: Proven, family: Family) -> Iterator[_Proposal]:
        wrong = {half.classes.half.expect for half in proven.halves for part in half.parts if len(part.wrong)}
        if Expectation.PASS in wrong:
            yield from self._permits(statement, proven, family)
        if Expectation.BLOCK in wrong:
            yield from self._denials(statement, proven, family)

    # Unwanted conversations: entries that deny them, at the places they come to.

    def _denials(self, statement: Statement, proven: Proven, family: Family) -> Iterator[_Proposal]:
        counts: dict[AttachmentPoint, int] = {}
        for half in proven.halves:
            if half.classes.half.expect is Expectation.BLOCK and half.classes.grounds.family is family:
                for part in half.parts:
                    for point, count in part.points_met().items():
                        counts[point] = counts.get(point, 0) + count
        takes = {DeviceKind.ROUTER, DeviceKind.FIREWALL, DeviceKind.HOST}
        points = [point for point in counts if self._world.inhabited.devices[point.device].kind in takes]
        points.sort(key=lambda point: (-counts[point], point))
        kinds = [ListKind.EXTENDED, *([ListKind.STANDARD] if family is Family.IPV4 else [])]
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
    ) -> Iterator[_Proposal]:
        at_lines = all(point.at in _line_names(self._network, point.device) for point in points)
        lines = self._denying(statement, kind, family, at_lines)
        if not lines:
            return
        placed = {
            (AttachmentPoint(each.device, each.at, each.direction)): found
            for each in self._network.placements
            for found in self._network.lists
            if found.name == each.list and found.family is family
        }
        changes: list[Change] = []
        name = _free_name(statement, self._network)
        grown: dict[str, AccessList] = {}
        fresh: list[AttachmentPoint] = []
        for point in points:
            there = placed.get(point)
            if there is None:
                fresh.append(point)
            elif there.kind is not kind:
                return
            else:
                grown[there.name] = there
        for there in grown.values():
            first = there.body.entries[0].number if there.body.entries else None
            text = with_entries(there, lines, first)
            changes.append(
                Change(collection="lists", key=there.name, item={**to_data(there), "entries": text})
            )
        if fresh:
            everything = "permit from any" if kind is ListKind.STANDARD else "permit any from any to any"
            if not lines[-1].startswith(("deny from any", "deny any from any to any")):
                lines = [*lines, everything]
            entries = "\n".join(lines)
            item = {"name": name, "family": family.value, "kind": kind.value, "entries": entries}
            changes.append(Change(collection="lists", key=name, item=item))
            changes += [
                Change(
                    collection="placements",
                    key=f"{point.device}:{point.at}:{point.direction}:{name}",
                    item={
                        "list": name,
                        "device": point.device,
                        "at": point.at,
                        "direction": point.direction.value,
                    },
                )
                for point in fresh
            ]
        which = name if fresh else next(iter(grown))
        yield _Proposal(points, which, kind, family, bool(fresh), tuple(lines), tuple(changes))

    def _denying(self, statement: Statement, kind: ListKind, family: Family, at_lines: bool) -> list[str]:
        """Entries that deny what is unwanted; for `only` those come first that permit what is wanted."""
        places = Places(self._world.inhabited, self._network, family)
        sources, goals = places.of(statement.sources), places.of(statement.destinations, translated=True)
        if not goals or (not sources and statement.kind is not RequirementKind.ONLY):
            return []
        from_ = side_terms(statement.sources, sources, self._network, family) if sources else []
        to = ["any"] if at_lines else side_terms(statement.destinations, goals, self._network, family)
        services = service_terms(statement.services, goals, self._world.inhabited, self._network, family)
        if statement.kind is RequirementKind.BLOCK:
            return entry_lines(Action.DENY, kind, from_, to, services)
        return [
            *(entry_lines(Action.PERMIT, kind, from_, to, services) if from_ else []),
            *entry_lines(Action.DENY, kind, ["any"], to, services),
        ]

    # Wanted conversations that are stopped: entries that permit them, before the ones that deny.

    def _permits(self, statement: Statement, proven: Proven, family: Family) -> Iterator[_Proposal]:
        """One proposal: permits wherever what is wanted is denied, found one after another."""
        network, world = self._network, self._world
        now, entries, points, names = proven, list[str](), dict[AttachmentPoint, None](), dict[str, None]()
        for _ in range(_ROUNDS):
            denial = self._denial_of_wanted(now, world, family)
            if denial is None:
                break
            point, line, number, name = denial
            found = next(each for each in network.lists if each.name == name)
            text = with_entries(found, [line], number)
            item = {**to_data(found), "entries": text}
            network = apply(network, [Change(collection="lists", key=name, item=item)])
            world = build_world(network, world)
            entries.append(line)
            points[point], names[name] = None, None
            now = self._prover.prove(statement, world, network, now)
            if now.proof.answer is Answer.PROVED:
                break
        if entries:
            lists = {each.name: each for each in network.lists}
            changes = tuple(Change(collection="lists", key=name, item=to_data(lists[name])) for name in names)
            kind = lists[next(iter(names))].kind
            yield _Proposal(tuple(points), ", ".join(names), kind, family, False, tuple(entries), changes)

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
                        if path.denial is None:
                            continue
                        name = world.lists[path.denial.point, family].name
                        found = next(each for each in self._network.lists if each.name == name)
                        line = self._permit(proven.statement, found, exchange.decider.way == "home", family)
                        return path.denial.point, line, path.denial.decision.entry, name
        return None

    def _permit(self, statement: Statement, found: AccessList, home: bool, family: Family) -> str:
        places = Places(self._world.inhabited, self._network, family)
        sources = places.of(statement.sources)
        goals = tuple(place for place in places.of(statement.destinations) if place.drawn)
        from_ = side_terms(statement.sources, sources, self._network, family)
        to = side_terms(statement.destinations, goals, self._network, family)
        if home:
            from_, to = to, from_
        if found.kind is ListKind.STANDARD:
            return "\n".join(entry_lines(Action.PERMIT, found.kind, from_, to, []))
        services = service_terms(statement.services, goals, self._world.inhabited, self._network, family)
        if not home:
            return "\n".join(entry_lines(Action.PERMIT, found.kind, from_, to, services))
        lines = []
        for protocol, ports in services:
            what = protocol.replace("echo-request", "echo-reply")
            back = " established" if protocol == "tcp" else ""
            lines += [f"permit {what} from {one}{ports} to {other}{back}" for one in from_ for other in to]
        return "\n".join(lines)

    # Trying a proposal.

    def _tried(self, statement: Statement, before: Proven, proposal: _Proposal) -> Choice | None:
        network = apply(self._network, proposal.changes)
        world = build_world(network, self._world)
        after = self._prover.prove(statement, world, network, before)
        left, were = (
            sum(len(part.wrong) for half in each.halves for part in half.parts) for each in (after, before)
        )
        if after.proof.answer is Answer.VIOLATED and left >= were:
            return None
        holds = after.proof.answer is not Answer.VIOLATED
        parted = _parted(world) - _parted(self._world)
        collateral, locked = self._collateral(statement, world, network, proposal.family)
        hops = self._hops(before, world)
        choice = Choice(
            proposal.points,
            proposal.list,
            proposal.kind,
            proposal.family,
            proposal.new,
            proposal.entries,
            holds,
            left,
            collateral,
            hops,
            tuple(sorted(parted)),
            locked,
            "",
            proposal.changes,
        )
        return replace(choice, text=_sentence(choice))

    def _hops(self, before: Proven, world: World) -> int | None:
        """How many devices an unwanted packet passes before it is stopped."""
        example = before.proof.counterexample
        if example is None or example.expect is not Expectation.BLOCK:
            return None
        try:
            exchange = converse(world, example.flow).exchanges[0]
        except FlowError:
            return None
        if exchange.verdict is not Verdict.BLOCKED or exchange.decider.way != "out":
            return None
        return len(exchange.decider.path.hops) - 1

    def _collateral(
        self, statement: Statement, world: World, network: Network, family: Family
    ) -> tuple[Collateral, tuple[str, ...]]:
        reach = self._reach(family)
        places = Places(self._world.inhabited, self._network, family)
        spoken = _Spoken(statement, places, self._world, self._network)
        after = reach.again(world, self._engines(world))
        beyond = [each for each in reach.changes_to(after) if not spoken.holds(each)]
        examples = tuple(
            f"{each.source} → {family.text(each.destination)} {written(each.request, family)}: "
            f"{VERDICT_ORDER[each.before]} → {VERDICT_ORDER[each.after]}"
            for each in beyond[:MOST_EXAMPLES]
        )
        broken = []
        for requirement in self._network.requirements:
            if requirement.statement == statement:
                continue
            if requirement.id not in self._others:
                earlier = self._known.get(requirement.id)
                self._others[requirement.id] = self._prover.prove(
                    requirement.statement, self._world, self._network, earlier
                )
            known = self._others[requirement.id]
            again = self._prover.prove(requirement.statement, world, network, known)
            if known.proof.answer is Answer.PROVED and again.proof.answer is not Answer.PROVED:
                broken.append(requirement.id)
        return (
            Collateral(len(beyond), examples, tuple(broken), tuple(self._failing(world))),
            tuple(sorted(after.locked(world) - reach.locked(self._world))),
        )

    def _failing(self, world: World) -> Iterator[str]:
        """The test flows that hold on the draft and would not."""
        for test in self._network.tests:
            flow = test.flow.flow
            baseline = self._tries.of(self._world.baseline, flow)
            results = [self._tries.of(each, flow) for each in (self._world, world)]
            if isinstance(baseline, str) or any(isinstance(each, str) for each in results):
                continue
            was, would = (
                judge(test.flow.expect, each.verdict, baseline.verdict).standing
                for each in results
                if not isinstance(each, str)
            )
            if was is Standing.HOLDS and would is not Standing.HOLDS:
                yield test.id

    def _reach(self, family: Family) -> Reach:
        if family not in self._reaches:
            question = ReachQuestion((OWN_SERVICES, "ping"), family, from_hosts=True)
            axis = axis_of(self._world, self._network, question)
            self._reaches[family] = Reach(self._world, self._engines(self._world), axis, question)
        return self._reaches[family]


class _Spoken:
    """Whether a statement speaks of a conversation of the matrix."""

    def __init__(self, statement: Statement, places: Places, world: World, network: Network) -> None:
        everyone = statement.kind is RequirementKind.ONLY
        self._sources = _by_device(places.every if everyone else places.of(statement.sources))
        self._goals = _by_device(places.of(statement.destinations, translated=True))
        self._services = statement.services
        self._world, self._names = world, Names(network)
        self._family = places.family

    def holds(self, changed: Changed) -> bool:
        goal = AddressBlock(self._family, changed.destination, self._family.every_bit)
        from_ = any(
            changed.address is None
            or common(place.region, (AddressBlock(self._family, changed.address, self._family.every_bit),))
            for place in self._sources.get(changed.source, ())
        )
        to = [place for places in self._goals.values() for place in places if common(place.region, (goal,))]
        return from_ and any(self._asked(changed.request, place.device) for place in to)

    def _asked(self, request: Request, device: str) -> bool:
        tag = {TCP: Tag.TCP, UDP: Tag.UDP, self._family.icmp: Tag.ICMP}.get(request.protocol, Tag.OTHER)
        number = request.port if tag.with_ports else request.protocol
        if tag is Tag.ICMP:
            number = (request.icmp_type or 0) << 8 | (request.icmp_code or 0)
        goal = self._world.inhabited.devices[device]
        asked = meant(self._services, goal, self._names, self._family)
        return any(_within(service, tag, number) for service in asked)


def _within(service: Service, tag: Tag, number: int | None) -> bool:
    return service.tag is tag and any(low <= (number or 0) <= high for low, high in service.spans)


def _by_device(places: Iterable[Place]) -> dict[str, list[Place]]:
    found: dict[str, list[Place]] = {}
    for place in places:
        found.setdefault(place.device, []).append(place)
    return found


def _line_names(network: Network, device: str) -> set[str]:
    return {line.name for each in network.devices if each.name == device for line in each.lines}


def _nearest(
    world: World, points: Sequence[AttachmentPoint], proven: Proven, family: Family, way: Direction
) -> list[AttachmentPoint]:
    """Of `points` those where unwanted packets come from their own segments, or go out to their goals'."""
    inhabited = world.inhabited
    ends: set[str] = set()
    for half in proven.halves:
        for part in half.parts:
            if half.classes.half.expect is Expectation.BLOCK and part.family is family:
                ends |= part.ends(way is Direction.IN)
    segments = {
        inhabited.segments.of.get((name, interface.name))
        for name in ends
        for interface in inhabited.devices[name].interfaces
    } - {None}
    return [
        point
        for point in points
        if point.direction is way
        and world.segments.of.get((point.device, point.at)) in segments
        and world.devices[point.device].kind in (DeviceKind.ROUTER, DeviceKind.FIREWALL)
        and (way is Direction.IN or point.device not in ends)
    ]


def _free_name(statement: Statement, network: Network) -> str:
    """A name for a new list that says what it is for."""
    words = [str(term) for term in (*statement.sources, *statement.destinations)[:2]]
    plain = ["".join(each if each.isalnum() else "-" for each in word) for word in words]
    base = "-".join([statement.kind, *plain])[:50].rstrip("-")
    taken = {each.name for each in network.lists}
    names = (base if number == 1 else f"{base}-{number}" for number in count(1))
    return next(name for name in names if name not in taken)


def _parted(world: World) -> set[str]:
    return {f"{cut.port[0]} and {cut.neighbour[0]}" for cut in world.cut_neighbours()}


def _rank(choice: Choice) -> tuple[object, ...]:
    """The best first: it holds, breaks nothing, changes little else, takes few places, and stops early."""
    return (
        not choice.holds,
        len(choice.cut) + len(choice.locked),
        len(choice.collateral.requirements) + len(choice.collateral.tests),
        choice.collateral.conversations,
        len(choice.points),
        choice.left,
        99 if choice.hops is None else choice.hops,
        choice.kind is ListKind.STANDARD,
        choice.points,
    )


def _sentence(choice: Choice) -> str:
    """Why a choice stands where it does."""
    where = place_words(choice.points[0])
    if len(choice.points) > 1:
        where = f"{len(choice.points)} places together"
    parts = [f"{where[0].upper()}{where[1:]}: "]
    part = f"it stops a part; {choice.left} classes are left"
    parts.append("it makes the requirement hold" if choice.holds else part)
    if choice.hops is not None:
        parts.append(f"; unwanted packets pass {choice.hops} device{'s' * (choice.hops != 1)} before")
    beyond = choice.collateral.conversations
    parts.append(f"; {beyond} other conversations change" if beyond else "; nothing else changes")
    broken = [*choice.collateral.requirements, *choice.collateral.tests]
    if broken:
        parts.append(f"; {', '.join(broken)} would fail")
    if choice.cut:
        parts.append(f"; it parts the routing neighbours {'; '.join(choice.cut)}")
    if choice.locked:
        parts.append(f"; nobody could log in to {', '.join(choice.locked)} any more")
    return "".join(parts) + "."
