"""The derived state of a network whose long work is done by worker processes."""

from typing import Any
from zlib import crc32

from greyheron.analysis.advice.choices import Advice
from greyheron.analysis.findings.finder import merged
from greyheron.analysis.findings.finding import Finding
from greyheron.analysis.proof.policy import RequirementMarks
from greyheron.analysis.reach.change import ReachChange, ReachFound
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.core.progress import Progress, unwatched
from greyheron.core.shares import WHOLE, Share
from greyheron.model.document import Network
from greyheron.model.period import Moment
from greyheron.model.requirement import Statement
from greyheron.working.derived import SMALL, DerivedState, Drafted
from greyheron.working.workers import Order, Workers


class RemoteState(DerivedState):
    """What is long is asked of workers; what is short is worked out here.

    Of a large network each worker proves some of the requirements, and makes some of the searches.
    """

    def __init__(self, network_id: str, workers: Workers) -> None:
        super().__init__()
        self._network_id, self._workers = network_id, workers
        self._first = crc32(network_id.encode()) % len(workers)

    def policy(
        self, stored: Drafted, moment: Moment | None, progress: Progress, share: Share = WHOLE
    ) -> tuple[RequirementMarks, ...]:
        found = self._shared(0, "policy", stored, moment, share, progress)
        marks = {each.id: each for share in found for each in share}
        return tuple(marks[each.id] for each in stored.draft.requirements if each.id in marks)

    def findings(
        self, stored: Drafted, moment: Moment | None, progress: Progress, share: Share = WHOLE
    ) -> tuple[Finding, ...]:
        return merged(self._shared(1, "findings", stored, moment, share, progress))

    def advice(
        self, stored: Drafted, statement: Statement, moment: Moment | None, progress: Progress
    ) -> Advice:
        advice: Advice = self._one(0, "advice", stored, (statement, moment), progress)
        return advice

    def reach(
        self, stored: Drafted, question: ReachQuestion, moment: Moment | None, progress: Progress
    ) -> ReachFound:
        found: ReachFound = self._one(1, "reach", stored, (question, moment), progress)
        return found

    def reach_change(
        self, stored: Drafted, after: Network, moment: Moment | None, progress: Progress = unwatched
    ) -> ReachChange | None:
        change: ReachChange | None = self._one(1, "reach_change", stored, (after, moment), progress)
        return change

    def _one(
        self, kind: int, method: str, stored: Drafted, first: tuple[Any, ...], progress: Progress
    ) -> Any:
        """What one worker makes of it; work of one `kind` goes to the same one."""
        order = Order(self._worker(kind), method, stored, first)
        return self._workers.results(self._network_id, [order], progress)[0]

    def _shared(
        self,
        kind: int,
        method: str,
        stored: Drafted,
        moment: Moment | None,
        share: Share,
        progress: Progress,
    ) -> list[Any]:
        """What workers make of it, a share each."""
        orders = [
            Order(self._worker(kind + number), method, stored, (moment,), (each,))
            for number, each in enumerate(self._shares(stored, share))
        ]
        return self._workers.results(self._network_id, orders, progress)

    def _shares(self, stored: Drafted, share: Share) -> list[Share]:
        """A share for each worker, where a network is large enough to be worth it."""
        if len(stored.draft.devices) <= SMALL or share != WHOLE:
            return [share]
        return [Share(number, len(self._workers)) for number in range(len(self._workers))]

    def _worker(self, number: int) -> int:
        """The worker for work of a kind: always the same, and another one for another network."""
        return (self._first + number) % len(self._workers)
