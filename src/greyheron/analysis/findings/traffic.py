"""Findings in what traffic comes to: replies, neighbours, logins, routes and test flows."""

from collections import defaultdict
from collections.abc import Iterator

from greyheron.analysis.findings.finding import Finding, Repair, SearchGround, Severity, counted, shortened
from greyheron.analysis.findings.naming import stopped_queries
from greyheron.analysis.findings.nat_inside import to_inside_addresses
from greyheron.analysis.findings.repairs import discovery, letting_through, replies
from greyheron.analysis.presentation.steps import ending_words, entry_words
from greyheron.analysis.reach.matrix import Reach
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.analysis.testing.book import Tries
from greyheron.analysis.testing.bulk_verdicts import Flows
from greyheron.analysis.testing.judge import Standing, judge
from greyheron.core.lists.matching import Decision
from greyheron.core.packet import Way
from greyheron.core.routing.ospf_neighbours import CutNeighbour
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.steps import Outcome
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.document import Network
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.names import PORTS, TCP
from greyheron.model.notation.flows import write_expected_flow, write_flow
from greyheron.model.services import OWN_SERVICES, Request, written
from greyheron.model.values import Family

_CLEAR = {PORTS["telnet"]: "telnet", PORTS["http"]: "http"}
_MOST_GROUPS = 40
MOST_DEVICES = 320
"""In larger networks hosts are asked only, not routers: their logins and addresses are many."""


def in_traffic(ground: SearchGround) -> Iterator[Finding]:
    yield from _neighbours(ground)
    yield from _tests(ground)
    yield from to_inside_addresses(ground)
    yield from stopped_queries(ground)


def _neighbours(ground: SearchGround) -> Iterator[Finding]:
    for cut in ground.world.routes.cut_neighbours():
        entry = _which(cut.by.decision)
        ends = (":".join(cut.port), ":".join(cut.neighbour))
        yield Finding(
            "routing neighbours cut",
            Severity.FAULT,
            " ".join(ends),
            f"{cut.port[0]} and {cut.neighbour[0]} are no longer routing neighbours: {cut.by.list_name} "
            f"{cut.by.point} {_cutting(cut)}.",
            (f"{entry} decides", "routes learnt that way are gone"),
            (cut.port[0], cut.neighbour[0]),
            (cut.by.list_name,),
            repair=_rejoining(ground.network, cut),
        )


def _rejoining(network: Network, cut: CutNeighbour) -> Repair | None:
    if cut.unfound or cut.by.frame is not None:
        access_list = next(each for each in network.lists if each.name == cut.by.list_name)
        return discovery(network, cut.by, access_list.family or Family.IPV4)
    return letting_through(network, cut.by, ["permit ospf from any to any"], "routing neighbours")


def _cutting(cut: CutNeighbour) -> str:
    if cut.unfound:
        return "lets their packets through but stops neighbour discovery, so that they cannot find each other"
    return "denies their packets"


def _which(decision: Decision) -> str:
    """The deciding entry of a list that has been named."""
    words = entry_words(decision)
    return f"its {words}" if decision.entry is None else words


def _tests(ground: SearchGround) -> Iterator[Finding]:
    tests = ground.network.tests
    flows = ground.kept.of(
        ("test flows", ground.world.resolved.active),
        (ground.world.topology, tests),
        lambda: Flows(ground.world, ground.engines, [test.flow.flow for test in tests]),
    )
    found, baseline = (flows.verdicts(each) for each in (ground.world, ground.world.baseline))
    for test in tests:
        flow = test.flow.flow
        if flow in found and flow in baseline:
            judgement = judge(test.flow.expect, found[flow], baseline[flow])
            if judgement.standing is not Standing.INCONCLUSIVE:
                continue
            reason = judgement.reason
        else:
            tried = (Tries().of(each, flow) for each in (ground.world, ground.world.baseline))
            reason = next(each for each in tried if isinstance(each, str))
        yield Finding(
            "test that proves nothing",
            Severity.NOTE,
            test.id,
            f"{write_expected_flow(test.flow)} proves nothing: {reason}",
            flow=write_flow(flow),
        )


def in_matrix(ground: SearchGround, family: Family) -> Iterator[Finding]:
    """Findings in who reaches whom."""
    large = len(ground.network.devices) > MOST_DEVICES
    question = ReachQuestion((OWN_SERVICES, "ping"), family, hosts_only=large, from_hosts=True)
    reach = ground.kept.reaches.of(ground.world, ground.network, ground.engines, question, ground.progress)
    if len(reach.axis.devices) < 2:
        return
    yield from _stopped(ground, reach, family)
    yield from _clear_text(reach, family)
    without = ground.kept.without.of(
        ground.world.baseline, ground.network, ground.engines, question, like=reach
    )
    yield from _unreachable(ground, without, family)
    for device in sorted(reach.locked(ground.world) - without.locked(ground.world)):
        yield Finding(
            "management locked out",
            Severity.FAULT,
            f"{device} {family}",
            f"Nobody on the map can log in to {device} over {family.word} any more: lists block all of them.",
            devices=(device,),
        )


def _flow(source: str, destination: str, family: Family, address: int, asked: str) -> Flow:
    return Flow(FlowEnd(source), FlowEnd(destination, family.text(address)), asked, family=family)


def _stopped(ground: SearchGround, reach: Reach, family: Family) -> Iterator[Finding]:
    """Replies that a list stops, and neighbours that are not found: one finding for each list and entry."""
    for group in reach.decided(Verdict.BLOCKED, _MOST_GROUPS):
        flow = _flow(group.source, group.owner, family, group.destination, written(group.request, family))
        exchange = next(
            (each for each in converse(ground.world, flow).exchanges if each.verdict is Verdict.BLOCKED), None
        )
        if exchange is None:
            continue
        path = exchange.decider.path
        without = converse(ground.world.baseline, flow)
        if without.verdict is not Verdict.PASSES or path.denial is None:
            continue
        point, name = path.denial.point, path.denial.list_name
        which = _which(path.denial.decision)
        over = "" if path.denial.frame is None else f", over {family.word}"  # frame lists stop either
        subject = f"{name} {point}, {which}{over}"
        if path.outcome is Outcome.NO_DISCOVERY:
            yield Finding(
                "neighbour discovery cut",
                Severity.FAULT,
                subject,
                f"{name} {point} stops {'neighbour discovery' if family is Family.IPV6 else 'ARP'}: "
                f"{family.word} neighbours there are not found.",
                (f"{which} decides", f"{write_flow(flow)}: {ending_words(exchange)}"),
                (point.device,),
                (name,),
                write_flow(flow),
                discovery(ground.network, path.denial, family),
            )
        elif exchange.decider.way is Way.RETURN:
            yield Finding(
                "reply blocked",
                Severity.WARNING,
                subject,
                f"{name} {point} stops replies: requests arrive, but the answers do not come back "
                f"({counted(group.count, 'conversation')}).",
                (f"{which} decides", f"{write_flow(flow)}: {ending_words(exchange)}"),
                (point.device,),
                (name,),
                write_flow(flow),
                replies(ground.network, path.denial, path.last.packet),
            )


def _unreachable(ground: SearchGround, without: Reach, family: Family) -> Iterator[Finding]:
    """Routes that are missing with no lists at all, by the device that lacks them."""
    lacking: dict[tuple[str, str, bool], list[str]] = defaultdict(list)
    for group in without.decided(Verdict.UNREACHABLE, 10 * _MOST_GROUPS):
        flow = _flow(group.source, group.owner, family, group.destination, written(group.request, family))
        exchange = next(
            (
                each
                for each in converse(ground.world.baseline, flow).exchanges
                if each.verdict is Verdict.UNREACHABLE
            ),
            None,
        )
        if exchange is not None:
            path = exchange.decider.path
            returning = exchange.decider.way is Way.RETURN
            lacking[path.last.device, path.outcome, returning].append(write_flow(flow))
    for (device, outcome, returning), flows in sorted(lacking.items()):
        way = "back" if returning else "out"
        yield Finding(
            f"no way {way}",
            Severity.WARNING,
            f"{device} {family} {outcome} {way}",
            f"{family.word} packets stop at {device} on their way {way}: {outcome}. No list is involved.",
            (f"for example {shortened(flows, 3)}",),
            (device,),
            flow=flows[0],
        )


def _in_clear(request: Request) -> bool:
    return request.protocol == TCP and request.port in _CLEAR


def _clear_text(reach: Reach, family: Family) -> Iterator[Finding]:
    found: dict[tuple[str, int], list[str]] = defaultdict(list)
    for each in reach.each(Verdict.PASSES, _in_clear):
        found[each.owner, each.request.port or 0].append(each.source)
    for (device, port), sources in sorted(found.items()):
        yield Finding(
            "clear-text service",
            Severity.NOTE,
            f"{device} tcp/{port} {family}",
            f"{_CLEAR[port]} to {device} is reachable over {family.word} and not encrypted: "
            f"{counted(len(set(sources)), 'device')} can use it.",
            (f"from {shortened(sources)}",),
            (device,),
        )
