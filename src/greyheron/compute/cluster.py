"""The worker pool of a distributed engine (Dask): workers on other machines, which a scheduler gives tasks.

Documents are put there once, by digest, as chains of links: a whole one, then what differs from one to the
next. Nothing of it is imported unless a scheduler is named.
"""

import json
import logging
import pickle
from collections import OrderedDict, deque
from collections.abc import Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import contextmanager, suppress
from hashlib import sha256
from secrets import token_hex
from threading import Event, RLock
from time import monotonic, sleep
from typing import Any

from distributed import Client, Future, KilledWorker
from distributed.client import ClosedClientError

from greyheron import __version__
from greyheron.compute.cluster_calls import answering, forgetting
from greyheron.compute.cluster_worker import DocumentKeys, Errand, PackedPieces
from greyheron.compute.derived import MOST_NETWORKS
from greyheron.compute.plain import NotPlain, error_of, findings_of, result_of
from greyheron.compute.questions.question import Question
from greyheron.compute.replication import MOST_TOLD, Saying, SomeItems, packed, pieces_of
from greyheron.compute.tasks import Order, WorkersGone
from greyheron.core.progress import Found, Progress, unheard, unwatched
from greyheron.model.document import Network, to_data

MOST_LINKS = 16
"""A document that would need more is put there whole."""
LARGE = 1 << 16
"""Arguments of so many bytes are put there by digest as well."""
MOST_ARGUMENTS = 8
_TRIES = 3
_LOOK = 0.1
"""Seconds between two looks at whether somebody still waits."""
CONNECTING = 10.0
NOBODY = 15.0
"""Seconds after which work that no worker takes is given up."""
_PLAIN = ["msgpack"]
"""How the results of tasks are written and read: as nothing that could be a program."""
_SHARES = 2
"""So many shares for each worker: one that is added in the middle takes some over."""
_log = logging.getLogger(__name__)


class _Again(Exception):
    """A task has to be begun once more."""


class _Elsewhere(_Again):
    """On another worker: it was not even begun."""


class _FoundOnTheWay:
    """What a task has found on its way and nobody has asked for yet."""

    def __init__(self, kind: type[Question[Any]]) -> None:
        self._kind, self.waiting = kind, deque[Any]()

    def hear(self, packed: bytes) -> None:
        """Raises NotPlain."""
        self.waiting.extend(findings_of(self._kind, packed))


class OnCluster:
    """The documents of one network that are on the cluster."""

    def __init__(self) -> None:
        self._known: OrderedDict[DocumentKeys, Network] = OrderedDict()

    def chain(self, network: Network) -> tuple[DocumentKeys, PackedPieces | None]:
        """The keys of a document, and its last link where that must be put there first."""
        for chain, known in self._known.items():
            if known is network:
                self._known.move_to_end(chain)
                return chain, None
        base, before = next(reversed(self._known.items()), ((), None))
        if len(base) >= MOST_LINKS:
            base, before = (), None
        pieces = list(pieces_of(network, before, token=1, base=None if before is None else 0))
        link = tuple(map(packed, pieces))
        chain = (*base, _digest(*(key.encode() for key in base[-1:]), *map(_content, pieces)))
        self._known[chain] = network
        if len(self._known) > MOST_TOLD:
            self._known.popitem(last=False)
        return chain, link

    def spoken(self) -> set[str]:
        """The keys of all links."""
        return {key for chain in self._known for key in chain}


def _content(piece: Saying) -> bytes:
    """What a piece says, the same in every process: what is packed has sets in any order."""
    if isinstance(piece, SomeItems):
        said: Any = [piece.collection, piece.kept, [to_data(item) for item in piece.fresh]]
    else:
        said = [[name, str(value)] for name, value in sorted(piece.fields.items())]
    return json.dumps(said).encode()


def _digest(*parts: bytes) -> str:
    found = sha256()
    for part in parts:
        found.update(part)
    return f"grey-heron-{found.hexdigest()}"


class Cluster:
    """The workers of a scheduler."""

    def __init__(self, address: str) -> None:
        """address:  of the scheduler, as tcp://NAME:PORT

        Raises WorkersGone where nobody answers there.
        """
        for each in ("distributed", "distributed.client"):  # what goes wrong is said in our words
            logging.getLogger(each).setLevel(logging.CRITICAL)
        self._address = address
        self._lock = RLock()
        self._far: dict[str, float] = {}
        self._found: dict[str, _FoundOnTheWay] = {}
        self._connect()

    def _connect(self) -> None:
        try:
            self._client = Client(
                self._address,
                timeout=CONNECTING,
                set_as_default=False,
                serializers=_PLAIN,
                deserializers=_PLAIN,
            )
        except TypeError as error:
            raise WorkersGone(
                f"{self._address} is spoken to by TLS, for which there are no certificates here ({error}): "
                "say where they are, as docs/running.md does."
            ) from None
        except (OSError, ValueError) as error:
            raise WorkersGone(
                f"No scheduler answers at {self._address} ({error}): start one with `dask scheduler`."
            ) from None
        self._told: OrderedDict[str, OnCluster] = OrderedDict()
        self._links: dict[str, Future[PackedPieces]] = {}
        self._arguments: OrderedDict[str, Future[bytes]] = OrderedDict()
        self._going: list[Future[None]] = []
        self._misfits: set[str] = set()
        self._topic = f"grey-heron-{token_hex(8)}"
        self._client.subscribe_topic(self._topic, self._hear)

    def __len__(self) -> int:
        with self._talking():
            return max(1, _SHARES * len(self._workers()))

    def forget(self, network: str) -> None:
        with self._lock:
            if self._told.pop(network, None) is None:
                return
            self._let_go()
        with suppress(WorkersGone), self._talking(), self._lock:
            # Held until they are done: a task that nobody holds is dropped.
            self._going = [each for each in self._going if not each.done()]
            for worker in self._workers():
                key = f"grey-heron-forget-{token_hex(8)}"
                self._going.append(
                    self._client.submit(forgetting(), network, key=key, workers=[worker], pure=False)
                )

    def close(self) -> None:
        self._client.close()

    def results(
        self,
        network: str,
        asked: Sequence[Order],
        progress: Progress = unwatched,
        told: Found = unheard,
    ) -> list[Any]:
        results: list[Any] = [None] * len(asked)
        tries, woken, open_ones = [0] * len(asked), Event(), set(range(len(asked)))
        begun: dict[int, Future[Any]] = {}
        seen = monotonic()
        try:
            for number, order in enumerate(asked):
                begun[number] = self._begin(network, order, woken)
            while open_ones:
                woken.wait(_LOOK)
                woken.clear()
                far = (self._far.get(str(begun[number].key), 0.0) for number in open_ones)
                told([each for number in begun for each in self._found_by(str(begun[number].key))])
                progress((len(asked) - len(open_ones) + sum(far)) / len(asked))
                for number in [each for each in open_ones if begun[each].done()]:
                    try:
                        results[number] = self._outcome(asked[number].question, begun[number])
                        open_ones.discard(number)
                    except _Again as again:
                        tries[number] += not isinstance(again, _Elsewhere)
                        if tries[number] == _TRIES:
                            raise WorkersGone(self._lost()) from None
                        self._forget(begun[number])
                        begun[number] = self._begin(network, asked[number], woken)
                if monotonic() - seen > NOBODY:
                    self.fitting()
                    seen = monotonic()
        finally:
            for number, future in begun.items():
                self._forget(future)
                if number in open_ones:
                    with suppress(WorkersGone), self._talking():
                        future.cancel()
        return results

    def _begin(self, network: str, order: Order, woken: Event) -> "Future[Any]":
        fitting = self.fitting()
        with self._talking(), self._lock:
            told = self._told.setdefault(network, OnCluster())
            self._told.move_to_end(network)
            running, draft = (
                self._chain(told, each) for each in (order.documents.running, order.documents.draft)
            )
            links = {key: self._links[key] for chain in (running, draft) for key in chain}
            errand = Errand(network, order.question, running, draft, order.tells)
            packed = self._argument(pickle.dumps(errand, pickle.HIGHEST_PROTOCOL))
            self._let_go()
            key = f"grey-heron-{type(order.question).__name__}-{token_hex(8)}"
            self._far[key], self._found[key] = 0.0, _FoundOnTheWay(type(order.question))
            future: Future[Any] = self._client.submit(
                answering(),
                __version__,
                packed,
                links,
                self._topic,
                key=key,
                workers=fitting if self._misfits else [fitting[order.worker % len(fitting)]],
                allow_other_workers=not self._misfits,
                pure=False,
            )
        future.add_done_callback(lambda _: woken.set())
        return future

    def _chain(self, told: OnCluster, network: Network) -> DocumentKeys:
        chain, link = told.chain(network)
        if link is not None:
            try:
                self._links.update(self._client.scatter({chain[-1]: link}, hash=False))
            except BaseException:
                self._told.clear()  # it is not there, whatever `told` says
                raise
        return chain

    def _argument(self, packed: bytes) -> "bytes | Future[bytes]":
        if len(packed) < LARGE:
            return packed
        key = _digest(packed)
        if key not in self._arguments:
            self._arguments.update(self._client.scatter({key: packed}, hash=False))
        self._arguments.move_to_end(key)
        return self._arguments[key]

    def _let_go(self) -> None:
        """Of what nobody speaks of any more."""
        while len(self._told) > MOST_NETWORKS:
            self._told.popitem(last=False)
        while len(self._arguments) > MOST_ARGUMENTS:
            self._arguments.popitem(last=False)
        spoken = {key for told in self._told.values() for key in told.spoken()}
        for key in self._links.keys() - spoken:
            del self._links[key]

    def _outcome(self, question: Question[Any], future: "Future[Any]") -> Any:
        """What came of a task. Raises what it raised, WorkersGone and _Again."""
        if future.status == "error":
            error = future.exception()
            raise WorkersGone(self._lost() if isinstance(error, KilledWorker) else self._not_ours(error))
        try:
            found = future.result()
        except (CancelledError, OSError):
            with self._talking(), self._lock:  # what the cluster had may be gone with a worker
                self._told.clear()
                self._links.clear()
                self._arguments.clear()
            raise _Again from None
        except Exception as error:  # it is in a form that is not read here
            raise WorkersGone(self._not_ours(error)) from None
        try:
            said, *what = found
            if said == "misfit":
                self._note(*map(str, what))
                raise _Elsewhere
            if said == "error":
                raise error_of(what[0])
            return result_of(type(question), what[0])
        except (NotPlain, IndexError, TypeError) as error:
            raise WorkersGone(self._not_ours(error)) from None

    def _note(self, worker: str, version: str) -> None:
        """Say once that a worker has another Grey Heron, or none (version "")."""
        if worker not in self._misfits:
            has = f"Grey Heron {version}, not {__version__}" if version else "no Grey Heron"
            _log.warning("The worker at %s has %s: it is given nothing.", worker, has)
        self._misfits.add(worker)

    def _workers(self) -> list[str]:
        return sorted(set(self._client.scheduler_info().get("workers", ())) - self._misfits)

    def fitting(self) -> list[str]:
        """The workers that can be given something. Raises WorkersGone where there are none."""
        with self._talking():
            found = self._workers()
            if found:
                return found
            if self._misfits:
                raise WorkersGone(
                    f"No worker of {self._address} has Grey Heron {__version__}: install it where they run."
                )
            try:
                self._client.wait_for_workers(1, timeout=NOBODY)
            except TimeoutError:
                raise WorkersGone(
                    f"The scheduler at {self._address} has no workers: start some with "
                    f"`dask worker {self._address}`."
                ) from None
            return self._workers()

    @contextmanager
    def _talking(self) -> Iterator[None]:
        """Whatever is said to the scheduler. Raises WorkersGone where it does not answer any more."""
        with self._lock:
            while self._client.status in ("connecting", "closing"):  # it was there a moment ago
                sleep(_LOOK)
            if self._client.status == "closed":
                self._connect()
        try:
            yield
        except (ClosedClientError, OSError, RuntimeError, CancelledError) as error:
            raise WorkersGone(
                f"The scheduler at {self._address} does not answer any more ({error}): start it again."
            ) from None

    def _hear(self, event: tuple[float, tuple[str, float | None, bytes]]) -> None:
        key, done, packed = event[1]
        if key in self._far and done is not None:
            self._far[key] = done
        if key in self._found and packed:
            with suppress(NotPlain):  # what comes of it all is looked at again in the end
                self._found[key].hear(packed)

    def _forget(self, future: "Future[Any]") -> None:
        """What a task told on its way."""
        self._far.pop(str(future.key), None)
        self._found.pop(str(future.key), None)

    def _found_by(self, key: str) -> list[Any]:
        """What a task has told since it was asked last."""
        found = self._found.get(key)
        return [] if found is None else [found.waiting.popleft() for _ in range(len(found.waiting))]

    def _not_ours(self, error: object) -> str:
        return (
            f"A worker of {self._address} answered something that Grey Heron does not answer ({error}): "
            "look at what runs there."
        )

    def _lost(self) -> str:
        return (
            f"Workers of {self._address} that worked this out were lost {_TRIES} times; "
            "there may be too little memory there."
        )
