"""Sending a flow, as against evaluating it: what it adds to counters and to the log (§8)."""

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from msgspec import Struct

from greyheron.analysis.presentation.steps import service_words
from greyheron.analysis.testing.judge import Standing, judge
from greyheron.core.bulk.trying import try_flow
from greyheron.core.lists.met import Filtered
from greyheron.core.packet import Packet
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.steps import NoSession, Step, TranslatedAddressNeeded, ZonesDeny
from greyheron.core.walk.verdicts import Result
from greyheron.model.device import Device
from greyheron.model.document import TestFlow
from greyheron.model.values import Action, Direction, Family, Logged


@dataclass(frozen=True, slots=True)
class CountedAt:
    """One entry of a list at one of its placements; `entry` is None for the implicit end of the list."""

    device: str
    at: str
    direction: Direction
    list: str
    entry: int | None


@dataclass(frozen=True, slots=True)
class LogLine:
    """What an entry with `log`, or a device that logs such denials, writes of one packet, sent `count` times.

    place:  its `list` is empty where no list decided
    denial:  the kind of denial that the device logs; None for an entry's own line
    """

    place: CountedAt
    action: Action
    protocol: str
    source: str
    destination: str
    count: int
    denial: Logged | None = None


class Sending(Struct, frozen=True):
    counts: Counter[CountedAt]
    lines: tuple[LogLine, ...]


def sending_of(result: Result, times: int, devices: Mapping[str, Device]) -> Sending:
    """What sending the conversation `times` times adds: each of its packets at each list that it met.

    Of equal-cost paths the first is sent along. A device's log has the denials that it is set to log.
    """
    counts: Counter[CountedAt] = Counter()
    lines: list[LogLine] = []
    results = [*(query.result for query in result.queries), result]
    if result.resolution is not None and result.resolution.address is None:
        results.pop()  # it has the query's exchanges
    for leg in (leg for each in results for leg in each.exchanges[0].legs):
        for hop in leg.path.hops:
            for step, packet in hop.seen:
                denial = _denial(step)
                logged = denial is not None and denial in devices[hop.device].logs
                if not isinstance(step, Filtered):
                    if logged:
                        place = CountedAt(hop.device, hop.ingress or "", Direction.IN, "", None)
                        lines.append(_line(place, Action.DENY, packet, times, denial))
                    continue
                point, decision = step.point, step.decision
                place = CountedAt(point.device, point.at, point.direction, step.list_name, decision.entry)
                counts[place] += times
                if decision.log:
                    lines.append(_line(place, decision.action, packet, times))
                elif logged:
                    lines.append(_line(place, decision.action, packet, times, denial))
    return Sending(counts, tuple(lines))


class TestRun(Struct, frozen=True):
    """What came of test flows that were sent once each.

    standings:  by the test's id;  untried:  those that cannot be tried in this network
    """

    __test__ = False

    standings: dict[str, Standing]
    untried: tuple[str, ...]
    sending: Sending


def run_tests(tests: Iterable[TestFlow], timeline: Timeline, baseline: Timeline) -> TestRun:
    """Send every one of `tests` once: at the time that it names, else at the first that is shown."""
    standings: dict[str, Standing] = {}
    untried: list[str] = []
    counts: Counter[CountedAt] = Counter()
    lines: list[LogLine] = []
    for test in tests:
        try:
            flow = test.flow.flow
            worlds = [each.world(each.for_flow(flow)[0]) for each in (timeline, baseline)]
            result, without = (try_flow(world, flow) for world in worlds)
        except FlowError:
            untried.append(test.id)
            continue
        standings[test.id] = judge(test.flow.expect, result.verdict, without.verdict, result.whole).standing
        sent = sending_of(result, 1, worlds[0].topology.devices)
        counts += sent.counts
        lines += sent.lines
    return TestRun(standings, tuple(untried), Sending(counts, tuple(lines)))


def _denial(step: Step) -> Logged | None:
    """Of which kind a denial is that no entry makes; None for all else."""
    match step:
        case Filtered(_, _, decision, None) if decision.denies and decision.entry is None:
            return Logged.IMPLICIT_END
        case ZonesDeny():
            return Logged.ZONES
        case NoSession():
            return Logged.SESSIONS
        case TranslatedAddressNeeded():
            return Logged.TRANSLATIONS
    return None


def _line(
    place: CountedAt, action: Action, packet: Packet, times: int, denial: Logged | None = None
) -> LogLine:
    family = packet.family
    return LogLine(
        place,
        action,
        service_words(packet),
        _end(family, packet.source, packet.source_port),
        _end(family, packet.destination, packet.destination_port),
        times,
        denial,
    )


def _end(family: Family, address: int | None, port: int | None) -> str:
    text = "" if address is None else family.text(address)
    return text if port is None else f"{text} port {port}"
