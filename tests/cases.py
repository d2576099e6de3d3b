"""Cases of the semantics: a flow in a network, and what must come of it."""

from collections.abc import Callable
from dataclasses import dataclass, field

from greyheron.analysis.presentation.report import TraceReport, report
from greyheron.core.walk.conversation import converse
from greyheron.core.world import build_world
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.values import State
from tests.lab import Lab


@dataclass(frozen=True)
class Case:
    """A flow in the lab after changes to it, its verdict, and words of the sentence that says why.

    sees:  what the sender sees, or part of it
    """

    flow: str
    verdict: str
    why: str = ""
    change: Callable[[Lab], object] = field(default=lambda _lab: None)
    sees: str = ""


def traced(lab: Lab, flow: str, baseline: bool = False) -> TraceReport:
    world = build_world(lab.network())
    result = converse(world.baseline if baseline else world, read_bare_flow(flow))
    return report(result, world.topology, flow, State.DRAFT)


def check(lab: Lab, case: Case) -> None:
    """Make the case's change to `lab`, try its flow, compare."""
    found = traced(lab.with_(case.change), case.flow)
    assert (found.verdict, case.why in found.text) == (case.verdict, True), found.text
    if case.sees:
        assert case.sees in found.exchanges[0].sees.text


def all_of(*changes: Callable[[Lab], object]) -> Callable[[Lab], object]:
    """One change after the other."""

    def change(lab: Lab) -> None:
        for each in changes:
            each(lab)

    return change
