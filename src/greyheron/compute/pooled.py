"""The derived state of a network whose long questions are answered by worker processes, here or elsewhere."""

from zlib import crc32

from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Answered, Question
from greyheron.compute.state import SMALL
from greyheron.compute.tasks import Order, WorkerPool
from greyheron.core.progress import Found, Progress, unheard, unwatched
from greyheron.core.shares import WHOLE


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

    def ask(
        self,
        question: Question[Answered],
        documents: Drafted,
        progress: Progress = unwatched,
        found: Found = unheard,
    ) -> Answered:
        if question.is_short(documents):
            return super().ask(question, documents, progress, found)
        large = len(documents.draft.devices) > SMALL and question.share == WHOLE
        parts = question.split(len(self._pool)) if large else [question]
        orders = [
            Order(self._first + question.lane + number, part, documents, found is not unheard)
            for number, part in enumerate(parts)
        ]
        return question.merge(documents, self._pool.results(self._network_id, orders, progress, found))
