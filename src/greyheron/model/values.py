"""The small closed sets of words that a network is described with."""

from enum import StrEnum
from ipaddress import IPv4Address, IPv6Address


class Family(StrEnum):
    IPV4 = "ipv4"
    IPV6 = "ipv6"

    @property
    def bits(self) -> int:
        """Width of an address, in bits."""
        return 32 if self is Family.IPV4 else 128

    @property
    def every_bit(self) -> int:
        """An address with every bit set."""
        return (1 << self.bits) - 1

    @property
    def icmp(self) -> int:
        """The protocol number of the family's ICMP (IANA)."""
        return 1 if self is Family.IPV4 else 58

    @property
    def echo(self) -> tuple[int, int]:
        """The ICMP types of echo request and echo reply (RFC 792, RFC 4443)."""
        return (8, 0) if self is Family.IPV4 else (128, 129)

    @property
    def word(self) -> str:
        """The family's name in a sentence."""
        return "IPv4" if self is Family.IPV4 else "IPv6"

    def text(self, address: int) -> str:
        """`address` as the RFCs write it (RFC 5952 for IPv6)."""
        return str(IPv4Address(address) if self is Family.IPV4 else IPv6Address(address))


class DeviceKind(StrEnum):
    ROUTER = "router"
    FIREWALL = "firewall"
    HOST = "host"
    SWITCH = "switch"
    OUTSIDE = "outside"


class ListKind(StrEnum):
    STANDARD = "standard"
    EXTENDED = "extended"


class Action(StrEnum):
    PERMIT = "permit"
    DENY = "deny"


class Direction(StrEnum):
    """Seen from the device: `in` enters it, `out` leaves it."""

    IN = "in"
    OUT = "out"


class LineKind(StrEnum):
    """A way to log in to a device (2-semantics §5)."""

    REMOTE = "remote"
    WEB = "web"
    CONSOLE = "console"


class Expectation(StrEnum):
    PASS = "pass"
    BLOCK = "block"
