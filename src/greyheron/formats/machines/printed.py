"""What the collecting script prints of a machine, as its tools print it."""

from ipaddress import (
    IPv4Address,
    IPv4Interface,
    IPv4Network,
    IPv6Address,
    IPv6Interface,
    IPv6Network,
    ip_interface,
    ip_network,
)
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from greyheron.model.item import family_of
from greyheron.model.values import Family

FORMAT = "grey-heron/machine-1"


_KERNEL = "kernel"


AS_ROOT = "run the script as root"


_NOWHERE = frozenset({"blackhole", "unreachable", "prohibit"})


_LEARNT = frozenset({"ospf", "bgp", "rip", "isis", "babel", "eigrp", "zebra", "bird"})


class _Printed(BaseModel):
    model_config = ConfigDict(extra="ignore", frozen=True)


class Held(_Printed):
    """An address of an interface.

    address:  the peer's, where it is one end of a link between two
    noprefixroute:  whether no route to its prefix comes with it
    """

    local: IPv4Address | IPv6Address | None = None
    address: IPv4Address | IPv6Address | None = None
    prefixlen: int = Field(ge=0, le=128)
    scope: str = ""
    noprefixroute: bool = False

    @model_validator(mode="after")
    def _fits(self) -> "Held":
        if self.local is not None and self.prefixlen > self.local.max_prefixlen:
            raise ValueError(f"a prefix length of {self.prefixlen} for {self.local}")
        return self


class _VlanData(_Printed):
    id: int = Field(ge=1, le=4094)


class _Kind(_Printed):
    info_kind: str = ""
    info_data: dict[str, Any] = {}


class PortLine(_Printed):
    """An interface as `ip -j -d address` prints it."""

    ifname: str = Field(min_length=1, max_length=40)
    flags: tuple[str, ...] = ()
    address: str = ""
    link: str | None = None
    master: str | None = None
    linkinfo: _Kind = _Kind()
    addr_info: tuple[Held, ...] = ()

    @property
    def vlan(self) -> int | None:
        """Its tag, if it is a tagged subinterface of `link`."""
        if self.linkinfo.info_kind != "vlan" or self.link is None:
            return None
        try:
            return _VlanData.model_validate(self.linkinfo.info_data).id
        except ValidationError:
            return None

    @property
    def addresses(self) -> tuple[IPv4Interface | IPv6Interface, ...]:
        """Those that are not of the machine's own inside, link-local ones left out."""
        found = (
            ip_interface((each.local, each.prefixlen if each.address is None else each.local.max_prefixlen))
            for each in self.addr_info
            if each.local is not None and each.scope != "host"
        )
        return tuple(each for each in found if not each.ip.is_link_local and not each.ip.is_loopback)

    @property
    def peers(self) -> tuple[IPv4Network | IPv6Network, ...]:
        """What is at the other ends of links between two."""
        return tuple(
            ip_network((each.address, each.prefixlen), strict=False)
            for each in self.addr_info
            if each.address is not None and not each.address.is_link_local
        )


class HopLine(_Printed):
    gateway: IPv4Address | IPv6Address | None = None
    dev: str | None = None
    flags: tuple[str, ...] = ()
    via: dict[str, Any] | None = None


class RouteLine(HopLine):
    """A route as `ip -j route` prints it."""

    dst: str
    type: str = "unicast"
    protocol: str = ""
    metric: int = 0
    prefsrc: IPv4Address | IPv6Address | None = None
    nexthops: tuple[HopLine, ...] = ()

    @field_validator("dst")
    @classmethod
    def _a_prefix(cls, dst: str) -> str:
        return dst if dst == "default" else str(ip_network(dst, strict=False))

    def prefix(self, family: Family) -> str:
        if self.dst == "default":
            return "0.0.0.0/0" if family is Family.IPV4 else "::/0"
        return self.dst

    @property
    def nowhere(self) -> bool:
        return self.type in _NOWHERE

    @property
    def connected(self) -> bool:
        return self.protocol == _KERNEL

    @property
    def learnt(self) -> bool:
        return self.protocol in _LEARNT

    @property
    def hops(self) -> tuple[HopLine, ...]:
        return self.nexthops or (self,)


class _VlanLine(_Printed):
    vlan: int = Field(ge=1, le=4094)
    vlanEnd: int | None = Field(default=None, ge=1, le=4094)
    flags: tuple[str, ...] = ()


class _PortVlans(_Printed):
    ifname: str
    vlans: tuple[_VlanLine, ...] = ()


class PolicyLine(_Printed):
    """A rule of the routing policy as `ip -j rule` prints it."""

    priority: int = 0
    src: str | None = None
    srclen: int | None = None
    dst: str | None = None
    dstlen: int | None = None
    iif: str | None = None
    oif: str | None = None
    table: str | int | None = None
    action: str | None = None
    fwmark: str | None = None
    not_: bool | None = Field(default=None, alias="not")

    @staticmethod
    def block(text: str, length: int | None, family: Family) -> tuple[int, int]:
        """The first and last address of a selector; everything where it cannot be read."""
        try:
            network = ip_network(text if length is None else f"{text}/{length}", strict=False)
        except ValueError:
            return 0, family.every_bit
        if family_of(network) is not family:
            return 0, family.every_bit
        return int(network[0]), int(network[-1])

    @property
    def usual(self) -> bool:
        """Whether it is one that every machine has, or is for packets of the machine's own."""
        selects = any((self.fwmark, self.iif, self.oif, self.not_)) or self.src not in (None, "all")
        selects |= self.dst not in (None, "all")
        return str(self.table) in ("local", "main", "default", "255", "254", "253") and not selects

    @property
    def words(self) -> str:
        """What it selects."""
        said = (
            ("from", self.src),
            ("to", self.dst),
            ("in by", self.iif),
            ("out of", self.oif),
            ("marked", self.fwmark),
        )
        found = [f"{word} {value}" for word, value in said if value not in (None, "all")]
        return "what is " + ", ".join(found) if found else "everything"


class Collected(_Printed):
    """A file of the script `grey-heron collect` prints."""

    machine: str = Field(min_length=1, max_length=200)
    forwards4: str | None = None
    forwards6: str | None = None
    address: tuple[PortLine, ...] | None = None
    route: tuple[RouteLine, ...] | None = None
    route6: tuple[RouteLine, ...] | None = None
    vlan: tuple[_PortVlans, ...] | None = None
    ruleset: dict[str, Any] | None = None
    local: tuple[RouteLine, ...] | None = None
    local6: tuple[RouteLine, ...] | None = None
    listening: tuple[str, ...] = ()
    rule: tuple[PolicyLine, ...] | None = None
    rule6: tuple[PolicyLine, ...] | None = None
    flagged: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    legacy: tuple[str, ...] = ()
