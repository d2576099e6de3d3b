"""The demo networks: sound, healthy where they should be, and ill where they should be."""

from greyheron.analysis.testing.book import States, TestMarks, Tries, mark_tests
from greyheron.core.timeline import Timeline
from greyheron.core.world import build_world
from greyheron.demo import exercise
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.document import Network
from greyheron.model.values import DeviceKind


def surprises(network: Network) -> dict[str, TestMarks]:
    return {
        mark.id: mark
        for mark in mark_tests(network.tests, States.of(Timeline.build(network)), Tries())
        if mark.surprises
    }


def test_the_demo_uses_what_there_is() -> None:
    demo = saltmarsh()
    kinds = [device.kind for device in demo.devices]
    assert kinds.count(DeviceKind.ROUTER) + kinds.count(DeviceKind.FIREWALL) >= 5
    assert kinds.count(DeviceKind.HOST) >= 10
    assert {access_list.family for access_list in demo.lists} == {"ipv4", "ipv6", None}
    assert {access_list.kind for access_list in demo.lists} == {"standard", "extended", "frame"}
    firewall = next(device for device in demo.devices if device.kind is DeviceKind.FIREWALL)
    assert len(firewall.zones) == 3
    assert {rule.kind for rule in firewall.translations} == {"static", "dynamic"}
    assert any(interface.trunk for device in demo.devices for interface in device.interfaces)
    assert len(demo.tests) >= 15


def test_two_flows_of_the_demo_surprise_and_no_neighbour_is_cut() -> None:
    found = surprises(saltmarsh())
    assert sorted(found) == ["t1", "t13"]
    assert (
        "on the way home, entering hide-gw by eth1: hides-in denies, implicit deny" in found["t13"].draft.text
    )
    assert build_world(saltmarsh()).routes.cut_neighbours() == []


def test_the_exercise_knows_each_planted_fault() -> None:
    assert {fault.test for fault in exercise.FAULTS} == FAULTS.keys()
    assert FAULTS.keys() <= surprises(storm()).keys()


# What each planted fault makes fail, and words of the cause that the trace gives.
FAULTS = {
    "t2": "leaving lagoon by eth2: lab-guard denies, implicit deny",  # denies only
    "t6": "sluice’s remote line: wardens-only denies, entry 20",  # a mask written for a wildcard
    "t9": "passes",  # the list is on lagoon's console
    "t10": "hides-in denies",  # the service moved, and the list knows its name only
    "t11": "as ARP is stopped entering hide-sw by p3: cam-ports denies, entry 40",  # IPv4 without ARP
    "t14": "nobody on eth0 answers for 172.20.56.254",  # a wrong gateway
    "t16": "from-beyond denies, entry 10",  # general before specific
    "t22": "neighbour discovery is stopped entering lagoon by eth2: lab-six",  # wrong direction, no discovery
    "t26": "was not resolved, because the query to 172.20.40.10 is blocked",  # visitors may not ask
    "t27": "no-jetty-login denies, entry 17",  # by day where by night was meant
    "s1": "unreachable",  # routing neighbours cut by hides-core
    "s4": "passes",  # one address of jetty covered, its loopback open
    "s5": "passes",  # boat-guard is placed nowhere
}


def test_the_storm_left_its_faults_and_each_is_seen_with_its_cause() -> None:
    found = surprises(storm())
    for test, cause in FAULTS.items():
        assert cause in found[test].draft.text, test
    cut = {(each.port[0], each.neighbour[0]) for each in build_world(storm()).routes.cut_neighbours()}
    assert {frozenset(pair) for pair in cut} == {
        frozenset({"sluice", "hide-gw"}),
        frozenset({"lagoon", "hide-gw"}),
        frozenset({"jetty", "hide-gw"}),
    }
