"""The small closed sets of words that a network is described with."""

from enum import StrEnum
from ipaddress import IPv6Address
from socket import AF_INET, AF_INET6, inet_ntop


class Family(StrEnum):
    """An address family, with what belongs to it. Plain attributes: they are read for every address.

    bits:  width of an address;  every_bit:  an address with every bit set
    lengths:  of prefixes, by their masks
    icmp:  the protocol number of its ICMP (IANA)
    echo:  the ICMP types of echo request and echo reply (RFC 792, RFC 4443)
    word:  its name in a sentence
    """

    IPV4 = "ipv4"
    IPV6 = "ipv6"

    def __init__(self, value: str) -> None:
        four = value == "ipv4"
        self.bits = 32 if four else 128
        self.every_bit = (1 << self.bits) - 1
        self.lengths = {self.every_bit ^ (self.every_bit >> bits): bits for bits in range(self.bits + 1)}
        self.icmp = 1 if four else 58
        self.echo = (8, 0) if four else (128, 129)
        self.word = "IPv4" if four else "IPv6"

    def text(self, address: int) -> str:
        """`address` as the RFCs write it (RFC 5952 for IPv6)."""
        if self is Family.IPV4:
            return inet_ntop(AF_INET, address.to_bytes(4))
        # The C library writes the last 32 bits as an IPv4 address where only zeros or ffff go before them.
        return inet_ntop(AF_INET6, address.to_bytes(16)) if address >> 48 else str(IPv6Address(address))


class DeviceKind(StrEnum):
    ROUTER = "router"
    FIREWALL = "firewall"
    HOST = "host"
    SWITCH = "switch"
    OUTSIDE = "outside"


class ListKind(StrEnum):
    STANDARD = "standard"
    EXTENDED = "extended"
    FRAME = "frame"


class Action(StrEnum):
    PERMIT = "permit"
    DENY = "deny"


class Direction(StrEnum):
    """Seen from the device: `in` enters it, `out` leaves it."""

    IN = "in"
    OUT = "out"


class LineKind(StrEnum):
    """A way to log in to a device (§5)."""

    REMOTE = "remote"
    WEB = "web"
    CONSOLE = "console"


class State(StrEnum):
    """What a network is looked at as: its draft with no lists, what is running, its draft."""

    BASELINE = "baseline"
    RUNNING = "running"
    DRAFT = "draft"


class DenialAnswer(StrEnum):
    """What a device says of a packet that a list at an interface or its zones deny (§4)."""

    PROHIBITED = "prohibited"
    HOST_UNREACHABLE = "host-unreachable"
    NETWORK_UNREACHABLE = "network-unreachable"
    PORT_UNREACHABLE = "port-unreachable"
    RESET = "reset"
    NOTHING = "nothing"


class LoginAnswer(StrEnum):
    """What a device says of a login that a line's list denies (§5)."""

    RESET = "reset"
    NOTHING = "nothing"


class Sees(StrEnum):
    """Whether a list is asked about a packet before or after its translation (§4)."""

    BEFORE = "before"
    AFTER = "after"


class Logged(StrEnum):
    """Denials that are no entry's, which a device may write to its log (§8)."""

    IMPLICIT_END = "implicit-end"
    ZONES = "zones"
    SESSIONS = "sessions"
    TRANSLATIONS = "translations"


class Expectation(StrEnum):
    PASS = "pass"
    BLOCK = "block"
