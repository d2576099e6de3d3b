"""§9: OSPF neighbours, costs, equal ways, announcements, and what lists do to them."""

from ipaddress import ip_address

import pytest

from greyheron.core.routing.table import Origin
from greyheron.core.world import build_world
from greyheron.model.read import read_network
from greyheron.model.values import Family
from tests.cases import Case, all_of, check, traced
from tests.lab import Lab

# a – b – d and a – c – d, with hosts at a and d; every router speaks OSPF on every interface.
RING = """
devices:
  - name: a
    kind: router
    interfaces:
      - {name: eth0, addresses: [172.20.1.1/24, "2001:db8:1::1/64"], ospf: {passive: true}}
      - {name: wan0, addresses: [172.20.0.1/30, "2001:db8:f0::1/64"], ospf: {}}
      - {name: wan1, addresses: [172.20.0.5/30, "2001:db8:f1::1/64"], ospf: {cost: 30}}
      - {name: lo0, addresses: [172.20.255.1/32], ospf: {passive: true}}
  - name: b
    kind: router
    interfaces:
      - {name: wan0, addresses: [172.20.0.2/30, "2001:db8:f0::2/64"], ospf: {}}
      - {name: wan1, addresses: [172.20.0.9/30, "2001:db8:f2::1/64"], ospf: {}}
  - name: c
    kind: router
    interfaces:
      - {name: wan0, addresses: [172.20.0.6/30, "2001:db8:f1::2/64"], ospf: {cost: 30}}
      - {name: wan1, addresses: [172.20.0.13/30, "2001:db8:f3::1/64"], ospf: {}}
  - name: d
    kind: router
    interfaces:
      - {name: wan0, addresses: [172.20.0.10/30, "2001:db8:f2::2/64"], ospf: {}}
      - {name: wan1, addresses: [172.20.0.14/30, "2001:db8:f3::2/64"], ospf: {}}
      - {name: eth0, addresses: [172.20.4.1/24, "2001:db8:4::1/64"], ospf: {passive: true}}
  - name: left
    kind: host
    interfaces: [{name: eth0, addresses: [172.20.1.10/24, "2001:db8:1::10/64"]}]
    gateway: 172.20.1.1
    gateway6: "2001:db8:1::1"
  - name: right
    kind: host
    interfaces: [{name: eth0, addresses: [172.20.4.10/24, "2001:db8:4::10/64"]}]
    gateway: 172.20.4.1
    gateway6: "2001:db8:4::1"
    services: [{name: web, protocol: tcp, port: 80}]
links:
  - {ends: ["left:eth0", "a:eth0"]}
  - {ends: ["a:wan0", "b:wan0"]}
  - {ends: ["a:wan1", "c:wan0"]}
  - {ends: ["b:wan1", "d:wan0"]}
  - {ends: ["c:wan1", "d:wan1"]}
  - {ends: ["d:eth0", "right:eth0"]}
"""


def cut(link: int) -> Case:
    return Case(
        "left → right web", "passes", change=lambda lab: lab.data["links"][link].update(enabled=False)
    )


def same_cost(lab: Lab) -> None:
    lab.interface("a", "wan1").update(ospf={"cost": 10})
    lab.interface("c", "wan0").update(ospf={"cost": 10})


def without_c(lab: Lab) -> None:
    lab.data["links"][2].update(enabled=False)


CASES = {
    "routes are learnt, both ways": Case("left → right web", "passes"),
    "with one way cut the other is taken": cut(1),
    "and the other way round": cut(2),
    "with both cut there is no route": Case(
        "left → right web",
        "unreachable",
        "a stops: no route",
        lambda lab: [link.update(enabled=False) for link in lab.data["links"][1:3]],
    ),
    "the cheaper way is used: a list on the dearer one does nothing": Case(
        "left → right web", "passes", change=lambda lab: lab.place("c wan0 in", "permit ospf")
    ),
    "equal costs are all used": Case(
        "left → right web",
        "mixed",
        change=all_of(same_cost, lambda lab: lab.place("c wan0 in", "permit ospf")),
    ),
    "a passive interface has no neighbours": Case(
        "left → right web",
        "unreachable",
        "a stops: no route",
        all_of(without_c, lambda lab: lab.interface("b", "wan0").update(ospf={"passive": True})),
    ),
    "an interface without OSPF is not announced": Case(
        "left → right web",
        "unreachable",
        "a stops: no route",
        lambda lab: lab.interface("d", "eth0").pop("ospf"),
    ),
    "an inbound list that denies protocol 89 cuts the neighbours": Case(
        "left → right web",
        "unreachable",
        "a stops: no route",
        all_of(without_c, lambda lab: lab.place("b wan0 in", "permit tcp\npermit udp\npermit icmp")),
    ),
    "one that permits it does not": Case(
        "left → right web", "passes", change=lambda lab: lab.place("b wan0 in", "permit ospf\npermit tcp")
    ),
    "to the group alone is not enough": Case(
        "left → right web",
        "unreachable",
        "no route",
        all_of(without_c, lambda lab: lab.place("b wan0 in", "permit ospf to 224.0.0.5\npermit tcp")),
    ),
    "to the own address alone is not enough": Case(
        "left → right web",
        "unreachable",
        "no route",
        all_of(without_c, lambda lab: lab.place("b wan0 in", "permit ospf to 172.20.0.2\npermit tcp")),
    ),
    "an outbound list leaves own packets alone": Case(
        "left → right web", "passes", change=lambda lab: lab.place("b wan0 out", "permit tcp")
    ),
    "unless the router filters its own traffic": Case(
        "left → right web",
        "unreachable",
        "no route",
        all_of(
            without_c,
            lambda lab: lab.place("b wan0 out", "permit tcp"),
            lambda lab: lab.device("b").update(filters_own_traffic=True),
        ),
    ),
    "a list two routers away takes the route": Case(
        "left → right web",
        "unreachable",
        "a stops: no route",
        all_of(without_c, lambda lab: lab.place("d wan0 in", "permit tcp")),
    ),
    "static is preferred to OSPF": Case(
        "left → right web",
        "unreachable",
        "discarded by route",
        lambda lab: lab.route("a", "172.20.4.0/24", discard=True),
    ),
    "unless its preference is worse": Case(
        "left → right web",
        "passes",
        change=lambda lab: lab.route("a", "172.20.4.0/24", discard=True, preference=200),
    ),
    "a longer prefix is preferred to everything": Case(
        "left → right web",
        "unreachable",
        "discarded by route 172.20.4.10,",
        lambda lab: lab.route("a", "172.20.4.10/32", discard=True, preference=200),
    ),
    "a default is announced when the router says so": Case(
        "left → 198.51.100.1 ping",
        "unreachable",
        "d stops: discarded",
        all_of(
            lambda lab: lab.device("d").update(announces_default=True),
            lambda lab: lab.route("d", "0.0.0.0/0", discard=True),
        ),
    ),
    "and not otherwise": Case(
        "left → 198.51.100.1 ping",
        "unreachable",
        "a stops: no route",
        lambda lab: lab.route("d", "0.0.0.0/0", discard=True),
    ),
    "static routes are announced when the router says so": Case(
        "left → 198.51.100.1 ping",
        "unreachable",
        "d stops: discarded",
        all_of(
            lambda lab: lab.device("d").update(announces_static=True),
            lambda lab: lab.route("d", "198.51.100.0/24", discard=True),
        ),
    ),
    "IPv6: routes are learnt by v3": Case("left → right web ipv6", "passes"),
    "IPv6: a list of the family cuts the v3 neighbours": Case(
        "left → right web ipv6",
        "unreachable",
        "no route",
        all_of(without_c, lambda lab: lab.place("b wan0 in", "permit tcp", family="ipv6")),
    ),
    "IPv6: and leaves the v2 ones": Case(
        "left → right web ipv4",
        "passes",
        change=all_of(without_c, lambda lab: lab.place("b wan0 in", "permit tcp", family="ipv6")),
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_ospf(case: Case) -> None:
    check(Lab.of(RING), case)


def test_the_cheaper_way_is_the_one_walked() -> None:
    found = traced(Lab.of(RING), "left → right web").exchanges[0]
    assert [hop.device for hop in found.out.hops] == ["left", "a", "b", "d", "right"]


def test_a_cut_neighbour_is_known_with_the_entry_that_cut_it() -> None:
    lab = Lab.of(RING).place("b wan0 in", "10 permit tcp\n20 deny ospf log\n30 permit any")
    (cut_off,) = build_world(lab.network()).routes.cut_neighbours()
    assert (cut_off.port, cut_off.neighbour) == (("a", "wan0"), ("b", "wan0"))
    assert (cut_off.by.list_name, cut_off.by.decision.entry) == ("list", 20)
    assert build_world(lab.network()).baseline.routes.cut_neighbours() == []


TWO_WAYS = """
format: grey-heron/1
name: two ways to the boathouse
devices:
  - name: quay
    kind: router
    interfaces:
      - {name: eth0, addresses: [172.20.1.1/24]}
      - {name: wan0, addresses: [172.20.100.1/30], ospf: {}}
      - {name: wan1, addresses: [172.20.101.1/30], ospf: {cost: 20}}
  - name: mole
    kind: router
    interfaces:
      - {name: wan0, addresses: [172.20.100.2/30], ospf: {}}
      - {name: eth0}
      - {name: eth0.20, parent: eth0, vlan: 20, addresses: [172.20.9.2/24], ospf: {passive: true}}
      - {name: eth1, addresses: [172.20.2.1/24]}
  - name: pier
    kind: router
    interfaces:
      - {name: wan0, addresses: [172.20.101.2/30], ospf: {}}
      - {name: eth0, addresses: [172.20.9.1/24], ospf: {cost: 100, passive: true}}
      - {name: eth1, addresses: [172.20.3.1/24], enabled: false}
    routes:
      - {to: 0.0.0.0/0, via: 172.20.101.1}
  - name: left
    kind: host
    interfaces: [{name: eth0, addresses: [172.20.1.10/24]}]
    gateway: 172.20.1.1
  - name: boat
    kind: host
    interfaces: [{name: eth0, addresses: [172.20.9.10/24]}]
    gateway: 172.20.9.1
  - name: buoy
    kind: host
    interfaces: [{name: eth0, addresses: [172.20.2.10/24]}]
    gateway: 172.20.2.1
links:
  - {ends: ["quay:eth0", "left:eth0"]}
  - {ends: ["quay:wan0", "mole:wan0"]}
  - {ends: ["quay:wan1", "pier:wan0"]}
  - {ends: ["pier:eth0", "boat:eth0"]}
  - {ends: ["mole:eth1", "buoy:eth0"]}
"""


def _parent_down(lab: Lab) -> None:
    lab.interface("mole", "eth0").update(enabled=False)


# Two ways from near to far over IPv6, the short one by wan0.
RING_6 = """
devices:
  - name: near
    kind: router
    interfaces:
      - {name: eth0, addresses: ["2001:db8:1::1/64"], ospf: {passive: true}}
      - {name: wan0, addresses: ["2001:db8:100::1/64"], ospf: {}}
      - {name: wan1, addresses: ["2001:db8:101::1/64"], ospf: {cost: 20}}
  - name: far
    kind: router
    interfaces:
      - {name: eth0, addresses: ["2001:db8:9::1/64"], ospf: {passive: true}}
      - {name: wan0, addresses: ["2001:db8:100::2/64"], ospf: {}}
      - {name: wan1, addresses: ["2001:db8:101::2/64"], ospf: {cost: 20}}
  - name: here
    kind: host
    interfaces: [{name: eth0, addresses: ["2001:db8:1::10/64"]}]
    gateway6: "2001:db8:1::1"
  - name: there
    kind: host
    interfaces: [{name: eth0, addresses: ["2001:db8:9::10/64"]}]
    gateway6: "2001:db8:9::1"
links:
  - {ends: ["near:eth0", "here:eth0"]}
  - {ends: ["near:wan0", "far:wan0"]}
  - {ends: ["near:wan1", "far:wan1"]}
  - {ends: ["far:eth0", "there:eth0"]}
"""


AGAINST_THE_KERNEL = {
    "a prefix of a subinterface whose parent is down is not announced": Case(
        "left → boat ping", "passes", "", _parent_down
    ),
    "a route inside the area beats an announced one whatever it costs": Case(
        "left → boat ping",
        "passes",
        "",
        all_of(
            _parent_down,
            lambda lab: lab.device("mole").update(announces_static=True),
            lambda lab: lab.route("mole", "172.20.9.0/24", via="172.20.2.10"),
        ),
    ),
    "the addresses of a disabled interface are nobody's": Case(
        "left → 172.20.3.1 ping",
        "unreachable",
        "loop",
        lambda lab: lab.route("quay", "172.20.3.0/24", via="172.20.101.2"),
    ),
    "a static route that is not in use is not announced": Case(
        "left → boat ping",
        "passes",
        "",
        all_of(
            _parent_down,
            lambda lab: lab.device("mole").update(announces_static=True),
            lambda lab: lab.route("mole", "172.20.8.0/23", via="172.20.2.10"),
            lambda lab: lab.interface("mole", "eth1").update(enabled=False),
            lambda lab: lab.interface("pier", "eth0").pop("ospf"),
            lambda lab: lab.device("pier").update(announces_static=True),
            lambda lab: lab.route("pier", "172.20.8.0/23", interface="eth0"),
        ),
    ),
    "one that yields to a learnt route is not announced either": Case(
        "left → boat ping",
        "passes",
        "",
        all_of(
            _parent_down,
            lambda lab: lab.device("mole").update(announces_static=True),
            lambda lab: lab.route("mole", "172.20.9.0/24", via="172.20.2.10", preference=200),
        ),
    ),
    "one that leads by a learnt route is": Case(
        "left → 172.20.77.1 ping",
        "unreachable",
        "goes round in a loop through",
        all_of(
            _parent_down,
            lambda lab: lab.device("mole").update(announces_static=True),
            lambda lab: lab.route("mole", "172.20.77.0/24", via="172.20.9.1"),
        ),
    ),
    "not even its own device's": Case(
        "pier → 172.20.3.1 ping", "unreachable", "quay stops: no route", _parent_down
    ),
}


def test_neighbours_that_cannot_find_each_other_are_cut_and_the_entry_is_named() -> None:
    lab = Lab.of(RING_6).place("near wan0 in", "10 permit ospf\n20 deny any", family="ipv6")
    (cut_off,) = build_world(lab.network()).routes.cut_neighbours()
    assert (cut_off.port, cut_off.neighbour) == (("far", "wan0"), ("near", "wan0"))
    assert cut_off.by.decision.entry == 20
    assert traced(lab, "here → there ping").verdict == "passes"


@pytest.mark.parametrize("case", AGAINST_THE_KERNEL.values(), ids=AGAINST_THE_KERNEL.keys())
def test_what_a_kernel_does(case: Case) -> None:
    check(Lab.of(TWO_WAYS), case)


def test_a_static_route_is_announced_with_a_next_hop_that_ospf_knows() -> None:
    """RFC 2328 12.4.4.1: who is on the segment of the next hop goes there straight, who is it not at all."""
    text = """
devices:
  - name: a
    kind: router
    interfaces:
      - {name: lan, addresses: [172.20.1.1/24], ospf: {}}
      - {name: far, addresses: [172.20.2.1/24], ospf: {}}
    routes: [{to: 172.20.9.0/24, via: 172.20.1.9}, {to: 172.20.8.0/24, via: 172.20.1.2}]
    announces_static: true
  - {name: b, kind: router, interfaces: [{name: lan, addresses: [172.20.1.2/24], ospf: {}}]}
  - {name: c, kind: router, interfaces: [{name: far, addresses: [172.20.2.3/24], ospf: {cost: 7}}]}
  - {name: s, kind: switch, interfaces: [{name: p1}, {name: p2}, {name: p3}]}
  - {name: gauge, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.9/24]}]}
links:
  - {ends: ["a:lan", "s:p1"]}
  - {ends: ["b:lan", "s:p2"]}
  - {ends: ["gauge:eth0", "s:p3"]}
  - {ends: ["a:far", "c:far"]}
"""
    world = build_world(Lab.of(text).network())

    def route(device: str, to: str) -> list[tuple[str | None, str, int]]:
        found = [each for each in world.table(device, Family.IPV4).routes if str(each.prefix) == to]
        return [
            (each.interface, Family.IPV4.text(each.via or 0), each.metric)
            for each in found
            if each.origin is Origin.OSPF
        ]

    assert route("b", "172.20.9.0/24") == [("lan", "172.20.1.9", 30)]
    assert route("c", "172.20.9.0/24") == [("far", "172.20.2.1", 37)]
    assert route("b", "172.20.8.0/24") == []
    assert route("c", "172.20.8.0/24") == [("far", "172.20.2.1", 37)]
    assert route("a", "172.20.9.0/24") == []


def test_each_of_many_neighbours_is_the_way_to_what_it_announces() -> None:
    """Twenty routers on one wire, three of which announce one prefix at equal cost."""
    names = [f"r{number}" for number in range(20)]
    devices = [
        {
            "name": name,
            "kind": "router",
            "interfaces": [
                {"name": "lan", "addresses": [f"172.20.0.{number + 1}/24"], "ospf": {}},
                {
                    "name": "own",
                    "addresses": [f"172.20.{max(number, 2)}.{number + 1}/24"],
                    "ospf": {"passive": True},
                },
            ],
        }
        for number, name in enumerate(names)
    ]
    ports = [f"p{number}" for number in range(20)]
    switch = {"name": "wire", "kind": "switch", "interfaces": [{"name": port} for port in ports]}
    links = [{"ends": [f"{name}:lan", f"wire:{port}"]} for name, port in zip(names, ports, strict=True)]
    data = {"format": "grey-heron/1", "name": "many", "devices": [*devices, switch], "links": links}
    world = build_world(read_network(data))
    for number in range(3, 20):
        (hop,) = world.lookup("r0", Family.IPV4, int(ip_address(f"172.20.{number}.77"))).hops
        assert hop == ("lan", int(ip_address(f"172.20.0.{number + 1}")))
    shared = world.lookup("r9", Family.IPV4, int(ip_address("172.20.2.77"))).hops
    assert shared == tuple(("lan", int(ip_address(f"172.20.0.{last}"))) for last in (1, 2, 3))
