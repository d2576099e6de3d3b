"""A network's worlds by the times at which they hold (§12)."""

from collections.abc import Callable
from dataclasses import dataclass

from greyheron.core.lists.periods import Span, active_at, spans_of, supposed, used_periods
from greyheron.core.world import World, build_world
from greyheron.model.document import Network
from greyheron.model.flow import Flow
from greyheron.model.period import Moment
from greyheron.model.requirement import Statement

WorldAt = Callable[[frozenset[str]], World]
"""The world in which these periods are on."""


@dataclass(frozen=True, eq=False)
class Timeline:
    """Everything that a network comes to in time.

    spans:  all that differ in their entries;  shown:  those that are looked at, unless a flow says when
    """

    network: Network
    spans: tuple[Span, ...]
    shown: tuple[Span, ...]
    world_at: WorldAt

    @classmethod
    def of(cls, network: Network, world_at: WorldAt, moment: Moment | None = None) -> "Timeline":
        """moment:  the one that is looked at; None for all times"""
        spans = spans_of(network)
        timeline = cls(network, spans, spans, world_at)
        return timeline if moment is None else cls(network, spans, timeline.at(moment), world_at)

    @classmethod
    def build(cls, network: Network, moment: Moment | None = None) -> "Timeline":
        """That of a network of which nothing is known yet."""
        worlds: dict[frozenset[str], World] = {}

        def world_at(active: frozenset[str]) -> World:
            if active not in worlds:
                known = next(iter(worlds.values()), None)
                worlds[active] = build_world(network, known, active)
            return worlds[active]

        return cls.of(network, world_at, moment)

    @classmethod
    def still(cls, world: World) -> "Timeline":
        """One world, whatever the time."""
        span = Span(world.resolved.active, Moment(0, 0), "at all times")
        return cls(world.network, (span,), (span,), lambda _active: world)

    @property
    def first(self) -> World:
        """The world that stands for the others where one is shown only."""
        return self.world(self.shown[0])

    @property
    def varies(self) -> bool:
        """Whether more than one is looked at."""
        return len(self.shown) > 1

    def world(self, span: Span) -> World:
        return self.world_at(span.active)

    def at(self, moment: Moment) -> tuple[Span, ...]:
        """What a moment is in: one, or one for each supposition where something is not known."""
        used = used_periods(self.network)
        return tuple(supposed(active_at(self.network, moment) & used, moment, used))

    def span(self, moment: Moment) -> Span:
        """The first of those."""
        return self.at(moment)[0]

    def for_flow(self, flow: Flow) -> tuple[Span, ...]:
        """When a flow is judged."""
        return self.shown if flow.at is None else self.at(flow.at)

    def for_statement(self, statement: Statement) -> tuple[Span, ...]:
        """When a requirement must hold; none where it speaks of no time at all."""
        during = statement.during
        return tuple(span for span in self.shown if during is None or during.holds(span.active))
