"""A worker process: it keeps what was worked out for networks, and is told changes, not documents."""

import os
import pickle
import signal
from collections import defaultdict
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from multiprocessing.connection import Connection
from threading import Event, Lock, Thread
from time import monotonic
from typing import Any

from msgspec import Struct

from greyheron.compute.derived import DerivedState, DerivedStates
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.question import Question
from greyheron.compute.replication import Listener, Packed
from greyheron.core.progress import Cancelled, unheard
from greyheron.memory import GivingBack, settle_memory

_NICENESS = 5
"""Who answers requests goes before those who work things out."""
_BETWEEN = 0.05
"""Seconds between two words about how far a piece of work is."""


class Hear(Struct, frozen=True):
    """A piece of a document of a network."""

    network: str
    piece: Packed


class Forget(Struct, frozen=True):
    """A network is spoken of no more, and nothing of it need be kept."""

    network: str


class Task(Struct, frozen=True):
    """A question to begin with. `running`, `draft`: documents, by their tokens."""

    number: int
    network: str
    question: Question[Any]
    running: int
    draft: int
    tells: bool


class Cancel(Struct, frozen=True):
    number: int


class SoFar(Struct, frozen=True):
    """How far a task is, 0 to 1."""

    number: int
    done: float


class FoundSoFar(Struct, frozen=True):
    """What a task has found since it said so last."""

    number: int
    found: Sequence[Any]


class Ended(Struct, frozen=True):
    """The end of a task: what came of it, or what was raised."""

    number: int
    result: Any
    error: BaseException | None


class _Process:
    def __init__(self, connection: Connection, memory: int) -> None:
        self._connection, self._states = connection, DerivedStates(memory)
        self._listeners: defaultdict[str, Listener] = defaultdict(Listener)
        self._cancelled: dict[int, Event] = {}
        self._sending = Lock()
        self._give_back = GivingBack()

    def serve(self) -> None:
        """Until whoever asks is gone."""
        with suppress(EOFError, OSError):
            while True:
                match self._connection.recv():
                    case Hear(network, piece):
                        self._listeners[network].hear(pickle.loads(piece))
                    case Forget(network):
                        self._listeners.pop(network, None)
                        self._states.forget(network)
                    case Cancel(number):
                        if number in self._cancelled:
                            self._cancelled[number].set()
                    case Task() as task:
                        self._begin(task)

    def _begin(self, task: Task) -> None:
        known = self._listeners[task.network].known
        documents = RunningAndDraft(known[task.running], known[task.draft])
        self._cancelled[task.number] = Event()
        state = self._states.of(task.network)
        Thread(target=self._run, args=(task, state, documents), daemon=True).start()

    def _run(self, task: Task, state: DerivedState, documents: RunningAndDraft) -> None:
        try:
            found = partial(self._found, task.number) if task.tells else unheard
            answer = task.question.run(state, documents, self._progress(task.number), found)
            self._send(Ended(task.number, answer, None))
        except BaseException as error:
            self._send(Ended(task.number, None, sendable(error)))
        finally:
            del self._cancelled[task.number]
            self._give_back()

    def _progress(self, number: int) -> Callable[[float], None]:
        cancelled, told = self._cancelled[number], 0.0

        def progress(done: float) -> None:
            nonlocal told
            if cancelled.is_set():
                raise Cancelled
            now = monotonic()
            if now - told > _BETWEEN:
                told = now
                self._send(SoFar(number, done))

        return progress

    def _found(self, number: int, found: Sequence[Any]) -> None:
        if found:
            self._send(FoundSoFar(number, found))

    def _send(self, message: SoFar | FoundSoFar | Ended) -> None:
        with self._sending, suppress(OSError):
            self._connection.send(message)


def sendable(error: BaseException) -> BaseException:
    """An error that can be taken apart and put together on the other side."""
    try:
        pickle.loads(pickle.dumps(error))
    except Exception:
        return RuntimeError(f"{type(error).__name__}: {error}")
    return error


def work(connection: Connection, memory: int) -> None:
    """The whole life of a worker process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the server ends it, not the terminal
    with suppress(OSError):
        os.nice(_NICENESS)
    settle_memory()
    _Process(connection, memory).serve()
    os._exit(0)
