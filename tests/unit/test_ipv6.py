"""IPv6 throughout: link-local addresses, neighbour discovery, source choice (§1, §3, §4)."""

import pytest

from greyheron.core.network.addresses import derived_link_local
from greyheron.model.values import Family
from tests.cases import Case, check, traced
from tests.lab import Lab

# left – r1 – r2 – right; r1 and r2 know each other by link-local addresses only.
LINE = """
devices:
  - name: left
    kind: host
    interfaces: [{name: eth0, addresses: ["2001:db8:1::10/64", 172.20.1.10/24]}]
    gateway6: fe80::1
    gateway: 172.20.1.1
  - {name: mate, kind: host, interfaces: [{name: eth0, addresses: ["2001:db8:1::11/64"]}]}
  - {name: sw, kind: switch, interfaces: [{name: p1}, {name: p2}, {name: p3}]}
  - name: r1
    kind: router
    interfaces:
      - {name: eth0, addresses: ["2001:db8:1::1/64", "fe80::1/64", 172.20.1.1/24]}
      - {name: wan0, addresses: ["fe80::1/64"]}
      - {name: lo0, addresses: ["2001:db8:ff::1/128"]}
    routes: [{to: "2001:db8:2::/64", via: "fe80::2", interface: wan0}]
  - name: r2
    kind: router
    interfaces:
      - {name: wan0, addresses: ["fe80::2/64"]}
      - {name: eth0, addresses: ["2001:db8:2::1/64", "fe80::1/64"]}
      - {name: lo0, addresses: ["2001:db8:ff::2/128"]}
    routes:
      - {to: "2001:db8:1::/64", via: "fe80::1", interface: wan0}
      - {to: "2001:db8:ff::1/128", via: "fe80::1", interface: wan0}
    lines: [{name: remote, transports: [ssh]}]
  - name: right
    kind: host
    interfaces: [{name: eth0, addresses: ["2001:db8:2::10/64"]}]
    gateway6: "2001:db8:2::1"
    services: [{name: web, protocol: tcp, port: 80}]
links:
  - {ends: ["left:eth0", "sw:p1"]}
  - {ends: ["mate:eth0", "sw:p2"]}
  - {ends: ["sw:p3", "r1:eth0"]}
  - {ends: ["r1:wan0", "r2:wan0"]}
  - {ends: ["r2:eth0", "right:eth0"]}
"""


def home_another_way(lab: Lab) -> None:
    """r2 hears from the left by wan0, and answers by alt0."""
    lab.interface("r1", "wan0")["addresses"].append("2001:db8:f::1/64")
    lab.interface("r2", "wan0")["addresses"].append("2001:db8:f::2/64")
    lab.device("r1")["interfaces"].append({"name": "alt0", "addresses": ["2001:db8:e::1/64"]})
    lab.device("r2")["interfaces"].append({"name": "alt0", "addresses": ["2001:db8:e::2/64"]})
    lab.data["links"].append({"ends": ["r1:alt0", "r2:alt0"]})
    lab.without_route("r2", "2001:db8:1::/64").route("r2", "2001:db8:1::/64", via="2001:db8:e::1")


def v6(at: str, entries: str) -> dict[str, str]:
    return {"at": at, "entries": entries, "family": "ipv6"}


CASES = {
    "over link-local next hops": Case("left → right web", "passes"),
    "ping": Case("left → right ping", "passes"),
    "a flow follows the family that both ends have": Case("left → mate ping", "passes"),
    "no IPv4 there": Case("left → 172.20.2.10 ping", "unreachable", "r1 stops: no route"),
    "an error comes from where the packet came in, by whatever way it goes": Case(
        "left → 2001:db8:2::77 ping",
        "unreachable",
        change=home_another_way,
        sees="host unreachable from 2001:db8:f::2",
    ),
    "a link-local neighbour": Case("left → fe80::1 ping", "passes"),
    "a link-local address is no further than the segment": Case(
        "left → fe80::2 ping", "unreachable", "left stops"
    ),
    "an unknown neighbour": Case(
        "left → 2001:db8:2::77 ping", "unreachable", "nobody on eth0 answers", sees="host unreachable"
    ),
    "nobody at a link-local address": Case(
        "left → fe80::77 ping",
        "unreachable",
        "nobody on eth0 answers",
        sees="host unreachable, said by itself",
    ),
    "a possible host asks for its gateway from its own address": Case(
        "2001:db8:1::99/64 → right web",
        "blocked",
        "neighbour discovery is stopped entering r1 by eth0: list denies, entry 10",
        lambda lab: lab.place(
            **v6("r1 eth0 in", "deny icmp neighbour-solicitation from 2001:db8:1::/64\npermit any")
        ),
    ),
    "what was sent to a far address of a router is answered from there": Case(
        "left → r1:lo0 udp/9 ipv6", "refused", sees="port unreachable from 2001:db8:ff::1"
    ),
    "so is what a list denied on its way to it": Case(
        "left → r1:lo0 udp/9 ipv6",
        "blocked",
        change=lambda lab: lab.place(**v6("r1 eth0 in", "deny udp\npermit any")),
        sees="administratively prohibited from 2001:db8:ff::1",
    ),
    "one deny ends all but neighbour discovery": Case(
        "left → right web",
        "blocked",
        "entering r1 by eth0: list denies, implicit deny",
        lambda lab: lab.place(**v6("r1 eth0 in", "deny tcp to any port 23")),
        sees="administratively prohibited from 2001:db8:1::1",
    ),
    "neighbours are still found under it": Case(
        "mate → r1:eth0 ping",
        "blocked",
        "entering r1 by eth0: list denies, implicit deny",
        lambda lab: lab.place(**v6("r1 eth0 in", "deny tcp")),
    ),
    "an explicit deny stops discovery itself": Case(
        "left → right web",
        "blocked",
        "neighbour discovery is stopped entering r1 by eth0: list denies, entry 20",
        lambda lab: lab.place(**v6("r1 eth0 in", "permit tcp\ndeny any")),
        sees="host unreachable, said by itself",
    ),
    "so it does for the advertisement": Case(
        "r1 → left ping ipv6",
        "blocked",
        "neighbour discovery is stopped entering r1 by eth0",
        lambda lab: lab.place(**v6("r1 eth0 in", "deny icmp neighbour-advertisement\npermit any")),
    ),
    "discovery between routers": Case(
        "left → right web",
        "blocked",
        "neighbour discovery is stopped entering r2 by wan0",
        lambda lab: lab.place(**v6("r2 wan0 in", "permit tcp\ndeny any")),
        sees="host unreachable from 2001:db8:1::1",
    ),
    "an IPv4 list is not asked": Case(
        "left → right web", "passes", change=lambda lab: lab.place("r1 eth0 in", "deny any")
    ),
    "own packets: a global source where the interface has none": Case("r1 → right web", "passes"),
    "that source is known to lists": Case(
        "r1 → right web",
        "passes",
        change=lambda lab: lab.place(**v6("r2 wan0 in", "permit tcp from 2001:db8:1::1")),
    ),
    "a chosen source interface": Case("r1:lo0 → right web", "passes"),
    "a login, and a list on the line": Case(
        "left → r2:lo0 ssh",
        "blocked",
        "r2’s remote line",
        lambda lab: lab.route("r1", "2001:db8:ff::2/128", via="fe80::2", interface="wan0").place(
            **v6("r2 remote in", "permit tcp from @mate")
        ),
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_ipv6(case: Case) -> None:
    check(Lab.of(LINE), case)


def test_a_link_local_address_is_derived_stably() -> None:
    one = derived_link_local("sluice", "eth0")
    assert one == derived_link_local("sluice", "eth0")
    assert one != derived_link_local("sluice", "eth1")
    assert Family.IPV6.text(one.address).startswith("fe80::")
    assert Family.IPV6.text(one.prefix.value) == "fe80::"


def test_the_trace_shows_ipv6_addresses() -> None:
    found = traced(Lab.of(LINE), "left → right web").exchanges[0]
    assert found.sees.text == "reply from 2001:db8:2::10"
