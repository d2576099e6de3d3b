"""Worlds and books kept from one request to the next, so that nothing is computed twice."""

from collections.abc import Callable
from threading import Lock
from typing import TypeVar

from greyheron.analysis.book import States, TestMarks, Tries, mark_tests
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
    """Results by the identity of the frozen values they came from; the oldest are dropped."""

    def __init__(self) -> None:
        self._results: dict[tuple[int, ...], tuple[tuple[object, ...], object]] = {}
        self._lock = Lock()

    def of(self, compute: Callable[[], T], *sources: object) -> T:
        key = tuple(map(id, sources))
        with self._lock:
            if key in self._results:
                found: T = self._results[key][1]  # type: ignore[assignment]
                return found
        result = compute()
        with self._lock:
            self._results[key] = (sources, result)  # holding the sources keeps their ids theirs
            while len(self._results) > MOST_KEPT:
                del self._results[next(iter(self._results))]
        return result


class Bench:
    """What has been worked out for the documents in use."""

    def __init__(self) -> None:
        self._worlds = _Kept()
        self._latest: World | None = None
        self._books = _Kept()
        self._tries = Tries()

    def world(self, network: Network) -> World:
        """The world of a document; what it shares with the one before is not worked out again."""

        def build() -> World:
            self._latest = build_world(network, self._latest)
            return self._latest

        return self._worlds.of(build, network)

    def book(self, running: Network, draft: Network) -> tuple[TestMarks, ...]:
        """Every test flow of `draft` with its three verdicts."""

        def marks() -> tuple[TestMarks, ...]:
            world, drafted = self.world(running), self.world(draft)
            states = States(world, world.baseline, drafted, drafted.baseline)
            return mark_tests(draft.tests, states, self._tries)

        return self._books.of(marks, running, draft)

    def world_in(self, stored: Stored, state: str) -> World:
        """The world of a network as running, on the draft, or (baseline) on the draft with no lists."""
        if state == "baseline":
            return self.world(stored.draft).baseline
        return self.world(stored.running if state == "running" else stored.draft)

    def trace(self, stored: Stored, flow: Flow, state: str) -> TraceReport:
        """One flow in full. `state` is baseline, running or draft. Raises FlowError."""
        world = self.world_in(stored, state)
        return report(converse(world, flow), world.segments, write_flow(flow), state)
