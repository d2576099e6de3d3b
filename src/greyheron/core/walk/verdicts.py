"""What became of a conversation: its packets, how it ended, and what the sender is told (§8)."""

from collections.abc import Iterator
from enum import StrEnum

from msgspec import Struct

from greyheron.core.packet import Way
from greyheron.core.walk.dns import Resolver, Unresolved
from greyheron.core.walk.icmp_errors import Response, Seen
from greyheron.core.walk.steps import Outcome, Path
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.values import Family


class Verdict(StrEnum):
    PASSES = "passes"
    BLOCKED = "blocked"
    UNREACHABLE = "unreachable"
    REFUSED = "refused"
    MIXED = "mixed"


VERDICTS = {
    Outcome.ARRIVED: Verdict.PASSES,
    Outcome.DENIED: Verdict.BLOCKED,
    Outcome.FRAME_DENIED: Verdict.BLOCKED,
    Outcome.NO_DISCOVERY: Verdict.BLOCKED,
    Outcome.ZONE: Verdict.BLOCKED,
    Outcome.NO_SESSION: Verdict.BLOCKED,
    Outcome.UNTRANSLATED: Verdict.BLOCKED,
    Outcome.NO_ROUTE: Verdict.UNREACHABLE,
    Outcome.NO_NEIGHBOUR: Verdict.UNREACHABLE,
    Outcome.HOP_LIMIT: Verdict.UNREACHABLE,
    Outcome.LOOP: Verdict.UNREACHABLE,
    Outcome.LOST: Verdict.UNREACHABLE,
    Outcome.REFUSED: Verdict.REFUSED,
}


ARRIVING = frozenset({Verdict.PASSES, Verdict.REFUSED})
"""The verdicts of what gets where it is going, be it that nobody listens there."""


class PacketTrace(Struct, frozen=True):
    """One packet of a conversation and where it went. `name` is the trade's: SYN, reply, …"""

    name: str
    way: Way
    path: Path


class Exchange(Struct, frozen=True):
    """A whole conversation along one combination of equal-cost paths.

    legs:  its packets in order, up to the first that did not arrive
    response:  what a device said of that one
    sees:  what the conversation's sender sees, and by whom
    """

    legs: tuple[PacketTrace, ...]
    verdict: Verdict
    response: Response | None
    sees: Seen
    seen_from: int | None

    @property
    def decider(self) -> PacketTrace:
        """The leg that settled the verdict."""
        return self.legs[-1]

    @property
    def reached(self) -> bool:
        """Whether the first packet got where it was going, whatever became of the answer."""
        return VERDICTS[self.legs[0].path.outcome] in ARRIVING


class Query(Struct, frozen=True):
    """A question for a name: to whom, and what became of it."""

    resolver: Resolver
    result: "Result"


class Resolution(Struct, frozen=True):
    """What came of a name before the conversation itself.

    queries:  in the order in which they were asked;  address:  what was answered, or None
    """

    name: str
    family: Family
    queries: tuple[Query, ...]
    address: int | None
    why: Unresolved | None


class Result(Struct, frozen=True):
    """A conversation on all its paths.

    more:  whether there are more combinations of paths than were walked
    unwalked:  what decides where those are reckoned with as well; None: what becomes of them is not known
    resolution:  of a destination that is a name; where it was not resolved, the exchanges are the query's
    """

    verdict: Verdict
    exchanges: tuple[Exchange, ...]
    more: bool
    resolution: Resolution | None = None
    unwalked: "Unwalked | None" = None

    @property
    def whole(self) -> bool:
        """Whether it is known what becomes of it on all its paths."""
        return not self.more or self.unwalked is not None

    @property
    def queries(self) -> tuple[Query, ...]:
        """What was asked for the destination's name."""
        return () if self.resolution is None else self.resolution.queries

    @property
    def every_leg(self) -> Iterator[PacketTrace]:
        """Every packet, those of queries first."""
        for query in self.queries:
            yield from query.result.every_leg
        if self.resolution is None or self.resolution.address is not None:
            yield from (leg for exchange in self.exchanges for leg in exchange.legs)


class Unwalked(Struct, frozen=True):
    """What decides about a conversation with more ways than are walked, on the first of them that fails.

    device:  where it ends;  point, list_name, entry:  of the list that denies it, or None
    """

    device: str
    point: AttachmentPoint | None
    list_name: str | None
    entry: int | None
