"""Lists that could be shorter and decide alike."""

from fastapi import APIRouter
from pydantic import BaseModel

from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.tidy import TidiedList, TidyQuestion
from greyheron.core.progress import Progress
from greyheron.server.dependencies import PROBLEMS, Computations, Derived, Store
from greyheron.server.jobs import Working
from greyheron.server.schemas import ListText

router = APIRouter(prefix="/api", responses=PROBLEMS)


class TidiedLists(BaseModel):
    """Lists that can be shorter."""

    lists: list[TidiedList]


@router.post("/networks/{network_id}/lists/tidy")
def tidy_list(
    network_id: str, text: ListText, store: Store, derived: Derived, jobs: Computations
) -> Working[TidiedList]:
    """Begin to make a list shorter, as it is typed in place of the draft's."""
    stored = store.get(network_id)
    typed = text.typed_in(stored.draft)

    def work(progress: Progress) -> TidiedList:
        both = RunningAndDraft(stored.running, typed)
        return derived.of(network_id).ask(TidyQuestion(lists=(text.name,)), both, progress)[0]

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/tidy")
def tidy_lists(network_id: str, store: Store, derived: Derived, jobs: Computations) -> Working[TidiedLists]:
    """Begin to make all lists of the draft shorter."""
    stored = store.get(network_id)

    def work(progress: Progress) -> TidiedLists:
        tidied = derived.of(network_id).ask(TidyQuestion(), stored, progress)
        return TidiedLists(lists=[each for each in tidied if each.steps])

    return jobs.start(network_id, work)
