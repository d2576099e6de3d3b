"""Worker processes that keep their worlds warm, and what is asked of them.

A network's work of one kind goes to the same worker, which knows most of it. A worker that ends costs a
retry.
"""

import logging
import multiprocessing
from collections import OrderedDict, deque
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures import TimeoutError as NotYet
from contextlib import suppress
from dataclasses import dataclass, field
from itertools import count
from multiprocessing.connection import Connection
from threading import Lock, Thread
from typing import Any

from greyheron.compute.derived import MOST_NETWORKS
from greyheron.compute.process import (
    Cancel,
    Ended,
    Forget,
    FoundSoFar,
    Hear,
    SoFar,
    Task,
    work,
)
from greyheron.compute.replication import PackedOnce, Teller
from greyheron.compute.tasks import Order, WorkersGone
from greyheron.core.progress import Found, Progress, unheard, unwatched
from greyheron.model.document import Network

_TRIES = 2
"""A task whose worker ended is begun once more."""
_LOOK = 0.1
"""Seconds between two looks at whether somebody still waits."""
_log = logging.getLogger(__name__)


class _Lost(Exception):
    """The process that a task was given to has ended."""


@dataclass(slots=True)
class _Begun:
    number: int
    worker: "_Worker"
    done: float = 0.0
    found: deque[Any] = field(default_factory=deque)
    future: "Future[Any]" = field(default_factory=Future)


class _Worker:
    """One process, as seen from here."""

    def __init__(self, context: Any, memory: int) -> None:
        here, there = context.Pipe()
        self.process = context.Process(target=work, args=(there, memory), name="worker", daemon=True)
        self.process.start()
        self.pid = self.process.pid
        there.close()
        self._connection: Connection = here
        self._tellers: OrderedDict[str, Teller] = OrderedDict()
        self._begun: dict[int, _Begun] = {}
        self._sending, self._numbers, self.lost = Lock(), count(), False
        Thread(target=self._listen, name="worker-answers", daemon=True).start()

    def begin(self, network: str, asked: Order, packing: PackedOnce) -> _Begun:
        """Tell it the documents and the task. Raises _Lost."""
        with self._sending:
            begun = _Begun(next(self._numbers), self)
            self._begun[begun.number] = begun
            try:
                running = self._token(network, asked.documents.running, packing)
                draft = self._token(network, asked.documents.draft, packing)
                self._connection.send(
                    Task(begun.number, network, asked.question, running, draft, asked.tells)
                )
            except OSError:
                self.lost = True
                raise _Lost from None
        if self.lost:
            raise _Lost
        return begun

    def cancel(self, begun: _Begun) -> None:
        with self._sending, suppress(OSError):
            self._connection.send(Cancel(begun.number))

    def forget(self, network: str) -> None:
        with self._sending, suppress(OSError):
            if self._tellers.pop(network, None) is not None:
                self._connection.send(Forget(network))

    def close(self) -> None:
        self.lost = True
        with suppress(ValueError):  # it was closed before
            self.process.terminate()  # the listening thread sees the end of the connection, and closes it
            self.process.join(timeout=1)
            if self.process.is_alive():
                self.process.kill()
                self.process.join()
            self.process.close()  # it holds pipes of its own

    def _token(self, network: str, document: Network, packing: PackedOnce) -> int:
        teller = self._tellers.setdefault(network, Teller())
        self._tellers.move_to_end(network)
        if len(self._tellers) > MOST_NETWORKS:
            self._connection.send(Forget(self._tellers.popitem(last=False)[0]))
        token, pieces = teller.pieces(document, packing)
        for piece in pieces:
            self._connection.send(Hear(network, piece))
        return token

    def _listen(self) -> None:
        with suppress(EOFError, OSError):
            while True:
                message: SoFar | FoundSoFar | Ended = self._connection.recv()
                begun = self._begun.get(message.number)
                if begun is None:
                    continue
                if isinstance(message, SoFar):
                    begun.done = message.done
                    continue
                if isinstance(message, FoundSoFar):
                    begun.found.extend(message.found)
                    continue
                del self._begun[message.number]
                if message.error is None:
                    begun.future.set_result(message.result)
                else:
                    begun.future.set_exception(message.error)
        self.lost = True
        with self._sending:  # nobody must be in the middle of saying something
            self._connection.close()
        for begun in list(self._begun.values()):
            begun.future.set_exception(_Lost())


class Workers:
    """A number of worker processes."""

    def __init__(self, size: int, memory: int) -> None:
        """memory:  how many bytes of what was worked out all of them may keep together"""
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload([work.__module__])
        self._memory = memory // size
        self._workers = [_Worker(self._context, self._memory) for _ in range(size)]
        self._lock = Lock()
        self._closed = False

    def __len__(self) -> int:
        return len(self._workers)

    def pids(self) -> list[int]:
        """The processes that there are now."""
        with self._lock:
            return [each.pid for each in self._workers if each.pid is not None]

    def results(
        self,
        network: str,
        asked: Sequence[Order],
        progress: Progress = unwatched,
        told: Found = unheard,
    ) -> list[Any]:
        packing = PackedOnce()
        with ThreadPoolExecutor(len(asked)) as at_once:
            beginning = [at_once.submit(self._begin, network, each, packing) for each in asked]
        begun = [each.result() for each in beginning if each.exception() is None]
        try:
            for each in beginning:
                each.result()  # one that cannot be begun is no reason for the others to go on
            return [
                self._result(network, each, begun, number, progress, told)
                for number, each in enumerate(asked)
            ]
        except BaseException:
            for one in begun:
                one.worker.cancel(one)
            raise

    def forget(self, network: str) -> None:
        with self._lock:
            workers = list(self._workers)
        for each in workers:
            each.forget(network)

    def close(self) -> None:
        """End all of them, and what they do."""
        with self._lock:
            self._closed = True
            workers = list(self._workers)
        for each in workers:
            each.close()

    def _result(
        self,
        network: str,
        asked: Order,
        begun: list[_Begun],
        number: int,
        progress: Progress,
        told: Found,
    ) -> Any:
        tries = 1
        while True:
            try:
                return begun[number].future.result(timeout=_LOOK)
            except NotYet:
                if begun[number].future.done():  # the work itself ran out of time
                    raise
                told([each.found.popleft() for each in begun for _ in range(len(each.found))])
                progress(sum(1.0 if each.future.done() else each.done for each in begun) / len(begun))
            except _Lost:
                if tries == _TRIES:
                    raise WorkersGone(
                        f"The process that worked this out ended {_TRIES} times; there may be too little "
                        "memory. Ask about less, or start the server with --workers 0."
                    ) from None
                tries += 1
                begun[number] = self._begin(network, asked, PackedOnce())

    def _begin(self, network: str, asked: Order, packing: PackedOnce) -> _Begun:
        for _ in range(_TRIES):
            with suppress(_Lost):
                return self._worker(asked.worker).begin(network, asked, packing)
        raise WorkersGone("No process can be started to work this out: start the server with --workers 0.")

    def _worker(self, number: int) -> _Worker:
        """The worker of a number; one that has ended is replaced."""
        with self._lock:
            number %= len(self._workers)
            if self._workers[number].lost and not self._closed:
                _log.warning("A worker process ended and is replaced.")
                self._workers[number].close()
                self._workers[number] = _Worker(self._context, self._memory)
            return self._workers[number]
