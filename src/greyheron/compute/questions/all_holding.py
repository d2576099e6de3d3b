"""Lists that make all requirements of a draft hold."""

from collections.abc import Sequence
from typing import Self

from greyheron.analysis.advice.plans import AllHolding, make_all_hold
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.policy import Proving
from greyheron.compute.questions.question import Question
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress
from greyheron.model.period import Moment


class AllHoldingQuestion(Question[AllHolding], frozen=True, kw_only=True):
    """Sets of lists that make the draft's requirements hold.

    chosen:  the ids of those that do not hold and are meant; None: all of them
    """

    at: Moment | None = None
    chosen: tuple[str, ...] | None = None

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> AllHolding:
        proving = state.kept(Proving)
        with proving.lock:
            return make_all_hold(
                proving.prover,
                state.engine,
                state.timeline(documents.draft, self.at),
                self.chosen,
                progress,
            )

    def split(self, count: int) -> list[Self]:
        return [self]

    def merge(self, documents: Drafted, answers: Sequence[AllHolding]) -> AllHolding:
        return answers[0]
