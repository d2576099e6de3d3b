"""Reach: matrices worked out beside the requests, and the conversations behind one cell."""

from typing import Annotated

from fastapi import APIRouter
from msgspec.structs import replace
from pydantic import BaseModel, Field, StringConstraints

from greyheron.analysis.reach.axis import Group
from greyheron.analysis.reach.change import ReachChange
from greyheron.analysis.reach.matrix import rows_of
from greyheron.analysis.reach.question import ReachQuestion, flows_between, require_services
from greyheron.analysis.testing.book import States, TestMarks, Tries, mark_tests
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.reach import MatrixQuestion, ReachChangeQuestion
from greyheron.core.progress import Cancelled, Progress, within
from greyheron.model.document import TestFlow
from greyheron.model.values import Family
from greyheron.server.dependencies import IN_TURN, PROBLEMS, At, Computations, Derived, Store
from greyheron.server.jobs import Working
from greyheron.server.problems import Refusal
from greyheron.server.schemas import Trial

router = APIRouter(prefix="/api", responses=PROBLEMS)

MOST_FORESEEN = 15.0
"""Seconds that somebody waits for what a change would do to reach."""

ServiceText = Annotated[str, StringConstraints(min_length=1, max_length=80)]


class ReachRequest(Trial):
    """services:  words as in test flows, or `services` for whatever each destination listens on"""

    services: Annotated[list[ServiceText], Field(min_length=1, max_length=12)]
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


class ReachForeseen(BaseModel):
    """`change` is null while working it out would take too long: ask for the matrix first."""

    change: ReachChange | None


class CellRequest(ReachRequest):
    source: str
    destination: str


@router.post("/networks/{network_id}/reach")
def ask_reach(
    network_id: str, asked: ReachRequest, store: Store, derived: Derived, jobs: Computations, at: At
) -> Working[ReachMatrix]:
    """Begin to work out who can talk to whom, as running and on the draft."""
    stored, question = store.get(network_id), asked.question()
    stored = replace(stored, draft=asked.after(stored.draft))
    require_services(derived.of(network_id).world(stored.draft), question)

    def work(progress: Progress) -> ReachMatrix:
        found = derived.of(network_id).ask(MatrixQuestion(asked=question, at=at), stored, progress)
        return ReachMatrix(
            version=stored.version,
            devices=list(found.axis.devices),
            groups=list(found.axis.groups),
            running=rows_of(found.running_on_draft_axis()),
            draft=rows_of(found.draft),
        )

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/reach/preview", dependencies=[IN_TURN])
def reach_preview(network_id: str, trial: Trial, store: Store, derived: Derived, at: At) -> ReachForeseen:
    """How many cells would differ after changes to the draft, which are not made."""
    stored = store.get(network_id)
    try:
        both = RunningAndDraft(stored.draft, trial.after(stored.draft))
        change = derived.of(network_id).ask(ReachChangeQuestion(at=at), both, within(MOST_FORESEEN))
    except Cancelled:
        change = None
    return ReachForeseen(change=change)


@router.post("/networks/{network_id}/reach/cell", dependencies=[IN_TURN])
def reach_cell(
    network_id: str, asked: CellRequest, store: Store, derived: Derived, at: At
) -> list[TestMarks]:
    """The conversations behind one cell, each with its three verdicts, as if it were expected to pass."""
    stored, question = store.get(network_id), asked.question()
    running, draft = (derived.of(network_id).timeline(each, at) for each in (stored.running, stored.draft))
    drafted = draft.first
    require_services(drafted, question)
    for name in (asked.source, asked.destination):
        if name not in drafted.topology.devices:
            raise Refusal(404, f"There is no device “{name}” in this network.")
    flows = flows_between(drafted, asked.source, asked.destination, question)
    tests = [
        TestFlow.model_validate({"id": f"c{number}", "flow": f"{flow} pass"})
        for number, flow in enumerate(flows)
    ]
    return list(mark_tests(tests, States(running, draft), Tries()))
