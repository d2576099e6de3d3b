"""Long computations: each runs beside the requests, tells how far it is, and can be cancelled.

Turns are fair: networks that wait are served one after another, and none has more than a few threads.
"""

from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotYet
from contextlib import suppress
from dataclasses import dataclass, field
from secrets import token_urlsafe
from threading import Condition, Event, Thread
from time import monotonic
from typing import Any, Generic, Protocol, TypeVar

from pydantic import BaseModel

from greyheron.core.progress import Cancelled
from greyheron.memory import GivingBack
from greyheron.server.problems import Refusal

AT_ONCE = 6
AT_ONCE_OF_ONE = 2
FORGOTTEN = 900.0
"""Seconds after which a computation that nobody asked about any more ends by itself: its window is closed."""
LONGEST = 1800.0
"""Seconds that a computation may take."""
LONGEST_READING = 300.0
"""Seconds that may be taken to read what is brought in: few are read at once, and others wait."""
FINISHING = 20.0
"""Seconds that work which writes has to be finished when the server ends."""
MOST_KEPT = 40
MOST_WAITING = 200
MOST_EARLY = 200
"""So much of what was found is told before the work is done."""
PATIENCE = 0.25
"""Seconds that a request waits before it is told how far the work is."""

T = TypeVar("T")


class Telling(Protocol):
    """Progress of a job: how much is done, 0 to 1, and what is being done, where that has a name."""

    def __call__(self, done: float, stage: str = "") -> None: ...

    def found(self, found: Sequence[Any]) -> None:
        """What has been found since it was told last."""
        ...


Work = Callable[[Telling], Any]


class Working(BaseModel, Generic[T]):
    """How far a computation is, 0 to 1, what it is at, and its result once it is there.

    early:  what of the result is known already, where whoever asks does not have it yet
    known:  of how much that is made
    """

    id: str
    done: float
    stage: str = ""
    early: T | None = None
    known: int = 0
    result: T | None


@dataclass(slots=True)
class Job:
    """A computation that waits, is under way, or has its result.

    owner:  the network that it is about
    early:  makes a result of what was heard so far;  heard:  that, in the order in which it was
    """

    id: str
    owner: str
    work: Work
    writes: bool = False
    early: Callable[[list[Any]], Any] | None = None
    longest: float = LONGEST
    heard: list[Any] = field(default_factory=list)
    done: float = 0.0
    stage: str = ""
    cancelled: Event = field(default_factory=Event)
    asked: float = field(default_factory=monotonic)
    begun: float | None = None
    future: "Future[Any]" = field(default_factory=Future)

    def __call__(self, done: float, stage: str = "") -> None:
        """Say how far it is: never less than it was at one stage. Raises Cancelled where it should end."""
        self.done = max(done, self.done) if stage == self.stage else done
        self.stage = stage
        now = monotonic()
        if self.cancelled.is_set() or now - self.asked > FORGOTTEN:
            raise Cancelled
        if self.begun is not None and now - self.begun > self.longest:
            raise Refusal(
                503, f"This took longer than {self.longest / 60:.0f} minutes and was ended: ask about less."
            )

    def found(self, found: Sequence[Any]) -> None:
        self.heard.extend(found)

    def run(self) -> None:
        self.begun = monotonic()
        try:
            self(0)
            self.future.set_result(self.work(self))
        except BaseException as error:
            self.future.set_exception(error)

    def told(self, known: int = 0) -> Working[Any]:
        """As it goes over the wire to somebody who has what is made of the first `known` that were found.

        Raises what ended it.
        """
        if not self.future.done():
            heard = self.heard[:MOST_EARLY]
            early = self.early(heard) if self.early is not None and len(heard) > known else None
            return Working(
                id=self.id,
                done=min(self.done, 0.999),
                stage=self.stage,
                early=early,
                known=len(heard),
                result=None,
            )
        try:
            return Working(id=self.id, done=1, result=self.future.result())
        except Cancelled:
            raise _ended() from None


class Jobs:
    """The computations of a server; the oldest results are forgotten."""

    def __init__(self) -> None:
        self._jobs: OrderedDict[str, Job] = OrderedDict()
        self._waiting: list[Job] = []
        self._running: list[Job] = []
        self._served: dict[str, float] = {}
        self._changed = Condition()
        self._closed = False
        self._give_back = GivingBack()
        for number in range(AT_ONCE):
            Thread(target=self._serve, name=f"job-{number}", daemon=True).start()

    def start(
        self,
        owner: str,
        work: Work,
        writes: bool = False,
        early: Callable[[list[Any]], Any] | None = None,
        longest: float = LONGEST,
    ) -> Working[Any]:
        """Begin `work` about a network, and give it a moment to be done at once.

        writes:  whether it keeps something, and is finished when the server ends
        early:  makes a result of what `Telling.found` was told so far
        longest:  seconds that it may take
        """
        job = Job(token_urlsafe(9), owner, work, writes, early, longest)
        with self._changed:
            if len(self._waiting) >= MOST_WAITING:
                raise Refusal(503, f"{MOST_WAITING} computations are waiting already: try again in a while.")
            self._jobs[job.id] = job
            self._waiting.append(job)
            done = [each for each in self._jobs.values() if each.future.done()]
            for old in done[: len(self._jobs) - MOST_KEPT]:
                del self._jobs[old.id]
            self._changed.notify()
        with suppress(NotYet):
            job.future.exception(timeout=PATIENCE)
        return job.told()

    def told(self, job_id: str, known: int = 0) -> Working[Any]:
        """How far a computation is. Raises Refusal when there is none of that name, or what ended it.

        known:  see `Working`; what is made of no more than that is not told again
        """
        with self._changed:
            job = self._jobs.get(job_id)
        if job is None:
            raise _ended()
        job.asked = monotonic()
        return job.told(known)

    def result(self, job_id: str) -> Any:
        """What a computation came to. Raises Refusal where it is not known, or not done."""
        with self._changed:
            job = self._jobs.get(job_id)
        if job is None or not job.future.done():
            raise _ended()
        return job.future.result()

    def cancel(self, job_id: str) -> None:
        """Forget a computation; it ends when it next tells how far it is."""
        with self._changed:
            job = self._jobs.pop(job_id, None)
            if job is not None and job in self._waiting:
                self._waiting.remove(job)
        if job is not None:
            job.cancelled.set()

    def close(self) -> None:
        """End all of them; those that write are waited for."""
        with self._changed:
            self._closed = True
            for job in self._jobs.values():
                if not job.writes:
                    job.cancelled.set()
            self._changed.notify_all()
            self._changed.wait_for(
                lambda: not any(job.writes for job in (*self._waiting, *self._running)), FINISHING
            )

    def counts(self) -> tuple[int, int]:
        """How many wait, and how many are under way."""
        with self._changed:
            return len(self._waiting), len(self._running)

    def _serve(self) -> None:
        while True:
            with self._changed:
                job = self._next()
                while job is None:
                    if self._closed and not self._waiting:
                        return
                    self._changed.wait()
                    job = self._next()
                self._waiting.remove(job)
                self._running.append(job)
                self._served[job.owner] = monotonic()
            job.run()
            with self._changed:
                self._running.remove(job)
                self._changed.notify_all()
            self._give_back()

    def _next(self) -> Job | None:
        """The oldest job of the network that was served longest ago."""
        owners = [job.owner for job in self._running]
        free = [job for job in self._waiting if owners.count(job.owner) < AT_ONCE_OF_ONE]
        if not self._waiting and not self._running:
            self._served.clear()
        return min(free, key=lambda job: self._served.get(job.owner, 0.0), default=None)


def _ended() -> Refusal:
    return Refusal(
        404, "This computation is no longer there: it was cancelled or forgotten. Ask for it again."
    )
