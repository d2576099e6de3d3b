"""§6: session tracking, firewalls and zones."""

from dataclasses import replace

import pytest

from greyheron.core.connection import ConnectionState
from greyheron.core.conversation import converse
from greyheron.core.packet import TcpFlags
from greyheron.core.walk import walk
from greyheron.core.world import build_world
from greyheron.model.notation.flows import read_bare_flow
from tests.cases import Case, all_of, check, traced
from tests.lab import Lab

# inner (desk) – wall – yard (server) and outer (beyond); the order of trust is inner, yard, outer.
WALL = """
devices:
  - name: wall
    kind: firewall
    interfaces:
      - {name: in0, addresses: [172.20.1.1/24]}
      - {name: in1, addresses: [172.20.2.1/24]}
      - {name: yard0, addresses: [172.20.8.1/24]}
      - {name: out0, addresses: [203.0.113.1/24]}
      - {name: spare0, addresses: [172.20.9.1/24]}
    zones:
      - {name: inner, interfaces: [in0, in1]}
      - {name: yard, interfaces: [yard0]}
      - {name: outer, interfaces: [out0]}
    lines: [{name: remote, transports: [ssh]}]
  - {name: desk, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.10/24]}], gateway: 172.20.1.1,
     services: [{name: web, protocol: tcp, port: 80}]}
  - {name: shed, kind: host, interfaces: [{name: eth0, addresses: [172.20.2.10/24]}], gateway: 172.20.2.1,
     services: [{name: web, protocol: tcp, port: 80}]}
  - {name: server, kind: host, interfaces: [{name: eth0, addresses: [172.20.8.10/24]}], gateway: 172.20.8.1,
     services: [{name: web, protocol: tcp, port: 80}, {name: names, protocol: udp, port: 53}]}
  - {name: visitor, kind: host, gateway: 203.0.113.1,
     interfaces: [{name: eth0, addresses: [203.0.113.10/24]}],
     services: [{name: web, protocol: tcp, port: 80}]}
  - {name: odd, kind: host, interfaces: [{name: eth0, addresses: [172.20.9.10/24]}], gateway: 172.20.9.1,
     services: [{name: web, protocol: tcp, port: 80}]}
links:
  - {ends: ["wall:in0", "desk:eth0"]}
  - {ends: ["wall:in1", "shed:eth0"]}
  - {ends: ["wall:yard0", "server:eth0"]}
  - {ends: ["wall:out0", "visitor:eth0"]}
  - {ends: ["wall:spare0", "odd:eth0"]}
"""


def untracked(lab: Lab) -> None:
    lab.device("wall").update(tracks=[])


CASES = {
    "from more to less trusted passes, replies too": Case("desk → server web", "passes"),
    "two zones down passes": Case("desk → visitor web", "passes"),
    "from less to more trusted is denied": Case(
        "visitor → desk web", "blocked", "zones deny: from outer to inner", sees="nothing: a timeout"
    ),
    "one zone up is denied": Case("server → desk web", "blocked", "zones deny: from yard to inner"),
    "within a zone is denied": Case("desk → shed web", "blocked", "zones deny: from inner to inner"),
    "unless the firewall says so": Case(
        "desk → shed web", "passes", change=lambda lab: lab.device("wall").update(same_zone=True)
    ),
    "an interface in no zone gets nowhere": Case("odd → visitor web", "blocked", "from no zone to outer"),
    "and nobody gets there": Case("desk → odd web", "blocked", "from inner to no zone"),
    "an inbound list alone decides: it opens the way up": Case(
        "visitor → server web",
        "passes",
        change=lambda lab: lab.place("wall out0 in", "permit tcp to @server port 80"),
    ),
    "an inbound list alone decides: it closes the way down": Case(
        "desk → server web",
        "blocked",
        "entering wall by in0: list denies, implicit deny",
        lambda lab: lab.place("wall in0 in", "permit udp"),
    ),
    "a list of the other family leaves the zones in force": Case(
        "visitor → server web",
        "blocked",
        "zones deny",
        lambda lab: lab.place("wall out0 in", "permit any", family="ipv6"),
    ),
    "an outbound list must permit as well": Case(
        "desk → server web",
        "blocked",
        "leaving wall by yard0",
        lambda lab: lab.place("wall yard0 out", "deny tcp\npermit any"),
    ),
    "an outbound list does not open the way up": Case(
        "visitor → server web",
        "blocked",
        "zones deny",
        lambda lab: lab.place("wall yard0 out", "permit any"),
    ),
    "zones do not concern the firewall's own addresses": Case("visitor → wall:out0 ping", "passes"),
    "nor logins to it": Case("visitor → wall:out0 ssh", "passes"),
    "a tracked reply skips the list that would block it": Case(
        "desk → server web", "passes", change=lambda lab: lab.place("wall yard0 in", "deny any")
    ),
    "without tracking the reply meets the zones": Case(
        "desk → server web", "blocked", "on the way home, in wall: zones deny: from yard to inner", untracked
    ),
    "without tracking the reply meets the list": Case(
        "desk → server web",
        "blocked",
        "on the way home, entering wall by yard0",
        all_of(untracked, lambda lab: lab.place("wall yard0 in", "deny any")),
    ),
    "tracking of tcp alone leaves UDP replies to the zones": Case(
        "desk → server names",
        "blocked",
        "on the way home",
        lambda lab: lab.device("wall").update(tracks=["tcp"]),
    ),
    "tracked UDP": Case("desk → server names", "passes"),
    "tracked ping": Case("desk → server ping", "passes"),
    "an ICMP error about a session passes": Case(
        "desk → server udp/99",
        "refused",
        change=lambda lab: lab.place("wall yard0 in", "deny any"),
        sees="port unreachable",
    ),
    "an untracked protocol is checked packet by packet": Case(
        "visitor → server protocol/47",
        "blocked",
        "zones deny",
    ),
    "a firewall does not answer what it denies": Case(
        "desk → server web",
        "blocked",
        change=lambda lab: lab.place("wall in0 in", "deny any"),
        sees="nothing: a timeout",
    ),
    "unless it is told to": Case(
        "desk → server web",
        "blocked",
        change=all_of(
            lambda lab: lab.place("wall in0 in", "deny any"),
            lambda lab: lab.device("wall").update(answers_denied=True),
        ),
        sees="administratively prohibited from 172.20.1.1",
    ),
    "a host's own filter lets replies in": Case(
        "desk → server web", "passes", change=lambda lab: lab.place("desk eth0 in", "deny any")
    ),
    "and keeps others out": Case(
        "server → desk web",
        "blocked",
        "entering desk by eth0",
        all_of(
            lambda lab: lab.place("wall yard0 in", "permit any"),
            lambda lab: lab.place("desk eth0 in", "deny any", name="own"),
        ),
    ),
    "a host that tracks nothing blocks its own replies": Case(
        "desk → server web",
        "blocked",
        "on the way home, entering desk by eth0",
        all_of(
            lambda lab: lab.place("desk eth0 in", "deny any"),
            lambda lab: lab.device("desk").update(tracks=[]),
        ),
    ),
    "a server's filter lets its replies out": Case(
        "desk → server web", "passes", change=lambda lab: lab.place("server eth0 out", "deny any")
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_firewalls(case: Case) -> None:
    check(Lab.of(WALL), case)


@pytest.mark.parametrize("flags", [TcpFlags.ACK, TcpFlags.SYN | TcpFlags.ACK, TcpFlags.RST, TcpFlags.FIN])
def test_a_packet_that_cannot_begin_a_session_is_dropped(flags: TcpFlags) -> None:
    world = build_world(Lab.of(WALL).place("wall out0 in", "permit any").network())
    syn = converse(world, read_bare_flow("visitor → server web")).exchanges[0].legs[0].path.packet
    paths, _ = walk(world, replace(syn, flags=flags), "visitor", ConnectionState())
    assert [(path.last.device, path.outcome.value) for path in paths] == [("wall", "no session")]
    bare = build_world(Lab.of(WALL).place("wall out0 in", "permit any").with_(untracked).network())
    paths, _ = walk(bare, replace(syn, flags=flags), "visitor", ConnectionState())
    assert paths[0].last.device == "server"


def test_zones_and_sessions_remain_in_the_baseline() -> None:
    lab = Lab.of(WALL).place("wall out0 in", "permit any")
    assert traced(lab, "visitor → server web").verdict == "passes"
    assert traced(lab, "visitor → server web", baseline=True).verdict == "blocked"
