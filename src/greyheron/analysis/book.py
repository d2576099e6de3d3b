"""The book: every test flow with its three verdicts (baseline, running, draft)."""

from collections.abc import Iterable
from dataclasses import dataclass

from greyheron.analysis.judge import Judgement, Standing, judge
from greyheron.analysis.report import PlaceReport, deciding_exchange, place_of
from greyheron.analysis.words import ending_words
from greyheron.core.conversation import FlowError, Result, Verdict, converse
from greyheron.core.steps import Filtered, Unfiltered
from greyheron.core.world import World
from greyheron.model.document import TestFlow
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_expected_flow
from greyheron.model.values import Expectation


@dataclass(frozen=True, slots=True)
class Mark:
    """One verdict of one test flow.

    verdict:  None when the flow cannot be tried in that state; `text` says why
    judgement:  None for the baseline, of which nothing is expected
    place:  where it was decided
    """

    verdict: Verdict | None
    text: str
    place: PlaceReport | None
    judgement: Judgement | None


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


def mark_tests(tests: Iterable[TestFlow], running: World, draft: World) -> tuple[TestMarks, ...]:
    """Every test flow, tried with the draft's baseline, the running state and the draft."""
    return tuple(mark_test(test, running, draft) for test in tests)


def mark_test(test: TestFlow, running: World, draft: World) -> TestMarks:
    flow, expect = test.flow.flow, test.flow.expect
    baselines = {
        state: _try(flow, world.baseline) for state, world in (("running", running), ("draft", draft))
    }
    drafted = _try(flow, draft)
    return TestMarks(
        test.id,
        write_expected_flow(test.flow),
        expect,
        _mark(baselines["draft"], None, None),
        _mark(_try(flow, running), expect, baselines["running"]),
        _mark(drafted, expect, baselines["draft"]),
        _crossed(drafted),
    )


def _try(flow: Flow, world: World) -> Result | str:
    """The result, or why there can be none."""
    try:
        return converse(world, flow)
    except FlowError as error:
        return str(error)


def _mark(found: Result | str, expect: Expectation | None, baseline: Result | str | None) -> Mark:
    if isinstance(found, str):
        judgement = None if expect is None else Judgement(Standing.INCONCLUSIVE, found)
        return Mark(None, found, None, judgement)
    exchange = deciding_exchange(found)
    judgement = None
    if expect is not None and isinstance(baseline, Result):
        judgement = judge(expect, found.verdict, baseline.verdict)
    text = ending_words(exchange)
    if found.verdict is Verdict.MIXED:
        text = f"mixed: on one of {len(found.exchanges)} paths {text}"
    return Mark(found.verdict, text, place_of(exchange), judgement)


def _crossed(found: Result | str) -> tuple[str, ...]:
    if isinstance(found, str):
        return ()
    points = {
        step.point
        for exchange in found.exchanges
        for leg in exchange.legs
        for hop in leg.path.hops
        for step in hop.steps
        if isinstance(step, Filtered | Unfiltered)
    }
    return tuple(f"{point.device}:{point.at}:{point.direction}" for point in sorted(points))
