"""What all items of a document are made of: the base, names, addresses, values held as text."""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network
from types import UnionType
from typing import Annotated, Any

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainValidator,
    StringConstraints,
)

from greyheron.model.notation.frames import read_own_mac
from greyheron.model.notation.terms import DOMAIN_NAME
from greyheron.model.values import (
    Family,
)

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


def in_notation(kind: type | UnionType, read: Callable[[str], object], example: str) -> PlainValidator:
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
