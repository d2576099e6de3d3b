"""What has been worked out for one network: its worlds, timelines and engines, and what questions keep."""

from collections import deque
from dataclasses import replace
from functools import cache
from threading import RLock
from typing import Protocol, TypeVar, cast

from greyheron.analysis.presentation.report import TraceReport, report_in_time
from greyheron.compute.cache import BoundedCache
from greyheron.compute.documents import Drafted, SameObjects
from greyheron.core.bulk.engines import engines
from greyheron.core.bulk.trying import try_flow
from greyheron.core.timeline import Timeline
from greyheron.core.world import World, build_world
from greyheron.model.document import Network
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import write_flow
from greyheron.model.period import Moment
from greyheron.model.values import State

MOST_WORLDS = 12
WORLD_BYTES = 192 << 20
"""At most so many worlds, and so many bytes of them: they share nearly all with others of their network."""
MOST_TOPOLOGIES = 2
SMALL = 80
"""Networks of so many devices are answered for by one worker, and for some questions at once."""


class KeptState(Protocol):
    """What questions of one kind keep of a network between them."""

    def __init__(self, state: "NetworkState") -> None: ...

    @property
    def nbytes(self) -> int:
        """About how many bytes it takes."""
        ...


K = TypeVar("K", bound=KeptState)


class NetworkState:
    """What has been worked out for one network: its worlds, and what questions keep.

    The one owner of all of it. It is looked up from any thread, and bounded in bytes. One request builds
    worlds at a time, under a lock; whoever holds the lock of a question may build.
    """

    def __init__(self) -> None:
        self._building = RLock()
        self.begin_anew()

    def begin_anew(self) -> None:
        """With nothing worked out: what was goes at once.

        What refers to itself would wait for the search for circles, and fill the memory until then.
        """
        self._worlds: BoundedCache[tuple[SameObjects, frozenset[str]], World] = BoundedCache(
            WORLD_BYTES, lambda world: max(world.nbytes, WORLD_BYTES // MOST_WORLDS)
        )
        self._topologies: deque[World] = deque(maxlen=MOST_TOPOLOGIES)
        self._kept: dict[type[KeptState], KeptState] = {}
        self.engine = engines()

    @property
    def nbytes(self) -> int:
        """About how many bytes all of it takes."""
        worlds = sum(world.nbytes for _, world in self._worlds.items())
        return worlds + sum(each.nbytes for each in list(self._kept.values()))

    def forget(self) -> None:
        """The network is gone, and with it all that is known of it, here and where others work for it."""
        self.begin_anew()

    def kept(self, kind: type[K]) -> K:
        """What questions of one kind keep, made when it is asked for first."""
        with self._building:
            if kind not in self._kept:
                self._kept[kind] = kind(self)
            return cast("K", self._kept[kind])

    def world(self, network: Network, active: frozenset[str] = frozenset()) -> World:
        """The world of a document; what it shares with one of the same topology is not worked out again.

        active:  the periods that are on
        """
        with self._building:  # two requests at once must not make two worlds that share nothing
            key = SameObjects(network), active
            world = self._worlds.get(key)
            if world is not None:
                return world
            known = next((world for world in self._topologies if world.same_topology(network)), None)
            built = build_world(network, known, active)
            if known is None:
                self._topologies.appendleft(built)
            return self._worlds.put(key, built)

    def timeline(self, network: Network, moment: Moment | None = None) -> Timeline:
        """All times of a document; `moment` is the one that is looked at."""
        return Timeline.of(network, cache(lambda active: self.world(network, active)), moment)

    def timeline_in(self, documents: Drafted, state: State, moment: Moment | None) -> Timeline:
        """All times of the documents in one state."""
        timeline = self.timeline(documents.running if state is State.RUNNING else documents.draft, moment)
        if state is State.BASELINE:
            return replace(timeline, world_at=lambda active: timeline.world_at(active).baseline)
        return timeline

    def trace(self, documents: Drafted, flow: Flow, state: State, moment: Moment | None) -> TraceReport:
        """One flow in full. Raises FlowError."""
        timeline = self.timeline_in(documents, state, moment)
        results = [(span, try_flow(timeline.world(span), flow)) for span in timeline.for_flow(flow)]
        return report_in_time(results, timeline.first.topology, write_flow(flow), state)
