"""Exactly which packets edits permit or deny, and what two revisions differ in."""

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from greyheron.analysis.network.changed_lists import ChangedList
from greyheron.analysis.network.comparison import ToldSection, sections, sentence
from greyheron.compute.comparison import compare
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.packets import PacketChanges, PacketsQuestion
from greyheron.core.progress import Progress
from greyheron.server.dependencies import PROBLEMS, Computations, Derived, Store
from greyheron.server.jobs import Working
from greyheron.server.problems import Refusal
from greyheron.server.schemas import ListText, RequestBody

router = APIRouter(prefix="/api", responses=PROBLEMS)

_Number = Annotated[int, Field(ge=1, le=2**31)]


class Compared(RequestBody):
    """Two revisions by their numbers. `after` null: the draft."""

    before: _Number
    after: _Number | None = None


class ComparedRevisions(BaseModel):
    """What a later state has otherwise: in a sentence, and in sections that have something to say."""

    sentence: str
    sections: list[ToldSection]


@router.post("/networks/{network_id}/lists/packets")
def typed_packets(
    network_id: str, text: ListText, store: Store, derived: Derived, jobs: Computations
) -> Working[ChangedList]:
    """Begin to say what a list of the draft decides otherwise as it is typed than as it is saved."""
    draft = store.get(network_id).draft
    if not any(each.name == text.name for each in draft.lists):
        raise Refusal(404, f"There is no list “{text.name}” in the draft of this network.")
    both = RunningAndDraft(draft, text.typed_in(draft))

    def work(progress: Progress) -> ChangedList:
        found = derived.of(network_id).ask(PacketsQuestion(name=text.name), both, progress)
        return found.lists[0]

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/changes/packets")
def changed_packets(
    network_id: str, store: Store, derived: Derived, jobs: Computations
) -> Working[PacketChanges]:
    """Begin to say what the draft permits that running does not, and the other way round."""
    stored = store.get(network_id)

    def work(progress: Progress) -> PacketChanges:
        return derived.of(network_id).ask(PacketsQuestion(), stored, progress)

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/revisions/compare")
def compare_revisions(
    network_id: str, asked: Compared, store: Store, derived: Derived, jobs: Computations
) -> Working[ComparedRevisions]:
    """Begin to compare two revisions, or a revision with the draft."""
    before = store.revision(network_id, asked.before)
    after = store.get(network_id).draft if asked.after is None else store.revision(network_id, asked.after)

    def work(progress: Progress) -> ComparedRevisions:
        found = compare(derived.of(network_id), RunningAndDraft(before, after), progress)
        return ComparedRevisions(sentence=sentence(found), sections=list(sections(found)))

    return jobs.start(network_id, work)
