"""Rehearsals of the draft: begun beside the requests, and the last one of each network."""

from datetime import UTC, datetime

from fastapi import APIRouter
from pydantic import BaseModel

from greyheron.core.progress import Progress
from greyheron.model.document import Network
from greyheron.rehearsal.report import RehearsalReport
from greyheron.rehearsal.runner import CannotRehearse, missing, run_rehearsal
from greyheron.server.jobs import Working
from greyheron.server.needs import PROBLEMS, Computations, Derived, Store
from greyheron.server.problems import Refusal

router = APIRouter(prefix="/api", responses=PROBLEMS)
_STAGES = ("namespaces", "wires", "addresses and routes", "lists", "routing daemons")
_BUILDING = 0.3
"""How much of the work, about, building is."""
_ASKED = ("tests", "requirements")
_RESTS_ON = ("devices", "links", "address_sets", "port_sets", "periods", "lists", "placements", *_ASKED)


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
def last_rehearsal(network_id: str, store: Store, derived: Derived) -> RehearsalState:
    """The last rehearsal of the draft since the server began."""
    draft = store.get(network_id).draft
    last = derived.of(network_id).rehearsed
    lacking = missing(draft)
    if last is None:
        return RehearsalState(missing=lacking, last=None)
    network, at, report = last
    return RehearsalState(
        missing=lacking, last=LastRehearsal(at=at, stale=not _same(network, draft), report=report)
    )


@router.post("/networks/{network_id}/rehearsal")
def begin_rehearsal(
    network_id: str, store: Store, derived: Derived, jobs: Computations
) -> Working[LastRehearsal]:
    """Begin to build the draft in this machine's kernel, and to send real packets.

    Those of its test flows, and of each requirement what violates it and witnesses.
    """
    stored = store.get(network_id)

    def work(progress: Progress) -> LastRehearsal:
        at = datetime.now(UTC)
        try:
            report = run_rehearsal(stored.draft, lambda stage, done: progress(_share(stage, done)))
        except CannotRehearse as error:
            raise Refusal(503, str(error)) from None
        derived.of(network_id).rehearsed = stored.draft, at, report
        return LastRehearsal(at=at, stale=False, report=report)

    return jobs.start(network_id, work)


def _share(stage: str, done: float) -> float:
    if stage in _STAGES:
        return _BUILDING * _STAGES.index(stage) / len(_STAGES)
    return _BUILDING + (1 - _BUILDING) * done


def _same(one: Network, other: Network) -> bool:
    return all(getattr(one, part) == getattr(other, part) for part in _RESTS_ON)
