"""Requirements, as values: a policy over sets of sources, destinations and services (§10)."""

from enum import StrEnum

from msgspec import Struct

from greyheron.model.header import NOTHING_SAID, HeaderTerms
from greyheron.model.period import During
from greyheron.model.values import DeviceKind, Family


class RequirementKind(StrEnum):
    ALLOW = "allow"
    BLOCK = "block"
    ONLY = "only"


KIND_WORDS = {
    "routers": DeviceKind.ROUTER,
    "firewalls": DeviceKind.FIREWALL,
    "hosts": DeviceKind.HOST,
    "outside": DeviceKind.OUTSIDE,
}
"""Words for all devices of a kind, where no device or set is called so."""


WITH_DEVICES = "+devices"
"""Behind a term: it speaks of the routers and firewalls themselves that are in it, too."""


class TermKind(StrEnum):
    """What a term of a requirement's side speaks of."""

    ANY = "any"
    NAMED = "named"
    INTERFACE = "interface"
    SEGMENT = "segment"
    ZONE = "zone"
    PREFIX = "prefix"


class Term(Struct, frozen=True):
    """One part of a side.

    name:  of a device, an address set or a kind of devices (`routers`), a prefix, or the device of an
        interface, segment or zone
    at:  the interface, or the zone
    devices:  whether it speaks of the routers and firewalls in it too, not only of hosts
    """

    kind: TermKind
    name: str = ""
    at: str = ""
    devices: bool = False

    def __str__(self) -> str:
        return self._bare + WITH_DEVICES * self.devices

    @property
    def _bare(self) -> str:
        match self.kind:
            case TermKind.ANY:
                return "any"
            case TermKind.INTERFACE:
                return f"{self.name}:{self.at}"
            case TermKind.SEGMENT | TermKind.ZONE:
                return ":".join(part for part in (self.kind, self.name, self.at) if part)
            case _:
                return self.name


Side = tuple[Term, ...]
"""Everyone whom some term speaks of."""


class RequestedServices(Struct, frozen=True):
    """Services by words, and what else is said of their packets."""

    services: tuple[str, ...]
    header: HeaderTerms


class Statement(Struct, frozen=True):
    """A requirement.

    services:  words as they were written: `tcp/443`, `udp`, `ping`, `remote`, `any`, …
    family:  None for both
    header:  what else its packets are; whole packets with any code point, unless it says so
    during:  when it holds; None: at all times
    """

    kind: RequirementKind
    sources: Side
    destinations: Side
    services: tuple[str, ...]
    family: Family | None = None
    header: HeaderTerms = NOTHING_SAID
    during: During | None = None

    @property
    def asks(self) -> "RequestedServices":
        """What it speaks of, the two sides apart."""
        return RequestedServices(self.services, self.header)
