"""What becomes of traffic that was captured."""

from collections.abc import Sequence
from typing import Self

from msgspec.structs import replace

from greyheron.analysis.traffic.folding import SeenTraffic
from greyheron.analysis.traffic.judging import Judged, judge, parties_of
from greyheron.analysis.traffic.timestamps import times_of
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Question
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress
from greyheron.core.shares import Share
from greyheron.model.period import Moment
from greyheron.model.values import State

TrafficVerdicts = list[Judged]


class TrafficQuestion(Question[TrafficVerdicts], frozen=True, kw_only=True):
    """What becomes of captured traffic: with no lists, as running, and on the draft."""

    seen: SeenTraffic
    at: Moment | None = None

    def run(
        self, state: NetworkState, documents: Drafted, progress: Progress, found: Found
    ) -> TrafficVerdicts:
        timelines = [state.timeline_in(documents, each, self.at) for each in State]
        parties = parties_of(self.seen, timelines[2].first)
        return judge(self.seen, parties, times_of(self.seen, timelines), state.engine, progress)

    def split(self, count: int) -> list[Self]:
        """Each worker is sent what it judges, and no more."""
        shares = (Share(number, count) for number in range(count))
        return [replace(self, share=share, seen=self.seen.take(self.seen.part(share))) for share in shares]

    def merge(self, documents: Drafted, answers: Sequence[TrafficVerdicts]) -> TrafficVerdicts:
        rows = [self.seen.part(Share(number, len(answers))) for number in range(len(answers))]
        return [
            Judged.of_parts(len(self.seen), zip(rows, judged, strict=True))
            for judged in zip(*answers, strict=True)
        ]
