"""The policy: every requirement with its three answers (baseline, running, draft), in words."""

from collections.abc import Sequence
from dataclasses import dataclass

from msgspec import Struct

from greyheron.analysis.proof.answers import Answer, Proof, asking_words, side_words
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.times import Known, prove_in_time
from greyheron.core.progress import Found, Progress, part, unheard
from greyheron.core.timeline import Timeline
from greyheron.model.document import Requirement
from greyheron.model.flow import ExpectedFlow
from greyheron.model.notation.flows import write_expected_flow, write_flow
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.values import Expectation, Family

MOST_BOXES = 12


@dataclass(frozen=True, slots=True)
class BoxReport:
    """Conversations that violate: who, with whom, about what, and when if not always."""

    expect: Expectation
    family: Family
    sources: tuple[str, ...]
    destinations: tuple[str, ...]
    services: tuple[str, ...]
    when: str = ""


@dataclass(frozen=True, slots=True)
class ProofReport:
    """One answer in words.

    text:  the answer in a sentence;  covered:  what it covers
    boxes:  what violates, the most first;  more:  how many boxes are left out
    flow, verdict:  a counterexample as a test flow with what was expected of it, and what becomes of it
    """

    answer: Answer
    text: str
    covered: str
    lists: tuple[str, ...]
    boxes: tuple[BoxReport, ...]
    more: int
    flow: str | None
    verdict: str | None


@dataclass(frozen=True, slots=True)
class RequirementMarks:
    """A requirement, and its answer with no lists, with the running lists and with the draft."""

    id: str
    statement: str
    baseline: ProofReport
    running: ProofReport
    draft: ProofReport


class PolicyStates(Struct, frozen=True):
    """Where a policy is proved: what is running and the draft."""

    running: Timeline
    draft: Timeline

    def each(self) -> tuple[tuple[str, Timeline], ...]:
        return ("baseline", self.draft), ("running", self.running), ("draft", self.draft)


def prove_policy(
    prover: Prover,
    states: PolicyStates,
    known: Known,
    progress: Progress,
    requirements: Sequence[Requirement],
    told: Found = unheard,
) -> tuple[RequirementMarks, ...]:
    """Requirements of the draft in all three states; `known` is looked into and kept up.

    told:  each as it is answered.  Raises Cancelled.
    """
    indices = states.each()
    steps = max(1, len(requirements) * len(indices))
    found: list[RequirementMarks] = []
    for number, requirement in enumerate(requirements):
        reports = [
            proof_report(
                prove_in_state(prover, requirement, state, timeline, known, part(progress, step, steps))
            )
            for step, (state, timeline) in enumerate(indices, number * len(indices))
        ]
        found.append(RequirementMarks(requirement.id, write_requirement(requirement.statement), *reports))
        told(found[-1:])
    there = {requirement.id for requirement in states.draft.network.requirements}
    for key in [key for key in known if key[0] not in there]:
        del known[key]
    return tuple(found)


def prove_in_state(
    prover: Prover, requirement: Requirement, state: str, timeline: Timeline, known: Known, progress: Progress
) -> Proof:
    """A requirement in one state (baseline, running, draft); `known` is looked into and kept up."""
    earlier = {
        span.active: before
        for span in timeline.shown
        if (before := known.get((requirement.id, state, span.active))) is not None
    }
    proof, proven = prove_in_time(
        prover, requirement.statement, timeline, state == "baseline", earlier, progress
    )
    known.update({(requirement.id, state, active): each for active, each in proven.items()})
    return proof


def proof_report(proof: Proof) -> ProofReport:
    boxes = [(violation, box) for violation in proof.violations for box in violation.boxes]
    shown = tuple(
        BoxReport(
            violation.expect,
            box.family,
            tuple(side_words(box.sources)),
            tuple(side_words(box.destinations)),
            tuple(asking_words(asking, box.family) for asking in box.asking),
            violation.when,
        )
        for violation, box in boxes[:MOST_BOXES]
    )
    example = proof.counterexample
    return ProofReport(
        proof.answer,
        _sentence(proof),
        _covered(proof),
        proof.lists,
        shown,
        max(0, len(boxes) - MOST_BOXES),
        None if example is None else write_expected_flow(ExpectedFlow(example.flow, example.expect)),
        None if example is None else example.verdict.value,
    )


def _sentence(proof: Proof) -> str:
    if proof.answer is Answer.PROVED:
        return "Proved, for every packet it speaks of."
    if proof.answer is Answer.INCONCLUSIVE:
        return f"Inconclusive. {proof.reason}"
    example = proof.counterexample
    assert example is not None
    what = "does not get through" if example.expect is Expectation.PASS else "gets through, and should not"
    ending = f": it is {example.verdict}" if example.expect is Expectation.PASS else ""
    more = " There are too many kinds of address to list all that violates it." if proof.undecided else ""
    return f"Violated. {write_flow(example.flow)} {what}{ending}.{more}"


def _covered(proof: Proof) -> str:
    met = f"meeting {', '.join(proof.lists)}" if proof.lists else "meeting no list"
    return (
        f"{proof.classes:,} classes of packets stand for {_many(proof.conversations)} conversations, "
        f"over {proof.paths:,} different ways through the network, {met}."
    )


def _many(count: int) -> str:
    """A number in digits, or as a power of ten where there would be too many."""
    if count < 10**9:
        return f"{count:,}"
    power = len(str(count)) - 1
    return f"{count / 10**power:.1f}·10^{power}"
