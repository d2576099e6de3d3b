"""Long computations: each runs beside the requests, tells how far it is, and can be cancelled."""

from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures import TimeoutError as NotYet
from contextlib import suppress
from dataclasses import dataclass, field
from secrets import token_urlsafe
from threading import Event, Lock
from time import monotonic
from typing import Any

AT_ONCE = 2
FORGOTTEN = 60.0
"""Seconds after which a computation that nobody asked about any more ends by itself: its window is closed."""
MOST_KEPT = 40

Work = Callable[[Callable[[float], bool]], Any]
"""Does the work; it is given what to tell how much is done, 0 to 1, which says whether to go on."""


@dataclass(slots=True)
class Job:
    """A computation under way, or its result."""

    id: str
    done: float = 0.0
    cancelled: Event = field(default_factory=Event)
    asked: float = field(default_factory=monotonic)
    future: "Future[Any] | None" = None

    def tell(self, done: float) -> bool:
        self.done = done
        return not self.cancelled.is_set() and monotonic() - self.asked < FORGOTTEN


class Jobs:
    """The computations of a server; the oldest results are forgotten."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="job")
        self._jobs: OrderedDict[str, Job] = OrderedDict()
        self._lock = Lock()

    def start(self, work: Work, wait: float) -> Job:
        """Begin `work`, and give it `wait` seconds to be done at once."""
        job = Job(token_urlsafe(9))
        job.future = self._pool.submit(work, job.tell)
        with self._lock:
            self._jobs[job.id] = job
            while len(self._jobs) > MOST_KEPT:
                self._jobs.popitem(last=False)[1].cancelled.set()
        with suppress(NotYet):
            job.future.exception(timeout=wait)
        return job

    def find(self, job_id: str) -> Job | None:
        job = self._jobs.get(job_id)
        if job is not None:
            job.asked = monotonic()
        return job

    def cancel(self, job_id: str) -> None:
        """Forget a computation; it ends when it next tells how far it is."""
        with self._lock:
            job = self._jobs.pop(job_id, None)
        if job is not None:
            job.cancelled.set()

    def close(self) -> None:
        for job in self._jobs.values():
            job.cancelled.set()
        self._pool.shutdown(wait=False, cancel_futures=True)
