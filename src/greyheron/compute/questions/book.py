"""The test flows of a draft, with their three verdicts."""

from collections.abc import Sequence

from greyheron.analysis.testing.book import States, TestMarks, Tries, mark_tests
from greyheron.compute.cache import BoundedCache
from greyheron.compute.documents import Drafted, SameObjects
from greyheron.compute.questions.question import Question
from greyheron.compute.state import SMALL, NetworkState
from greyheron.core.progress import Found, Progress
from greyheron.core.shares import Share
from greyheron.model.period import Moment

BookMarks = tuple[TestMarks, ...]
_MOST_BYTES = 6 << 20
_BYTES_OF_ONE = 4000


class _Books:
    """Books of documents, and the tries that they share."""

    def __init__(self, _state: NetworkState) -> None:
        self.of: BoundedCache[tuple[SameObjects, Moment | None, Share], BookMarks] = BoundedCache(
            _MOST_BYTES, lambda book: _BYTES_OF_ONE * len(book)
        )
        self.tries = Tries()

    @property
    def nbytes(self) -> int:
        return self.of.nbytes


class BookQuestion(Question[BookMarks], frozen=True, kw_only=True):
    """What becomes of every test flow of the draft: with no lists, as running, and on the draft."""

    at: Moment | None = None

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> BookMarks:
        books = state.kept(_Books)
        key = SameObjects(documents.running, documents.draft), self.at, self.share
        known = books.of.get(key)
        if known is None:
            states = States(*(state.timeline(each, self.at) for each in (documents.running, documents.draft)))
            tests = [test for test in documents.draft.tests if self.share.has(test.id)]
            known = books.of.put(key, mark_tests(tests, states, books.tries, progress))
        return known

    def merge(self, documents: Drafted, answers: Sequence[BookMarks]) -> BookMarks:
        marks = {each.id: each for answer in answers for each in answer}
        return tuple(marks[test.id] for test in documents.draft.tests if test.id in marks)

    def is_short(self, documents: Drafted) -> bool:
        return len(documents.draft.devices) <= SMALL
