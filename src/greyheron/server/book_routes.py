"""Test flows: made of others, as a table, and what they came to over time."""

from fastapi import APIRouter, Response
from fastapi.responses import PlainTextResponse
from pydantic import BaseModel

from greyheron.analysis.testing.derive import Derivation, derive
from greyheron.formats.tests_csv import LARGEST, read_tests, write_tests
from greyheron.model.changes import Change
from greyheron.model.document import to_data
from greyheron.model.notation.flows import read_expected_flow, write_expected_flow
from greyheron.model.read import edited
from greyheron.server.dependencies import PROBLEMS, Body, Derived, Results, Store
from greyheron.server.problems import Refusal
from greyheron.server.schemas import FlowText
from greyheron.store.results import PastResult

router = APIRouter(prefix="/api", responses=PROBLEMS)


class DeriveRequest(FlowText):
    """A test flow with its expectation, and what to make of it."""

    how: Derivation


class DerivedFlows(BaseModel):
    flows: list[str]


class TableReading(BaseModel):
    """The changes that put a table's test flows behind those of the draft."""

    changes: list[Change]


@router.post("/networks/{network_id}/tests/derive")
def derive_tests(network_id: str, asked: DeriveRequest, store: Store, derived: Derived) -> DerivedFlows:
    """The test flows that can be made of one; none is kept."""
    world = derived.of(network_id).world(store.get(network_id).draft)
    found = derive(world, read_expected_flow(asked.text), asked.how)
    return DerivedFlows(flows=[write_expected_flow(each) for each in found])


@router.get("/networks/{network_id}/tests/table", response_class=PlainTextResponse)
def export_tests(network_id: str, store: Store) -> Response:
    """The draft's test flows as a table (CSV)."""
    headers = {"Content-Disposition": f'attachment; filename="{network_id}-tests.csv"'}
    return Response(write_tests(store.get(network_id).draft.tests), media_type="text/csv", headers=headers)


@router.post(
    "/networks/{network_id}/tests/table",
    openapi_extra={
        "requestBody": {"content": {"text/csv": {"schema": {"type": "string"}}}, "required": True}
    },
)
def read_table(network_id: str, body: Body, store: Store) -> TableReading:
    """What a table of test flows, which is the body, would add to the draft; nothing is changed."""
    if len(body) > LARGEST:
        raise Refusal(413, f"The table is larger than {LARGEST // 2**20} MiB: split it.")
    try:
        text = body.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise Refusal(422, f"The table is no UTF-8 text: byte {error.start + 1}.") from None
    draft = store.get(network_id).draft
    tests = read_tests(text, (test.id for test in draft.tests))
    changes = [Change(collection="tests", key=test.id, item=to_data(test)) for test in tests]
    edited(draft, changes)
    return TableReading(changes=changes)


@router.get("/networks/{network_id}/tests/{test_id}/history")
def test_history(network_id: str, test_id: str, results: Results) -> list[PastResult]:
    """What a test flow came to on the draft, newest first: a line whenever it was something else."""
    return results.history(network_id, test_id)
