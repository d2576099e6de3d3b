"""The derived state of a network whose long work is done by worker processes, here or elsewhere."""

from collections.abc import Collection
from functools import reduce
from operator import add, or_
from typing import Any
from zlib import crc32

from greyheron.analysis.advice.choices import Advice
from greyheron.analysis.findings.finder import merged
from greyheron.analysis.findings.finding import Finding
from greyheron.analysis.proof.policy import ProofReport, RequirementMarks
from greyheron.analysis.reach.change import ReachChange, ReachFound
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.analysis.testing.book import TestMarks
from greyheron.analysis.traffic.folding import SeenTraffic
from greyheron.analysis.traffic.judging import Judged
from greyheron.compute.derived import SMALL, DerivedState
from greyheron.compute.documents import Drafted
from greyheron.compute.tasks import Order, WorkerPool
from greyheron.core.progress import Found, Progress, unheard, unwatched
from greyheron.core.shares import WHOLE, Share
from greyheron.model.document import Network
from greyheron.model.period import Moment
from greyheron.model.requirement import Statement


class RemoteState(DerivedState):
    """What is long is asked of workers; what is short is worked out here.

    Of a large network each worker proves some of the requirements, makes some of the searches, and has some
    of those who ask in a matrix.
    """

    def __init__(self, network_id: str, pool: WorkerPool) -> None:
        super().__init__()
        self._network_id, self._pool = network_id, pool
        self._first = crc32(network_id.encode())

    def forget(self) -> None:
        super().forget()
        self._pool.forget(self._network_id)

    def book(
        self, stored: Drafted, moment: Moment | None, progress: Progress = unwatched, share: Share = WHOLE
    ) -> tuple[TestMarks, ...]:
        if len(stored.draft.devices) <= SMALL:
            return super().book(stored, moment, progress, share)
        found = self._shared(0, "book", stored, (moment,), share, progress)
        marks = {each.id: each for share in found for each in share}
        return tuple(marks[each.id] for each in stored.draft.tests if each.id in marks)

    def policy(
        self,
        stored: Drafted,
        moment: Moment | None,
        progress: Progress,
        share: Share = WHOLE,
        sooner: Collection[str] = (),
        told: Found = unheard,
    ) -> tuple[RequirementMarks, ...]:
        found = self._shared(0, "policy", stored, (moment,), share, progress, told, (tuple(sooner),))
        marks = {each.id: each for share in found for each in share}
        return tuple(marks[each.id] for each in stored.draft.requirements if each.id in marks)

    def proofs(
        self, stored: Drafted, state: str, moment: Moment | None, progress: Progress, share: Share = WHOLE
    ) -> dict[str, ProofReport]:
        return reduce(or_, self._shared(0, "proofs", stored, (state, moment), share, progress))

    def findings(
        self,
        stored: Drafted,
        moment: Moment | None,
        progress: Progress,
        share: Share = WHOLE,
        told: Found = unheard,
    ) -> tuple[Finding, ...]:
        return merged(self._shared(1, "findings", stored, (moment,), share, progress, told))

    def advice(
        self,
        stored: Drafted,
        statement: Statement,
        moment: Moment | None,
        progress: Progress,
        told: Found = unheard,
    ) -> Advice:
        order = Order(self._first, "advice", stored, (statement, moment), tells=told is not unheard)
        advice: Advice = self._pool.results(self._network_id, [order], progress, told)[0]
        return advice

    def traffic(
        self, stored: Drafted, seen: SeenTraffic, moment: Moment | None, progress: Progress
    ) -> list[Judged]:
        parts = [seen.part(share) for share in self._shares(stored, WHOLE)]
        orders = [
            Order(self._first + number, "traffic", stored, (seen.take(rows), moment))
            for number, rows in enumerate(parts)
        ]
        found = self._pool.results(self._network_id, orders, progress)
        return [
            Judged.of_parts(len(seen), zip(parts, judged, strict=True)) for judged in zip(*found, strict=True)
        ]

    def reach(
        self,
        stored: Drafted,
        question: ReachQuestion,
        moment: Moment | None,
        progress: Progress,
        share: Share = WHOLE,
    ) -> ReachFound:
        found: list[ReachFound] = self._shared(1, "reach", stored, (question, moment), share, progress)
        return reduce(or_, found)

    def reach_change(
        self,
        stored: Drafted,
        after: Network,
        moment: Moment | None,
        progress: Progress = unwatched,
        share: Share = WHOLE,
    ) -> ReachChange | None:
        found: list[ReachChange | None] = self._shared(
            1, "reach_change", stored, (after, moment), share, progress
        )
        known = [each for each in found if each is not None]
        return reduce(add, known) if len(known) == len(found) else None

    def _shared(
        self,
        kind: int,
        method: str,
        stored: Drafted,
        first: tuple[Any, ...],
        share: Share,
        progress: Progress,
        told: Found = unheard,
        rest: tuple[Any, ...] = (),
    ) -> list[Any]:
        """What workers make of it, a share each; work of one `kind` goes to the same ones.

        first, rest:  arguments before the progress, and behind the share
        """
        orders = [
            Order(self._first + kind + number, method, stored, first, (each, *rest), told is not unheard)
            for number, each in enumerate(self._shares(stored, share))
        ]
        return self._pool.results(self._network_id, orders, progress, told)

    def _shares(self, stored: Drafted, share: Share) -> list[Share]:
        """A share for each worker, where a network is large enough to be worth it."""
        if len(stored.draft.devices) <= SMALL or share != WHOLE:
            return [share]
        count = len(self._pool)
        return [Share(number, count) for number in range(count)]
