"""The requirements of a draft, proved."""

from collections.abc import Sequence
from functools import reduce
from operator import or_
from threading import RLock

from cachetools import LRUCache

from greyheron.analysis.proof.policy import (
    PolicyStates,
    ProofReport,
    RequirementMarks,
    proof_report,
    prove_in_state,
    prove_policy,
)
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.compute.cache import FEW
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Question
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress, part
from greyheron.model.period import Moment
from greyheron.model.values import State

PolicyMarks = tuple[RequirementMarks, ...]
ProofsById = dict[str, ProofReport]
_MOST_BYTES = 300 << 20


class Proving:
    """The prover of a network and what it has proved. One question proves at a time, under the lock."""

    def __init__(self, state: NetworkState) -> None:
        self.prover, self.lock = Prover(state.engine), RLock()
        self.proven: LRUCache[tuple[str, str, frozenset[str]], Proven] = LRUCache(
            _MOST_BYTES, getsizeof=lambda proven: min(proven.nbytes, _MOST_BYTES // FEW)
        )

    @property
    def nbytes(self) -> int:
        return int(self.proven.currsize)


class PolicyQuestion(Question[PolicyMarks], frozen=True, kw_only=True):
    """Whether the requirements of the draft hold: with no lists, as running, and on the draft.

    first:  the ids of those that are proved before the others
    """

    finds = PolicyMarks
    at: Moment | None = None
    first: frozenset[str] = frozenset()

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> PolicyMarks:
        states = PolicyStates(
            *(state.timeline(each, self.at) for each in (documents.running, documents.draft))
        )
        asked = [each for each in documents.draft.requirements if self.share.has(each.id)]
        in_turn = sorted(asked, key=lambda each: each.id not in self.first)
        proving = state.kept(Proving)
        with proving.lock:
            marks = prove_policy(proving.prover, states, proving.proven, progress, in_turn, found)
        of = {each.id: each for each in marks}
        return tuple(of[each.id] for each in asked)

    def merge(self, documents: Drafted, answers: Sequence[PolicyMarks]) -> PolicyMarks:
        marks = {each.id: each for answer in answers for each in answer}
        return tuple(marks[each.id] for each in documents.draft.requirements if each.id in marks)


class ProofsQuestion(Question[ProofsById], frozen=True, kw_only=True):
    """The proofs of the draft's requirements, by id, in one state of the network."""

    state: State = State.DRAFT
    at: Moment | None = None

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> ProofsById:
        network = documents.running if self.state is State.RUNNING else documents.draft
        timeline = state.timeline(network, self.at)
        asked = [each for each in documents.draft.requirements if self.share.has(each.id)]
        proving = state.kept(Proving)
        with proving.lock:
            return {
                each.id: proof_report(
                    prove_in_state(
                        proving.prover,
                        each,
                        self.state,
                        timeline,
                        proving.proven,
                        part(progress, number, len(asked)),
                    )
                )
                for number, each in enumerate(asked)
            }

    def merge(self, documents: Drafted, answers: Sequence[ProofsById]) -> ProofsById:
        return reduce(or_, answers)
