"""Advice: where a list would make a requirement hold, and what else it would change.

Every choice is tried for real: the changes are made to a copy of the draft, and the requirement, the others,
the test flows and the matrix of who reaches whom are looked at again.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np
from msgspec import Struct, structs

from greyheron.analysis.advice.choices import Advice, Choice, Collateral, rank
from greyheron.analysis.advice.proposal import Measure, Proposal
from greyheron.analysis.advice.proposals import Proposer
from greyheron.analysis.advice.reasons import doing, sentence
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.analysis.proof.sentences import remains
from greyheron.analysis.proof.services import ServiceSet, meant
from greyheron.analysis.reach.matrix import Changed, Reach
from greyheron.analysis.reach.matrix_cache import KeptReaches
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.analysis.testing.bulk_verdicts import Flows
from greyheron.analysis.testing.judge import Standing, judge
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.engines import Engines
from greyheron.core.bulk.traced_paths import TracedPaths
from greyheron.core.headers import NO_PORT
from greyheron.core.intervals import common
from greyheron.core.lists.fields.services import Tag
from greyheron.core.lists.resolved import Names
from greyheron.core.progress import Found, Progress, part, unheard, unwatched
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.steps import Path
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World, build_world
from greyheron.model.changes import Change, apply
from greyheron.model.document import Network, TestFlow
from greyheron.model.entry import AddressBlock
from greyheron.model.flow import ExpectedFlow, FlowEnd
from greyheron.model.header import FlagsMatch, HeaderTerms
from greyheron.model.names import TCP, UDP
from greyheron.model.notation.flows import read_expected_flow, write_expected_flow
from greyheron.model.notation.requirements import KINDS, read_requirement, write_requirement
from greyheron.model.read import edited
from greyheron.model.requirement import RequirementKind, Statement, Term, TermKind
from greyheron.model.services import OWN_SERVICES, Request, written
from greyheron.model.values import Expectation, Family

_PASSES = VERDICT_ORDER.index(Verdict.PASSES)
MOST_EXAMPLES = 5
FIRST = 5
"""The first proof, before anything is tried, is counted as one of so many parts of the work."""


def wanted(text: str, network: Network) -> Statement:
    """A requirement, or the one that a test flow with its expectation stands for.

    Raises NotationError, or DocumentError where it names what `network` has not.
    """
    requirement = text.split(" ", 1)[0].lower() in KINDS
    statement = read_requirement(text) if requirement else statement_of(read_expected_flow(text))
    item = {"id": "asked", "statement": write_requirement(statement)}
    edited(network, [Change(collection="requirements", key="asked", item=item)])
    return statement


def statement_of(expected: ExpectedFlow) -> Statement:
    """A test flow as the requirement that it stands for."""
    flow = expected.flow
    kind = RequirementKind.ALLOW if expected.expect is Expectation.PASS else RequirementKind.BLOCK
    flags = None if flow.flags is None else FlagsMatch(flow.flags, ~flow.flags)
    header = HeaderTerms(flags, flow.fragment, None if flow.dscp is None else (flow.dscp,))
    sides = (_term(flow.source),), (_term(flow.destination),)
    return Statement(kind, *sides, (flow.service,), flow.family, header)


def _term(end: FlowEnd) -> Term:
    if end.at is not None and (end.device is None or ":" in end.at or end.at[0].isdigit()):
        address = end.at.partition("/")[0]
        return Term(TermKind.PREFIX, f"{address}/{128 if ':' in address else 32}")
    if end.at is not None:
        return Term(TermKind.INTERFACE, end.device or "", end.at)
    return Term(TermKind.NAMED, end.device or "")


def advise_in_time(
    prover: Prover,
    engines: Engines,
    timeline: Timeline,
    statement: Statement,
    known: Mapping[tuple[str, str, frozenset[str]], Proven] | None = None,
    reaches: KeptReaches | None = None,
    progress: Progress = unwatched,
    told: Found = unheard,
) -> Advice:
    """Where lists would make `statement` hold: at the first time at which it does not. Raises Cancelled.

    known:  what is known of requirements by their ids, state and the periods that were on
    reaches:  matrices of an earlier draft; they are brought up to date
    told:  each choice as it is found
    """
    spans = timeline.for_statement(statement)
    if not spans:
        return Advice("It speaks of no time at all: no list would change that.", ())
    violated = (
        span
        for span in spans
        if len(spans) > 1
        and prover.prove(statement, timeline.world(span), timeline.network).proof.answer is Answer.VIOLATED
    )
    span = next(violated, spans[0])
    own = {
        name: proven
        for (name, state, active), proven in (known or {}).items()
        if (state, active) == ("draft", span.active)
    }
    advisor = Advisor(prover, engines, timeline.world(span), timeline.network, own, reaches)
    advice = advisor.advise(statement, progress, told)
    if not timeline.varies:
        return advice
    return replace(advice, text=f"{advice.text} Looked at {span.words}.")


class Advisor:
    """Advice about one draft, at the time of its world."""

    def __init__(
        self,
        prover: Prover,
        engines: Engines,
        world: World,
        network: Network,
        known: Mapping[str, Proven] | None = None,
        reaches: KeptReaches | None = None,
    ) -> None:
        """known:  what is known of the network's requirements, by their ids, perhaps of an earlier draft
        reaches:  matrices of an earlier draft; they are brought up to date
        """
        self._prover, self._engines, self._world, self._network = prover, engines, world, network
        self._proposer = Proposer(prover, world, network)
        self._kept_reaches = KeptReaches() if reaches is None else reaches
        self._reaches: dict[Family, Reach] = {}
        self._known = known or {}
        self._others: dict[str, Proven] = {}
        self._spoken: dict[Statement, _Spoken] = {}
        self._examples: dict[Statement, _Examples] = {}
        flows = [test.flow.flow for test in network.tests if test.flow.flow.at is None]
        self._flows = Flows(world, engines, flows)
        self._baseline, self._were = self._flows.verdicts(world.baseline), self._flows.verdicts(world)

    def advise(
        self,
        statement: Statement,
        progress: Progress = unwatched,
        told: Found = unheard,
    ) -> Advice:
        """Where lists would make `statement` hold; each choice is told as it is found. Raises Cancelled."""
        first = part(progress, 0, FIRST)
        proof = self._prover.prove(statement, self._world, self._network, progress=first).proof
        if proof.answer is Answer.PROVED:
            return Advice("It holds already: nothing needs to be placed.", ())
        if proof.answer is Answer.INCONCLUSIVE:
            return Advice(f"No list would change that. {proof.reason}", ())
        tried = [
            (one, before, proposal)
            for family in ([statement.family] if statement.family else Family)
            for one in (structs.replace(statement, family=family),)
            for before in (self._prover.prove(one, self._world, self._network),)
            if before.proof.answer is Answer.VIOLATED
            for proposal in self._proposer.proposals(one, before, family)
        ]
        tried_choices: list[_Weighed] = []
        for number, (one, before, proposal) in enumerate(tried):
            progress(1 / FIRST + (1 - 1 / FIRST) * number / len(tried))
            found = self._tried(one, before, proposal)
            if found is not None:
                tried_choices.append(found)
                told([found.choice])
        choices = tuple(_with_reasons(_best_of_each(tried_choices)))
        holding = sum(choice.holds for choice in choices)
        if not choices:
            return Advice("No list changes it: look at the routes and services first.", ())
        if holding == 0:
            return Advice("None of these is enough alone; each of them stops a part.", choices)
        each = " IPv4 and IPv6 need a list each." if len({choice.family for choice in choices}) > 1 else ""
        text = f"{holding} of {len(choices)} ways make it hold, the usual place first.{each}"
        return Advice(text, choices)

    def _tried(self, statement: Statement, before: Proven, proposal: Proposal) -> "_Weighed | None":
        network = apply(self._network, proposal.changes)
        world = build_world(network, self._world)
        if statement not in self._examples:
            self._examples[statement] = _Examples(before, self._engines(self._world.with_possible_hosts))
        if self._examples[statement].all_the_same(self._engines(world.with_possible_hosts)):
            return None
        left, remaining = self._prover.left(before, world, network)
        if left >= before.violating:
            return None
        cut = parted(world) - parted(self._world)
        collateral, locked = self._collateral(statement, world, network, proposal.family)
        stopped_in = self._stopped_in(before, world)
        choice = Choice(
            proposal.points,
            proposal.list,
            proposal.kind,
            proposal.family,
            proposal.measure,
            proposal.entries,
            left == 0,
            left,
            collateral,
            None if stopped_in is None else len(stopped_in.hops) - 1,
            None if stopped_in is None else stopped_in.last.device,
            tuple(sorted(cut)),
            locked,
            any(not world.topology.devices[point.device].traits.forwards for point in proposal.points),
            proposal.exact,
            remains(remaining),
            "",
            proposal.changes,
        )
        does = doing(choice, stopped_in, world)
        return _Weighed(replace(choice, text=sentence(choice, does, None)), does)

    def _stopped_in(self, before: Proven, world: World) -> Path | None:
        """How far an unwanted packet comes before a list stops it on its way out."""
        example = before.proof.counterexample
        if example is None or example.expect is not Expectation.BLOCK:
            return None
        try:
            exchange = converse(world, example.flow).exchanges[0]
        except FlowError:
            return None
        if exchange.verdict is not Verdict.BLOCKED or exchange.decider.way != "out":
            return None
        return exchange.decider.path

    def _collateral(
        self, statement: Statement, world: World, network: Network, family: Family
    ) -> tuple[Collateral, tuple[str, ...]]:
        reach = self._reach(family)
        if statement not in self._spoken:
            endpoints = self._proposer.endpoints(family)
            self._spoken[statement] = _Spoken(statement, endpoints, self._world, self._network)
        spoken = self._spoken[statement]
        after = reach.again(world, self._engines(world))
        beyond = [change for change in reach.changes_to(after) if not spoken.holds(change)]
        examples = tuple(
            f"{example.source} → {family.text(example.destination)} {written(example.request, family)}: "
            f"{VERDICT_ORDER[example.before]} → {VERDICT_ORDER[example.after]}"
            for example in beyond[:MOST_EXAMPLES]
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
            proved = known.proof.answer is Answer.PROVED
            if proved and not self._prover.holds_still(known, world, network):
                broken.append(requirement)
        failing = list(self.failing(world))
        said = (
            *(write_requirement(requirement.statement) for requirement in broken),
            *(write_expected_flow(test.flow) for test in failing),
        )
        return (
            Collateral(
                len(beyond),
                examples,
                tuple(requirement.id for requirement in broken),
                tuple(test.id for test in failing),
                said,
            ),
            tuple(sorted(after.locked(world) - reach.locked(self._world))),
        )

    def locked_by(self, world: World, family: Family) -> set[str]:
        """The devices that nobody could log in to any more."""
        reach = self._reach(family)
        return reach.again(world, self._engines(world)).locked(world) - reach.locked(self._world)

    def failing(self, world: World) -> Iterator[TestFlow]:
        """The test flows that hold on the draft and would not."""
        would = self._flows.verdicts(world)
        for test in self._network.tests:
            flow = test.flow.flow
            if flow not in would:
                continue
            standings = [
                judge(test.flow.expect, each[flow], self._baseline[flow]).standing
                for each in (self._were, would)
            ]
            if standings[0] is Standing.HOLDS and standings[1] is not Standing.HOLDS:
                yield test

    def _reach(self, family: Family) -> Reach:
        if family not in self._reaches:
            question = ReachQuestion((OWN_SERVICES, "ping"), family, from_hosts=True)
            self._reaches[family] = self._kept_reaches.of(self._world, self._network, self._engines, question)
        return self._reaches[family]


class _Weighed(Struct, frozen=True):
    """A choice, and what it does to what is unwanted."""

    choice: Choice
    does: str


def _best_of_each(tried: Iterable[_Weighed]) -> list[_Weighed]:
    """The best first; of several that do alike at one place in other words only the best."""
    found: dict[object, _Weighed] = {}
    for one in sorted(tried, key=lambda one: rank(one.choice)):
        choice = one.choice
        lists = choice.list if choice.measure is Measure.MOVED else ""
        found.setdefault((choice.points, choice.kind, choice.family, lists), one)
    return list(found.values())


def _with_reasons(tried: Sequence[_Weighed]) -> Iterator[Choice]:
    """Choices that are in their order, each with what speaks against the next of its family."""
    for number, one in enumerate(tried):
        after = (other.choice for other in tried[number + 1 :] if other.choice.family is one.choice.family)
        yield replace(one.choice, text=sentence(one.choice, one.does, next(after, None)))


class _Examples:
    """A conversation of each class that violates a requirement, to see quickly what changes nothing."""

    def __init__(self, before: Proven, engine: BulkEngine) -> None:
        """engine:  that of the world with possible hosts that `before` holds for"""
        parts = [(half.classes.half.expect, part) for half in before.halves for part in half.parts]
        self._engine = engine
        self._asked = [
            (expect, engine.traced_paths(part.examples())) for expect, part in parts if len(part.wrong)
        ]

    def all_the_same(self, engine: BulkEngine) -> bool:
        """Whether every one of them violates it with other lists too, as far as that is quickly seen.

        Then nothing is gained: each class that violates has a part that still does.
        """
        return all(self._violates_still(engine, *each) for each in self._asked)

    def _violates_still(self, engine: BulkEngine, expect: Expectation, traced_paths: TracedPaths) -> bool:
        # With one source port each row is one conversation, however other lists cut ports.
        ports = traced_paths.rows.source_port
        if not engine.fits(traced_paths) or len(np.unique(ports[ports != NO_PORT])) > 1:
            return False
        _, found = engine.changed_rows(traced_paths, self._engine)
        wrong = found.arrives if expect is Expectation.BLOCK else found.verdict != _PASSES
        return bool(wrong.all())


class _Spoken:
    """Whether a statement speaks of a conversation of the matrix."""

    def __init__(self, statement: Statement, endpoints: Endpoints, world: World, network: Network) -> None:
        everyone = statement.kind is RequirementKind.ONLY
        self._sources = _by_device(endpoints.every if everyone else endpoints.of(statement.sources))
        self._goals = _by_device(endpoints.of(statement.destinations, translated=True))
        self._asks = statement.asks
        self._world, self._names = world, Names(network)
        self._family = endpoints.family

    def holds(self, changed: Changed) -> bool:
        goal = AddressBlock(self._family, changed.destination, self._family.every_bit)
        from_ = any(
            changed.address is None
            or common(endpoint.region, (AddressBlock(self._family, changed.address, self._family.every_bit),))
            for endpoint in self._sources.get(changed.source, ())
        )
        to = [
            endpoint
            for endpoints in self._goals.values()
            for endpoint in endpoints
            if common(endpoint.region, (goal,))
        ]
        return from_ and any(self._asked(changed.request, endpoint.device) for endpoint in to)

    def _asked(self, request: Request, device: str) -> bool:
        tag = {TCP: Tag.TCP, UDP: Tag.UDP, self._family.icmp: Tag.ICMP}.get(request.protocol, Tag.OTHER)
        number = request.port if tag.with_ports else request.protocol
        if tag is Tag.ICMP:
            number = (request.icmp_type or 0) << 8 | (request.icmp_code or 0)
        goal = self._world.with_possible_hosts.topology.devices[device]
        asked = meant(self._asks, goal, self._names, self._family)
        return any(_within(service, tag, number) for service in asked)


def _within(service: ServiceSet, tag: Tag, number: int | None) -> bool:
    """Whether an ordinary conversation is one of them: the matrix has no other ones."""
    ordinary = service.flags is None and service.dscp[0][0] == 0
    return (
        ordinary and service.tag is tag and any(low <= (number or 0) <= high for low, high in service.spans)
    )


def _by_device(endpoints: Iterable[Endpoint]) -> dict[str, list[Endpoint]]:
    found: dict[str, list[Endpoint]] = {}
    for endpoint in endpoints:
        found.setdefault(endpoint.device, []).append(endpoint)
    return found


def parted(world: World) -> set[str]:
    return {f"{cut.port[0]} and {cut.neighbour[0]}" for cut in world.routes.cut_neighbours()}
