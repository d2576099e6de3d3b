"""The routes under /api."""

import json
from itertools import pairwise
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Header, Response
from fastapi.responses import PlainTextResponse
from msgspec.structs import replace

from greyheron.analysis.findings.idle import idle_entries
from greyheron.analysis.network.completion import (
    complete_device,
    complete_entry,
    complete_flow,
    complete_part,
    complete_requirement,
    complete_set,
)
from greyheron.analysis.network.customary import Customary, customary_places
from greyheron.analysis.network.differences import Difference, differences
from greyheron.analysis.network.places import Places, places_of
from greyheron.analysis.presentation.compare import Divergence, parting
from greyheron.analysis.presentation.ranges import cover_list
from greyheron.analysis.presentation.report import TraceReport
from greyheron.compute.questions.book import BookQuestion
from greyheron.core.lists.periods import times_of
from greyheron.core.progress import Progress
from greyheron.demo.exercise import FAULTS, Fault
from greyheron.demo.networks import saltmarsh, storm
from greyheron.formats.workspace import read_item, read_workspace, write_item, write_workspace
from greyheron.model.changes import ITEM_TYPES, Change, Collection, key_of
from greyheron.model.document import Network
from greyheron.model.notation.flows import read_bare_flow, read_expected_flow, write_expected_flow
from greyheron.model.notation.lists import renumbered, write_body
from greyheron.model.problems import DocumentError
from greyheron.model.read import edited, read_network
from greyheron.model.values import State
from greyheron.server.dependencies import (
    IN_TURN,
    PROBLEMS,
    At,
    Author,
    Body,
    Computations,
    Derived,
    Results,
    Store,
    Version,
)
from greyheron.server.device_routes import device_in, reading_of
from greyheron.server.draft_routes import opened
from greyheron.server.jobs import Working
from greyheron.server.problems import Refusal, problem_items
from greyheron.server.schemas import (
    BareFlow,
    Book,
    Completion,
    FlowReading,
    FlowText,
    Foreseen,
    ItemReading,
    ItemText,
    ListReading,
    ListText,
    Mended,
    NetworkSummary,
    NewNetwork,
    OpenNetwork,
    Options,
    Ready,
    Time,
    TraceRequest,
    Trial,
)

router = APIRouter(prefix="/api", responses=PROBLEMS)


@router.get("/networks")
def list_networks(store: Store) -> list[NetworkSummary]:
    """Every network, the latest changed first."""
    return [NetworkSummary.of(found) for found in store.summaries()]


@router.post("/networks", status_code=201, response_model=OpenNetwork)
def create_network(new: NewNetwork, store: Store, author: Author) -> Response:
    """Make an empty network."""
    return opened(store.create(read_network({"format": "grey-heron/1", "name": new.name}), author), 201)


@router.post("/networks/demo", status_code=201, response_model=OpenNetwork)
def create_demo(store: Store, author: Author, which: Literal["saltmarsh", "storm"] = "saltmarsh") -> Response:
    """Make a fresh copy of a demo network."""
    return opened(store.create(saltmarsh() if which == "saltmarsh" else storm(), author), 201)


@router.post(
    "/networks/import",
    status_code=202,
    openapi_extra={
        "requestBody": {"content": {"application/yaml": {"schema": {"type": "string"}}}, "required": True}
    },
)
def import_network(body: Body, store: Store, author: Author, jobs: Computations) -> Working[Ready]:
    """Begin to make a network of a workspace file, which is the body."""

    def work(progress: Progress) -> Ready:
        stored = store.create(read_workspace(body, progress), author)
        return Ready(id=stored.id, version=stored.version)

    return jobs.start("imports", work, writes=True)


@router.post("/networks/{network_id}/open")
def ready_network(network_id: str, store: Store, jobs: Computations) -> Working[Ready]:
    """Begin to read a network, which takes long when it is large: it can be opened at once then."""

    def work(progress: Progress) -> Ready:
        return Ready(id=network_id, version=store.get(network_id, progress).version)

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/copy", status_code=201)
def copy_network(network_id: str, new: NewNetwork, store: Store, author: Author) -> NetworkSummary:
    """Make a network like this one, under another name."""
    return NetworkSummary.of(store.copy(network_id, new.name, author))


@router.post("/networks/{network_id}/name", response_model=OpenNetwork)
def rename_network(
    network_id: str, new: NewNetwork, store: Store, version: Version, author: Author
) -> Response:
    """Rename a network."""
    return opened(store.rename(network_id, version, new.name, author))


@router.post("/networks/{network_id}/bring-back")
def bring_back_network(network_id: str, store: Store) -> NetworkSummary:
    """Undo the removal of a network."""
    return NetworkSummary.of(store.bring_back(network_id))


@router.get(
    "/networks/{network_id}", response_model=OpenNetwork, responses={304: {"description": "unchanged"}}
)
def open_network(
    network_id: str, store: Store, if_none_match: Annotated[str | None, Header()] = None
) -> Response:
    """The running state, the draft and what differs."""
    stored = store.get(network_id)
    if if_none_match == f'"{stored.version}"':
        return Response(status_code=304, headers={"ETag": if_none_match})
    return opened(stored)


@router.delete("/networks/{network_id}", status_code=204)
def remove_network(network_id: str, store: Store, derived: Derived, version: Version) -> None:
    """Remove a network; for thirty days it can be brought back."""
    store.remove(network_id, version)
    derived.forget(network_id)


@router.get("/networks/{network_id}/file", response_class=PlainTextResponse)
def export_network(network_id: str, store: Store, state: State = State.DRAFT) -> Response:
    """The workspace file of the draft, or of what is running."""
    stored = store.get(network_id)
    network = stored.running if state is State.RUNNING else stored.draft
    headers = {"Content-Disposition": f'attachment; filename="{network_id}.yaml"'}
    return Response(write_workspace(network), media_type="application/yaml", headers=headers)


@router.get("/networks/{network_id}/kept", response_class=Response)
def take_out_as_kept(network_id: str, store: Store) -> Response:
    """What is kept of a network as it is, whether it reads or not: its documents, and edits since."""
    found = store.as_written(network_id)
    kept = {"name": found.name, "running": found.running, "draft": found.draft, "edits": found.since}
    headers = {"Content-Disposition": f'attachment; filename="{network_id}.json"'}
    return Response(json.dumps(kept, ensure_ascii=False), media_type="application/json", headers=headers)


@router.post("/networks/{network_id}/mend", status_code=201)
def mend_network(network_id: str, store: Store, author: Author) -> Mended:
    """Make a network from what can be read of a damaged one, which stays as it is."""
    network, problems = store.what_reads(network_id)
    made = store.create(network, author)
    return Mended(id=made.id, left_out=problem_items(problems))


@router.get("/networks/{network_id}/book", dependencies=[IN_TURN])
def book(network_id: str, store: Store, derived: Derived, results: Results, at: At) -> Book:
    """Every test flow with its three verdicts; what is news at all times is kept in its history."""
    stored = store.get(network_id)
    marks = derived.of(network_id).ask(BookQuestion(at=at), stored)
    if at is None:
        results.record(stored, marks)
    return Book(version=stored.version, tests=list(marks))


@router.post("/networks/{network_id}/book")
def try_book(
    network_id: str, store: Store, derived: Derived, results: Results, jobs: Computations, at: At
) -> Working[Book]:
    """Begin to try every test flow: the same as reading the book, which tells how far it is."""
    stored = store.get(network_id)

    def work(progress: Progress) -> Book:
        marks = derived.of(network_id).ask(BookQuestion(at=at), stored, progress)
        if at is None:
            results.record(stored, marks)
        return Book(version=stored.version, tests=list(marks))

    return jobs.start(network_id, work)


@router.get("/networks/{network_id}/times")
def times(network_id: str, store: Store) -> list[Time]:
    """The times at which other entries of the draft are there; one where nothing depends on time."""
    return [Time(when=span.words, at=str(span.moment)) for span in times_of(store.get(network_id).draft)]


@router.get("/networks/{network_id}/changes")
def changes(network_id: str, store: Store) -> list[Difference]:
    """What differs between what is running and the draft, in the notation, line by line."""
    stored = store.get(network_id)
    return differences(stored.running, stored.draft)


@router.get("/networks/{network_id}/places")
def places(network_id: str, store: Store) -> Places:
    """The draft's segments and attachment points, in words."""
    return places_of(store.get(network_id).draft)


@router.get("/networks/{network_id}/lists/{name}/places")
def places_for_list(network_id: str, name: str, store: Store) -> Customary:
    """Where the trade would put a list of the draft, and what is different elsewhere."""
    draft = store.get(network_id).draft
    found = next((each for each in draft.lists if each.name == name), None)
    if found is None:
        raise Refusal(404, f"There is no list “{name}” in this network.")
    return customary_places(draft, found)


@router.get("/networks/{network_id}/items/{collection}")
def item_text(network_id: str, collection: Collection, key: str, store: Store) -> ItemText:
    """One item of the draft as text."""
    for item in getattr(store.get(network_id).draft, collection):
        if key_of(collection, item) == key:
            return ItemText(text=write_item(item))
    raise Refusal(404, f"There is no “{key}” in {collection}.")


@router.post("/networks/{network_id}/items/{collection}")
def read_item_text(
    network_id: str, collection: Collection, text: ItemText, store: Store, key: str = ""
) -> ItemReading:
    """What an item's text means in the draft, in place of `key` or beside what is there."""
    try:
        item = read_item(collection, text.text)
        own_key = key_of(collection, ITEM_TYPES[collection].model_validate(item))
        change = Change(collection=collection, key=key or own_key, item=item)
    except DocumentError as error:
        return ItemReading(problems=problem_items(error.problems), change=None)
    return reading_of(store.get(network_id).draft, change)


@router.post("/networks/{network_id}/preview", dependencies=[IN_TURN])
def preview(network_id: str, trial: Trial, store: Store, derived: Derived, at: At) -> Foreseen:
    """What would be after an intent or changes, which are not carried out."""
    stored = store.get(network_id)
    draft = trial.after(stored.draft)
    lists = {access_list.name: access_list for access_list in stored.draft.lists}
    marks = derived.of(network_id).ask(BookQuestion(at=at), replace(stored, draft=draft))
    return Foreseen(
        version=stored.version,
        tests=list(marks),
        placements=list(draft.placements),
        lists=[access_list for access_list in draft.lists if access_list != lists.get(access_list.name)],
    )


@router.post("/networks/{network_id}/trace", dependencies=[IN_TURN])
def trace(network_id: str, asked: TraceRequest, store: Store, derived: Derived, at: At) -> TraceReport:
    """One flow in one state, with every hop and step."""
    stored = store.get(network_id)
    stored = replace(stored, draft=asked.after(stored.draft))
    return derived.of(network_id).trace(stored, read_bare_flow(asked.flow), asked.state, at)


@router.post("/networks/{network_id}/compare", dependencies=[IN_TURN])
def compare(network_id: str, asked: BareFlow, store: Store, derived: Derived, at: At) -> list[Divergence]:
    """Where the traces of a flow part: with no lists from as running, and as running from on the draft."""
    stored, flow = store.get(network_id), read_bare_flow(asked.flow)
    traces = [derived.of(network_id).trace(stored, flow, state, at) for state in State]
    found = (parting(one, other) for one, other in pairwise(traces))
    return [each for each in found if each is not None]


@router.post("/networks/{network_id}/lists/read")
def read_list(network_id: str, text: ListText, store: Store) -> ListReading:
    """What a list's text means in this network's draft, as it is typed."""
    draft = store.get(network_id).draft
    try:
        after = text.typed_in(draft)
    except DocumentError as error:
        return ListReading(problems=problem_items(error.problems), formatted=None, renumbered=None, covers=[])
    written = next(found for found in after.lists if key_of("lists", found) == text.name)
    return ListReading(
        problems=[],
        formatted=write_body(written.body, text.family, text.kind),
        renumbered=write_body(renumbered(written.body), text.family, text.kind),
        covers=list(cover_list(written, after)),
        idle=list(idle_entries(written, after)),
    )


@router.post("/networks/{network_id}/tests/read")
def read_test(network_id: str, text: FlowText, store: Store) -> FlowReading:
    """What a test flow's text means in this network's draft, as it is typed."""
    item = {"id": "new", "flow": text.text}
    try:
        edited(store.get(network_id).draft, [Change(collection="tests", key="new", item=item)])
    except DocumentError as error:
        return FlowReading(problems=problem_items(error.problems), formatted=None)
    return FlowReading(problems=[], formatted=write_expected_flow(read_expected_flow(text.text)))


@router.post("/networks/{network_id}/complete")
def complete(network_id: str, asked: Completion, store: Store) -> Options:
    """What could stand at the cursor of an entry, a test flow, a requirement, a set, a device or a part."""
    draft = store.get(network_id).draft
    if asked.of == "flow":
        word, options = complete_flow(asked.text, draft)
    elif asked.of == "requirement":
        word, options = complete_requirement(asked.text, draft)
    elif asked.of == "device":
        word, options = complete_device(asked.text)
    elif asked.of == "set":
        word, options = complete_set(asked.text, asked.collection)
    elif asked.of == "part":
        word, options = complete_part(asked.text, device_in(draft, asked.device), asked.section)
    else:
        word, options = complete_entry(asked.text, asked.family, asked.kind, draft)
    return Options(word=word, options=options)


@router.get("/exercise")
def exercise() -> list[Fault]:
    """The faults that the storm demo has: the test flow that tells each, and what it is about."""
    return list(FAULTS)


@router.get("/schema")
def schema() -> dict[str, Any]:
    """The JSON Schema of a network document."""
    return Network.model_json_schema(by_alias=True)
