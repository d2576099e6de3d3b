"""Lists of a draft that could be shorter and decide alike."""

from collections.abc import Sequence
from dataclasses import dataclass

from greyheron.analysis.entries.tidy import TidyStep, tidy
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Question
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress, part
from greyheron.model.notation.lists import write_body


@dataclass(frozen=True, slots=True)
class TidiedList:
    """A list as it could be: its entries in the notation, how many they were and are, and the steps."""

    name: str
    entries: str
    before: int
    after: int
    steps: tuple[TidyStep, ...]


class TidyQuestion(Question[tuple[TidiedList, ...]], frozen=True, kw_only=True):
    """What lists of the draft could be. `lists`: their names; None: all of them."""

    lists: tuple[str, ...] | None = None

    def run(
        self, state: NetworkState, documents: Drafted, progress: Progress, found: Found
    ) -> tuple[TidiedList, ...]:
        asked = [
            each
            for each in documents.draft.lists
            if self.share.has(each.name) and (self.lists is None or each.name in self.lists)
        ]
        done: list[TidiedList] = []
        for number, each in enumerate(asked):
            tidied = tidy(each, documents.draft, part(progress, number, len(asked)))
            text = write_body(tidied.body, each.family, each.kind)
            before, after = len(each.body.entries), len(tidied.body.entries)
            done.append(TidiedList(each.name, text, before, after, tidied.steps))
        return tuple(done)

    def merge(self, documents: Drafted, answers: Sequence[tuple[TidiedList, ...]]) -> tuple[TidiedList, ...]:
        of = {each.name: each for answer in answers for each in answer}
        return tuple(of[each.name] for each in documents.draft.lists if each.name in of)
