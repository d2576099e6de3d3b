"""A few conversations of which a requirement speaks, which come to as many entries as they can (§10)."""

from collections.abc import Iterator
from itertools import chain, zip_longest

from msgspec.structs import replace

from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.core.lists.met import Filtered
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Result
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.flow import Flow
from greyheron.model.requirement import Statement

MOST = 6
"""So many witnesses a requirement has at each time when other entries are there."""
MOST_TRIED = 96
"""They are chosen from so many conversations, from all over those that it speaks of."""

Met = tuple[AttachmentPoint, str, int | None]
"""A place, its list, and the entry that decided there; None: the implicit deny."""


def witnesses(prover: Prover, statement: Statement, timeline: Timeline) -> list[Flow]:
    """What violates it, if anything does, and others that each come to an entry that none before did."""
    found: dict[Flow, None] = {}
    for span in timeline.for_statement(statement):
        world = timeline.world(span)
        proven = prover.prove(statement, world, timeline.network)
        for flow in _chosen(proven, world):
            found[flow if len(timeline.spans) == 1 else replace(flow, at=span.moment)] = None
    return list(found)


def _chosen(proven: Proven, world: World) -> Iterator[Flow]:
    known: set[Met] = set()
    chosen = 0
    example = proven.proof.counterexample
    candidates = chain(() if example is None else (example.flow,), _candidates(proven))
    for flow in candidates:
        try:
            met = _met(converse(world, flow))
        except FlowError:
            continue
        if chosen == 0 or not met <= known:
            known |= met
            chosen += 1
            yield flow
        if chosen == MOST:
            return


def _candidates(proven: Proven) -> Iterator[Flow]:
    """Some of each part in turn, so that no part stands back for another."""
    parts = [part for half in proven.halves for part in half.parts]
    each = MOST_TRIED // max(len(parts), 1) + 1
    for together in zip_longest(*(part.any_flows(each) for part in parts)):
        yield from (flow for flow in together if flow is not None)


def _met(result: Result) -> set[Met]:
    return {
        (step.point, step.list_name, step.decision.entry)
        for exchange in result.exchanges
        for leg in exchange.legs
        for hop in leg.path.hops
        for step in hop.steps
        if isinstance(step, Filtered)
    }
