"""Where lists would make a requirement hold."""

from collections.abc import Sequence
from typing import Self

from greyheron.analysis.advice.advisor import advise_in_time
from greyheron.analysis.advice.choices import Advice, Choice
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.findings import Searching
from greyheron.compute.questions.policy import Proving
from greyheron.compute.questions.question import Question
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress
from greyheron.model.period import Moment
from greyheron.model.requirement import Statement


class AdviceQuestion(Question[Advice], frozen=True, kw_only=True):
    """Where lists would make a statement hold on the draft."""

    finds = tuple[Choice, ...]
    statement: Statement
    at: Moment | None = None

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> Advice:
        timeline = state.timeline(documents.draft, self.at)
        proving = state.kept(Proving)
        with proving.lock:
            return advise_in_time(
                proving.prover,
                state.engine,
                timeline,
                self.statement,
                proving.proven,
                state.kept(Searching).reaches,
                progress,
                found,
            )

    def split(self, count: int) -> list[Self]:
        return [self]

    def merge(self, documents: Drafted, answers: Sequence[Advice]) -> Advice:
        return answers[0]
