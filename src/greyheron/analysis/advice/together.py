"""All requirements at once: one set of lists and places that makes them hold and breaks none.

Which list stands where is a covering problem: every way of what is unwanted must meet a place that denies it.
A proof shows some ways that get through; places are chosen that cover all that are known; what then still
gets through shows others, until nothing does. Whatever is answered has been proved as it is given.
"""

from collections.abc import Collection, Iterator, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct

from greyheron.analysis.advice.assembly import Assembled, Assembly, PlaceForList, PlaceUse
from greyheron.analysis.advice.covering import cheapest_cover
from greyheron.analysis.advice.opening import Opener
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.endpoints import Endpoints
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.core.lists.met import Filtered, Unfiltered
from greyheron.core.packet import Packet, Way
from greyheron.core.progress import Progress, unwatched
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Exchange, Verdict
from greyheron.core.world import World, build_world
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, apply
from greyheron.model.document import Network, Requirement
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_flow
from greyheron.model.requirement import RequirementKind, Statement
from greyheron.model.values import Expectation, Family

_ROUNDS = 80
_FLOWS = 24
"""So many ways of each part of a requirement are looked at in each round."""
_OPENINGS = 4
_BESIDE = 0.01
"""How far apart two places of one device are, where the way to the next device is 1."""
_PLACE, _HOST = 1_000.0, 1_000_000.0
"""What a place more costs beside an entry more, and what a host's own filter does beside a place."""


class Aim(StrEnum):
    """What one set of lists is the best in."""

    FEWEST = "fewest places"
    SOURCE = "near the sources"
    DESTINATION = "near the destinations"


class Impossible(Struct, frozen=True):
    """Requirements that cannot be had together, none of which could be left out; and why.

    given_up:  no lists were found for them, which does not say that there are none
    """

    ids: tuple[str, ...]
    why: str
    given_up: bool


class NotTogether(Exception):
    """No lists were found that make them all hold."""

    def __init__(
        self, between: Mapping[tuple[int, ...], str], sure: tuple[int, ...] = (), given_up: bool = False
    ) -> None:
        """between:  requirements by their indices, and a conversation about which they are at odds

        sure:  those of them of which that alone shows it
        given_up:  nothing was found, which does not say that there is nothing
        """
        super().__init__("no set of lists makes all of them hold")
        self.between, self.sure, self.given_up = between, sure, given_up


class AllTogether:
    """Lists for requirements of one draft, wanted all at once."""

    def __init__(self, prover: Prover, network: Network, requirements: Sequence[Requirement]) -> None:
        """requirements:  all that are to hold, those that hold already among them"""
        self._prover, self._network = prover, network
        self._wanted = tuple(requirements)
        self._known: dict[tuple[int, frozenset[str]], Proven] = {}
        self._world: World | None = None
        self._doubtful: dict[int, bool] = {}

    def solve(self, aim: Aim, progress: Progress = unwatched) -> Assembled:
        """The cheapest set for an aim. Raises NotTogether, which `impossible` explains, and Cancelled."""
        return self._solved(aim, range(len(self._wanted)), progress)

    def impossible(self, failed: NotTogether, progress: Progress = unwatched) -> Impossible:
        """Of requirements that `solve` failed for the fewest that it fails for. Raises Cancelled."""
        kept = list(failed.sure or range(len(self._wanted)))
        for number, index in enumerate(list(kept)):
            progress(number / len(self._wanted))
            fewer = [each for each in kept if each != index]
            again = self._failing(fewer) if fewer else None
            if again is not None:
                kept, failed = fewer, again
        why = next(iter(failed.between.values()), "no set of lists was found that makes them all hold")
        return Impossible(tuple(self._wanted[index].id for index in kept), why, failed.given_up)

    def _failing(self, wanted: Sequence[int]) -> NotTogether | None:
        try:
            self._solved(Aim.FEWEST, wanted, unwatched)
        except NotTogether as failed:
            return failed
        return None

    def _solved(self, aim: Aim, wanted: Sequence[int], progress: Progress) -> Assembled:
        return _CoverSearch(self, aim, wanted, progress).found()

    def timeline(self, network: Network) -> Timeline:
        def world_at(active: frozenset[str]) -> World:
            self._world = build_world(network, self._world, active)
            return self._world

        worlds: dict[frozenset[str], World] = {}

        def kept(active: frozenset[str]) -> World:
            if active not in worlds:
                worlds[active] = world_at(active)
            return worlds[active]

        return Timeline.of(network, kept)

    def proofs(self, index: int, timeline: Timeline) -> Iterator[tuple[World, Proven]]:
        """The proofs of a requirement at all times at which it must hold."""
        statement = self._wanted[index].statement
        for span in timeline.for_statement(statement):
            key, world = (index, span.active), timeline.world(span)
            proven = self._prover.prove(statement, world, timeline.network, self._known.get(key))
            self._known[key] = proven
            yield world, proven

    def allowed(self, index: int) -> Collection[Answer]:
        """What a requirement may come to: what nothing certain is said of before may stay so."""
        if index not in self._doubtful:
            before = self.proofs(index, self.timeline(self._network))
            self._doubtful[index] = any(each.proof.answer is Answer.INCONCLUSIVE for _, each in before)
        return (Answer.PROVED, Answer.INCONCLUSIVE) if self._doubtful[index] else (Answer.PROVED,)

    def unwanted(self, index: int, packet: Packet) -> bool:
        """Whether a requirement forbids the conversation that begins with a packet, with no lists."""
        timeline = self.timeline(self._network)
        statement = self._wanted[index].statement
        return any(
            box.holds(packet)
            for span in timeline.for_statement(statement)
            for world in (timeline.world(span).baseline,)
            for violation in self._prover.prove(statement, world, self._network).proof.violations
            if violation.expect is Expectation.BLOCK
            for box in violation.boxes
        )

    @property
    def prover(self) -> Prover:
        return self._prover

    @property
    def network(self) -> Network:
        return self._network

    @property
    def wanted(self) -> tuple[Requirement, ...]:
        return self._wanted


class _CoverSearch:
    """The search for one set of lists, for some of the requirements."""

    def __init__(self, of: AllTogether, aim: Aim, wanted: Sequence[int], progress: Progress) -> None:
        self._of, self._aim, self._wanted, self._progress = of, aim, tuple(wanted), progress
        self._needs: dict[frozenset[PlaceUse], None] = {}
        self._near: dict[PlaceUse, tuple[float, float]] = {}
        self._forbidden: set[PlaceUse] = set()
        self._between: dict[tuple[int, ...], str] = {}
        base = self._opened(of.network)
        timeline = of.timeline(base)
        statements = {index: of.wanted[index].statement for index in self._wanted}
        self._assembly = Assembly(of.prover, timeline.first, base, statements)
        self._devices = timeline.first.topology.devices

    def found(self) -> Assembled:
        """Raises NotTogether and Cancelled."""
        for turn in range(_ROUNDS):
            self._progress(turn / _ROUNDS)
            chosen = self._cheapest()
            if chosen is None:
                raise NotTogether(self._between)
            assembled = self._assembly.of(chosen)
            timeline = self._of.timeline(assembled.network)
            wrong = [
                (index, world, proven)
                for index in self._wanted
                for world, proven in self._of.proofs(index, timeline)
                if proven.proof.answer not in self._of.allowed(index)
            ]
            if not wrong:
                return assembled
            learnt = [
                self._learn(index, flow, expect, world, assembled)
                for index, world, proven in wrong
                for flow, expect in _violating(proven)
            ]
            if not any(learnt):
                break
        raise NotTogether(self._between, given_up=True)

    def _opened(self, network: Network) -> Network:
        """The draft with what is wanted let through by the lists that are there."""
        for index in self._wanted:
            statement = self._of.wanted[index].statement
            if statement.kind is RequirementKind.BLOCK:
                continue
            for _ in range(_OPENINGS):
                changes = self._opening(index, statement, network)
                if not changes:
                    break
                network = apply(network, changes)
        return network

    def _opening(self, index: int, statement: Statement, network: Network) -> tuple[Change, ...]:
        for world, proven in self._of.proofs(index, self._of.timeline(network)):
            if not any(expect is Expectation.PASS for _, expect in _violating(proven)):
                continue
            opener = Opener(self._of.prover, world, network)
            for family in [statement.family] if statement.family else Family:
                endpoints = Endpoints(world.with_possible_hosts, network, family)
                for proposal in opener.openings(statement, proven, family, endpoints):
                    return proposal.changes
        return ()

    def _cheapest(self) -> frozenset[PlaceUse] | None:
        uses = {use for need in self._needs for use in need} - self._forbidden
        costs = {use: self._cost(use) for use in uses}
        places = {use: use.place for use in uses}
        place_costs = {place: self._place_cost(place) for place in set(places.values())}
        return cheapest_cover(self._needs, costs, places, place_costs)

    def _cost(self, use: PlaceUse) -> float:
        from_source, from_goal = self._near[use]
        entries = self._assembly.entries(use)
        match self._aim:
            case Aim.FEWEST:
                return entries + _BESIDE * from_source
            case Aim.SOURCE:
                return entries + _PLACE * from_source
            case Aim.DESTINATION:
                return entries + _PLACE * from_goal

    def _place_cost(self, place: PlaceForList) -> float:
        if not self._devices[place.point.device].traits.forwards:
            return _HOST
        if self._assembly.there(place):
            return 0.0
        return _PLACE if self._aim is Aim.FEWEST else 1.0

    def _learn(self, index: int, flow: Flow, expect: Expectation, world: World, assembled: Assembled) -> bool:
        """What a conversation shows that does not do what is wanted; whether that was not known."""
        try:
            exchanges = converse(world, flow).exchanges
        except FlowError:
            return False
        if expect is Expectation.BLOCK:
            learnt = [self._must_meet(index, flow, each, assembled) for each in exchanges if each.reached]
        else:
            stopped = (each for each in exchanges if each.verdict is not Verdict.PASSES)
            learnt = [self._must_pass(index, flow, each, assembled) for each in stopped]
        return any(learnt)

    def _must_meet(self, index: int, flow: Flow, exchange: Exchange, assembled: Assembled) -> bool:
        """Something unwanted arrives: it must meet a place that denies it and did not yet."""
        packet = exchange.legs[0].path.packet
        met = list(self._met(exchange))
        for position, (point, order) in enumerate(met, 1):
            use = PlaceUse(PlaceForList(point, packet.family), index)
            near = (
                order + _BESIDE * position,
                met[-1][1] - order + _BESIDE * (len(met) - position),
            )
            before = self._near.get(use, near)
            self._near[use] = min(before[0], near[0]), min(before[1], near[1])
        uses = frozenset(PlaceUse(PlaceForList(point, packet.family), index) for point, _ in met)
        need = uses - assembled.chosen
        if not met:
            raise self._sure((index,), f"{write_flow(flow)} meets no place where a list could stop it")
        if not need - self._forbidden:
            self._between.setdefault((index,), f"{write_flow(flow)} cannot be stopped on its way")
        known = need in self._needs
        self._needs[need] = None
        return not known

    def _met(self, exchange: Exchange) -> Iterator[tuple[AttachmentPoint, int]]:
        """The places where a list could stand on the way out, and which device of the way each is at."""
        for order, hop in enumerate(exchange.legs[0].path.hops):
            if self._devices.get(hop.device) is None or not self._devices[hop.device].traits.takes_lists:
                continue
            for step in hop.steps:
                if (isinstance(step, Unfiltered) and not step.own) or (
                    isinstance(step, Filtered) and step.frame is None
                ):
                    yield step.point, order

    def _must_pass(self, index: int, flow: Flow, exchange: Exchange, assembled: Assembled) -> bool:
        """Something wanted is stopped: by one of our entries it must not be."""
        denial = exchange.decider.path.denial
        if denial is None or denial.frame is not None:
            raise self._sure((index,), f"no list lets {write_flow(flow)} through")
        place = PlaceForList(denial.point, exchange.decider.path.packet.family)
        stopping = assembled.whose(denial.list_name, denial.decision.entry)
        if stopping is None:
            self._between.setdefault((index,), f"{write_flow(flow)} is denied by {denial.list_name}")
            return False
        returning = exchange.decider.way is Way.RETURN
        said = f"{write_flow(flow)} is wanted by one and stopped for the other"
        if not returning and self._of.unwanted(stopping, exchange.legs[0].path.packet):
            raise self._sure((index, stopping), said)
        if self._assembly.protect(place, index, returning):
            return True
        use = PlaceUse(place, stopping)
        self._between.setdefault((index, stopping), said)
        if use in self._forbidden:
            return False
        self._forbidden.add(use)
        return True

    def _sure(self, wanted: tuple[int, ...], why: str) -> NotTogether:
        return NotTogether({wanted: why}, wanted)


def _violating(proven: Proven) -> Iterator[tuple[Flow, Expectation]]:
    for half in proven.halves:
        for part in half.parts:
            if len(part.wrong):
                yield from ((flow, half.classes.half.expect) for flow in part.flows(_FLOWS))
