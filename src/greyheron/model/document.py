"""The network document: what is saved, edited, applied and exchanged.

Reading outside data goes through `greyheron.model.read`, which reports every problem at once.
"""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network
from types import UnionType
from typing import Annotated, Any, Final, Literal

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainSerializer,
    PlainValidator,
    StringConstraints,
    WithJsonSchema,
    field_serializer,
    field_validator,
)
from pydantic_core.core_schema import ValidationInfo

from greyheron.model.entry import AddressBlock, ListBody, PortTerm
from greyheron.model.flow import ExpectedFlow
from greyheron.model.names import PORTS
from greyheron.model.notation.flows import read_expected_flow, write_expected_flow
from greyheron.model.notation.frames import read_own_mac
from greyheron.model.notation.lists import read_body, write_body
from greyheron.model.notation.periods import read_window
from greyheron.model.notation.requirements import read_requirement, write_requirement
from greyheron.model.notation.terms import DOMAIN_NAME, read_block, read_ports
from greyheron.model.period import Window
from greyheron.model.requirement import Statement
from greyheron.model.traits import TRAITS, TrackedProtocols, Traits
from greyheron.model.values import (
    DenialAnswer,
    DeviceKind,
    Direction,
    Family,
    LineKind,
    ListKind,
    Logged,
    LoginAnswer,
    Sees,
)

FORMAT: Final = "grey-heron/1"
MOST_DEVICES = 12_000
"""More than the largest network that we plan for has: it keeps every computation bounded."""
MOST_PERIODS = 40

Name = Annotated[str, StringConstraints(pattern=r"^[A-Za-z][A-Za-z0-9._-]{0,62}$")]
InterfaceName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z][A-Za-z0-9._/-]{0,31}$")]
DomainName = Annotated[str, StringConstraints(pattern=DOMAIN_NAME, max_length=63)]
Text = Annotated[str, StringConstraints(max_length=2000)]
PortNumber = Annotated[int, Field(ge=0, le=65535)]


def _whole_addresses(value: Any) -> Any:
    if isinstance(value, str) and "/" not in value:
        raise ValueError(f"“{value}” has no prefix length: write {value}/{64 if ':' in value else 24}, say")
    return value


Address = IPv4Address | IPv6Address
Prefix = IPv4Network | IPv6Network
InterfaceAddress = Annotated[IPv4Interface | IPv6Interface, BeforeValidator(_whole_addresses)]
VlanId = Annotated[int, Field(ge=1, le=4094)]


def _mac(value: Any) -> Any:
    if not isinstance(value, str):
        raise ValueError("a MAC address is text: write it in quotes")
    return read_own_mac(value)


MacAddress = Annotated[str, BeforeValidator(_mac)]


def _in_notation(kind: type | UnionType, read: Callable[[str], object], example: str) -> PlainValidator:
    """For values of a kind that documents hold as text."""

    def value_of(value: Any) -> Any:
        if isinstance(value, kind):
            return value
        if not isinstance(value, str):
            raise ValueError(f"this is text in the notation: {example}, say")
        return read(value)

    return PlainValidator(value_of)


def family_of(value: Address | Prefix | IPv4Interface | IPv6Interface) -> Family:
    return Family.IPV4 if value.version == 4 else Family.IPV6


class Item(BaseModel):
    """Base of everything in a document: frozen, and closed to fields it does not know."""

    model_config = ConfigDict(frozen=True, extra="forbid")


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


class Link(Item):
    """A cable between two interfaces, each written `device:interface`."""

    ends: tuple[str, str]
    enabled: bool = True

    @field_validator("ends")
    @classmethod
    def _two_ends(cls, ends: tuple[str, str]) -> tuple[str, str]:
        for end in ends:
            device, colon, interface = end.partition(":")
            if not (device and colon and interface):
                raise ValueError(f"“{end}” names no interface: write device:interface")
        if ends[0] == ends[1]:
            raise ValueError(f"both ends are {ends[0]}: a link joins two interfaces")
        return ends


class AddressSet(Item):
    """A named group of addresses, prefixes and wildcards."""

    name: Name
    members: tuple[str, ...] = ()
    note: Text = ""

    @field_validator("members")
    @classmethod
    def _readable(cls, members: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(str(read_member(member)) for member in members)

    def blocks(self, family: Family) -> tuple[AddressBlock, ...]:
        """The members of one family."""
        read = map(read_member, self.members)
        return tuple(block for block in read if block.family is family)


class PortSet(Item):
    """A named group of ports."""

    name: Name
    members: tuple[str, ...] = ()
    note: Text = ""

    @field_validator("members", mode="before")
    @classmethod
    def _readable(cls, members: Any) -> Any:
        if not isinstance(members, list | tuple):
            return members
        texts = tuple(str(member) if isinstance(member, int) else member for member in members)
        for text in texts:
            if isinstance(text, str) and any(part.startswith("@") for part in text.split(",")):
                raise ValueError(f"“{text}” names a port set: a port set holds ports and ranges only")
            if isinstance(text, str):
                read_ports(text)
        return texts

    @property
    def terms(self) -> tuple[PortTerm, ...]:
        return tuple(term for member in self.members for term in read_ports(member))


class AccessList(Item):
    """An ordered list; in a file its entries are text in the notation (§11).

    family:  of the packets that it sees; None for a frame list, which sees frames
    """

    name: Name
    family: Family | None = None
    kind: ListKind
    note: Text = ""
    body: Annotated[
        ListBody,
        PlainValidator(lambda value: value),
        WithJsonSchema({"type": "string", "title": "Entries in the notation, one a line"}),
        Field(default_factory=ListBody, alias="entries", validate_default=True),
    ]

    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True)

    @field_validator("body", mode="before")
    @classmethod
    def _read(cls, value: Any, info: ValidationInfo) -> Any:
        if not isinstance(value, ListBody | str):
            raise ValueError("entries are text in the notation, one a line")
        if "family" not in info.data or "kind" not in info.data:
            return ListBody()  # family or kind is wrong, and is reported already
        if info.data["kind"] is ListKind.STANDARD and info.data["family"] is Family.IPV6:
            raise ValueError("a standard list is for IPv4: make an IPv6 list extended")
        if (info.data["kind"] is ListKind.FRAME) is not (info.data["family"] is None):
            raise ValueError(
                "a frame list belongs to no family: leave `family` out"
                if info.data["family"] is not None
                else "a list of this kind is for one family: write `family: ipv4` or `family: ipv6`"
            )
        if isinstance(value, ListBody):
            return value
        return read_body(value, info.data["family"], info.data["kind"])

    @field_serializer("body")
    def _write(self, body: ListBody) -> str:
        return write_body(body, self.family, self.kind)


class Period(Item):
    """A named set of windows in the network's own time (§12)."""

    name: Name
    windows: Annotated[
        tuple[
            Annotated[
                Window,
                _in_notation(Window, read_window, "mon-fri 08:00-18:00"),
                PlainSerializer(str),
                WithJsonSchema({"type": "string", "title": "mon-fri 08:00-18:00"}),
            ],
            ...,
        ],
        Field(max_length=400),
    ] = ()
    note: Text = ""


class Placement(Item):
    """A list at an attachment point: an interface or a management line of a device, in or out."""

    list: Name
    device: Name
    at: InterfaceName
    direction: Direction


class TestFlow(Item):
    """One line of the book: a concrete conversation and what should come of it."""

    __test__ = False

    id: Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9._-]{1,40}$")]
    flow: Annotated[
        ExpectedFlow,
        _in_notation(ExpectedFlow, read_expected_flow, "kiosk → ledger tcp/443 pass"),
        PlainSerializer(write_expected_flow),
        WithJsonSchema({"type": "string", "title": "kiosk → ledger tcp/443 pass"}),
    ]
    group: Annotated[str, StringConstraints(max_length=80)] = ""
    note: Text = ""


class Requirement(Item):
    """One line of the policy: who may, or may not, talk to whom about what (§10)."""

    id: Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9._-]{1,40}$")]
    statement: Annotated[
        Statement,
        _in_notation(Statement, read_requirement, "only wardens-desk → routers remote"),
        PlainSerializer(write_requirement),
        WithJsonSchema({"type": "string", "title": "only wardens-desk → routers remote"}),
    ]
    group: Annotated[str, StringConstraints(max_length=80)] = ""
    note: Text = ""


class Acceptance(Item):
    """A finding that is as it should be, and why.

    finding:  what it is about, in a word that stays the same
    evidence:  a digest of what it speaks of; once that changes, the finding is shown again
    """

    finding: Annotated[str, StringConstraints(min_length=1, max_length=200)]
    evidence: Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{16}$")]
    reason: Annotated[str, StringConstraints(min_length=1, max_length=500, strip_whitespace=True)]


class Position(Item):
    """Where a device's plate lies on the map, in map units from its centre."""

    device: Name
    x: Annotated[float, Field(allow_inf_nan=False)]
    y: Annotated[float, Field(allow_inf_nan=False)]


class Network(Item):
    """One saved document.

    time_zone:  in which its periods are meant (IANA name)
    """

    format: Literal["grey-heron/1"] = FORMAT
    name: Annotated[str, StringConstraints(min_length=1, max_length=80, strip_whitespace=True)]
    note: Text = ""
    devices: Annotated[tuple[Device, ...], Field(max_length=MOST_DEVICES)] = ()
    links: Annotated[tuple[Link, ...], Field(max_length=4 * MOST_DEVICES)] = ()
    address_sets: Annotated[tuple[AddressSet, ...], Field(max_length=MOST_DEVICES)] = ()
    port_sets: Annotated[tuple[PortSet, ...], Field(max_length=MOST_DEVICES)] = ()
    time_zone: Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9._+-]+(/[A-Za-z0-9._+-]+){0,2}$")] = (
        "UTC"
    )
    periods: Annotated[tuple[Period, ...], Field(max_length=MOST_PERIODS)] = ()
    lists: Annotated[tuple[AccessList, ...], Field(max_length=MOST_DEVICES)] = ()
    placements: Annotated[tuple[Placement, ...], Field(max_length=4 * MOST_DEVICES)] = ()
    requirements: Annotated[tuple[Requirement, ...], Field(max_length=MOST_DEVICES)] = ()
    tests: Annotated[tuple[TestFlow, ...], Field(max_length=MOST_DEVICES)] = ()
    accepted: Annotated[tuple[Acceptance, ...], Field(max_length=MOST_DEVICES)] = ()
    positions: Annotated[tuple[Position, ...], Field(max_length=MOST_DEVICES)] = ()


def to_data(item: BaseModel) -> dict[str, Any]:
    """`item` as plain data for YAML or JSON, without what is at its default."""
    return item.model_dump(mode="json", by_alias=True, exclude_defaults=True)


def read_member(text: str) -> AddressBlock:
    return read_block(text, Family.IPV6 if ":" in text else Family.IPV4)
