"""Lists that stop what should pass, and would not if they stood nearer to what they are for."""

from collections.abc import Iterator, Sequence
from functools import cache, cached_property
from itertools import chain, islice, product

from msgspec import Struct

from greyheron.analysis.findings.finding import Finding, Repair, SearchGround, Severity, moving, shortened
from greyheron.analysis.network.passing import ANY_PROTOCOL
from greyheron.analysis.proof.answers import AddressParty, Answer, Proof
from greyheron.analysis.proof.endpoints import Endpoints
from greyheron.analysis.proof.over_time import prove_in_time
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.analysis.proof.wording import flow_between
from greyheron.analysis.testing.bulk_verdicts import Flows
from greyheron.core.lists.fields.address import DestinationField
from greyheron.core.lists.periods import Span
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World, build_world
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import apply
from greyheron.model.document import Placement, Requirement, TestFlow
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_expected_flow, write_flow
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.requirement import RequirementKind
from greyheron.model.services import Request
from greyheron.model.values import Direction, Expectation, Family

_MOST_PAIRS = 12
_MOST_PLACES = 12


_StatementKey = tuple[str, str]
"""A test or a requirement: which of the two, and its id."""


_ProvenAt = dict[str, dict[frozenset[str], Proven]]
"""What each requirement was answered, by its id and the periods that were on."""


class _ListPlace(Struct, frozen=True):
    """A list at one place, which stopped something."""

    list: str
    point: AttachmentPoint


class _Stopped(Struct, frozen=True):
    """Something that is wanted and is stopped: which, in words, and a flow that shows it."""

    key: _StatementKey
    words: str
    flow: Flow


def stopping_what_is_wanted(ground: SearchGround) -> Iterator[Finding]:
    """Each such list at its place, with the move that keeps what is kept and lets pass what is wanted.

    A list that looks at destinations says for itself whom it keeps from what, wherever it stands.
    """
    aimed = {found.name for found in ground.world.lists.values() if _looks_at_destinations(found)}
    placed = {
        (each.list, AttachmentPoint(each.device, each.at, each.direction)): each
        for each in ground.network.placements
    }
    families = {each.name: each.family for each in ground.network.lists if each.family is not None}
    taken = {(point, families.get(name)) for name, point in placed}
    there = {each.id for each in ground.network.requirements}
    known: _ProvenAt = ground.kept.of(("requirements",), (), dict)
    for name in known.keys() - there:
        del known[name]
    prover = Prover(ground.engines)
    wanted = _Statements(ground, prover, ground.timeline, known)
    for standing, stopped in wanted.stopped().items():
        placement, family = placed.get((standing.list, standing.point)), families.get(standing.list)
        if placement is None or family is None or standing.list in aimed:
            continue
        for place in islice(wanted.nearer(standing, family), _MOST_PLACES):
            if (place, family) in taken:
                continue
            before = wanted.fulfilled
            known |= wanted.proven
            moved = _Statements(ground, prover, _moved(ground, placement, place), known)
            mended = [each for each in stopped if each.key in moved.fulfilled]
            if mended and moved.fulfilled >= before:
                yield _finding(standing, mended, placement, place)
                break
    known |= wanted.proven


def _looks_at_destinations(found: ResolvedList) -> bool:
    return any(isinstance(field, DestinationField) for rule in found.rules for field in rule.constraints)


def _moved(ground: SearchGround, placement: Placement, place: AttachmentPoint) -> Timeline:
    network = apply(ground.network, moving(placement, place))

    @cache
    def world_at(active: frozenset[str]) -> World:
        return build_world(network, ground.timeline.world_at(active), active)

    return Timeline(network, ground.timeline.spans, ground.timeline.shown, world_at)


class _Statements:
    """Tests and requirements, and which are as they should be; each is proved when it is asked about."""

    def __init__(self, ground: SearchGround, prover: Prover, timeline: Timeline, known: _ProvenAt) -> None:
        self._ground, self._timeline, self._network = ground, timeline, ground.network
        self._prover, self._known = prover, known
        self._verdicts = self._tried()
        self._proofs: dict[str, Proof] = {}
        self.proven: _ProvenAt = {}

    @cached_property
    def fulfilled(self) -> frozenset[_StatementKey]:
        tests = {("test", each.id) for each in self._network.tests if self._as_wanted(each)}
        requirements = self._network.requirements
        proved = [each.id for each in requirements if self._proof(each).answer is Answer.PROVED]
        return frozenset(tests | {("requirement", each) for each in proved})

    def _proof(self, requirement: Requirement) -> Proof:
        name = requirement.id
        if name not in self._proofs:
            self._proofs[name], self.proven[name] = prove_in_time(
                self._prover,
                requirement.statement,
                self._timeline,
                known=self._known.get(name),
                progress=lambda _: self._ground.progress(1),  # how many there will be is not known
            )
        return self._proofs[name]

    def _tried(self) -> dict[Flow, set[Verdict]]:
        """What becomes of each test flow, at the times at which it is tried."""
        asked: dict[frozenset[str], tuple[Span, list[Flow]]] = {}
        for test in self._network.tests:
            for span in self._timeline.for_flow(test.flow.flow):
                asked.setdefault(span.active, (span, []))[1].append(test.flow.flow)
        found: dict[Flow, set[Verdict]] = {}
        for span, flows in asked.values():
            world = self._timeline.world(span)
            verdicts = Flows(world, self._ground.engines, flows).verdicts(world)
            for flow, verdict in verdicts.items():
                found.setdefault(flow, set()).add(verdict)
        return found

    def _as_wanted(self, test: TestFlow) -> bool:
        verdicts = self._verdicts.get(test.flow.flow, set())
        wanted = Verdict.PASSES if test.flow.expect is Expectation.PASS else Verdict.BLOCKED
        return verdicts == {wanted}

    def stopped(self) -> dict[_ListPlace, list[_Stopped]]:
        """What should pass and is denied on its way there, by the list and place that denies it."""
        found: dict[_ListPlace, list[_Stopped]] = {}
        for test in self._network.tests:
            if test.flow.expect is Expectation.PASS and not self._as_wanted(test):
                self._note(found, ("test", test.id), write_expected_flow(test.flow), test.flow.flow)
        for requirement in self._network.requirements:
            if requirement.statement.kind is not RequirementKind.ALLOW:
                continue
            example = self._proof(requirement).counterexample
            if example is not None:
                words = write_requirement(requirement.statement)
                self._note(found, ("requirement", requirement.id), words, example.flow)
        return found

    def _note(
        self, found: dict[_ListPlace, list[_Stopped]], key: _StatementKey, words: str, flow: Flow
    ) -> None:
        for standing in dict.fromkeys(self._deniers(flow)):
            found.setdefault(standing, []).append(_Stopped(key, words, flow))

    def _deniers(self, flow: Flow) -> Iterator[_ListPlace]:
        for span in self._timeline.for_flow(flow):
            try:
                exchanges = converse(self._timeline.world(span), flow).exchanges
            except FlowError:
                continue
            denials = [each.decider.path.denial for each in exchanges if each.verdict is Verdict.BLOCKED]
            yield from dict.fromkeys(_ListPlace(each.list_name, each.point) for each in denials if each)

    def nearer(self, standing: _ListPlace, family: Family) -> Iterator[AttachmentPoint]:
        """Where the last router sends what the list is for, as tests and requirements tell."""
        flows = (
            test.flow.flow
            for test in self._network.tests
            if test.flow.expect is Expectation.BLOCK and standing in self._deniers(test.flow.flow)
        )
        places = (place for flow in chain(flows, self._kept_apart(family)) for place in self._last(flow))
        return (place for place in dict.fromkeys(places) if place != standing.point)

    def _kept_apart(self, family: Family) -> Iterator[Flow]:
        """Some of what requirements want kept apart."""
        everyone = Endpoints(self._timeline.first.with_possible_hosts, self._network, family)
        for requirement in self._network.requirements:
            statement = requirement.statement
            if statement.kind is RequirementKind.ALLOW:
                continue
            named, goals = everyone.of(statement.sources), everyone.of(statement.destinations)
            sources = (
                named
                if statement.kind is RequirementKind.BLOCK
                else [each for each in everyone.every if each not in named]
            )
            for source, goal in islice(product(sources, goals), _MOST_PAIRS):
                ends = [
                    AddressParty(each.device, each.region, each.drawn, every=False) for each in (source, goal)
                ]
                yield flow_between(family, ends[0], ends[1], Request(ANY_PROTOCOL), 0)

    def _last(self, flow: Flow) -> Iterator[AttachmentPoint]:
        for span in self._timeline.for_flow(flow):
            yield from last_places(self._timeline.world(span), flow)


def last_places(world: World, flow: Flow) -> Iterator[AttachmentPoint]:
    """Where the last router on each way of a conversation sends its first packet where no lists are."""
    try:
        exchanges = converse(world.baseline, flow).exchanges
    except FlowError:
        return
    # Whoever could be there stands at the beginning of a way too, and forwards nothing.
    devices = world.with_possible_hosts.topology.devices
    for exchange in exchanges:
        hops = exchange.legs[0].path.hops
        sent = [
            (hop.device, hop.egress) for hop in hops if hop.egress and devices[hop.device].traits.forwards
        ]
        yield from (AttachmentPoint(*each, Direction.OUT) for each in sent[-1:])


def _finding(
    standing: _ListPlace, stopped: Sequence[_Stopped], placement: Placement, place: AttachmentPoint
) -> Finding:
    point = standing.point
    return Finding(
        "list stops what is wanted",
        Severity.FAULT,
        f"{standing.list} at {point.device} {point.at} {point.direction}",
        f"{standing.list}, {point}, stops what should pass: {shortened(each.words for each in stopped)}. "
        f"Where packets are {place} it would not, and all that is as it should be would stay so.",
        (f"{write_flow(stopped[0].flow)} is denied there",),
        (point.device,),
        (standing.list,),
        write_flow(stopped[0].flow),
        Repair(f"move {standing.list} to where packets are {place}", moving(placement, place)),
    )
