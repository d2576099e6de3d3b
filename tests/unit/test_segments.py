"""§1: segments over links, switches and VLANs; neighbours; what disabled things cut."""

import pytest

from greyheron.core.network.segments import find_segments
from tests.cases import Case, all_of, check
from tests.lab import Lab

# Two switches with a trunk between them; a router on a stick; VLAN 10 for desks, 20 for cameras, 99 untagged.
SITE = """
devices:
  - name: stick
    kind: router
    interfaces:
      - {name: eth0, addresses: [172.20.99.1/24]}
      - {name: eth0.10, parent: eth0, vlan: 10, addresses: [172.20.10.1/24]}
      - {name: eth0.20, parent: eth0, vlan: 20, addresses: [172.20.20.1/24]}
  - name: sw-a
    kind: switch
    interfaces:
      - {name: up, trunk: [10, 20, 99], untagged: 99}
      - {name: across, trunk: [10, 20]}
      - {name: p1, access: 10}
      - {name: p2, access: 20}
      - {name: p3, access: 99}
  - name: sw-b
    kind: switch
    interfaces:
      - {name: across, trunk: [10, 20]}
      - {name: p1, access: 10}
      - {name: p2, access: 20}
      - {name: p3}
      - {name: p4}
  - {name: desk-a, kind: host, interfaces: [{name: eth0, addresses: [172.20.10.11/24]}], gateway: 172.20.10.1}
  - {name: desk-b, kind: host, interfaces: [{name: eth0, addresses: [172.20.10.12/24]}], gateway: 172.20.10.1}
  - {name: cam-a, kind: host, interfaces: [{name: eth0, addresses: [172.20.20.11/24]}], gateway: 172.20.20.1}
  - {name: cam-b, kind: host, interfaces: [{name: eth0, addresses: [172.20.20.12/24]}], gateway: 172.20.20.1}
  - {name: keeper, kind: host, interfaces: [{name: eth0, addresses: [172.20.99.9/24]}], gateway: 172.20.99.1}
  - {name: loose, kind: host, interfaces: [{name: eth0, addresses: [172.20.10.77/24]}], gateway: 172.20.10.1}
  - {name: lone, kind: host, interfaces: [{name: eth0, addresses: [172.20.10.78/24]}]}
links:
  - {ends: ["stick:eth0", "sw-a:up"]}
  - {ends: ["sw-a:across", "sw-b:across"]}
  - {ends: ["sw-a:p1", "desk-a:eth0"]}
  - {ends: ["sw-b:p1", "desk-b:eth0"]}
  - {ends: ["sw-a:p2", "cam-a:eth0"]}
  - {ends: ["sw-b:p2", "cam-b:eth0"]}
  - {ends: ["sw-a:p3", "keeper:eth0"]}
  - {ends: ["sw-b:p3", "loose:eth0"]}
  - {ends: ["sw-b:p4", "lone:eth0"]}
"""


def block_all_at_the_stick(lab: Lab) -> None:
    for number, name in enumerate(("eth0", "eth0.10", "eth0.20")):
        lab.place(f"stick {name} in", "deny any", name=f"none{number}")


CASES = {
    "one VLAN across a trunk is one segment: no router sees it": Case(
        "desk-a → desk-b ping", "passes", change=block_all_at_the_stick
    ),
    "another VLAN is reached by way of the router's subinterfaces": Case("desk-a → cam-b ping", "passes"),
    "and so a list on a subinterface stands in the way": Case(
        "desk-a → cam-b ping",
        "blocked",
        "entering stick by eth0.10",
        lambda lab: lab.place("stick eth0.10 in", "deny icmp\npermit any"),
    ),
    "a list on the parent does not filter its subinterfaces": Case(
        "desk-a → cam-b ping", "passes", change=lambda lab: lab.place("stick eth0 in", "deny any")
    ),
    "what is untagged on a trunk meets the parent": Case("keeper → desk-a ping", "passes"),
    "a VLAN that a trunk does not carry stops there": Case(
        "desk-a → desk-b ping",
        "unreachable",
        "nobody on eth0 answers",
        lambda lab: lab.interface("sw-b", "across").update(trunk=[20]),
    ),
    "an access port of another VLAN is another segment": Case(
        "desk-a → desk-b ping",
        "unreachable",
        "nobody on eth0 answers",
        lambda lab: lab.interface("sw-b", "p1").update(access=20),
    ),
    "ports without settings are in VLAN 1 together": Case("loose → lone ping", "passes"),
    "and with nobody else": Case("loose → desk-b ping", "unreachable", "nobody on eth0 answers"),
    "a disabled parent takes its subinterfaces along": Case(
        "desk-a → cam-b ping",
        "unreachable",
        "nobody on eth0 answers for 172.20.10.1",
        lambda lab: lab.interface("stick", "eth0").update(enabled=False),
    ),
    "a disabled subinterface leaves the others": Case(
        "keeper → desk-a ping",
        "passes",
        change=lambda lab: lab.interface("stick", "eth0.20").update(enabled=False),
    ),
    "a disabled switch port": Case(
        "desk-a → desk-b ping",
        "unreachable",
        "nobody on eth0 answers",
        lambda lab: lab.interface("sw-b", "p1").update(enabled=False),
    ),
    "an interface with two addresses is on two prefixes": Case(
        "desk-a → stick ping",
        "passes",
        change=lambda lab: lab.interface("stick", "eth0").update(
            addresses=["172.20.99.1/24", "172.20.98.1/24"]
        ),
    ),
    "the untagged VLAN must be the same at both ends": Case(
        "desk-a → desk-b ping",
        "unreachable",
        "nobody on eth0 answers",
        all_of(
            lambda lab: lab.interface("sw-a", "across").update(trunk=[20], untagged=10),
            lambda lab: lab.interface("sw-b", "across").update(trunk=[10], untagged=20),
        ),
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_segments(case: Case) -> None:
    check(Lab.of(SITE), case)


TWO_SWITCHES = """
devices:
  - {name: desk, kind: host, interfaces: [{name: eth0, addresses: [172.20.7.2/24]}]}
  - {name: cam, kind: host, interfaces: [{name: eth0, addresses: [172.20.7.3/24]}]}
  - name: near
    kind: switch
    interfaces:
      - {name: p1, access: 20}
      - {name: up1, access: 10}
      - {name: up2, trunk: [20, 30]}
      - {name: up3, access: 20}
  - name: far
    kind: switch
    interfaces:
      - {name: p1, access: 20}
      - {name: up1, access: 10}
      - {name: up2, trunk: [20, 30]}
      - {name: up3, access: 20}
links:
  - {ends: ["desk:eth0", "near:p1"]}
  - {ends: ["near:up1", "far:up1"]}
  - {ends: ["far:up2", "near:up2"]}
  - {ends: ["near:up3", "far:up3"], enabled: false}
  - {ends: ["far:p1", "cam:eth0"]}
"""


def test_the_links_between_two_interfaces_are_those_that_carry_their_vlan() -> None:
    segments = find_segments(Lab.of(TWO_SWITCHES).network())
    desk, cam = ("desk", "eth0"), ("cam", "eth0")
    way = (("desk:eth0", "near:p1"), ("near:up2", "far:up2"), ("far:p1", "cam:eth0"))
    assert segments.crossing(desk, cam) == way
    assert segments.crossing(cam, desk) == tuple((far, near) for near, far in reversed(way))
    assert segments.crossing(desk, ("far", "up1")) == ()
