"""Reach: matrices worked out beside the requests, and the conversations behind one cell."""

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field, StringConstraints

from greyheron.analysis.book import States, TestMarks, Tries, mark_tests
from greyheron.analysis.reach import (
    Group,
    Progress,
    ReachChange,
    ReachQuestion,
    flows_between,
    require_services,
    rows_of,
)
from greyheron.model.document import TestFlow
from greyheron.model.read import edited
from greyheron.model.values import Family
from greyheron.server.jobs import Job
from greyheron.server.needs import PROBLEMS, Computations, Store, Workings
from greyheron.server.problems import Refusal
from greyheron.server.shapes import Asked, Preview

router = APIRouter(prefix="/api", responses=PROBLEMS)
PATIENCE = 0.25
"""Seconds that a request waits for a matrix before it is told how far it is."""

Word = Annotated[str, StringConstraints(min_length=1, max_length=80)]


class ReachRequest(Asked):
    """services: words as in test flows, or `services` for whatever each destination listens on"""

    services: Annotated[list[Word], Field(min_length=1, max_length=12)]
    family: Family = Family.IPV4
    hosts_only: bool = False

    def question(self) -> ReachQuestion:
        return ReachQuestion(tuple(self.services), self.family, self.hosts_only)


class ReachMatrix(BaseModel):
    """Rows and columns are `devices`, from row to column.

    running, draft: a string for each row with a character for each cell: "0" plus a bit for each verdict that
        occurs: 1 passes, 2 blocked, 4 unreachable, 8 refused, 16 mixed
    """

    version: int
    devices: list[str]
    groups: list[Group]
    running: list[str]
    draft: list[str]


class ReachJob(BaseModel):
    """How far a matrix is, 0 to 1, and the matrix once it is there."""

    id: str
    done: float
    matrix: ReachMatrix | None


class ReachForeseen(BaseModel):
    """`change` is null while working it out would take too long: ask for the matrix first."""

    change: ReachChange | None


class CellRequest(ReachRequest):
    source: str
    destination: str


@router.post("/networks/{network_id}/reach")
def ask_reach(
    network_id: str, asked: ReachRequest, store: Store, bench: Workings, jobs: Computations
) -> ReachJob:
    """Begin to work out who can talk to whom, as running and on the draft."""
    stored, question = store.get(network_id), asked.question()
    require_services(bench.world(stored.draft), question)

    def work(progress: Progress) -> ReachMatrix:
        found = bench.reach(stored, question, progress)
        return ReachMatrix(
            version=stored.version,
            devices=list(found.axis.devices),
            groups=list(found.axis.groups),
            running=rows_of(found.running_on_draft_axis()),
            draft=rows_of(found.draft),
        )

    return _told(jobs.start(work, PATIENCE))


@router.get("/reach/{job_id}")
def reach_so_far(job_id: str, jobs: Computations) -> ReachJob:
    """How far a matrix is, or the matrix."""
    job = jobs.find(job_id)
    if job is None:
        raise Refusal(404, "This matrix is no longer worked out: ask for it again.")
    return _told(job)


@router.delete("/reach/{job_id}", status_code=204)
def cancel_reach(job_id: str, jobs: Computations) -> None:
    """Stop working out a matrix."""
    jobs.cancel(job_id)


@router.post("/networks/{network_id}/reach/preview")
def reach_preview(network_id: str, changes: Preview, store: Store, bench: Workings) -> ReachForeseen:
    """How many cells would differ after changes to the draft, which are not made."""
    stored = store.get(network_id)
    return ReachForeseen(change=bench.reach_change(stored, edited(stored.draft, changes.changes)))


@router.post("/networks/{network_id}/reach/cell")
def reach_cell(network_id: str, asked: CellRequest, store: Store, bench: Workings) -> list[TestMarks]:
    """The conversations behind one cell, each with its three verdicts, as if it were expected to pass."""
    stored, question = store.get(network_id), asked.question()
    world, drafted = bench.world(stored.running), bench.world(stored.draft)
    require_services(drafted, question)
    for name in (asked.source, asked.destination):
        if name not in drafted.devices:
            raise Refusal(404, f"There is no device “{name}” in this network.")
    flows = flows_between(drafted, asked.source, asked.destination, question)
    tests = [
        TestFlow.model_validate({"id": f"c{number}", "flow": f"{flow} pass"})
        for number, flow in enumerate(flows)
    ]
    states = States(world, world.baseline, drafted, drafted.baseline)
    return list(mark_tests(tests, states, Tries()))


def _told(job: Job) -> ReachJob:
    if job.future is not None and job.future.done():
        return ReachJob(id=job.id, done=1, matrix=job.future.result())
    return ReachJob(id=job.id, done=job.done, matrix=None)
