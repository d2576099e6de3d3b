"""Steps: the decisions inside one device, in the order of §4."""

from dataclasses import dataclass
from enum import StrEnum

from greyheron.core.connection import ConnectionState, Key, key_of
from greyheron.core.frames import Frame
from greyheron.core.matching import Decision
from greyheron.core.packet import Packet
from greyheron.core.routing import Lookup, NextHop
from greyheron.core.segments import InterfaceId
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.values import Direction


class Outcome(StrEnum):
    """How the walk of one packet ended."""

    ARRIVED = "arrived"
    DENIED = "denied"
    FRAME_DENIED = "frame denied"
    NO_DISCOVERY = "neighbour discovery stopped"
    ZONE = "denied by zone"
    NO_SESSION = "no session"
    UNTRANSLATED = "translated address must be used"
    NO_ROUTE = "no route"
    NO_NEIGHBOUR = "no neighbour"
    HOP_LIMIT = "hop limit reached"
    LOOP = "loop"
    LOST = "lost"
    REFUSED = "refused"


@dataclass(frozen=True, slots=True)
class Sends:
    """The device makes the packet; `packet` has its source, unless there is no route."""

    packet: Packet


@dataclass(frozen=True, slots=True)
class Enters:
    interface: str


@dataclass(frozen=True, slots=True)
class Filtered:
    """A list was met and decided. `frame`: what it saw, if it is a frame list (§14)."""

    point: AttachmentPoint
    list_name: str
    decision: Decision
    frame: Frame | None = None


@dataclass(frozen=True, slots=True)
class Unfiltered:
    """An attachment point with no list; `own` when lists are skipped for the device's own packets."""

    point: AttachmentPoint
    own: bool = False


@dataclass(frozen=True, slots=True)
class Tracked:
    """The packet belongs to a session that the device admitted: no list or zone is asked."""


@dataclass(frozen=True, slots=True)
class Gathered:
    """A fragment for a device that follows conversations: its lists see the whole packet, and never this."""


class Saw(StrEnum):
    """What a device that has no session for a packet saw of the conversation before."""

    NOTHING = "nothing"
    ONE_WAY = "packets one way only"
    OTHERWISE = "other addresses or ports"
    FRAGMENT = "a fragment without the first one"


@dataclass(frozen=True, slots=True)
class NoSession:
    """The device tracks this protocol, knows no such session, and the packet cannot begin one."""

    saw: Saw


@dataclass(frozen=True, slots=True)
class Translated:
    """An address was rewritten; `before` and `after` are headers."""

    before: Packet
    after: Packet


@dataclass(frozen=True, slots=True)
class TranslatedAddressNeeded:
    """A new conversation for the inside address of a static translation."""


@dataclass(frozen=True, slots=True)
class ZonesDeny:
    """No inbound list decides here, and the zones do not let this through."""

    from_zone: str | None
    to_zone: str | None


@dataclass(frozen=True, slots=True)
class DiscoveryStopped:
    """The next hop is there, but a list keeps it from being found, by ARP or neighbour discovery."""

    interface: str
    to: InterfaceId
    address: int
    by: Filtered


@dataclass(frozen=True, slots=True)
class Routed:
    """A route was looked up; `chosen` is the next hop taken on this path."""

    lookup: Lookup
    chosen: NextHop


@dataclass(frozen=True, slots=True)
class Unrouted:
    """No route, or one that discards."""

    lookup: Lookup


@dataclass(frozen=True, slots=True)
class NotForwarded:
    """A host got a packet that is not for it."""


@dataclass(frozen=True, slots=True)
class HopLimitReached:
    pass


@dataclass(frozen=True, slots=True)
class LoopFound:
    """The same packet came to this device by this interface before."""


@dataclass(frozen=True, slots=True)
class Leaves:
    """`to`: the interface at which it comes in next, if nothing stops it on the wire."""

    interface: str
    to: InterfaceId
    to_address: int


@dataclass(frozen=True, slots=True)
class NobodyAnswers:
    """No enabled interface on the segment holds the next hop."""

    interface: str
    address: int


@dataclass(frozen=True, slots=True)
class Delivered:
    """The packet is for this device; `holder` is the interface that has the address."""

    holder: str | None
    service: str | None = None


@dataclass(frozen=True, slots=True)
class Refused:
    """Nobody listens; `line` when it is a login port that no management line offers."""

    login: bool = False


Step = (
    Sends
    | Enters
    | Filtered
    | Unfiltered
    | Tracked
    | Gathered
    | NoSession
    | Translated
    | TranslatedAddressNeeded
    | ZonesDeny
    | DiscoveryStopped
    | Routed
    | Unrouted
    | NotForwarded
    | HopLimitReached
    | LoopFound
    | Leaves
    | NobodyAnswers
    | Delivered
    | Refused
)


@dataclass(frozen=True, slots=True)
class Hop:
    """One device on a packet's way.

    ingress, egress:  interfaces, where the packet entered and left
    packet:  its header as it came here, or as it was made here
    sent:  its header as it left, or would have left; None when it got no further
    next_hop:  the choice made among equal routes
    """

    device: str
    ingress: str | None
    egress: str | None
    packet: Packet
    sent: Packet | None
    steps: tuple[Step, ...]
    next_hop: NextHop | None = None

    @property
    def received(self) -> Packet:
        """The packet as the device itself sees it: with its destination translated."""
        rewritten = [step.after for step in self.steps if isinstance(step, Translated)]
        return rewritten[-1] if rewritten else self.packet

    def header_at(self, point: AttachmentPoint) -> Packet:
        """The packet as the list at `point` sees it: as on that wire, or at a line as received."""
        if point.direction is Direction.OUT:
            return self.sent or self.packet
        return self.packet if point.at == self.ingress else self.received


@dataclass(frozen=True, slots=True)
class Path:
    """The whole way of one packet, and what devices remember after it."""

    hops: tuple[Hop, ...]
    outcome: Outcome
    connection: ConnectionState

    @property
    def last(self) -> Hop:
        return self.hops[-1]

    @property
    def packet(self) -> Packet:
        """The packet as its sender made it."""
        return self.hops[0].packet

    @property
    def choices(self) -> dict[tuple[str, Key], NextHop]:
        """The next hop that each device takes for packets with those addresses and ports."""
        return {
            (hop.device, key_of(hop.packet)): hop.next_hop for hop in self.hops if hop.next_hop is not None
        }

    @property
    def denial(self) -> Filtered | None:
        """The list decision that ended the walk, if one did."""
        step = self.last.steps[-1]
        if self.outcome is Outcome.NO_DISCOVERY and isinstance(step, DiscoveryStopped):
            return step.by
        denied = self.outcome in (Outcome.DENIED, Outcome.FRAME_DENIED)
        return step if isinstance(step, Filtered) and denied else None
