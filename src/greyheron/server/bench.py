"""Worlds and books kept from one request to the next, so that nothing is computed twice."""

from collections.abc import Callable
from threading import Lock
from typing import TypeVar

from greyheron.analysis.book import TestMarks, mark_tests
from greyheron.analysis.report import TraceReport, report
from greyheron.core.conversation import converse
from greyheron.core.world import World, build_world
from greyheron.model.document import Network
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_flow
from greyheron.store.networks import Stored

MOST_KEPT = 24
T = TypeVar("T")


class _Kept:
    """Results by the identity of the frozen documents they came from; the oldest are dropped."""

    def __init__(self) -> None:
        self._results: dict[tuple[int, ...], tuple[tuple[Network, ...], object]] = {}
        self._lock = Lock()

    def of(self, compute: Callable[..., T], *documents: Network) -> T:
        key = tuple(map(id, documents))
        with self._lock:
            if key in self._results:
                found: T = self._results[key][1]  # type: ignore[assignment]
                return found
        result = compute(*documents)
        with self._lock:
            self._results[key] = (documents, result)  # holding the documents keeps their ids theirs
            while len(self._results) > MOST_KEPT:
                del self._results[next(iter(self._results))]
        return result


class Bench:
    """What has been worked out for the documents in use."""

    def __init__(self) -> None:
        self._worlds = _Kept()
        self._books = _Kept()

    def world(self, network: Network) -> World:
        return self._worlds.of(build_world, network)

    def book(self, running: Network, draft: Network) -> tuple[TestMarks, ...]:
        """Every test flow of `draft` with its three verdicts."""

        def marks(now: Network, next_: Network) -> tuple[TestMarks, ...]:
            return mark_tests(next_.tests, self.world(now), self.world(next_))

        return self._books.of(marks, running, draft)

    def world_in(self, stored: Stored, state: str) -> World:
        """The world of a network as running, on the draft, or (baseline) on the draft with no lists."""
        world = self.world(stored.running if state == "running" else stored.draft)
        return world.baseline if state == "baseline" else world

    def trace(self, stored: Stored, flow: Flow, state: str) -> TraceReport:
        """One flow in full. `state` is baseline, running or draft. Raises FlowError."""
        return report(converse(self.world_in(stored, state), flow), write_flow(flow), state)
