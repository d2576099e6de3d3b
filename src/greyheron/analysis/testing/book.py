"""The book: every test flow with its three verdicts (baseline, running, draft)."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from threading import Lock
from weakref import WeakKeyDictionary

from msgspec import Struct

from greyheron.analysis.presentation.report import PlaceReport, TimeReport, deciding, place_of, times_words
from greyheron.analysis.presentation.steps import ending_words, unresolved_words, unwalked_words
from greyheron.analysis.testing.judge import Judgement, Standing, judge
from greyheron.core.bulk.trying import try_flow
from greyheron.core.lists.layer2_paths import Layer2Paths
from greyheron.core.lists.met import Filtered, Unfiltered
from greyheron.core.lists.periods import Span
from greyheron.core.progress import Progress, unwatched
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.steps import DiscoveryStopped, Leaves, Path
from greyheron.core.walk.verdicts import Result, Verdict
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import TestFlow
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_expected_flow
from greyheron.model.values import Expectation, Family


@dataclass(frozen=True, slots=True)
class Mark:
    """One verdict of one test flow.

    verdict:  None when the flow cannot be tried in that state; `text` says why
    judgement:  None for the baseline, of which nothing is expected
    place:  where it was decided
    times:  what it is at which times, where that differs
    """

    verdict: Verdict | None
    text: str
    place: PlaceReport | None
    judgement: Judgement | None
    times: tuple[TimeReport, ...] = ()


@dataclass(frozen=True, slots=True)
class TestMarks:
    """A test flow and what came of it with no lists, with the running lists and with the draft.

    crosses:  every attachment point its packets meet in the draft, as `device:at:direction`
    """

    __test__ = False

    id: str
    flow: str
    expect: Expectation
    baseline: Mark
    running: Mark
    draft: Mark
    crosses: tuple[str, ...]

    @property
    def surprises(self) -> bool:
        """Whether the draft's verdict is not the expected one."""
        return self.draft.judgement is None or self.draft.judgement.standing is not Standing.HOLDS


Tried = Result | str
"""A conversation's result, or why it cannot be tried."""


class _Remembered(Struct, frozen=True):
    """What came of a conversation, with what that rests on.

    points:  every attachment point that a packet, or an answer about one, came to
    crossed:  those that packets of the conversation itself met, as `device:at:direction`
    """

    tried: Tried
    points: frozenset[AttachmentPoint] = frozenset()
    crossed: frozenset[str] = frozenset()

    @classmethod
    def of(cls, world: World, flow: Flow) -> "_Remembered":
        try:
            result = try_flow(world, flow)
        except FlowError as error:
            return cls(str(error))
        crossed = (f"{point.device}:{point.at}:{point.direction}" for point in _points_on(_legs(result)))
        return cls(result, points_met(result), frozenset(crossed))


class Tries:
    """Conversations that were tried, each once in a world. Worlds that nobody uses any more are forgotten.

    What was tried in a world that differs in lists elsewhere only is not tried again.
    """

    def __init__(self) -> None:
        self._found: WeakKeyDictionary[World, dict[Flow, _Remembered]] = WeakKeyDictionary()
        self._lock = Lock()

    def of(self, world: World, flow: Flow) -> Tried:
        """What comes of it."""
        return self._known(world, flow).tried

    def crossed(self, world: World, flow: Flow) -> frozenset[str]:
        """The attachment points that its packets meet, as `device:at:direction`."""
        return self._known(world, flow).crossed

    def _known(self, world: World, flow: Flow) -> _Remembered:
        with self._lock:
            found = self._found.get(world)
            known = [(other, each.copy()) for other, each in self._found.items()] if found is None else []
        if found is None:
            found = _carried_over(world, known)
            with self._lock:
                found = self._found.setdefault(world, found)
        if flow not in found:
            found[flow] = _Remembered.of(world, flow)
        return found[flow]


def _carried_over(
    world: World, known: Iterable[tuple[World, dict[Flow, _Remembered]]]
) -> dict[Flow, _Remembered]:
    """What holds in `world` too, of all that was tried in a world with the same routes."""
    carried: dict[Flow, _Remembered] = {}
    for other, found in known:
        changed = world.changed_lists(other)
        if changed is None:
            continue
        discovery = any(family is Family.IPV6 for _, family in changed)
        points = {point for point, family in changed if family is not None}
        framed = {point for point, family in changed if family is None}
        for flow, each in found.items():
            tried = each.tried
            if flow in carried or isinstance(tried, str) or not points.isdisjoint(each.points):
                continue
            if discovery and any(leg.path.packet.family is Family.IPV6 for leg in tried.every_leg):
                continue
            if not framed or framed.isdisjoint(_wires_met(tried, world.in_force.wires)):
                carried[flow] = each
    return carried


def points_met(result: Result) -> frozenset[AttachmentPoint]:
    """Every attachment point that a packet of the conversation, or an answer about one, came to."""
    return _points_on(_every_path(result))


def _every_path(result: Result) -> Iterator[Path]:
    """Those of all packets, and of answers about them."""
    yield from _legs(result)
    exchanges = [*result.exchanges, *(each for query in result.queries for each in query.result.exchanges)]
    for exchange in exchanges:
        if exchange.response is not None and exchange.response.path is not None:
            yield exchange.response.path


def _wires_met(result: Result, wires: Layer2Paths) -> Iterator[AttachmentPoint]:
    """Where frame lists may have met a frame of the conversation, or what asked for a neighbour."""
    for path in _every_path(result):
        for hop in path.hops:
            for step in hop.steps:
                if isinstance(step, Leaves | DiscoveryStopped):
                    yield from wires.both_ways((hop.device, step.interface), step.to)
                elif isinstance(step, Filtered) and step.frame is not None:
                    yield step.point


def _legs(result: Result) -> Iterator[Path]:
    return (leg.path for leg in result.every_leg)


def _points_on(paths: Iterable[Path]) -> frozenset[AttachmentPoint]:
    return frozenset(
        step.point
        for path in paths
        for hop in path.hops
        for step in hop.steps
        if isinstance(step, Filtered | Unfiltered)
    )


class States(Struct, frozen=True):
    """What a book is tried in."""

    running: Timeline
    draft: Timeline

    @classmethod
    def of(cls, timeline: Timeline) -> "States":
        """A network whose draft is what is running."""
        return cls(timeline, timeline)


def mark_tests(
    tests: Sequence[TestFlow], states: States, tries: Tries, progress: Progress = unwatched
) -> tuple[TestMarks, ...]:
    """Every test flow with its three verdicts. Raises Cancelled."""
    found = []
    for number, test in enumerate(tests):
        progress(number / len(tests))
        found.append(_mark_test(test, states, tries))
    return tuple(found)


def _mark_test(test: TestFlow, states: States, tries: Tries) -> TestMarks:
    flow, expect = test.flow.flow, test.flow.expect
    without = [tries.of(each.first.baseline, flow) for each in (states.running, states.draft)]
    running, draft = (
        [(span, tries.of(timeline.world(span), flow)) for span in timeline.for_flow(flow)]
        for timeline in (states.running, states.draft)
    )
    was, would_be = (
        _mark_in_time([(span, _mark(found, expect, baseline)) for span, found in tried])
        for tried, baseline in zip((running, draft), without, strict=True)
    )
    if was.verdict is None and would_be.verdict is not None:
        missing = _not_running_yet(flow, states)
        if missing:
            was = Mark(
                None,
                f"not running yet: {missing} {'is' if ',' not in missing else 'are'} in the draft only",
                None,
                None,
            )
    crossed = {point for span, _ in draft for point in tries.crossed(states.draft.world(span), flow)}
    return TestMarks(
        test.id,
        write_expected_flow(test.flow),
        expect,
        _mark(without[1], None, without[1]),
        was,
        would_be,
        tuple(sorted(crossed)),
    )


def _not_running_yet(flow: Flow, states: States) -> str:
    """The ends of a flow that only the draft has, by name: of them nothing can be expected yet."""
    ran, drafted = (each.first.topology.devices for each in (states.running, states.draft))
    ends = (end.device for end in (flow.source, flow.destination))
    return ", ".join(dict.fromkeys(each for each in ends if each and each in drafted and each not in ran))


NOT_KNOWN = Judgement(Standing.INCONCLUSIVE, "It is not known: it rests on entries that may not be there.")


def _mark_in_time(marks: Sequence[tuple[Span, Mark]]) -> Mark:
    """One mark of several times: the one they share, else mixed, with the times named."""
    moments = {span.moment for span, _ in marks}
    if len(moments) < len(marks):
        # Where something is not known a moment has a mark for each supposition (§3).
        together = [[each for each in marks if each[0].moment == moment] for moment in dict.fromkeys(moments)]
        marks = [(each[0][0], _mark_supposing(each)) for each in together]
        if len(marks) == 1:
            return marks[0][1]
    first = marks[0][1]
    if len({mark.verdict for _, mark in marks}) == 1:
        return first
    times = tuple(TimeReport(span.words, str(span.moment), mark.verdict, mark.text) for span, mark in marks)
    worst = next(
        (mark for _, mark in marks if mark.judgement and mark.judgement.standing is not Standing.HOLDS), first
    )
    judgements = [mark.judgement for _, mark in marks if mark.judgement is not None]
    failing = next((each for each in judgements if each.standing is Standing.FAILS), None)
    other = next((each for each in judgements if each.standing is not Standing.HOLDS), None)
    judgement = failing or other or first.judgement
    return Mark(Verdict.MIXED, times_words(times), worst.place, judgement, times)


def _mark_supposing(marks: Sequence[tuple[Span, Mark]]) -> Mark:
    """One mark where something is not known: the one that all suppositions share, else mixed."""
    first = marks[0][1]
    if len({mark.verdict for _, mark in marks}) == 1:
        return first
    times = tuple(TimeReport(span.words, str(span.moment), mark.verdict, mark.text) for span, mark in marks)
    judgement = None if first.judgement is None else NOT_KNOWN
    return Mark(Verdict.MIXED, times_words(times), first.place, judgement, times)


def _mark(found: Tried, expect: Expectation | None, baseline: Tried) -> Mark:
    if isinstance(found, str):
        judgement = None if expect is None else Judgement(Standing.INCONCLUSIVE, found)
        return Mark(None, found, None, judgement)
    exchange = deciding(found.exchanges)
    judgement = None
    if expect is not None and isinstance(baseline, Result):
        judgement = judge(expect, found.verdict, baseline.verdict, found.whole)
    text = unresolved_words(found) or ending_words(exchange)
    if found.verdict is Verdict.MIXED:
        text = f"mixed: on one of {len(found.exchanges)} paths {text}"
    if found.more:
        text = f"{text}; {unwalked_words(found)}"
    return Mark(found.verdict, text, place_of(exchange), judgement)
