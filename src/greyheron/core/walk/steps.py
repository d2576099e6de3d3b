"""Steps: the decisions inside one device, in the order of §4."""

from collections.abc import Iterator
from enum import StrEnum

from msgspec import Struct

from greyheron.core.lists.met import Filtered, Unfiltered
from greyheron.core.network.segments import InterfaceId
from greyheron.core.packet import Packet
from greyheron.core.routing.table import Lookup, NextHop
from greyheron.core.walk.connection import ConnectionState, Key, key_of


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


class Sends(Struct, frozen=True):
    """The device makes the packet; `packet` has its source, unless there is no route."""

    packet: Packet


class Enters(Struct, frozen=True):
    interface: str


class Tracked(Struct, frozen=True):
    """The packet belongs to a session that the device admitted: no list or zone is asked."""


class Gathered(Struct, frozen=True):
    """A fragment for a device that follows conversations: its lists see the whole packet, and never this."""


class SessionHistory(StrEnum):
    """What a device that has no session for a packet saw of the conversation before."""

    NOTHING = "nothing"
    ONE_WAY = "packets one way only"
    OTHERWISE = "other addresses or ports"
    FRAGMENT = "a fragment without the first one"


class NoSession(Struct, frozen=True):
    """The device tracks this protocol, knows no such session, and the packet cannot begin one."""

    saw: SessionHistory


class Translated(Struct, frozen=True):
    """An address was rewritten; `before` and `after` are headers."""

    before: Packet
    after: Packet


class TranslatedAddressNeeded(Struct, frozen=True):
    """A new conversation for the inside address of a static translation."""


class ZonesDeny(Struct, frozen=True):
    """No inbound list decides here, and the zones do not let this through."""

    from_zone: str | None
    to_zone: str | None


class DiscoveryStopped(Struct, frozen=True):
    """The next hop is there, but a list keeps it from being found, by ARP or neighbour discovery."""

    interface: str
    to: InterfaceId
    address: int
    by: Filtered


class Routed(Struct, frozen=True):
    """A route was looked up; `chosen` is the next hop taken on this path."""

    lookup: Lookup
    chosen: NextHop


class Unrouted(Struct, frozen=True):
    """No route, or one that discards."""

    lookup: Lookup


class NotForwarded(Struct, frozen=True):
    """A host got a packet that is not for it."""


class HopLimitReached(Struct, frozen=True):
    pass


class LoopFound(Struct, frozen=True):
    """The same packet came to this device by this interface before."""


class Leaves(Struct, frozen=True):
    """`to`: the interface at which it comes in next, if nothing stops it on the wire."""

    interface: str
    to: InterfaceId
    to_address: int


class NobodyAnswers(Struct, frozen=True):
    """No enabled interface on the segment holds the next hop."""

    interface: str
    address: int


class Delivered(Struct, frozen=True):
    """The packet is for this device; `holder` is the interface that has the address.

    service:  who listens;  line:  the management line that takes the login
    """

    holder: str | None
    service: str | None = None
    line: str | None = None


class Refused(Struct, frozen=True):
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


class Hop(Struct, frozen=True):
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

    @property
    def seen(self) -> Iterator[tuple[Step, Packet]]:
        """Every step, with the header that the packet had there."""
        packet = self.packet
        for step in self.steps:
            if isinstance(step, Translated):
                packet = step.after
            yield step, packet


class Path(Struct, frozen=True):
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
