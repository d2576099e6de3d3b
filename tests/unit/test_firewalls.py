"""§6: session tracking, firewalls and zones."""

import pytest
from msgspec.structs import replace

from greyheron.core.walk.addressing import first_packet
from greyheron.core.walk.connection import ConnectionState
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.walk import walk
from greyheron.core.world import build_world
from greyheron.model.header import TcpFlags
from greyheron.model.notation.flows import read_bare_flow
from tests.bulk import in_bulk
from tests.cases import Case, all_of, check, traced
from tests.lab import Lab
from tests.unit.test_reference import decider, explained

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


# The SYN goes by watch, the answer by plain: each desk uses its own gateway.
TWO_GATEWAYS = """
devices:
  - name: watch
    kind: router
    tracks: [tcp, udp]
    interfaces:
      - {name: eth0, addresses: [172.20.1.1/24]}
      - {name: eth1, addresses: [172.20.2.1/24]}
  - name: plain
    kind: router
    interfaces:
      - {name: eth0, addresses: [172.20.1.2/24]}
      - {name: eth1, addresses: [172.20.2.2/24]}
  - {name: near, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.10/24]}], gateway: 172.20.1.1,
     services: [{name: web, protocol: tcp, port: 80}, {name: names, protocol: udp, port: 53}]}
  - {name: far, kind: host, interfaces: [{name: eth0, addresses: [172.20.2.10/24]}], gateway: 172.20.2.2,
     services: [{name: web, protocol: tcp, port: 80}, {name: names, protocol: udp, port: 53}]}
  - {name: sw0, kind: switch, interfaces: [{name: p0}, {name: p1}, {name: p2}]}
  - {name: sw1, kind: switch, interfaces: [{name: p0}, {name: p1}, {name: p2}]}
links:
  - {ends: ["sw0:p0", "watch:eth0"]}
  - {ends: ["sw0:p1", "near:eth0"]}
  - {ends: ["sw0:p2", "plain:eth0"]}
  - {ends: ["sw1:p0", "watch:eth1"]}
  - {ends: ["sw1:p1", "plain:eth1"]}
  - {ends: ["sw1:p2", "far:eth0"]}
"""

ONE_WAY = {
    "a tracker that saw the SYN only stops the ACK, and the cause is named": Case(
        "near:eth0 → far web",
        "blocked",
        "blocked in watch: no such session: it saw the first packet but not the",
    ),
    "one that saw the answer only stops that": Case(
        "far:eth0 → near web", "blocked", "on the way home, in watch: no such session", sees="nothing"
    ),
    "that is named as asymmetric routing too": Case("far:eth0 → near web", "blocked", "asymmetric routing"),
    "UDP that comes one way only is a new conversation": Case("far:eth0 → near names", "passes"),
    "a list decides of it": Case(
        "far:eth0 → near names",
        "blocked",
        "on the way home, entering watch by eth0: list denies",
        lambda lab: lab.place("watch eth0 in", "deny udp from any port 53\npermit any"),
    ),
    "a router that does not track does not mind": Case(
        "near:eth0 → far web", "passes", change=lambda lab: lab.device("watch").pop("tracks")
    ),
    "a list on the way of the ACK comes first": Case(
        "near:eth0 → far web",
        "blocked",
        "entering door by eth0: list denies, entry 10",
        lambda lab: _with_a_door(lab),
    ),
}


def _with_a_door(lab: Lab) -> None:
    """near stands behind a router that lets nothing but SYN through."""
    lab.data["devices"].append(
        {
            "name": "door",
            "kind": "router",
            "interfaces": [
                {"name": "eth0", "addresses": ["172.20.5.1/24"]},
                {"name": "eth1", "addresses": ["172.20.1.3/24"]},
            ],
            "routes": [{"to": "0.0.0.0/0", "via": "172.20.1.1"}],
        }
    )
    lab.device("near").update(
        interfaces=[{"name": "eth0", "addresses": ["172.20.5.10/24"]}], gateway="172.20.5.1"
    )
    lab.data["links"][1]["ends"] = ["sw0:p1", "door:eth1"]
    lab.data["links"].append({"ends": ["door:eth0", "near:eth0"]})
    for router in ("watch", "plain"):
        lab.route(router, "172.20.5.0/24", via="172.20.1.3")
    lab.place("door eth0 in", "deny tcp established\npermit any")


@pytest.mark.parametrize("case", ONE_WAY.values(), ids=ONE_WAY.keys())
def test_a_tracker_that_saw_one_way_only(case: Case) -> None:
    check(Lab.of(TWO_GATEWAYS), case)


@pytest.mark.parametrize("case", ONE_WAY.values(), ids=ONE_WAY.keys())
def test_in_bulk_it_is_the_same(case: Case) -> None:
    network = Lab.of(TWO_GATEWAYS).with_(case.change).network()
    world, flow = build_world(network), read_bare_flow(case.flow)
    assert flow.source.device is not None
    walked = converse(world, flow)
    opener = first_packet(world, flow), flow.source.device
    expected = walked.verdict.value, [decider(exchange) for exchange in walked.exchanges]
    assert in_bulk(world, [opener]) == [explained(*expected)]


def untracked(lab: Lab) -> None:
    lab.device("wall").update(tracks=[])


def filters_itself(lab: Lab) -> None:
    lab.device("wall").update(filters_own_traffic=True)
    lab.place("wall in0 out", "deny any")


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
    "what it says itself of a packet that finds no route belongs to that packet's conversation": Case(
        "desk → 172.20.77.7 tcp/80",
        "unreachable",
        change=filters_itself,
        sees="network unreachable from 172.20.1.1",
    ),
    "and where it follows nothing, meets its own list": Case(
        "desk → 172.20.77.7 tcp/80",
        "unreachable",
        change=all_of(untracked, filters_itself),
        sees="nothing: a timeout",
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
