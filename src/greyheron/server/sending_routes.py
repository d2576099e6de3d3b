"""Sending flows, and the counters and the log that they leave."""

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from greyheron.analysis.presentation.remembered import KeptReport, kept_after
from greyheron.analysis.presentation.report import deciding
from greyheron.analysis.presentation.steps import ending_words
from greyheron.analysis.testing.judge import Standing
from greyheron.analysis.testing.sending import run_tests, sending_of
from greyheron.core.bulk.trying import try_flow
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.values import Action, State
from greyheron.server.dependencies import IN_TURN, PROBLEMS, At, Derived, Store, Traffic
from greyheron.server.schemas import RequestBody
from greyheron.store.traffic import Count, Wanted, Written

router = APIRouter(prefix="/api", responses=PROBLEMS)


class SendRequest(RequestBody):
    """A flow in the notation, how often to send it, and the lists in force."""

    flow: Annotated[str, Field(max_length=500)]
    times: Annotated[int, Field(ge=1, le=1_000_000)] = 1
    state: State = State.RUNNING


class Sent(BaseModel):
    """What came of it, how many packets were counted at lists, and what devices remember of it."""

    verdict: Verdict
    text: str
    counted: int
    logged: int
    kept: tuple[KeptReport, ...]


@router.post("/networks/{network_id}/send", dependencies=[IN_TURN])
def send(
    network_id: str, asked: SendRequest, store: Store, derived: Derived, traffic: Traffic, at: At
) -> Sent:
    """Send a flow: it is counted at every list that its packets meet, and logged where entries say so."""
    flow = read_bare_flow(asked.flow)
    timeline = derived.of(network_id).timeline_in(store.get(network_id), asked.state, at)
    world = timeline.world(timeline.for_flow(flow)[0])
    result = try_flow(world, flow)
    sending = sending_of(result, asked.times, world.topology.devices)
    traffic.add(network_id, sending)
    return Sent(
        verdict=result.verdict,
        text=ending_words(deciding(result.exchanges)),
        counted=sending.counts.total(),
        logged=len(sending.lines),
        kept=kept_after(result.exchanges[0], world.topology.devices),
    )


class RunRequest(RequestBody):
    """Which test flows to run (None: the whole book), and the lists in force."""

    tests: list[str] | None = None
    state: State = State.RUNNING


class Run(BaseModel):
    """What came of a run: how many were sent, which did not do what is expected, what was counted."""

    ran: int
    surprises: list[str]
    untried: list[str]
    counted: int
    logged: int


@router.post("/networks/{network_id}/run", dependencies=[IN_TURN])
def run(network_id: str, asked: RunRequest, store: Store, derived: Derived, traffic: Traffic, at: At) -> Run:
    """Send test flows of the book once each, and count and log them in one go."""
    stored = store.get(network_id)
    tests = [test for test in stored.draft.tests if asked.tests is None or test.id in asked.tests]
    baseline, timeline = (
        derived.of(network_id).timeline_in(stored, state, at) for state in (State.BASELINE, asked.state)
    )
    found = run_tests(tests, timeline, baseline)
    traffic.add(network_id, found.sending)
    return Run(
        ran=len(found.standings),
        surprises=[name for name, standing in found.standings.items() if standing is not Standing.HOLDS],
        untried=list(found.untried),
        counted=found.sending.counts.total(),
        logged=len(found.sending.lines),
    )


@router.get("/networks/{network_id}/counters")
def counters(network_id: str, traffic: Traffic) -> list[Count]:
    """Packets by placement and entry."""
    return traffic.counts(network_id)


@router.get("/networks/{network_id}/log")
def log(
    network_id: str,
    traffic: Traffic,
    device: str | None = None,
    access_list: str | None = None,
    action: Action | None = None,
    text: str | None = None,
) -> list[Written]:
    """The newest lines, filtered."""
    return traffic.log(network_id, Wanted(device, access_list, action, text))


@router.delete("/networks/{network_id}/counters", status_code=204)
def reset(network_id: str, traffic: Traffic) -> None:
    """Set every counter to zero and empty the log."""
    traffic.reset(network_id)
