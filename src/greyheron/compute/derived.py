"""Who answers questions about the networks in use: one owner each, so that nothing is computed twice."""

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock

from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Answered, Question
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress, unheard, unwatched

MEMORY = 1 << 30
"""So many bytes are kept of all networks together, unless the server is told otherwise."""
MOST_NETWORKS = 64
"""What is known of so many networks is kept, however little it is."""


class DerivedState(NetworkState):
    """What is known of one network, and the answers to long questions about it."""

    def ask(
        self,
        question: Question[Answered],
        documents: Drafted,
        progress: Progress = unwatched,
        found: Found = unheard,
    ) -> Answered:
        """The answer to a question. Raises Cancelled, and what the question raises.

        found:  told what is found before the end
        """
        return question.merge(documents, [question.run(self, documents, progress, found)])


class DerivedStates:
    """The derived state of every network in use; that of networks that were asked about least is let go."""

    def __init__(
        self, memory: int = MEMORY, made: Callable[[str], DerivedState] = lambda _: DerivedState()
    ) -> None:
        """memory:  how many bytes they may take together, as far as that can be estimated

        made:  makes the state of a network
        """
        self._memory, self._made = memory, made
        self._of: OrderedDict[str, DerivedState] = OrderedDict()
        self._lock = Lock()

    @property
    def nbytes(self) -> int:
        with self._lock:
            every = list(self._of.values())
        return sum(each.nbytes for each in every)

    def of(self, network_id: str) -> DerivedState:
        with self._lock:
            if network_id not in self._of:
                self._of[network_id] = self._made(network_id)
            found = self._of[network_id]
            self._of.move_to_end(network_id)
            sizes = [each.nbytes for each in self._of.values()]
            taken = sum(sizes)
            for size in sizes[:-1]:
                if taken <= self._memory and len(self._of) <= MOST_NETWORKS:
                    break
                self._of.popitem(last=False)[1].begin_anew()
                taken -= size
        return found

    def forget(self, network_id: str) -> None:
        """Let go what is known of a network that is gone."""
        with self._lock:
            state = self._of.pop(network_id, None)
        if state is not None:
            state.forget()
