"""Two states of a network compared: every question about both, and what their answers differ in."""

from collections.abc import Iterator

from greyheron.analysis.network.comparison import ChangedOutcome, Comparison, only_in
from greyheron.analysis.network.differences import differences
from greyheron.analysis.proof.answers import Answer
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import Drafted, RunningAndDraft
from greyheron.compute.questions.book import BookQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.packets import PacketsQuestion
from greyheron.compute.questions.policy import PolicyQuestion
from greyheron.compute.questions.reach import ReachChangeQuestion
from greyheron.core.progress import Progress, part, unwatched

_STEPS = 6


def compare(state: DerivedState, both: Drafted, progress: Progress = unwatched) -> Comparison:
    """What the draft of two documents, whatever they are, has otherwise than running. Raises Cancelled."""
    ways = iter([part(progress, step, _STEPS) for step in range(_STEPS)])
    packets = state.ask(PacketsQuestion(), both, next(ways))
    flows = tuple(_flows(state, both, next(ways)))
    requirements = tuple(_requirements(state, both, next(ways)))
    reach = state.ask(ReachChangeQuestion(), both, next(ways))
    old, new = (
        state.ask(FindingsQuestion(), RunningAndDraft.same(each), next(ways))
        for each in (both.running, both.draft)
    )
    return Comparison(
        tuple(differences(both.running, both.draft)),
        packets.lists,
        packets.places,
        flows,
        requirements,
        reach,
        only_in(new, old),
        only_in(old, new),
    )


def _flows(state: DerivedState, both: Drafted, progress: Progress) -> Iterator[ChangedOutcome]:
    known = {each.id for each in both.running.tests}
    for marks in state.ask(BookQuestion(), both, progress):
        before, after = (str(mark.verdict or mark.text) for mark in (marks.running, marks.draft))
        if marks.id not in known or before != after:
            yield ChangedOutcome(
                marks.flow, before if marks.id in known else None, after, not marks.surprises
            )


def _requirements(state: DerivedState, both: Drafted, progress: Progress) -> Iterator[ChangedOutcome]:
    known = {each.id for each in both.running.requirements}
    for marks in state.ask(PolicyQuestion(), both, progress):
        before, after = marks.running.answer, marks.draft.answer
        if marks.id not in known or before is not after:
            yield ChangedOutcome(
                marks.statement, before if marks.id in known else None, after, after is Answer.PROVED
            )
