"""Worlds and books kept from one request to the next, so that nothing is computed twice."""

from collections import OrderedDict, deque
from collections.abc import Callable
from threading import Lock, RLock
from typing import TypeVar

from greyheron.analysis.advice import Advice, Advisor
from greyheron.analysis.book import States, TestMarks, Tries, mark_tests
from greyheron.analysis.findings.coverage import IdleEntries
from greyheron.analysis.findings.finder import find_all
from greyheron.analysis.findings.finding import Finding, Ground
from greyheron.analysis.policy import Known, PolicyStates, RequirementMarks, prove_policy
from greyheron.analysis.proof.proving import Prover, engines
from greyheron.analysis.reach import (
    Axis,
    Cells,
    Progress,
    Reach,
    ReachChange,
    ReachFound,
    ReachQuestion,
    axis_of,
    change_of,
)
from greyheron.analysis.report import TraceReport, report
from greyheron.core.conversation import converse
from greyheron.core.world import World, build_world
from greyheron.model.document import Network
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_flow
from greyheron.model.requirement import Statement
from greyheron.model.services import OWN_SERVICES
from greyheron.model.values import Family
from greyheron.store.networks import Stored

MOST_KEPT = 24
MOST_COURSES = 400_000
"""The courses of so many conversations, some 3 kB each, are kept for matrices; those of one matrix always."""
MOST_TOPOLOGIES = 6
MOST_POLICIES = 3
SMALL = 80
"""So many devices are few enough to work out reach while somebody waits."""
K = TypeVar("K")
T = TypeVar("T")


class _Kept:
    """Results by the identity of the frozen values they came from; the oldest are dropped."""

    def __init__(self) -> None:
        self._results: dict[tuple[int, ...], tuple[tuple[object, ...], object]] = {}
        self._lock = Lock()

    def of(self, compute: Callable[[], T], *sources: object) -> T:
        key = tuple(map(id, sources))
        with self._lock:
            if key in self._results:
                found: T = self._results[key][1]  # type: ignore[assignment]
                return found
        result = compute()
        with self._lock:
            self._results[key] = (sources, result)  # holding the sources keeps their ids theirs
            while len(self._results) > MOST_KEPT:
                del self._results[next(iter(self._results))]
        return result


class Bench:
    """What has been worked out for the documents in use."""

    def __init__(self) -> None:
        self._worlds = _Kept()
        self._topologies: deque[World] = deque(maxlen=MOST_TOPOLOGIES)
        self._building = RLock()
        self._books = _Kept()
        self._tries = Tries()
        self._findings = _Kept()
        self._idle = IdleEntries()
        self.engine = engines()
        self.prover = Prover(self.engine)
        self._proven: OrderedDict[str, Known] = OrderedDict()
        self._proving = RLock()
        self._advised: OrderedDict[str, dict[Family, Reach]] = OrderedDict()
        self._reaches: OrderedDict[tuple[str, ReachQuestion], Reach] = OrderedDict()

    def world(self, network: Network) -> World:
        """The world of a document; what it shares with one of the same topology is not worked out again."""

        def build() -> World:
            known = next((world for world in self._topologies if world.same_topology(network)), None)
            built = build_world(network, known)
            if known is None:
                self._topologies.appendleft(built)
            return built

        with self._building:  # two requests at once must not make two worlds that share nothing
            return self._worlds.of(build, network)

    def book(self, running: Network, draft: Network) -> tuple[TestMarks, ...]:
        """Every test flow of `draft` with its three verdicts."""

        def marks() -> tuple[TestMarks, ...]:
            world, drafted = self.world(running), self.world(draft)
            states = States(world, world.baseline, drafted, drafted.baseline)
            return mark_tests(draft.tests, states, self._tries)

        return self._books.of(marks, running, draft)

    def world_in(self, stored: Stored, state: str) -> World:
        """The world of a network as running, on the draft, or (baseline) on the draft with no lists."""
        if state == "baseline":
            return self.world(stored.draft).baseline
        return self.world(stored.running if state == "running" else stored.draft)

    def trace(self, stored: Stored, flow: Flow, state: str) -> TraceReport:
        """One flow in full. `state` is baseline, running or draft. Raises FlowError."""
        world = self.world_in(stored, state)
        return report(converse(world, flow), world.segments, write_flow(flow), state)

    def policy(self, stored: Stored, progress: Progress) -> tuple[RequirementMarks, ...]:
        """Every requirement of the draft with its three answers. Raises ProofCancelled."""
        running, draft = self.world(stored.running), self.world(stored.draft)
        states = PolicyStates((running, stored.running), (draft, stored.draft))
        with self._proving:
            return prove_policy(self.prover, states, _of_network(self._proven, stored.id), progress)

    def findings(self, stored: Stored, progress: Progress) -> tuple[Finding, ...]:
        """What is wrong or doubtful in the draft. Raises SearchCancelled."""

        def find() -> tuple[Finding, ...]:
            world = self.world(stored.draft)
            return find_all(Ground(stored.draft, world, self.engine, self._idle), progress)

        return self._findings.of(find, stored.draft)

    def advice(self, stored: Stored, statement: Statement, progress: Progress) -> Advice:
        """Where lists would make `statement` hold on the draft. Raises ProofCancelled."""
        with self._proving:
            proven = self._proven.get(stored.id, {})
            known = {name: found for (name, state), found in proven.items() if state == "draft"}
            reaches = _of_network(self._advised, stored.id)
            draft = self.world(stored.draft)
            advisor = Advisor(self.prover, self.engine, draft, stored.draft, known, reaches)
            return advisor.advise(statement, progress=progress)

    def reach(self, stored: Stored, question: ReachQuestion, progress: Progress) -> ReachFound:
        """The matrix of a question, as running and on the draft. Raises ReachCancelled."""
        worlds = self.world(stored.running), self.world(stored.draft)
        halves = (lambda done: progress(done / 2)), (lambda done: progress((done + 1) / 2))
        axes = tuple(
            axis_of(world, network, question)
            for world, network in zip(worlds, (stored.running, stored.draft), strict=True)
        )
        running, draft = (
            self._cells(stored.id, world, axis, question, half)
            for world, axis, half in zip(worlds, axes, halves, strict=True)
        )
        return ReachFound(axes[0], axes[1], running, draft)

    def _cells(
        self, network_id: str, world: World, axis: Axis, question: ReachQuestion, progress: Progress
    ) -> Cells:
        """The cells in one world: from what was traced in another one, where that fits."""
        key, engine = (network_id, question), self.engine(world)
        known = self._reaches.get(key)
        if known is not None and known.axis.devices == axis.devices and known.fits(engine):
            self._reaches[key] = known  # another request may have let it go
            self._reaches.move_to_end(key)
            return known.cells_in(engine)
        self._reaches.pop(key, None)  # before the new one is worked out: the two together may be large
        known = self._reaches[key] = Reach(world, engine, axis, question, progress)
        while len(self._reaches) > 1 and sum(map(len, self._reaches.values())) > MOST_COURSES:
            self._reaches.popitem(last=False)
        return known.cells()

    def reach_change(self, stored: Stored, after: Network) -> ReachChange | None:
        """How reach differs between the draft and what it would be; None while that would take too long.

        The question is the one asked last, or what every device listens on.
        """
        asked = next((question for key, question in reversed(self._reaches) if key == stored.id), None)
        if asked is None and len(after.devices) > SMALL:
            return None
        question = asked or ReachQuestion((OWN_SERVICES, "ping"), Family.IPV4)
        worlds = self.world(stored.draft), self.world(after)
        axes = [
            axis_of(world, network, question)
            for world, network in zip(worlds, (stored.draft, after), strict=True)
        ]
        if axes[0].devices != axes[1].devices:
            return None
        known = self._reaches.get((stored.id, question))
        if len(after.devices) > SMALL and not (
            known and all(known.fits(self.engine(each)) for each in worlds)
        ):
            return None
        cells = [
            self._cells(stored.id, world, axis, question, lambda _done: True)
            for world, axis in zip(worlds, axes, strict=True)
        ]
        return change_of(question, *cells)


def _of_network(kept: OrderedDict[str, dict[K, T]], network_id: str) -> dict[K, T]:
    """What is kept of a network, to be looked into and kept up; the networks asked about least are let go."""
    found = kept.setdefault(network_id, {})
    kept.move_to_end(network_id)
    while len(kept) > MOST_POLICIES:
        kept.popitem(last=False)
    return found
