"""The policy: every requirement with its three answers (baseline, running, draft), in words."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from msgspec import Struct

from greyheron.analysis.proof.answers import Answer, Proof, Violation
from greyheron.analysis.proof.over_time import Known, prove_in_time
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.sentences import covered, remains, sentence
from greyheron.analysis.proof.wording import asking_words, side_words
from greyheron.core.progress import Found, Progress, part, unheard
from greyheron.core.timeline import Timeline
from greyheron.model.document import Requirement
from greyheron.model.flow import ExpectedFlow
from greyheron.model.notation.flows import write_expected_flow
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.values import Expectation, Family, State

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
    remaining:  what routers and firewalls themselves do otherwise, where hosts are spoken of
    remains:  that in a sentence; empty where there is none;  themselves:  these devices
    """

    answer: Answer
    text: str
    covered: str
    lists: tuple[str, ...]
    boxes: tuple[BoxReport, ...]
    more: int
    flow: str | None
    verdict: str | None
    remaining: tuple[BoxReport, ...] = ()
    remains: str = ""
    themselves: tuple[str, ...] = ()


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

    def each(self) -> tuple[tuple[State, Timeline], ...]:
        return (State.BASELINE, self.draft), (State.RUNNING, self.running), (State.DRAFT, self.draft)


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
    prover: Prover,
    requirement: Requirement,
    state: State,
    timeline: Timeline,
    known: Known,
    progress: Progress,
) -> Proof:
    """A requirement in one state; `known` is looked into and kept up."""
    earlier = {
        span.active: before
        for span in timeline.shown
        if (before := known.get((requirement.id, state, span.active))) is not None
    }
    proof, proven = prove_in_time(
        prover, requirement.statement, timeline, state is State.BASELINE, earlier, progress
    )
    known.update({(requirement.id, state, active): each for active, each in proven.items()})
    return proof


def proof_report(proof: Proof) -> ProofReport:
    boxes = _boxes(proof.violations)
    example = proof.counterexample
    return ProofReport(
        proof.answer,
        sentence(proof),
        covered(proof),
        proof.lists,
        boxes[:MOST_BOXES],
        max(0, len(boxes) - MOST_BOXES),
        None if example is None else write_expected_flow(ExpectedFlow(example.flow, example.expect)),
        None if example is None else example.verdict.value,
        _boxes(proof.remaining)[:MOST_BOXES],
        remains(proof.remaining),
        tuple(sorted(_devices_in(proof.remaining))),
    )


def _devices_in(violations: Iterable[Violation]) -> set[str]:
    """The devices that do otherwise than the hosts spoken of."""
    return {
        party.device
        for violation in violations
        for box in violation.boxes
        for party in (*box.sources, *box.destinations)
        if party.itself
    }


def _boxes(violations: Iterable[Violation]) -> tuple[BoxReport, ...]:
    return tuple(
        BoxReport(
            violation.expect,
            box.family,
            tuple(side_words(box.sources)),
            tuple(side_words(box.destinations)),
            tuple(asking_words(asking, box.family) for asking in box.asking),
            violation.when,
        )
        for violation in violations
        for box in violation.boxes
    )
