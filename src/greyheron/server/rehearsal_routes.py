"""Rehearsals of the draft: begun beside the requests, and the last one of each network."""

from datetime import UTC, datetime

from fastapi import APIRouter
from pydantic import BaseModel, TypeAdapter

from greyheron.rehearsal.asking import ground_of
from greyheron.rehearsal.report import RehearsalReport
from greyheron.rehearsal.runner import CannotRehearse, missing, run_rehearsal
from greyheron.server.dependencies import PROBLEMS, Computations, Rehearsals, Store
from greyheron.server.jobs import Telling, Working
from greyheron.server.problems import Refusal
from greyheron.store.rehearsals import KeptRehearsal

router = APIRouter(prefix="/api", responses=PROBLEMS)
_STAGES = ("namespaces", "wires", "addresses and routes", "lists", "routing daemons")
_BUILDING = 0.3
"""How much of the work, about, building is."""
_REPORT = TypeAdapter(RehearsalReport)


class LastRehearsal(BaseModel):
    """What a rehearsal saw, when it began, and whether what it rests on has changed since."""

    at: datetime
    stale: bool
    report: RehearsalReport


class RehearsalState(BaseModel):
    """Whether a rehearsal can be had here (else what is missing, with how to get it), and the last one."""

    missing: list[str]
    last: LastRehearsal | None


@router.get("/networks/{network_id}/rehearsal")
def last_rehearsal(network_id: str, store: Store, rehearsals: Rehearsals) -> RehearsalState:
    """The last rehearsal of the draft."""
    stored = store.get(network_id)
    last = rehearsals.last(network_id)
    lacking = missing(stored.draft)
    if last is None:
        return RehearsalState(missing=lacking, last=None)
    stale = last.version != stored.version and last.ground != ground_of(stored.draft)
    report = _REPORT.validate_json(last.report)
    return RehearsalState(missing=lacking, last=LastRehearsal(at=last.begun_at, stale=stale, report=report))


@router.post("/networks/{network_id}/rehearsal")
def begin_rehearsal(
    network_id: str, store: Store, rehearsals: Rehearsals, jobs: Computations
) -> Working[LastRehearsal]:
    """Begin to build the draft in this machine's kernel, and to send real packets.

    Those of its test flows, and of each requirement what violates it and witnesses.
    """
    stored = store.get(network_id)

    def work(progress: Telling) -> LastRehearsal:
        at = datetime.now(UTC)
        try:
            report = run_rehearsal(stored.draft, lambda stage, done: progress(_share(stage, done), stage))
        except CannotRehearse as error:
            raise Refusal(503, str(error)) from None
        rehearsals.keep(
            network_id,
            KeptRehearsal(stored.version, ground_of(stored.draft), at, _REPORT.dump_json(report).decode()),
        )
        return LastRehearsal(at=at, stale=False, report=report)

    return jobs.start(network_id, work)


def _share(stage: str, done: float) -> float:
    if stage in _STAGES:
        return _BUILDING * _STAGES.index(stage) / len(_STAGES)
    return _BUILDING + (1 - _BUILDING) * done
