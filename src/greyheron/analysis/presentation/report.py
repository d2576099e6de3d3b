"""A conversation as a report: the stable shape that the command line and the interface print.

Every field is documented in docs/api.md.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from greyheron.analysis.presentation.remembered import KeptReport, kept_after
from greyheron.analysis.presentation.steps import (
    ending_words,
    header_words,
    joined,
    lost_words,
    seen_words,
    service_words,
    step_words,
    unresolved_words,
    unwalked_words,
)
from greyheron.core.lists.matching import Decision
from greyheron.core.lists.met import Filtered, denies
from greyheron.core.lists.periods import Span
from greyheron.core.network.segments import LinkEnds, Segments
from greyheron.core.network.topology import Topology
from greyheron.core.packet import Way
from greyheron.core.walk.icmp_errors import Response, Seen
from greyheron.core.walk.steps import (
    Delivered,
    DiscoveryStopped,
    Hop,
    Leaves,
    Outcome,
    Path,
    Routed,
    Step,
    Translated,
    Unrouted,
)
from greyheron.core.walk.verdicts import Exchange, PacketTrace, Result, Verdict
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.period import SUPPOSITIONS
from greyheron.model.values import Action, Direction, Family, State


@dataclass(frozen=True, slots=True)
class PlaceReport:
    """The place that decided. `list` and `entry` are null where no list did; a null `entry` with a list
    is the implicit deny; `direction` is null where no interface or line is meant."""

    device: str
    at: str | None
    direction: Direction | None
    list: str | None
    entry: int | None


@dataclass(frozen=True, slots=True)
class PassedOver:
    entry: int
    field: str


@dataclass(frozen=True, slots=True)
class DecisionReport:
    """What a list did: the deciding entry (null: the implicit one) and every earlier one's mismatch.

    `device` is another one than the hop's where a frame list stands on a switch.
    """

    list: str
    device: str
    at: str
    direction: Direction
    action: Action
    entry: int | None
    passed_over: tuple[PassedOver, ...]


@dataclass(frozen=True, slots=True)
class StepReport:
    """One step in words. `kind` is its type's name; `lost` names routes that were not taken, and why."""

    kind: str
    text: str
    deciding: bool
    decision: DecisionReport | None
    lost: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class HeaderField:
    field: str
    value: str


@dataclass(frozen=True, slots=True)
class HopReport:
    """One device: interfaces it was entered and left by, the header there, and the steps in order.

    links:  those that the packet crosses to the next device, switches between them or not; of each the near
        and the far end, as `device:interface`
    """

    device: str
    ingress: str | None
    egress: str | None
    header: tuple[HeaderField, ...]
    steps: tuple[StepReport, ...]
    links: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class PacketReport:
    """One packet's way. `name` is SYN, SYN+ACK, ACK, request, reply, packet, or what an answer says."""

    name: str
    packet: str
    outcome: Outcome
    hops: tuple[HopReport, ...]


@dataclass(frozen=True, slots=True)
class SeenReport:
    """What the sender sees: `what` in a fixed set of words, `text` in a sentence, `by` an address."""

    what: Seen
    by: str | None
    text: str


@dataclass(frozen=True, slots=True)
class ExchangeReport:
    """The conversation along one combination of equal-cost paths.

    out, home: the two ways to show. The deciding packet is always among them; `home` is the answer's way
        when the packet out was stopped and somebody said so, and null when nothing came back.
    kept: what devices remember of it when it has ended
    """

    verdict: Verdict
    text: str
    decided_on: Way
    deciding: PlaceReport | None
    sees: SeenReport
    out: PacketReport
    home: PacketReport | None
    legs: tuple[PacketReport, ...]
    kept: tuple[KeptReport, ...]


@dataclass(frozen=True, slots=True)
class TimeReport:
    """What becomes of a flow at some times. `at` is one of them, as a test flow writes it; a null verdict: it
    cannot be tried then."""

    when: str
    at: str
    verdict: Verdict | None
    text: str


def times_words(times: Sequence[TimeReport]) -> str:
    """“mixed: passes during open-hours, blocked outside open-hours”."""
    unknown = all(each.when.endswith(SUPPOSITIONS) for each in times)
    return ("not known: " if unknown else "mixed: ") + ", ".join(
        f"{each.verdict or 'cannot be tried'} {each.when}" for each in times
    )


@dataclass(frozen=True, slots=True)
class QueryReport:
    """A question for the destination's name: who was asked, what became of it, and its way."""

    name: str
    resolver: str
    verdict: Verdict
    text: str
    exchange: ExchangeReport


@dataclass(frozen=True, slots=True)
class TraceReport:
    """A traced test flow. `exchanges` holds one report for each combination of equal-cost paths; where the
    verdict differs by the time, those of the first of `times`."""

    flow: str
    state: State
    verdict: Verdict
    text: str
    exchanges: tuple[ExchangeReport, ...]
    more_paths: bool
    queries: tuple[QueryReport, ...] = ()
    times: tuple[TimeReport, ...] = ()


def report_in_time(
    results: Sequence[tuple[Span, Result]], topology: Topology, flow: str, state: State
) -> TraceReport:
    """The report of a flow at several times: that of the first, unless they differ."""
    reports = [(span, report(result, topology, flow, state)) for span, result in results]
    first = reports[0][1]
    if len({each.verdict for _, each in reports}) == 1:
        seen = {exchange.sees for _, each in reports for exchange in each.exchanges}
        supposed = all(span.words.endswith(SUPPOSITIONS) for span, _ in results)
        if supposed and len(seen) > len({exchange.sees for exchange in first.exchanges}):
            return replace(first, text=f"{first.text}; what its sender sees of that is not known")
        return first
    times = tuple(TimeReport(span.words, str(span.moment), each.verdict, each.text) for span, each in reports)
    return replace(first, verdict=Verdict.MIXED, text=times_words(times), times=times)


def report(result: Result, topology: Topology, flow: str, state: State) -> TraceReport:
    """The report of `result`, got for the flow written `flow` in the state named `state`."""
    exchanges = tuple(_exchange(exchange, topology) for exchange in result.exchanges)
    if result.verdict is Verdict.MIXED:
        text = f"mixed: {_mixed_words(result.exchanges)}"
    else:
        text = exchanges[0].text
    if result.more:
        text = f"{text}; {unwalked_words(result)}"
    text = unresolved_words(result) or text
    return TraceReport(
        flow, state, result.verdict, text, exchanges, result.more, tuple(_queries(result, topology))
    )


def _mixed_words(exchanges: Sequence[Exchange]) -> str:
    """“it passes at the remote/1-4 line, it is blocked at the remote/5-8 line; …”."""
    at = [
        (step.line, exchange.verdict)
        for exchange in exchanges
        for step in exchange.legs[0].path.last.steps
        if isinstance(step, Delivered) and step.line is not None
    ]
    by_line = {line: {verdict for each, verdict in at if each == line} for line, _ in at}
    if len(at) == len(exchanges) and len(by_line) > 1 and all(len(each) == 1 for each in by_line.values()):
        told = (f"it {_BECOMES[verdict]} at the {line} line" for line, (verdict,) in by_line.items())
        return f"{', '.join(told)}; a login is taken by the first line that is free"
    ways = sorted({exchange.verdict.value for exchange in exchanges})
    return f"on {len(exchanges)} equal paths it {' or '.join(ways)}"


_BECOMES = {
    Verdict.PASSES: "passes",
    Verdict.BLOCKED: "is blocked",
    Verdict.UNREACHABLE: "is unreachable",
    Verdict.REFUSED: "is refused",
}


def _queries(result: Result, topology: Topology) -> Iterator[QueryReport]:
    resolution = result.resolution
    for query in result.queries:
        asked = _exchange(deciding(query.result.exchanges), topology)
        to = query.resolver.family.text(query.resolver.address)
        assert resolution is not None
        yield QueryReport(resolution.name, to, query.result.verdict, asked.text, asked)


E = TypeVar("E", Exchange, ExchangeReport)


def deciding(exchanges: Sequence[E]) -> E:
    """The exchange that explains the verdict best: the first that does not pass, if any."""
    return next((each for each in exchanges if each.verdict is not Verdict.PASSES), exchanges[0])


def place_of(exchange: Exchange) -> PlaceReport | None:
    """Where the exchange was stopped; None when it passes."""
    if exchange.verdict is Verdict.PASSES:
        return None
    path = exchange.decider.path
    if path.denial is not None:
        point, decision = path.denial.point, path.denial.decision
        return PlaceReport(point.device, point.at, point.direction, path.denial.list_name, decision.entry)
    return PlaceReport(path.last.device, path.last.ingress, None, None, None)


def _exchange(exchange: Exchange, topology: Topology) -> ExchangeReport:
    segments = topology.segments
    decider = exchange.decider
    outs = [leg for leg in exchange.legs if leg.way is Way.OUT]
    homes = [leg for leg in exchange.legs if leg.way is Way.RETURN]
    failed = exchange.verdict is not Verdict.PASSES
    out = decider if failed and decider.way is Way.OUT else outs[0]
    home: PacketReport | None = None
    if failed and decider.way is Way.OUT:
        home = _response(exchange.response, segments)
    elif homes:
        home = _leg(homes[-1] if failed else homes[0], failed, segments)
    family = decider.path.last.packet.family
    by = None if exchange.seen_from is None else family.text(exchange.seen_from)
    return ExchangeReport(
        exchange.verdict,
        ending_words(exchange),
        decider.way,
        place_of(exchange),
        SeenReport(exchange.sees, by, seen_words(exchange)),
        _leg(out, failed and out is decider, segments),
        home,
        tuple(_leg(leg, failed and leg is decider, segments) for leg in exchange.legs),
        kept_after(exchange, topology.devices),
    )


def _leg(leg: PacketTrace, decides: bool, segments: Segments) -> PacketReport:
    return _path(leg.name, leg.path, decides, segments)


def _response(response: Response | None, segments: Segments) -> PacketReport | None:
    if response is None or response.path is None:
        return None
    return _path(response.says, response.path, False, segments)


def _path(name: str, path: Path, decides: bool, segments: Segments) -> PacketReport:
    hops = tuple(_hop(hop, decides and hop is path.last, segments) for hop in path.hops)
    return PacketReport(name, service_words(path.packet), path.outcome, hops)


def _links(hop: Hop, segments: Segments) -> tuple[LinkEnds, ...]:
    """What its frame would cross, or that which asks for its neighbour, if no frame list stopped it."""
    onward = next((step for step in hop.steps if isinstance(step, Leaves | DiscoveryStopped)), None)
    return () if onward is None else segments.crossing((hop.device, onward.interface), onward.to)


def _crossed(links: tuple[LinkEnds, ...], last: Step) -> tuple[LinkEnds, ...]:
    """What it does cross, as far as the frame list that stops it."""
    last = last.by if isinstance(last, DiscoveryStopped) else last
    if not denies(last):
        return links
    at = f"{last.point.device}:{last.point.at}"
    stopped = next((number for number, ends in enumerate(links) if at in ends), None)
    return links if stopped is None else links[: stopped + (at == links[stopped][1])]


def _through(links: tuple[LinkEnds, ...], hop: Hop, leaves: Leaves) -> str:
    """“, through shed-switch and hide-switch”"""
    ends = (hop.device, leaves.to[0])
    names = dict.fromkeys(end.partition(":")[0] for link in links for end in link)
    switches = [name for name in names if name not in ends]
    return f", through {joined(switches)}" if switches else ""


def _hop(hop: Hop, decides: bool, segments: Segments) -> HopReport:
    family = hop.packet.family
    links = _links(hop, segments)
    moves = [isinstance(step, Translated) for step in hop.steps]
    steps = []
    for number, step in enumerate(hop.steps):
        told = _step(step, family, decides and step is hop.steps[-1])
        if isinstance(step, Leaves):
            told = replace(told, text=told.text + _through(links, hop, step))
        elif isinstance(step, Filtered) and step.point.device == hop.device and step.frame is None:
            seen = _translation_seen(step.point, any(moves[:number]), any(moves[number:]))
            told = replace(told, text=told.text + seen)
        steps.append(told)
    links = _crossed(links, hop.steps[-1])
    header = tuple(HeaderField(*line) for line in header_words(hop.packet))
    return HopReport(hop.device, hop.ingress, hop.egress, header, tuple(steps), links)


def _translation_seen(point: AttachmentPoint, before: bool, behind: bool) -> str:
    """What is not as usual: an inbound list behind a translation, or an outbound one before it (§4)."""
    if point.direction is Direction.IN and before and not point.is_line:
        return ", which sees it translated"
    return ", which sees it untranslated" if point.direction is Direction.OUT and behind else ""


def _step(step: Step, family: Family, deciding: bool) -> StepReport:
    met = step.by if isinstance(step, DiscoveryStopped) else step
    decision = _decision(met) if isinstance(met, Filtered) else None
    lost = lost_words(step.lookup, family) if isinstance(step, Routed | Unrouted) else []
    return StepReport(type(step).__name__.lower(), step_words(step, family), deciding, decision, tuple(lost))


def _decision(step: Filtered) -> DecisionReport:
    decision: Decision = step.decision
    passed_over = tuple(PassedOver(mismatch.entry, mismatch.field) for mismatch in decision.passed_over)
    return DecisionReport(
        step.list_name,
        step.point.device,
        step.point.at,
        step.point.direction,
        decision.action,
        decision.entry,
        passed_over,
    )
