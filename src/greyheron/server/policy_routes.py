"""The policy: requirements proved, advice and findings, all worked out beside the requests."""

from collections.abc import Sequence
from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from greyheron.analysis.advice.advisor import wanted
from greyheron.analysis.advice.choices import Advice, Choice
from greyheron.analysis.advice.plans import AllHolding
from greyheron.analysis.findings.finder import Noted, merged, noted
from greyheron.analysis.findings.finding import Finding, Repair, Severity
from greyheron.analysis.findings.repairs import unrepaired
from greyheron.analysis.proof.policy import RequirementMarks
from greyheron.compute.questions.advice import AdviceQuestion
from greyheron.compute.questions.all_holding import AllHoldingQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.policy import PolicyQuestion
from greyheron.model.changes import Change
from greyheron.model.notation.requirements import read_requirement, write_requirement
from greyheron.model.problems import DocumentError
from greyheron.model.read import edited
from greyheron.server.dependencies import PROBLEMS, At, Computations, Derived, Store
from greyheron.server.jobs import Telling, Working
from greyheron.server.problems import ProblemItem, problem_items
from greyheron.server.schemas import FlowText, RequestBody

router = APIRouter(prefix="/api", responses=PROBLEMS)


class Policy(BaseModel):
    """Every requirement of the draft with its three answers."""

    version: int
    requirements: list[RequirementMarks]


class RequirementReading(BaseModel):
    """What the text of a requirement means: its usual form, or what is wrong with it."""

    problems: list[ProblemItem]
    formatted: str | None


class FindingItem(BaseModel):
    """A finding.

    key: what it is accepted by, with `digest`, which changes when what it speaks of does
    accepted: why it is accepted, if somebody said so
    repair: what mending it is called, and the changes to the draft that do it
    unrepaired: why there is no repair; "" where there is one
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
    unrepaired: str
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
            unrepaired=unrepaired(found),
            accepted=noted.accepted,
        )


class Findings(BaseModel):
    version: int
    findings: list[FindingItem]


class AdviceRequest(RequestBody):
    """What should hold: a requirement, or a test flow with its expectation, as they are written."""

    text: Annotated[str, Field(max_length=500)]


class AllHoldingRequest(RequestBody):
    """Which of the requirements that do not hold are meant, by their ids; null: all of them."""

    requirements: (
        Annotated[tuple[Annotated[str, Field(max_length=100)], ...], Field(max_length=2000)] | None
    ) = None


class PolicyRequest(RequestBody):
    """Which requirements are looked at just now, by their ids: they are proved before the others."""

    sooner: Annotated[tuple[Annotated[str, Field(max_length=100)], ...], Field(max_length=200)] = ()


@router.post("/networks/{network_id}/findings")
def ask_findings(
    network_id: str, store: Store, derived: Derived, jobs: Computations, at: At
) -> Working[Findings]:
    """Begin to look for what is wrong or doubtful in the draft."""
    stored = store.get(network_id)

    def shaped(found: Sequence[Finding]) -> Findings:
        items = [FindingItem.of(each) for each in noted(found, stored.draft.accepted)]
        return Findings(version=stored.version, findings=items)

    def work(progress: Telling) -> Findings:
        found = derived.of(network_id).ask(FindingsQuestion(at=at), stored, progress, progress.found)
        return shaped(found)

    return jobs.start(network_id, work, early=lambda found: shaped(merged([found])))


@router.post("/networks/{network_id}/advice")
def ask_advice(
    network_id: str, asked: AdviceRequest, store: Store, derived: Derived, jobs: Computations, at: At
) -> Working[Advice]:
    """Start an advice job: where a list would make a requirement or a test flow's expectation hold."""
    stored = store.get(network_id)
    statement = wanted(asked.text, stored.draft)

    def work(progress: Telling) -> Advice:
        return derived.of(network_id).ask(
            AdviceQuestion(statement=statement, at=at), stored, progress, progress.found
        )

    def early(found: Sequence[Choice]) -> Advice:
        once = {(each.kind, each.family, each.text): each for each in found}
        return Advice("", tuple(once.values()))

    return jobs.start(network_id, work, early=early)


@router.post("/networks/{network_id}/policy/make-hold")
def ask_all_holding(
    network_id: str,
    store: Store,
    derived: Derived,
    jobs: Computations,
    at: At,
    asked: AllHoldingRequest | None = None,
) -> Working[AllHolding]:
    """Begin to look for lists that make all requirements hold, and keep those holding that do."""
    stored = store.get(network_id)
    chosen = None if asked is None else asked.requirements

    def work(progress: Telling) -> AllHolding:
        question = AllHoldingQuestion(at=at, chosen=chosen)
        return derived.of(network_id).ask(question, stored, progress)

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/policy")
def ask_policy(
    network_id: str,
    store: Store,
    derived: Derived,
    jobs: Computations,
    at: At,
    asked: PolicyRequest | None = None,
) -> Working[Policy]:
    """Begin to prove every requirement, with no lists, as running and on the draft."""
    stored = store.get(network_id)
    sooner = frozenset(() if asked is None else asked.sooner)

    def work(progress: Telling) -> Policy:
        marks = derived.of(network_id).ask(
            PolicyQuestion(at=at, first=sooner), stored, progress, progress.found
        )
        return Policy(version=stored.version, requirements=list(marks))

    return jobs.start(
        network_id, work, early=lambda found: Policy(version=stored.version, requirements=found)
    )


@router.post("/networks/{network_id}/requirements/read")
def read_requirement_text(network_id: str, text: FlowText, store: Store) -> RequirementReading:
    """What a requirement's text means in this network's draft, as it is typed."""
    item = {"id": "new", "statement": text.text}
    try:
        edited(store.get(network_id).draft, [Change(collection="requirements", key="new", item=item)])
    except DocumentError as error:
        return RequirementReading(problems=problem_items(error.problems), formatted=None)
    return RequirementReading(problems=[], formatted=write_requirement(read_requirement(text.text)))
