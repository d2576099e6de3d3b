"""Requirements answered at all times: one proof for each span in which other entries are there (§12)."""

from collections.abc import Iterator, Mapping, MutableMapping, Sequence

from msgspec.structs import replace

from greyheron.analysis.proof.answers import Answer, Proof, Violation
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.core.lists.periods import Span
from greyheron.core.progress import Progress, part, unwatched
from greyheron.core.timeline import Timeline
from greyheron.model.requirement import Statement
from greyheron.model.values import Expectation

Known = MutableMapping[tuple[str, str, frozenset[str]], Proven]
"""Answers had before, by requirement, state, and the periods that were on."""


def prove_in_time(
    prover: Prover,
    statement: Statement,
    timeline: Timeline,
    baseline: bool = False,
    known: Mapping[frozenset[str], Proven] | None = None,
    progress: Progress = unwatched,
) -> tuple[Proof, dict[frozenset[str], Proven]]:
    """The answer, and what it rests on at each time. Raises Cancelled.

    baseline:  with every list ignored;  known:  answers to the same statement by the periods that were on
    """
    spans = timeline.for_statement(statement)
    found: dict[frozenset[str], Proven] = {}
    for number, span in enumerate(spans):
        world = timeline.world(span)
        earlier = (known or {}).get(span.active)
        share = part(progress, number, len(spans))
        if baseline:
            world = world.baseline
        found[span.active] = prover.prove(statement, world, timeline.network, earlier, share)
    return _together(timeline, [(span, found[span.active].proof) for span in spans]), found


def _together(timeline: Timeline, proofs: Sequence[tuple[Span, Proof]]) -> Proof:
    if not proofs:
        reason = "It speaks of no time at all: its period has no hour of which something is known."
        return Proof(Answer.INCONCLUSIVE, 0, 0, 0, (), (), None, reason)
    if len(timeline.spans) == 1:
        return proofs[0][1]
    moments = dict.fromkeys(span.moment for span, _ in proofs)
    if len(moments) < len(proofs):
        # Where something is not known a moment has a proof for each supposition (§3).
        together = [[each for each in proofs if each[0].moment == moment] for moment in moments]
        proofs = [(each[0][0], _supposing([proof for _, proof in each])) for each in together]
        if len(proofs) == 1:
            return proofs[0][1]
    answers = [proof.answer for _, proof in proofs]
    order = (Answer.VIOLATED, Answer.INCONCLUSIVE, Answer.PROVED)
    answer = next(each for each in order if each in answers)
    span, told = next((span, proof) for span, proof in proofs if proof.answer is answer)
    example = told.counterexample
    if example is not None and any(proof.counterexample != example for _, proof in proofs):
        example = replace(example, flow=replace(example.flow, at=span.moment))
    return replace(
        told,
        answer=answer,
        classes=sum(proof.classes for _, proof in proofs),
        conversations=max(proof.conversations for _, proof in proofs),
        paths=max(proof.paths for _, proof in proofs),
        lists=tuple(sorted({name for _, proof in proofs for name in proof.lists})),
        violations=tuple(_violations([(span, proof.violations) for span, proof in proofs])),
        remaining=tuple(_violations([(span, proof.remaining) for span, proof in proofs])),
        counterexample=example,
        undecided=sum(proof.undecided for _, proof in proofs),
        decided=sum(proof.decided for _, proof in proofs),
    )


def _supposing(proofs: Sequence[Proof]) -> Proof:
    """The answer at a moment at which something is not known: what is certain whatever is so.

    proofs:  the answer if what is not known denies, and if it permits
    """
    denied, permitted = proofs
    if denied.answer is permitted.answer is Answer.PROVED:
        return denied
    stopped = [each for each in permitted.violations if each.expect is Expectation.PASS]
    through = [each for each in denied.violations if each.expect is Expectation.BLOCK]
    examples = (
        (permitted.counterexample, Expectation.PASS),
        (denied.counterexample, Expectation.BLOCK),
    )
    certain = [each for each, expect in examples if each is not None and each.expect is expect]
    if certain:
        return replace(
            denied,
            answer=Answer.VIOLATED,
            violations=(*stopped, *through),
            counterexample=certain[0],
            reason="",
            undecided=denied.undecided + permitted.undecided,
        )
    reason = (
        f"It rests on entries that may not be there: {denied.answer} if what is not known denies, "
        f"{permitted.answer} if it permits."
    )
    return replace(
        denied, answer=Answer.INCONCLUSIVE, violations=(), counterexample=None, reason=reason, answers=None
    )


def _violations(found: Sequence[tuple[Span, tuple[Violation, ...]]]) -> Iterator[Violation]:
    """What violates at all times, and what at some, with these."""
    times: dict[Violation, list[str]] = {}
    for span, violations in found:
        for violation in violations:
            times.setdefault(violation, []).append(span.words)
    for violation, words in times.items():
        yield violation if len(words) == len(found) else replace(violation, when=" and ".join(words))
