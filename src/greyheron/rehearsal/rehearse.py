"""A whole rehearsal, in a process that has namespaces of its own: build, send, compare, stage by stage."""

import time
from collections.abc import Callable, Mapping, Sequence
from functools import partial

from greyheron.core.lists.periods import Span
from greyheron.core.routing.table import Origin
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.world import World
from greyheron.model.document import Network
from greyheron.model.values import Family
from greyheron.rehearsal.asking import RehearsedFlow
from greyheron.rehearsal.comparison import Rehearsal, Rehearsed, SeenFacts, differences, predicted_like
from greyheron.rehearsal.kernel import (
    Built,
    build,
    change,
    counted,
    forget_conversations,
    forget_neighbours,
    restart_daemons,
    wait_for_routes,
)
from greyheron.rehearsal.plan import NetworkPlan, plan_of
from greyheron.rehearsal.probing import Stage
from greyheron.rehearsal.sendings import Probe, apart, guests_of, sendings_of

_PASSES = ((64, 0.7, 0.0, False), (16, 1.5, 1.1, False), (1, 3.0, 1.1, False), (1, 3.0, 1.1, True))
"""How often what differs is sent: so many at once, seconds of silence that are waited for, seconds before,
and whether it was sent once already."""
_NEIGHBOUR_GIVEN_UP = 2.0
"""Seconds after which nobody knows a neighbour any more only because it asked, and cannot be asked itself."""
ROUTING, ROUTING_EACH = 20.0, 0.5
"""Seconds that the routing daemons have to find each other, and more for each router."""

Report = Callable[[str, float], None]
"""Told the stage, and how far it is, 0 to 1."""


Meddle = Callable[[Built], None]
"""Changes what was built, behind the rehearsal's back."""


def rehearse(
    network: Network,
    asked: Sequence[RehearsedFlow],
    report: Report,
    meddle: Meddle = lambda _built: None,
    leave: Callable[[Built], None] = Built.close,
) -> Rehearsal:
    """Build `network` here, and send every flow that is `asked` at every time for which it is meant.

    leave:  what becomes of the network in the end, as it stood last

    Raises KernelError when the kernel refuses, and whatever was made is gone when the process is.
    """
    timeline = Timeline.build(network)
    guests = guests_of(each.flow for each in asked)
    left_out: list[str] = []
    tried: list[Rehearsed] = []
    built: Built | None = None
    building = sending = 0.0
    known: Mapping[str, set[tuple[str, str, str]]] = {}
    by_span = _by_span(timeline, asked)
    for number, (span, flows) in enumerate(by_span):
        world = timeline.world(span)
        whole = world.with_possible_hosts if guests else world
        plan = plan_of(whole, guests)
        learnt = _learnt(whole, plan)
        began = time.monotonic()
        if built is None:
            for stage, so_far in build(plan):
                report(stage, 0.0)
                built = so_far
            assert built is not None
            left_out += plan.left_out
        else:
            change(built, plan)
            if learnt != known:
                restart_daemons(built)
        meddle(built)
        patience = ROUTING + ROUTING_EACH * len(learnt)
        for device, routes in wait_for_routes(built, learnt, patience).items():
            left_out.append(
                f"{span.words}: {device} did not come to the routes that were predicted, {sorted(routes)}"
            )
        known = learnt
        building += time.monotonic() - began
        began = time.monotonic()
        sendings, refused = _sendings(flows, world)
        left_out += refused
        stand = Stage(whole, built, sendings)
        tried += _tried(built, stand, span, sendings, partial(_share, report, number, len(by_span)))
        stand.close()
        sending += time.monotonic() - began
    if built is not None:
        leave(built)
    return Rehearsal(tuple(tried), tuple(left_out), (building, sending))


def _share(report: Report, number: int, of: int, done: float) -> None:
    report("sending", (number + done) / of)


def _by_span(timeline: Timeline, asked: Sequence[RehearsedFlow]) -> list[tuple[Span, list[RehearsedFlow]]]:
    found: dict[frozenset[str], tuple[Span, list[RehearsedFlow]]] = {}
    for each in asked:
        for span in timeline.for_flow(each.flow):
            found.setdefault(span.active, (span, []))[1].append(each)
    return list(found.values())


def _sendings(asked: Sequence[RehearsedFlow], world: World) -> tuple[list[Probe], list[str]]:
    sendings: list[Probe] = []
    refused: list[str] = []
    for each in asked:
        try:
            sendings += sendings_of(each, world)
        except FlowError as error:
            refused.append(f"{each.test or each.requirement}: {error}")
    return sendings, refused


def _tried(
    built: Built, stand: Stage, span: Span, asked: Sequence[Probe], report: Callable[[float], None]
) -> list[Rehearsed]:
    """Send everything. What came otherwise is sent again with more patience, and at last alone: that is told.

    The kernel says at most once a second to one sender that there is no route, whatever else it is told. Who
    is asked by a neighbour knows it for a moment, even if it could not find it: what lasts shows when that
    is sent once more.
    """
    found: dict[int, Rehearsed] = {}
    left = [*enumerate(asked)]
    for most, patience, pause, again in _PASSES:
        numbers = {id(sending): number for number, sending in left}
        for group in apart([sending for _, sending in left], most, one_each=pause > 0):
            time.sleep(pause)
            if again:
                forget_neighbours(built)
                stand.send(group, patience)
                time.sleep(_NEIGHBOUR_GIVEN_UP)
            for tried in _send(built, stand, span, group, patience, forget=not again):
                found[numbers[id(tried.sending)]] = tried
            report(len(found) / len(asked))
        left = [(number, tried.sending) for number, tried in sorted(found.items()) if tried.differences]
    return [tried for _, tried in sorted(found.items())]


def _send(
    built: Built, stand: Stage, span: Span, group: Sequence[Probe], patience: float, forget: bool
) -> list[Rehearsed]:
    if forget:
        forget_neighbours(built)
    forget_conversations(built)
    before = counted(built)
    observed = stand.send(group, patience)
    after = counted(built)
    rose = frozenset(what for what, count in after.items() if count > before.get(what, 0))
    tried = []
    for sending, each in zip(group, observed, strict=True):
        seen = SeenFacts(each.sees, each.by, each.addresses, each.way, each.counted, rose)
        found = differences(sending, seen)
        tried.append(
            Rehearsed(sending, span.words, predicted_like(sending, seen), seen, found, each.captured)
        )
    return tried


def _learnt(world: World, plan: NetworkPlan) -> Mapping[str, set[tuple[str, str, str]]]:
    """The routes that daemons should put into each table: those preferred to the device's own."""
    found: dict[str, set[tuple[str, str, str]]] = {}
    for place in plan.places.values():
        if place.daemons is None:
            continue
        routes: set[tuple[str, str, str]] = set()
        for family in Family:
            table = world.table(place.device, family)
            for route in table.routes:
                if route.origin is not Origin.OSPF or not table.uses(route) or route.interface is None:
                    continue
                port = place.port(route.interface)
                if port is not None and route.via is not None:
                    routes.add((str(route.prefix), port, family.text(route.via)))
        found[place.device] = routes
    return found
