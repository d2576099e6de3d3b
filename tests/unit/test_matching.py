"""§3, case by case: which entry decides about which packet."""

import re
from ipaddress import IPv4Address

import pytest

from greyheron.core.lists.matching import decide
from greyheron.core.lists.resolved import Names, resolve
from greyheron.core.packet import Packet
from greyheron.model.document import AccessList
from greyheron.model.header import TcpFlags
from greyheron.model.names import PROTOCOLS
from greyheron.model.read import read_network
from greyheron.model.values import Family

NETWORK = read_network(
    {
        "format": "grey-heron/1",
        "name": "sets",
        "devices": [
            {
                "name": "sluice",
                "kind": "router",
                "interfaces": [
                    {"name": "eth0", "addresses": ["172.20.0.1/30", "172.20.9.1/24"]},
                    {"name": "lo0", "addresses": ["172.20.255.1/32"]},
                ],
            },
            {
                "name": "beyond",
                "kind": "outside",
                "interfaces": [{"name": "wan0", "addresses": ["203.0.113.1/30"]}],
                "prefixes": ["198.51.100.0/24"],
            },
            {
                "name": "shadow",
                "kind": "host",
                "interfaces": [{"name": "eth0", "addresses": ["172.20.77.7/24"]}],
            },
        ],
        "address_sets": [
            {"name": "hides", "members": ["172.20.48.0/24", "172.20.49.5", "2001:db8:48::/64"]},
            {"name": "none", "members": []},
            {"name": "shadow", "members": ["172.20.88.0/24"]},
        ],
        "port_sets": [{"name": "web", "members": ["80", "443"]}, {"name": "high", "members": [">=1024"]}],
    }
)
FLAGS = {"S": TcpFlags.SYN, "A": TcpFlags.ACK, "R": TcpFlags.RST, "F": TcpFlags.FIN}
PACKET = re.compile(r"(\S+) (\S+?)(?::(\d+))? > (\S+?)(?::(\d+))?(?: ([SARF]+|\d+/\d+))?")


def packet(text: str) -> Packet:
    """`tcp 172.20.1.1:49152 > 172.20.2.2:80 S`, `icmp A > B 8/0`, `47 A > B`."""
    match = PACKET.fullmatch(text)
    assert match is not None, text
    protocol, source, source_port, destination, destination_port, rest = match.groups()
    number = int(protocol) if protocol.isdigit() else PROTOCOLS[protocol]
    flags = TcpFlags.NONE
    icmp: tuple[int | None, int | None] = (None, None)
    if rest and "/" in rest:
        kind, code = map(int, rest.split("/"))
        icmp = (kind, code)
    elif rest:
        for letter in rest:
            flags |= FLAGS[letter]
    return Packet(
        Family.IPV4,
        int(IPv4Address(source)),
        int(IPv4Address(destination)),
        number,
        int(source_port) if source_port else None,
        int(destination_port) if destination_port else None,
        flags,
        *icmp,
    )


WEB = "tcp 172.20.16.21:49152 > 172.20.40.10:443 S"
TELNET = "tcp 172.20.16.21:49152 > 172.20.40.10:23 S"
DNS = "udp 172.20.16.21:49152 > 172.20.40.53:53"
PING = "icmp 172.20.16.21 > 172.20.40.10 8/0"

# Each case: entries, packet, and what decides: an entry's number, or None for the implicit deny.
CASES: dict[str, tuple[str, str, str]] = {
    # order and ends of lists
    "first match decides, though a later entry matches too": ("10 permit any\n20 deny any", WEB, "permit 10"),
    "order is by number, not by line": ("20 deny any\n10 permit any", WEB, "permit 10"),
    "an earlier deny wins over a later permit": ("10 deny tcp\n20 permit any", WEB, "deny 10"),
    "the second entry, when the first does not match": ("10 deny udp\n20 permit tcp", WEB, "permit 20"),
    "nothing matches: implicit deny": ("10 permit udp", WEB, "deny None"),
    "an empty list denies": ("", WEB, "deny None"),
    "a list of denies alone denies the rest too": ("10 deny udp", WEB, "deny None"),
    "a missing from and to mean any": ("10 permit tcp", WEB, "permit 10"),
    # protocols
    "any matches TCP": ("10 permit any", WEB, "permit 10"),
    "any matches a protocol without ports": ("10 permit any", "gre 172.20.1.1 > 172.20.2.2", "permit 10"),
    "tcp does not match UDP": ("10 permit tcp", DNS, "deny None"),
    "udp does not match TCP": ("10 permit udp", WEB, "deny None"),
    "icmp is the family's own": ("10 permit icmp", PING, "permit 10"),
    "a protocol by number": ("10 permit 47", "gre 172.20.1.1 > 172.20.2.2", "permit 10"),
    "a protocol by name": ("10 permit ospf", "89 172.20.1.1 > 172.20.2.2", "permit 10"),
    "protocol 0 is not any": ("10 permit 0", WEB, "deny None"),
    # addresses
    "one address": ("10 permit any from 172.20.16.21", WEB, "permit 10"),
    "its neighbour": ("10 permit any from 172.20.16.22", WEB, "deny None"),
    "a prefix holds its members": ("10 permit any from 172.20.16.0/24", WEB, "permit 10"),
    "a prefix does not hold the next one": ("10 permit any from 172.20.17.0/24", WEB, "deny None"),
    "a /0 is any": ("10 permit any from 0.0.0.0/0", WEB, "permit 10"),
    "a /31": ("10 permit any from 172.20.16.20/31", WEB, "permit 10"),
    "a /30's last": ("10 permit any from 172.20.16.20/30", "tcp 172.20.16.23:1 > 172.20.1.1:1", "permit 10"),
    "behind a /30's last": (
        "10 permit any from 172.20.16.20/30",
        "tcp 172.20.16.24:1 > 172.20.1.1:1",
        "deny None",
    ),
    "destination by prefix": ("10 deny any to 172.20.40.0/24\n20 permit any", WEB, "deny 10"),
    "source and destination both count": (
        "10 permit any from 172.20.16.21 to 172.20.40.11",
        WEB,
        "deny None",
    ),
    "source is not destination": ("10 permit any from 172.20.40.10 to 172.20.16.21", WEB, "deny None"),
    # wildcard masks: ones do not matter
    "a wildcard like a prefix": ("10 permit any from 172.20.16.0~0.0.0.255", WEB, "permit 10"),
    "a wildcard of zeros is one address": ("10 permit any from 172.20.16.21~0.0.0.0", WEB, "permit 10"),
    "a wildcard of ones is any": ("10 permit any from 172.20.99.99~255.255.255.255", WEB, "permit 10"),
    "odd hosts only: odd": ("10 permit any from 172.20.16.1~0.0.0.254", WEB, "permit 10"),
    "odd hosts only: even": (
        "10 permit any from 172.20.16.1~0.0.0.254",
        "tcp 172.20.16.22:1 > 172.20.1.1:1",
        "deny None",
    ),
    "even hosts only": (
        "10 permit any from 172.20.16.0~0.0.0.254",
        "tcp 172.20.16.22:1 > 172.20.1.1:1",
        "permit 10",
    ),
    "the same host in every site: here": (
        "10 permit any from 172.20.0.21~0.0.255.0",
        WEB,
        "permit 10",
    ),
    "the same host in every site: another host": (
        "10 permit any from 172.20.0.22~0.0.255.0",
        WEB,
        "deny None",
    ),
    "two bits far apart": (
        "10 permit any from 172.20.16.21~0.0.2.8",
        "tcp 172.20.18.29:1 > 172.20.1.1:1",
        "permit 10",
    ),
    "two bits far apart: a third one differs": (
        "10 permit any from 172.20.16.21~0.0.2.8",
        "tcp 172.20.18.28:1 > 172.20.1.1:1",
        "deny None",
    ),
    "a mask taken for a wildcard matches the wrong hosts": (
        "10 permit any from 172.20.16.0~255.255.255.0",
        WEB,
        "deny None",
    ),
    "bits of the address under the wildcard do not matter": (
        "10 permit any from 172.20.16.77~0.0.0.255",
        WEB,
        "permit 10",
    ),
    "even second octet, any host": (
        "10 permit any to 172.20.0.0~0.2.255.255",
        "tcp 172.20.1.1:1 > 172.22.3.4:5",
        "permit 10",
    ),
    # sets and devices
    "a set's prefix": ("10 permit any from @hides", "tcp 172.20.48.9:1 > 172.20.1.1:1", "permit 10"),
    "a set's single address": ("10 permit any from @hides", "tcp 172.20.49.5:1 > 172.20.1.1:1", "permit 10"),
    "outside a set": ("10 permit any from @hides", "tcp 172.20.49.6:1 > 172.20.1.1:1", "deny None"),
    "an empty set matches nobody": ("10 permit any from @none\n20 deny any", WEB, "deny 20"),
    "a device by its first address": (
        "10 permit any to @sluice",
        "tcp 172.20.1.1:1 > 172.20.0.1:1",
        "permit 10",
    ),
    "a device by its second address": (
        "10 permit any to @sluice",
        "tcp 172.20.1.1:1 > 172.20.9.1:1",
        "permit 10",
    ),
    "a device by its loopback": (
        "10 permit any to @sluice",
        "tcp 172.20.1.1:1 > 172.20.255.1:1",
        "permit 10",
    ),
    "a device does not stand for its prefix": (
        "10 permit any to @sluice",
        "tcp 172.20.1.1:1 > 172.20.9.2:1",
        "deny None",
    ),
    "an outside network stands for its prefixes": (
        "10 permit any to @beyond",
        "tcp 172.20.1.1:1 > 198.51.100.7:1",
        "permit 10",
    ),
    "a set comes before a device of its name": (
        "10 permit any to @shadow",
        "tcp 172.20.1.1:1 > 172.20.77.7:1",
        "deny None",
    ),
    # ports
    "a port": ("10 permit tcp to any port 443", WEB, "permit 10"),
    "another port": ("10 permit tcp to any port 444", WEB, "deny None"),
    "a port by name": ("10 deny tcp to any port telnet\n20 permit any", TELNET, "deny 10"),
    "= before a port": ("10 permit tcp to any port =443", WEB, "permit 10"),
    "!= another": ("10 permit tcp to any port !=80", WEB, "permit 10"),
    "!= the same": ("10 permit tcp to any port !=443", WEB, "deny None"),
    ">= from it on": ("10 permit tcp to any port >=443", WEB, "permit 10"),
    ">= below it": ("10 permit tcp to any port >=444", WEB, "deny None"),
    "<= up to it": ("10 permit tcp to any port <=443", WEB, "permit 10"),
    "<= above it": ("10 permit tcp to any port <=442", WEB, "deny None"),
    "a range's ends belong to it": ("10 permit tcp to any port 400-443", WEB, "permit 10"),
    "outside a range": ("10 permit tcp to any port 444-500", WEB, "deny None"),
    "one of several": ("10 permit tcp to any port 22,80,443", WEB, "permit 10"),
    "none of several": ("10 permit tcp to any port 22,80,8000-8080", WEB, "deny None"),
    "a port set": ("10 permit tcp to any port @web", WEB, "permit 10"),
    "a port set beside a number": ("10 permit tcp to any port 23,@web", TELNET, "permit 10"),
    "outside a port set": ("10 permit tcp to any port @web", TELNET, "deny None"),
    "a source port": ("10 permit tcp from any port 49152", WEB, "permit 10"),
    "a source port is not a destination port": ("10 permit tcp from any port 443", WEB, "deny None"),
    "both ports": ("10 permit tcp from any port @high to any port 443", WEB, "permit 10"),
    "ports with tcp never match UDP": ("10 permit tcp to any port 53", DNS, "deny None"),
    "ports with udp": ("10 permit udp to any port domain", DNS, "permit 10"),
    "port 0 can be told from any": ("10 permit tcp to any port 0", WEB, "deny None"),
    "the highest port": (
        "10 permit udp to any port >=65535",
        "udp 172.20.1.1:1 > 172.20.2.2:65535",
        "permit 10",
    ),
    # ICMP
    "an ICMP type by name": ("10 permit icmp echo-request", PING, "permit 10"),
    "another ICMP type": ("10 permit icmp echo-reply", PING, "deny None"),
    "an ICMP type by number, any code": (
        "10 permit icmp 3",
        "icmp 172.20.1.1 > 172.20.2.2 3/13",
        "permit 10",
    ),
    "an ICMP type and code": ("10 permit icmp 3/13", "icmp 172.20.1.1 > 172.20.2.2 3/13", "permit 10"),
    "another ICMP code": ("10 permit icmp 3/1", "icmp 172.20.1.1 > 172.20.2.2 3/13", "deny None"),
    "a name that is a type and code": (
        "10 permit icmp prohibited",
        "icmp 172.20.1.1 > 172.20.2.2 3/13",
        "permit 10",
    ),
    "an entry with an ICMP type never matches TCP": ("10 permit icmp 8", WEB, "deny None"),
    # established
    "established does not match a SYN": ("10 permit tcp established", WEB, "deny None"),
    "established matches SYN+ACK": (
        "10 permit tcp established",
        "tcp 172.20.40.10:443 > 172.20.16.21:49152 SA",
        "permit 10",
    ),
    "established matches ACK": (
        "10 permit tcp established",
        "tcp 172.20.1.1:1 > 172.20.2.2:2 A",
        "permit 10",
    ),
    "established matches RST": (
        "10 permit tcp established",
        "tcp 172.20.1.1:1 > 172.20.2.2:2 R",
        "permit 10",
    ),
    "established does not match FIN alone": (
        "10 permit tcp established",
        "tcp 172.20.1.1:1 > 172.20.2.2:2 F",
        "deny None",
    ),
    "established with a port": (
        "10 permit tcp from any port 443 to any established",
        "tcp 172.20.40.10:443 > 172.20.16.21:49152 SA",
        "permit 10",
    ),
}

STANDARD: dict[str, tuple[str, str, str]] = {
    "a standard list looks at the source": ("10 permit 172.20.16.0/24", WEB, "permit 10"),
    "and not at the destination": ("10 permit 172.20.40.10", WEB, "deny None"),
    "nor at the protocol": ("10 deny from 172.20.16.21\n20 permit any", PING, "deny 10"),
    "nor at ports": ("10 deny from 172.20.16.21\n20 permit any", DNS, "deny 10"),
    "its wildcards need not be contiguous": ("10 permit from 172.20.16.1~0.0.0.254 log", WEB, "permit 10"),
}


def decided(entries: str, kind: str, text: str) -> str:
    access_list = AccessList.model_validate(
        {"name": "case", "family": "ipv4", "kind": kind, "entries": entries}
    )
    decision = decide(resolve(access_list, Names(NETWORK)), packet(text))
    return f"{decision.action} {decision.entry}"


@pytest.mark.parametrize(("entries", "text", "expected"), CASES.values(), ids=CASES.keys())
def test_extended_list(entries: str, text: str, expected: str) -> None:
    assert decided(entries, "extended", text) == expected


@pytest.mark.parametrize(("entries", "text", "expected"), STANDARD.values(), ids=STANDARD.keys())
def test_standard_list(entries: str, text: str, expected: str) -> None:
    assert decided(entries, "standard", text) == expected


def test_every_earlier_entry_is_named_with_the_field_that_differs() -> None:
    access_list = AccessList.model_validate(
        {
            "name": "case",
            "family": "ipv4",
            "kind": "extended",
            "entries": "10 deny udp\n20 deny tcp from 172.20.99.0/24\n30 deny tcp to 172.20.41.0/24\n"
            "40 deny tcp from any port 80\n50 deny tcp to any port 80\n"
            "60 deny tcp established\n70 permit any",
        }
    )
    decision = decide(resolve(access_list, Names(NETWORK)), packet(WEB))
    assert [(each.entry, str(each.field)) for each in decision.passed_over] == [
        (10, "protocol"),
        (20, "source"),
        (30, "destination"),
        (40, "source port"),
        (50, "destination port"),
        (60, "established"),
    ]


@pytest.mark.parametrize("icmp_type", [133, 134, 135, 136])
def test_ipv6_lists_permit_neighbour_discovery_before_the_implicit_deny(icmp_type: int) -> None:
    def action(entries: str, kind: int) -> str:
        access_list = AccessList.model_validate(
            {"name": "case", "family": "ipv6", "kind": "extended", "entries": entries}
        )
        found = Packet(Family.IPV6, 1, 2, 58, icmp_type=kind, icmp_code=0)
        return decide(resolve(access_list, Names(NETWORK)), found).action

    assert action("10 deny tcp", icmp_type) == "permit"
    assert action("10 deny icmp", icmp_type) == "deny"
    assert action("10 deny tcp", 128) == "deny"
