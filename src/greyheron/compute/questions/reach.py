"""Who can talk to whom, and how an edit changes that."""

from collections.abc import Sequence
from functools import reduce
from operator import add, or_
from threading import RLock

from greyheron.analysis.reach.axis import Axis, axis_of
from greyheron.analysis.reach.change import ReachChange, ReachFound, change_of
from greyheron.analysis.reach.matrix import Cells, Reach
from greyheron.analysis.reach.question import ReachQuestion, families_of, require_services
from greyheron.compute.cache import BoundedCache
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Question
from greyheron.compute.state import SMALL, NetworkState
from greyheron.core.progress import Found, Progress, part
from greyheron.core.shares import Share
from greyheron.core.world import World
from greyheron.model.period import Moment
from greyheron.model.services import OWN_SERVICES
from greyheron.model.values import Family

_MOST_BYTES = 400 << 20
_PATIENCE = 0.2
"""Seconds that a preview waits for a matrix that is being worked out."""


class _Reaching:
    """The matrices of a network. One question works a share out at a time, under its lock."""

    def __init__(self, state: NetworkState) -> None:
        self._engine = state.engine
        self._locks: dict[Share, RLock] = {}
        self.of: BoundedCache[tuple[ReachQuestion, Share], Reach] = BoundedCache(
            _MOST_BYTES, lambda reach: reach.nbytes
        )

    @property
    def nbytes(self) -> int:
        return self.of.nbytes

    def lock(self, share: Share) -> RLock:
        return self._locks.setdefault(share, RLock())

    def cells(
        self, world: World, axis: Axis, question: ReachQuestion, progress: Progress, share: Share
    ) -> Cells:
        """The cells in one world: from what was traced in another one, where that fits."""
        engine, key = self._engine(world), (question, share)
        known = self.of.get(key)
        if known is not None and known.axis.devices == axis.devices and known.fits(engine):
            return known.cells_in(engine)
        self.of.drop(key)  # before the new one is worked out: the two together may be large
        return self.of.put(key, Reach(world, engine, axis, question, progress, share)).cells()

    def known(self, question: ReachQuestion, share: Share, worlds: Sequence[World]) -> bool:
        """Whether the matrix is there, and fits all of these worlds."""
        found = self.of.get((question, share))
        return found is not None and all(found.fits(self._engine(each)) for each in worlds)

    def asked_last(self, share: Share) -> ReachQuestion | None:
        return next((asked for (asked, own), _ in reversed(self.of.items()) if own == share), None)


class MatrixQuestion(Question[ReachFound], frozen=True, kw_only=True):
    """The matrix of reach, as running and on the draft, by a share of who asks.

    Raises ReachError where a service is not there.
    """

    lane = 1
    asked: ReachQuestion
    at: Moment | None = None

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> ReachFound:
        both = documents.running, documents.draft
        worlds = tuple(state.timeline(each, self.at).first for each in both)
        require_services(worlds[1], self.asked)
        axes = [axis_of(world, network, self.asked) for world, network in zip(worlds, both, strict=True)]
        reaching = state.kept(_Reaching)
        with reaching.lock(self.share):
            running, draft = (
                reaching.cells(world, axis, self.asked, part(progress, half, 2), self.share)
                for half, (world, axis) in enumerate(zip(worlds, axes, strict=True))
            )
        return ReachFound(axes[0], axes[1], running, draft)

    def merge(self, documents: Drafted, answers: Sequence[ReachFound]) -> ReachFound:
        return reduce(or_, answers)


class ReachChangeQuestion(Question[ReachChange | None], frozen=True, kw_only=True):
    """How reach differs between two documents, given as running and draft; None where that takes too long.

    The matrix is the one asked for last, or what every device listens on, in each family that the network
    has; in a large network only where it is known.
    """

    lane = 1
    at: Moment | None = None

    def run(
        self,
        state: NetworkState,
        documents: Drafted,
        progress: Progress,
        found: Found,
    ) -> ReachChange | None:
        last = state.kept(_Reaching).asked_last(self.share)
        if last is None and len(documents.draft.devices) > SMALL:
            return None
        asked = last or ReachQuestion((OWN_SERVICES, "ping"), Family.IPV4)
        worlds = tuple(state.timeline(each, self.at).first for each in (documents.running, documents.draft))
        changes = [
            self._in_family(state, documents, asked.in_family(family), worlds, progress)
            for family in families_of(*worlds)
        ]
        known = [each for each in changes if each is not None]
        return reduce(add, known) if known else None

    def merge(self, documents: Drafted, answers: Sequence[ReachChange | None]) -> ReachChange | None:
        known = [each for each in answers if each is not None]
        return reduce(add, known) if len(known) == len(answers) else None

    def _in_family(
        self,
        state: NetworkState,
        documents: Drafted,
        asked: ReachQuestion,
        worlds: Sequence[World],
        progress: Progress,
    ) -> ReachChange | None:
        both, reaching = (documents.running, documents.draft), state.kept(_Reaching)
        axes = [axis_of(world, network, asked) for world, network in zip(worlds, both, strict=True)]
        if axes[0].devices != axes[1].devices:
            return None
        small = len(documents.draft.devices) <= SMALL
        if not small and not reaching.known(asked, self.share, worlds):
            return None
        lock = reaching.lock(self.share)
        if not lock.acquire(timeout=-1 if small else _PATIENCE):
            return None
        try:
            cells = [
                reaching.cells(world, axis, asked, progress, self.share)
                for world, axis in zip(worlds, axes, strict=True)
            ]
        finally:
            lock.release()
        return change_of(asked, *cells)
