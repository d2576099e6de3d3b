"""Orders as a worker of a cluster carries them out: it keeps what it worked out, as our own workers do."""

import pickle
from collections.abc import Mapping, Sequence
from functools import cache
from threading import Lock
from time import monotonic
from typing import Any

from cachetools import LRUCache
from distributed import get_worker
from msgspec import Struct

from greyheron.compute.derived import MEMORY, DerivedStates
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.plain import WentWrong, packed_findings, packed_result
from greyheron.compute.questions.question import Question
from greyheron.compute.replication import Listener, Packed
from greyheron.core.progress import Cancelled, Found, Progress, unheard
from greyheron.model.document import Network

MOST_DOCUMENTS = 24
"""So many documents of all networks are known at once; others are put together anew of their links."""
MOST_TOLD_BYTES = 1 << 18
"""What is found meanwhile goes by way of the scheduler: more than so much at once waits for the end."""
BETWEEN = 0.2
"""Seconds between two words about how far a piece of work is."""

DocumentKeys = tuple[str, ...]
"""A document by the keys of its links: a whole one, then what differs from one to the next."""
PackedPieces = tuple[Packed, ...]
"""The pieces of a document."""


class Errand(Struct, frozen=True):
    """A question about documents. `tells`: whether what is found is told before the end."""

    network: str
    question: Question[Any]
    running: DocumentKeys
    draft: DocumentKeys
    tells: bool


class KnownDocuments:
    """The documents that are known in this process. The same links give the same object."""

    def __init__(self) -> None:
        self._known: LRUCache[str, Network] = LRUCache(MOST_DOCUMENTS)
        self._lock = Lock()

    def of(self, chain: DocumentKeys, links: Mapping[str, PackedPieces]) -> Network:
        with self._lock:
            at, found = next(
                (
                    (at, self._known.get(key))
                    for at, key in reversed(list(enumerate(chain)))
                    if key in self._known
                ),
                (-1, None),
            )
            for key in chain[at + 1 :]:
                listener = Listener({} if found is None else {0: found})
                for piece in links[key]:
                    listener.hear(pickle.loads(piece))
                found = self._known[key] = listener.known[1]
            assert found is not None
            return found


@cache
def _documents() -> KnownDocuments:
    return KnownDocuments()


@cache
def _states() -> DerivedStates:
    """What is kept in this process: half of the memory that its worker may have."""
    limit = get_worker().memory_manager.memory_limit
    return DerivedStates(limit // 2 if limit else MEMORY)


def forget(network: str) -> None:
    """Let go what is kept of a network in this process."""
    _states().forget(network)


def carry_out(packed: bytes, links: Mapping[str, PackedPieces], topic: str) -> tuple[str, bytes]:
    """What comes of an errand, as plain data: its result, or its error.

    How far it is is told as events of `topic`.
    """
    errand: Errand = pickle.loads(packed)
    documents = RunningAndDraft(*(_documents().of(chain, links) for chain in (errand.running, errand.draft)))
    try:
        state, found = _states().of(errand.network), _found(topic) if errand.tells else unheard
        return "done", packed_result(errand.question.run(state, documents, _progress(topic), found))
    except Exception as error:
        return "error", packed_result(WentWrong.of(error))


def _progress(topic: str) -> Progress:
    worker = get_worker()
    key, told = worker.get_current_task(), monotonic()

    def progress(done: float) -> None:
        nonlocal told
        task = worker.state.tasks.get(key)
        if task is None or task.state != "executing":  # it was cancelled, or whoever asked is gone
            raise Cancelled
        now = monotonic()
        if now - told > BETWEEN:
            told = now
            worker.log_event(topic, (key, done, b""))

    return progress


def _found(topic: str) -> Found:
    worker = get_worker()
    key = worker.get_current_task()

    def told(found: Sequence[Any]) -> None:
        packed = packed_findings(found) if found else b""
        if 0 < len(packed) < MOST_TOLD_BYTES:
            worker.log_event(topic, (key, None, packed))

    return told
