"""What exists is brought in: read beside the requests, looked at, and then made or merged."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter, File, Response, UploadFile
from pydantic import BaseModel, Field

from greyheron.analysis.testing.sending import Sending
from greyheron.core.progress import Progress
from greyheron.formats.bundle import bundle_among
from greyheron.formats.format import Brought
from greyheron.formats.known import bring
from greyheron.formats.workspace import write_item
from greyheron.model.changes import OF_THE_NETWORK, Collection, key_of, putting
from greyheron.model.document import Network
from greyheron.model.item import Item
from greyheron.model.problems import DocumentError, Problem
from greyheron.server.dependencies import PROBLEMS, Author, Computations, Store, Traffic, Version, contents_of
from greyheron.server.draft_routes import opened
from greyheron.server.jobs import LONGEST_READING, Working
from greyheron.server.problems import Refusal
from greyheron.server.schemas import (
    NetworkSummary,
    NewNetwork,
    NoticeItem,
    OpenNetwork,
    RequestBody,
    notices_told,
)

router = APIRouter(prefix="/api", responses=PROBLEMS)


class BroughtDevice(BaseModel):
    """A device that will be made. `lists`: those placed on it, each with where."""

    name: str
    kind: str
    lists: list[str]


class BroughtReport(BaseModel):
    """What a bundle was read as, what would be made of it, and what not.

    links:  the two devices that each joins;  left_out_count, guessed_count:  all, not just those sent
    """

    format: str
    name: str
    devices: list[BroughtDevice]
    links: list[tuple[str, str]]
    lists: int
    entries: int
    tests: int
    counted: int
    left_out: list[NoticeItem]
    left_out_count: int
    guessed: list[NoticeItem]
    guessed_count: int


class MergeItem(BaseModel):
    """An item of what was brought in beside the draft's of the same key. `before` is empty for a new one."""

    collection: Collection
    key: str
    state: Literal["new", "differs"]
    before: str
    after: str


class MergeOffer(BaseModel):
    """Items that are new or differ; `same`: how many are in the draft already."""

    items: list[MergeItem]
    same: int


class Chosen(RequestBody):
    """One item of a merge."""

    collection: Collection
    key: Annotated[str, Field(max_length=200)]


class MergeChoice(RequestBody):
    """The items to put into the draft."""

    items: Annotated[list[Chosen], Field(min_length=1, max_length=10_000)]


class _Read(BroughtReport):
    """The report with what it is about, which does not go over the wire."""

    brought: Annotated[Brought, Field(exclude=True)]

    model_config = {"arbitrary_types_allowed": True}


@router.post("/bring", status_code=202)
async def bring_in(files: Annotated[list[UploadFile], File()], jobs: Computations) -> Working[BroughtReport]:
    """Begin to read what was brought: files, or an archive of them. Nothing is made yet."""
    contents = await contents_of(files)

    def work(progress: Progress) -> BroughtReport:
        found, brought = bring(bundle_among(contents), progress)
        return _report(found.title, brought)

    return jobs.start("imports", work, longest=LONGEST_READING)


@router.post("/bring/{job_id}/network", status_code=201)
def make_brought(
    job_id: str, new: NewNetwork, store: Store, traffic: Traffic, author: Author, jobs: Computations
) -> NetworkSummary:
    """Make a network of what was brought in."""
    brought = _brought(jobs, job_id)
    stored = store.create(brought.network.model_copy(update={"name": new.name}), author)
    if brought.counts:
        traffic.add(stored.id, Sending(brought.counts, ()))
    return next(NetworkSummary.of(each) for each in store.summaries() if each.id == stored.id)


@router.get("/networks/{network_id}/bring/{job_id}")
def offer_merge(network_id: str, job_id: str, store: Store, jobs: Computations) -> MergeOffer:
    """What was brought in beside the draft, item by item."""
    draft, brought = store.get(network_id).draft, _brought(jobs, job_id).network
    items, same = [], 0
    for collection in OF_THE_NETWORK:
        known = {key_of(collection, item): item for item in getattr(draft, collection)}
        for item in getattr(brought, collection):
            key = key_of(collection, item)
            before = known.get(key)
            if before == item:
                same += 1
                continue
            texts = "" if before is None else write_item(before), write_item(item)
            state: Any = "new" if before is None else "differs"
            items.append(
                MergeItem(collection=collection, key=key, state=state, before=texts[0], after=texts[1])
            )
    return MergeOffer(items=items, same=same)


@router.post("/networks/{network_id}/bring/{job_id}", response_model=OpenNetwork)
def merge(
    network_id: str,
    job_id: str,
    merging: MergeChoice,
    store: Store,
    version: Version,
    author: Author,
    jobs: Computations,
) -> Response:
    """Put chosen items of what was brought in into the draft, all or none."""
    brought = _brought(jobs, job_id).network
    changes = [putting(each.collection, _item(brought, each)) for each in merging.items]
    label = f"bring in {len(changes)} of {brought.name}"
    return opened(store.edit(network_id, version, label[:200], changes, author))


def _report(title: str, brought: Brought) -> BroughtReport:
    network = brought.network
    placed: dict[str, list[str]] = {}
    for each in network.placements:
        placed.setdefault(each.device, []).append(f"{each.list} at {each.at} {each.direction}")
    left_out, left_out_count = notices_told(brought.left_out)
    guessed, guessed_count = notices_told(brought.guessed)
    return _Read(
        format=title,
        name=network.name,
        devices=[
            BroughtDevice(name=each.name, kind=each.kind, lists=placed.get(each.name, []))
            for each in network.devices
        ],
        links=[_ends(link.ends) for link in network.links],
        lists=len(network.lists),
        entries=sum(len(each.body.entries) for each in network.lists),
        tests=len(network.tests),
        counted=len(brought.counts),
        left_out=left_out,
        left_out_count=left_out_count,
        guessed=guessed,
        guessed_count=guessed_count,
        brought=brought,
    )


def _ends(ends: tuple[str, str]) -> tuple[str, str]:
    one, other = (end.partition(":")[0] for end in ends)
    return one, other


def _brought(jobs: Computations, job_id: str) -> Brought:
    """Raises Refusal when it is forgotten."""
    found = jobs.result(job_id)
    if not isinstance(found, _Read):
        raise Refusal(404, "There is nothing brought in under this name: bring it in again.")
    return found.brought


def _item(network: Network, chosen: Chosen) -> Item:
    for item in getattr(network, chosen.collection):
        if key_of(chosen.collection, item) == chosen.key:
            found: Item = item
            return found
    raise DocumentError([Problem(chosen.collection, f"nothing called “{chosen.key}” was brought in")])
