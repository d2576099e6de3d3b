"""Devices of a document: interfaces, routes, services, management lines, zones, translation, records."""

from ipaddress import IPv4Address, IPv4Interface, IPv6Address, IPv6Interface
from typing import Annotated, Any, Literal

from pydantic import (
    BeforeValidator,
    Field,
    StringConstraints,
)

from greyheron.model.item import (
    Address,
    DomainName,
    InterfaceAddress,
    InterfaceName,
    Item,
    MacAddress,
    Name,
    PortNumber,
    Prefix,
    Text,
    VlanId,
    family_of,
)
from greyheron.model.names import PORTS
from greyheron.model.traits import TRAITS, TrackedProtocols, Traits
from greyheron.model.values import (
    DenialAnswer,
    DeviceKind,
    Family,
    LineKind,
    Logged,
    LoginAnswer,
    Sees,
)


class Ospf(Item):
    """OSPF on an interface, v2 and v3 alike (§9)."""

    cost: Annotated[int, Field(ge=1, le=65535)] = 10
    passive: bool = False


class Interface(Item):
    """A port, loopback or tagged subinterface, with its addresses.

    addresses:  of either family; the first of a family is its own when it must choose
    access:  the VLAN of a switch port; without VLAN settings a switch port is in VLAN 1
    trunk, untagged:  the VLANs of a trunk port, and the one that it carries without a tag
    parent, vlan:  make it a tagged subinterface of a router or firewall
    ospf:  None when OSPF does not run on it
    mac:  None for one that is made of the names of device and interface (§14)
    """

    name: InterfaceName
    addresses: tuple[InterfaceAddress, ...] = ()
    enabled: bool = True
    access: VlanId | None = None
    trunk: tuple[VlanId, ...] = ()
    untagged: VlanId | None = None
    parent: InterfaceName | None = None
    vlan: VlanId | None = None
    ospf: Ospf | None = None
    mac: MacAddress | None = None

    def of(self, family: Family) -> tuple[IPv4Interface | IPv6Interface, ...]:
        """The addresses of one family."""
        return tuple(address for address in self.addresses if family_of(address) is family)


class Route(Item):
    """A static route: by a next hop, out of an interface, by both, or into nothing (§2)."""

    to: Prefix
    via: Address | None = None
    interface: InterfaceName | None = None
    discard: bool = False
    preference: Annotated[int, Field(ge=1, le=254)] = 5


class Service(Item):
    """Something a device answers on: `web`, tcp, 443."""

    name: Name
    protocol: Literal["tcp", "udp"]
    port: PortNumber


LINE_NUMBERS = r"^[0-9]{1,3}-[0-9]{1,3}$"


class ManagementLine(Item):
    """Management lines of one kind that take logins alike, and the services it offers them on (§5).

    numbers:  the first and the last of them, `1-4`, where a device has several such; None for all of a kind
    """

    name: LineKind
    numbers: Annotated[str, StringConstraints(pattern=LINE_NUMBERS)] | None = None
    transports: tuple[Literal["ssh", "telnet", "https", "http"], ...] = ()

    @property
    def at(self) -> str:
        """What it is called as a place for lists: `remote`, or `remote/1-4`."""
        return self.name.value if self.numbers is None else f"{self.name}/{self.numbers}"

    @property
    def span(self) -> tuple[int, int]:
        """The first and the last of its numbers, (0, 999) for all of its kind."""
        if self.numbers is None:
            return 0, 999
        first, _, last = self.numbers.partition("-")
        return int(first), int(last)

    @property
    def ports(self) -> frozenset[int]:
        return frozenset(PORTS[transport] for transport in self.transports)


class Zone(Item):
    """Interfaces of a firewall that are trusted alike (§6)."""

    name: Name
    interfaces: tuple[InterfaceName, ...] = ()


class Translation(Item):
    """A rule that rewrites addresses between inside interfaces and one outside interface (§7).

    kind:  `static` maps `source` to `to`, one to one; `dynamic` maps it to a pool or an interface's address
    source:  the inside address or prefix
    to:  the outside address or prefix, or the pool; None for the outside interface's own address
    protocol, port, to_port:  limit a static rule to one service; `to_port` is the same port unless given
    inward:  a static rule that rewrites only what comes in for `to`: the inside address is let in as well,
        and what it begins itself goes out as other rules have it
    """

    kind: Literal["static", "dynamic"]
    inside: Annotated[tuple[InterfaceName, ...], Field(min_length=1)]
    outside: InterfaceName
    source: Prefix
    to: Prefix | None = None
    protocol: Literal["tcp", "udp"] | None = None
    port: PortNumber | None = None
    to_port: PortNumber | None = None
    inward: bool = False


class Record(Item):
    """What a device that runs the domain service answers for a name (§13)."""

    name: DomainName
    addresses: Annotated[tuple[Address, ...], Field(min_length=1, max_length=40)]


def _denial_answer(value: Any) -> Any:
    """Whether it answers at all, as it was written before there was a choice."""
    if isinstance(value, bool):
        return DenialAnswer.PROHIBITED if value else DenialAnswer.NOTHING
    return value


class Device(Item):
    """A router, firewall, host, switch or outside network.

    gateway, gateway6:  a host's or outside network's default next hop, for each family
    prefixes:  what an outside network stands for
    zones:  of a firewall, the most trusted first; `same_zone` lets traffic stay within one
    translations:  rules in order
    records:  what it answers for names, if it runs the domain service;  resolvers:  whom it asks, in order
    tracks, answers_denied, filters_own_traffic:  None for what is usual for the kind (§4, §6)
    answers_logins:  what it says of a login that a line denies (§5)
    inbound_sees, outbound_sees:  whether its lists there see addresses before or after translation (§4)
    logs:  denials by no entry that it writes to its log (§8)
    announces_default, announces_static:  what it tells its OSPF neighbours beside its prefixes
    site:  where it stands; the map folds a site when it is far away
    """

    name: Name
    kind: DeviceKind
    interfaces: tuple[Interface, ...] = ()
    gateway: IPv4Address | None = None
    gateway6: IPv6Address | None = None
    routes: tuple[Route, ...] = ()
    services: tuple[Service, ...] = ()
    lines: tuple[ManagementLine, ...] = ()
    prefixes: tuple[Prefix, ...] = ()
    zones: tuple[Zone, ...] = ()
    same_zone: bool = False
    translations: tuple[Translation, ...] = ()
    records: tuple[Record, ...] = ()
    resolvers: tuple[Address, ...] = ()
    tracks: tuple[TrackedProtocols, ...] | None = None
    announces_default: bool = False
    announces_static: bool = False
    answers_denied: Annotated[DenialAnswer, BeforeValidator(_denial_answer)] | None = None
    answers_logins: LoginAnswer = LoginAnswer.RESET
    inbound_sees: Sees = Sees.BEFORE
    outbound_sees: Sees = Sees.AFTER
    logs: tuple[Logged, ...] = ()
    filters_own_traffic: bool | None = None
    site: Annotated[str, StringConstraints(max_length=60)] = ""
    note: Text = ""

    @property
    def traits(self) -> Traits:
        """What its kind does."""
        return TRAITS[self.kind]

    @property
    def denial_answer(self) -> DenialAnswer:
        """What it says of what it denies: its own setting, or what is usual for its kind."""
        return self.traits.answers_denied if self.answers_denied is None else self.answers_denied

    @property
    def sends_through(self) -> bool:
        """Whether its outbound lists see the packets that it sends itself."""
        return (
            self.traits.filters_own_traffic if self.filters_own_traffic is None else self.filters_own_traffic
        )

    @property
    def tracked(self) -> tuple[TrackedProtocols, ...]:
        """The protocols whose sessions it tracks."""
        return self.traits.tracks if self.tracks is None else self.tracks
