"""What has been worked out for the networks in use, one owner each, so that nothing is computed twice."""

from collections import OrderedDict, defaultdict, deque
from collections.abc import Callable, Collection
from dataclasses import replace
from functools import cache, reduce
from operator import add
from threading import Lock, RLock

from cachetools import LRUCache

from greyheron.analysis.advice.advisor import advise_in_time
from greyheron.analysis.advice.choices import Advice
from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding import Finding
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.presentation.report import TraceReport, report_in_time
from greyheron.analysis.proof.policy import (
    PolicyStates,
    ProofReport,
    RequirementMarks,
    proof_report,
    prove_in_state,
    prove_policy,
)
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.analysis.reach.axis import Axis, axis_of
from greyheron.analysis.reach.change import ReachChange, ReachFound, change_of
from greyheron.analysis.reach.matrix import Cells, Reach
from greyheron.analysis.reach.matrix_cache import KeptReaches
from greyheron.analysis.reach.question import ReachQuestion, families_of
from greyheron.analysis.testing.book import States, TestMarks, Tries, mark_tests
from greyheron.analysis.traffic.folding import SeenTraffic
from greyheron.analysis.traffic.judging import Judged, judge, parties_of
from greyheron.analysis.traffic.timestamps import times_of
from greyheron.compute.cache import FEW, Kept
from greyheron.compute.documents import Drafted
from greyheron.core.bulk.engines import engines
from greyheron.core.bulk.trying import try_flow
from greyheron.core.progress import Found, Progress, part, unheard, unwatched
from greyheron.core.shares import WHOLE, Share
from greyheron.core.timeline import Timeline
from greyheron.core.world import World, build_world
from greyheron.model.document import Network
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_flow
from greyheron.model.period import Moment
from greyheron.model.requirement import Statement
from greyheron.model.services import OWN_SERVICES
from greyheron.model.values import Family

MEMORY = 1 << 30
"""So many bytes are kept of all networks together, unless the server is told otherwise."""
MOST_WORLDS = 12
WORLD_BYTES = 192 << 20
"""At most so many worlds, and so many bytes of them: they share nearly all with others of their network."""
MOST_REACHES = 400 << 20
MOST_PROVEN = 300 << 20
MOST_BOOKS = 6 << 20
MOST_TOPOLOGIES = 2
MOST_NETWORKS = 64
"""What is known of so many networks is kept, however little it is."""
PATIENCE = 0.2
"""Seconds that a preview waits for a matrix that is being worked out."""
SMALL = 80
"""So many devices are few enough to work out reach while somebody waits."""


class _SameObjects:
    """A document as a key: the same object, not one like it. Comparing large ones would take long."""

    def __init__(self, *networks: Network) -> None:
        self._networks = networks

    def __hash__(self) -> int:
        return hash(tuple(len(network.placements) for network in self._networks))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _SameObjects) and all(
            one is another for one, another in zip(self._networks, other._networks, strict=True)
        )


class DerivedState:
    """What has been worked out for one network: for its documents as running, as drafted, as previewed.

    The one owner of all of it. What is kept is looked up from any thread, and bounded in bytes. Of each kind
    of long work (building worlds, proving, a share of reach) one request does one at a time, under its lock;
    who proves or works reach out may build, and nobody holds those two at once.
    """

    def __init__(self) -> None:
        self._building, self._finding, self._proving = RLock(), RLock(), RLock()
        self._reaching: dict[Share, RLock] = {}
        self.seen: SeenTraffic | None = None
        """Traffic that was brought in, folded."""
        self.begin_anew()

    def begin_anew(self) -> None:
        """With nothing worked out: what was goes at once.

        What refers to itself would wait for the search for circles, and fill the memory until then.
        """
        self._worlds: Kept[tuple[_SameObjects, frozenset[str]], World] = Kept(
            WORLD_BYTES, lambda world: max(world.nbytes, WORLD_BYTES // MOST_WORLDS)
        )
        self._topologies: deque[World] = deque(maxlen=MOST_TOPOLOGIES)
        self._books: Kept[tuple[_SameObjects, Moment | None, Share], tuple[TestMarks, ...]] = Kept(
            MOST_BOOKS, lambda book: 4000 * len(book)
        )
        self._tries = Tries()
        self._kept_reaches = KeptReaches()
        self._findings: Kept[tuple[_SameObjects, Moment | None, Share], tuple[Finding, ...]] = Kept(
            MOST_BOOKS, lambda found: 4000 * len(found)
        )
        self._kept_findings: defaultdict[Share, KeptFindings] = defaultdict(
            lambda: KeptFindings(self._kept_reaches)
        )
        self.engine = engines()
        self.prover = Prover(self.engine)
        self._proven: LRUCache[tuple[str, str, frozenset[str]], Proven] = LRUCache(
            MOST_PROVEN, getsizeof=lambda found: min(found.nbytes, MOST_PROVEN // FEW)
        )
        self._reaches: Kept[tuple[ReachQuestion, Share], Reach] = Kept(
            MOST_REACHES, lambda reach: reach.nbytes
        )

    @property
    def nbytes(self) -> int:
        """About how many bytes all of it takes."""
        worlds = sum(world.nbytes for _, world in self._worlds.items())
        kept = sum(each.nbytes for each in (self._books, self._findings, self._reaches))
        return worlds + kept + int(self._proven.currsize) + self._kept_reaches.nbytes

    def forget(self) -> None:
        """The network is gone, and with it all that is known of it, here and where others work for it."""
        self.begin_anew()

    def world(self, network: Network, active: frozenset[str] = frozenset()) -> World:
        """The world of a document; what it shares with one of the same topology is not worked out again.

        active:  the periods that are on
        """
        with self._building:  # two requests at once must not make two worlds that share nothing
            key = _SameObjects(network), active
            world = self._worlds.get(key)
            if world is not None:
                return world
            known = next((world for world in self._topologies if world.same_topology(network)), None)
            built = build_world(network, known, active)
            if known is None:
                self._topologies.appendleft(built)
            return self._worlds.put(key, built)

    def timeline(self, network: Network, moment: Moment | None = None) -> Timeline:
        """All times of a document; `moment` is the one that is looked at."""
        return Timeline.of(network, cache(lambda active: self.world(network, active)), moment)

    def book(
        self, stored: Drafted, moment: Moment | None, progress: Progress = unwatched, share: Share = WHOLE
    ) -> tuple[TestMarks, ...]:
        """The test flows of the draft in a share of them, with their three verdicts. Raises Cancelled."""
        key = _SameObjects(stored.running, stored.draft), moment, share
        found = self._books.get(key)
        if found is None:
            states = States(self.timeline(stored.running, moment), self.timeline(stored.draft, moment))
            asked = [test for test in stored.draft.tests if share.has(test.id)]
            found = self._books.put(key, mark_tests(asked, states, self._tries, progress))
        return found

    def timeline_in(self, stored: Drafted, state: str, moment: Moment | None) -> Timeline:
        """A network as running, on the draft, or (baseline) on the draft with no lists."""
        timeline = self.timeline(stored.running if state == "running" else stored.draft, moment)
        if state != "baseline":
            return timeline
        return replace(timeline, world_at=lambda active: timeline.world_at(active).baseline)

    def trace(self, stored: Drafted, flow: Flow, state: str, moment: Moment | None) -> TraceReport:
        """One flow in full. `state` is baseline, running or draft. Raises FlowError."""
        timeline = self.timeline_in(stored, state, moment)
        results = [(span, try_flow(timeline.world(span), flow)) for span in timeline.for_flow(flow)]
        return report_in_time(results, timeline.first.topology, write_flow(flow), state)

    def policy(
        self,
        stored: Drafted,
        moment: Moment | None,
        progress: Progress,
        share: Share = WHOLE,
        sooner: Collection[str] = (),
        told: Found = unheard,
    ) -> tuple[RequirementMarks, ...]:
        """The requirements of the draft in a share of them, with their three answers. Raises Cancelled.

        sooner:  the ids of those that are proved before the others
        """
        states = PolicyStates(self.timeline(stored.running, moment), self.timeline(stored.draft, moment))
        asked = [each for each in stored.draft.requirements if share.has(each.id)]
        in_turn = sorted(asked, key=lambda each: each.id not in sooner)
        with self._proving:
            marks = prove_policy(self.prover, states, self._proven, progress, in_turn, told)
        of = {each.id: each for each in marks}
        return tuple(of[each.id] for each in asked)

    def proofs(
        self, stored: Drafted, state: str, moment: Moment | None, progress: Progress, share: Share = WHOLE
    ) -> dict[str, ProofReport]:
        """The answers to the requirements of the draft in a share of them, by id. Raises Cancelled."""
        timeline = self.timeline(stored.running if state == "running" else stored.draft, moment)
        asked = [each for each in stored.draft.requirements if share.has(each.id)]
        with self._proving:
            return {
                each.id: proof_report(
                    prove_in_state(
                        self.prover, each, state, timeline, self._proven, part(progress, number, len(asked))
                    )
                )
                for number, each in enumerate(asked)
            }

    def findings(
        self,
        stored: Drafted,
        moment: Moment | None,
        progress: Progress,
        share: Share = WHOLE,
        told: Found = unheard,
    ) -> tuple[Finding, ...]:
        """What is wrong or doubtful in the draft, by a share of the searches. Raises Cancelled."""
        key = _SameObjects(stored.draft), moment, share
        found = self._findings.get(key)
        if found is None:
            timeline = self.timeline(stored.draft, moment)
            with self._finding:
                known = self._kept_findings[share]
                fresh = find_in_time(timeline, self.engine, known, progress, share, told)
            found = self._findings.put(key, fresh)
        return found

    def advice(
        self,
        stored: Drafted,
        statement: Statement,
        moment: Moment | None,
        progress: Progress,
        told: Found = unheard,
    ) -> Advice:
        """Where lists would make `statement` hold on the draft. Raises Cancelled."""
        timeline = self.timeline(stored.draft, moment)
        with self._proving:
            return advise_in_time(
                self.prover,
                self.engine,
                timeline,
                statement,
                self._proven,
                self._kept_reaches,
                progress,
                told,
            )

    def traffic(
        self, stored: Drafted, seen: SeenTraffic, moment: Moment | None, progress: Progress
    ) -> list[Judged]:
        """What becomes of traffic that was there, with no lists, as running and on the draft.

        Raises Cancelled.
        """
        timelines = [self.timeline_in(stored, state, moment) for state in ("baseline", "running", "draft")]
        parties = parties_of(seen, timelines[2].first)
        return judge(seen, parties, times_of(seen, timelines), self.engine, progress)

    def reach(
        self,
        stored: Drafted,
        question: ReachQuestion,
        moment: Moment | None,
        progress: Progress,
        share: Share = WHOLE,
    ) -> ReachFound:
        """The matrix of a question, as running and on the draft, by a share of who asks. Raises Cancelled."""
        worlds = tuple(self.timeline(each, moment).first for each in (stored.running, stored.draft))
        axes = tuple(
            axis_of(world, network, question)
            for world, network in zip(worlds, (stored.running, stored.draft), strict=True)
        )
        with self._reaching.setdefault(share, RLock()):
            running, draft = (
                self._cells(world, axis, question, part(progress, half, 2), share)
                for half, (world, axis) in enumerate(zip(worlds, axes, strict=True))
            )
        return ReachFound(axes[0], axes[1], running, draft)

    def _cells(
        self, world: World, axis: Axis, question: ReachQuestion, progress: Progress, share: Share
    ) -> Cells:
        """The cells in one world: from what was traced in another one, where that fits."""
        engine, key = self.engine(world), (question, share)
        known = self._reaches.get(key)
        if known is not None and known.axis.devices == axis.devices and known.fits(engine):
            return known.cells_in(engine)
        self._reaches.drop(key)  # before the new one is worked out: the two together may be large
        return self._reaches.put(key, Reach(world, engine, axis, question, progress, share)).cells()

    def reach_change(
        self,
        stored: Drafted,
        after: Network,
        moment: Moment | None,
        progress: Progress = unwatched,
        share: Share = WHOLE,
    ) -> ReachChange | None:
        """How reach differs between the draft and what it would be; None while that would take too long.

        The question is the one asked last, or what every device listens on; it is asked of every family that
        the network has, and in a large network of those whose matrix is known.
        """
        shares = ((question, own) for (question, own), _ in reversed(self._reaches.items()))
        asked = next((question for question, own in shares if own == share), None)
        if asked is None and len(after.devices) > SMALL:
            return None
        question = asked or ReachQuestion((OWN_SERVICES, "ping"), Family.IPV4)
        worlds = tuple(self.timeline(each, moment).first for each in (stored.draft, after))
        changes = [
            self._family_change(stored, after, question.in_family(each), worlds, progress, share)
            for each in families_of(*worlds)
        ]
        known = [each for each in changes if each is not None]
        return reduce(add, known) if known else None

    def _family_change(
        self,
        stored: Drafted,
        after: Network,
        question: ReachQuestion,
        worlds: tuple[World, ...],
        progress: Progress,
        share: Share,
    ) -> ReachChange | None:
        """The same for one address family."""
        axes = [
            axis_of(world, network, question)
            for world, network in zip(worlds, (stored.draft, after), strict=True)
        ]
        if axes[0].devices != axes[1].devices:
            return None
        known = self._reaches.get((question, share))
        if len(after.devices) > SMALL and not (
            known and all(known.fits(self.engine(each)) for each in worlds)
        ):
            return None
        small = len(after.devices) <= SMALL
        reaching = self._reaching.setdefault(share, RLock())
        if not reaching.acquire(timeout=-1 if small else PATIENCE):
            return None
        try:
            cells = [
                self._cells(world, axis, question, progress, share)
                for world, axis in zip(worlds, axes, strict=True)
            ]
        finally:
            reaching.release()
        return change_of(question, *cells)


class DerivedStates:
    """The derived state of every network in use; that of networks that were asked about least is let go."""

    def __init__(
        self, memory: int = MEMORY, made: Callable[[str], DerivedState] = lambda _: DerivedState()
    ) -> None:
        """memory:  how many bytes they may take together, as far as that can be estimated

        made:  makes the state of a network
        """
        self._memory, self._made = memory, made
        self._of: OrderedDict[str, DerivedState] = OrderedDict()
        self._lock = Lock()

    @property
    def nbytes(self) -> int:
        with self._lock:
            every = list(self._of.values())
        return sum(each.nbytes for each in every)

    def of(self, network_id: str) -> DerivedState:
        with self._lock:
            if network_id not in self._of:
                self._of[network_id] = self._made(network_id)
            found = self._of[network_id]
            self._of.move_to_end(network_id)
            sizes = [each.nbytes for each in self._of.values()]
            taken = sum(sizes)
            for size in sizes[:-1]:
                if taken <= self._memory and len(self._of) <= MOST_NETWORKS:
                    break
                self._of.popitem(last=False)[1].begin_anew()
                taken -= size
        return found

    def forget(self, network_id: str) -> None:
        """Let go what is known of a network that is gone."""
        with self._lock:
            state = self._of.pop(network_id, None)
        if state is not None:
            state.forget()
