"""The policy: requirements proved, advice and findings, all worked out beside the requests."""

from typing import Annotated, Generic, TypeVar

from fastapi import APIRouter
from pydantic import BaseModel, Field

from greyheron.analysis.advice import Advice, wanted
from greyheron.analysis.findings.finder import Noted, noted
from greyheron.analysis.findings.finding import Repair, Severity
from greyheron.analysis.policy import RequirementMarks
from greyheron.analysis.proof.prover import Progress
from greyheron.model.changes import Change
from greyheron.model.notation.requirements import read_requirement, write_requirement
from greyheron.model.problems import DocumentError
from greyheron.model.read import edited
from greyheron.server.jobs import Job
from greyheron.server.needs import PROBLEMS, Computations, Store, Workings
from greyheron.server.problems import ProblemItem, Refusal, problem_items
from greyheron.server.shapes import Asked, FlowText

router = APIRouter(prefix="/api", responses=PROBLEMS)
PATIENCE = 0.25
"""Seconds that a request waits before it is told how far the work is."""
T = TypeVar("T")


class Policy(BaseModel):
    """Every requirement of the draft with its three answers."""

    version: int
    requirements: list[RequirementMarks]


class Working(BaseModel, Generic[T]):
    """How far a computation is, 0 to 1, and its result once it is there."""

    id: str
    done: float
    result: T | None


class RequirementReading(BaseModel):
    """What the text of a requirement means: its usual form, or what is wrong with it."""

    problems: list[ProblemItem]
    formatted: str | None


class FindingItem(BaseModel):
    """A finding.

    key: what it is accepted by, with `digest`, which changes when what it speaks of does
    accepted: why it is as it should be, if somebody said so
    repair: what mending it is called, and the changes to the draft that do it
    """

    kind: str
    severity: Severity
    key: str
    digest: str
    text: str
    evidence: list[str]
    devices: list[str]
    lists: list[str]
    flow: str | None
    repair: Repair | None
    accepted: str | None

    @classmethod
    def of(cls, noted: Noted) -> "FindingItem":
        found = noted.finding
        return cls(
            kind=found.kind,
            severity=found.severity,
            key=found.key,
            digest=found.digest,
            text=found.text,
            evidence=list(found.evidence),
            devices=list(found.devices),
            lists=list(found.lists),
            flow=found.flow,
            repair=found.repair,
            accepted=noted.accepted,
        )


class Findings(BaseModel):
    version: int
    findings: list[FindingItem]


class AdviceRequest(Asked):
    """What should hold: a requirement, or a test flow with its expectation, as they are written."""

    text: Annotated[str, Field(max_length=500)]


@router.post("/networks/{network_id}/findings")
def ask_findings(network_id: str, store: Store, bench: Workings, jobs: Computations) -> Working[Findings]:
    """Begin to look for what is wrong or doubtful in the draft."""
    stored = store.get(network_id)

    def work(progress: Progress) -> Findings:
        found = noted(bench.findings(stored, progress), stored.draft.accepted)
        return Findings(version=stored.version, findings=[FindingItem.of(each) for each in found])

    return _told(jobs.start(work, PATIENCE))


@router.get("/findings/{job_id}")
def findings_so_far(job_id: str, jobs: Computations) -> Working[Findings]:
    """How far the search is, or what was found."""
    return _told(_found(jobs, job_id))


@router.post("/networks/{network_id}/advice")
def ask_advice(
    network_id: str, asked: AdviceRequest, store: Store, bench: Workings, jobs: Computations
) -> Working[Advice]:
    """Begin to try every place where a list would make a requirement or a test flow's expectation hold."""
    stored = store.get(network_id)
    statement = wanted(asked.text, stored.draft)
    return _told(jobs.start(lambda progress: bench.advice(stored, statement, progress), PATIENCE))


@router.get("/advice/{job_id}")
def advice_so_far(job_id: str, jobs: Computations) -> Working[Advice]:
    """How far the trying is, or the choices."""
    return _told(_found(jobs, job_id))


@router.post("/networks/{network_id}/policy")
def ask_policy(network_id: str, store: Store, bench: Workings, jobs: Computations) -> Working[Policy]:
    """Begin to prove every requirement, with no lists, as running and on the draft."""
    stored = store.get(network_id)

    def work(progress: Progress) -> Policy:
        return Policy(version=stored.version, requirements=list(bench.policy(stored, progress)))

    return _told(jobs.start(work, PATIENCE))


@router.get("/policy/{job_id}")
def policy_so_far(job_id: str, jobs: Computations) -> Working[Policy]:
    """How far the proofs are, or their answers."""
    return _told(_found(jobs, job_id))


@router.delete("/jobs/{job_id}", status_code=204)
def cancel_work(job_id: str, jobs: Computations) -> None:
    """Stop a computation that nobody waits for any more."""
    jobs.cancel(job_id)


@router.post("/networks/{network_id}/requirements/read")
def read_requirement_text(network_id: str, text: FlowText, store: Store) -> RequirementReading:
    """What a requirement's text means in this network's draft, as it is typed."""
    item = {"id": "new", "statement": text.text}
    try:
        edited(store.get(network_id).draft, [Change(collection="requirements", key="new", item=item)])
    except DocumentError as error:
        return RequirementReading(problems=problem_items(error.problems), formatted=None)
    return RequirementReading(problems=[], formatted=write_requirement(read_requirement(text.text)))


def _found(jobs: Computations, job_id: str) -> Job:
    job = jobs.find(job_id)
    if job is None:
        raise Refusal(404, "This is no longer worked out: ask for it again.")
    return job


def _told(job: Job) -> Working[T]:
    if job.future is not None and job.future.done():
        return Working(id=job.id, done=1, result=job.future.result())
    return Working(id=job.id, done=job.done, result=None)
