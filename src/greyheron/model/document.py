"""The network document: what is saved, edited, applied and exchanged.

Reading outside data goes through `greyheron.model.read`, which reports every problem at once.
"""

from typing import Annotated, Any, Final, Literal

from pydantic import (
    BaseModel,
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

from greyheron.model.device import Device
from greyheron.model.entry import AddressBlock, ListBody, PortTerm
from greyheron.model.flow import ExpectedFlow
from greyheron.model.item import (
    InterfaceName,
    Item,
    Name,
    Text,
    in_notation,
)
from greyheron.model.notation.flows import read_expected_flow, write_expected_flow
from greyheron.model.notation.lists import read_body, write_body
from greyheron.model.notation.periods import read_window
from greyheron.model.notation.requirements import read_requirement, write_requirement
from greyheron.model.notation.terms import read_block, read_ports
from greyheron.model.period import Window
from greyheron.model.requirement import Statement
from greyheron.model.values import (
    Direction,
    Family,
    ListKind,
)

FORMAT: Final = "grey-heron/1"


MOST_DEVICES = 12_000
"""More than the largest network that we plan for has: it keeps every computation bounded."""


MOST_PERIODS = 40


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
                in_notation(Window, read_window, "mon-fri 08:00-18:00"),
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
        in_notation(ExpectedFlow, read_expected_flow, "kiosk → ledger tcp/443 pass"),
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
        in_notation(Statement, read_requirement, "only wardens-desk → routers remote"),
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
