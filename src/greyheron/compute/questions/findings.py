"""What is wrong or doubtful in a draft."""

from collections.abc import Sequence
from threading import RLock

from greyheron.analysis.findings.finder import find_in_time, merged
from greyheron.analysis.findings.finding import Finding
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.reach.matrix_cache import KeptReaches
from greyheron.compute.cache import BoundedCache
from greyheron.compute.documents import Drafted, SameObjects
from greyheron.compute.questions.question import Question
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress
from greyheron.core.shares import Share
from greyheron.model.period import Moment

EveryFinding = tuple[Finding, ...]
_MOST_BYTES = 6 << 20
_BYTES_OF_ONE = 4000


class Searching:
    """Findings of documents, and what the searches keep. One question searches at a time, under the lock."""

    def __init__(self, _state: NetworkState) -> None:
        self.of: BoundedCache[tuple[SameObjects, Moment | None, Share], EveryFinding] = BoundedCache(
            _MOST_BYTES, lambda findings: _BYTES_OF_ONE * len(findings)
        )
        self.reaches, self.lock = KeptReaches(), RLock()
        self._by_share: dict[Share, KeptFindings] = {}

    def searches(self, share: Share) -> KeptFindings:
        return self._by_share.setdefault(share, KeptFindings(self.reaches))

    @property
    def nbytes(self) -> int:
        return self.of.nbytes + self.reaches.nbytes


class FindingsQuestion(Question[EveryFinding], frozen=True, kw_only=True):
    """The findings of the draft, by a share of the searches."""

    lane = 1
    finds = EveryFinding
    at: Moment | None = None

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> EveryFinding:
        searching = state.kept(Searching)
        key = SameObjects(documents.draft), self.at, self.share
        known = searching.of.get(key)
        if known is None:
            timeline = state.timeline(documents.draft, self.at)
            with searching.lock:
                searches = searching.searches(self.share)
                fresh = find_in_time(timeline, state.engine, searches, progress, self.share, found)
            known = searching.of.put(key, fresh)
        return known

    def merge(self, documents: Drafted, answers: Sequence[EveryFinding]) -> EveryFinding:
        return merged(answers)
