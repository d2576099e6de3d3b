"""Findings: for each kind a network where it must appear, and one nearly the same where it must not."""

from collections.abc import Callable
from typing import Any

import pytest

from greyheron.analysis.findings.descriptions import named_direction
from greyheron.analysis.findings.finder import find_in_time, noted
from greyheron.analysis.findings.finding import Finding, Severity
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.network import passing
from greyheron.analysis.testing.judge import Standing, judge
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World, build_world
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.changes import apply
from greyheron.model.document import Acceptance, Network
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.read import read_network

Data = dict[str, Any]


def hut() -> Data:
    """Two routers, a host behind each, and a list that is right."""
    router: Data = {
        "kind": "router",
        "lines": [{"name": "remote", "transports": ["ssh"]}, {"name": "console"}],
    }
    return {
        "format": "grey-heron/1",
        "name": "hut",
        "devices": [
            {
                **router,
                "name": "west",
                "interfaces": [
                    {
                        "name": "eth0",
                        "addresses": ["172.20.1.1/24", "2001:db8:1::1/64"],
                        "ospf": {"passive": True},
                    },
                    {"name": "wan0", "addresses": ["172.20.9.1/30", "2001:db8:9::1/64"], "ospf": {}},
                ],
            },
            {
                **router,
                "name": "east",
                "interfaces": [
                    {
                        "name": "eth0",
                        "addresses": ["172.20.2.1/24", "2001:db8:2::1/64"],
                        "ospf": {"passive": True},
                    },
                    {"name": "wan0", "addresses": ["172.20.9.2/30", "2001:db8:9::2/64"], "ospf": {}},
                ],
            },
            {
                "name": "plover",
                "kind": "host",
                "gateway": "172.20.1.1",
                "gateway6": "2001:db8:1::1",
                "interfaces": [{"name": "eth0", "addresses": ["172.20.1.10/24", "2001:db8:1::10/64"]}],
                "services": [{"name": "page", "protocol": "tcp", "port": 443}],
            },
            {
                "name": "dunlin",
                "kind": "host",
                "gateway": "172.20.2.1",
                "gateway6": "2001:db8:2::1",
                "interfaces": [{"name": "eth0", "addresses": ["172.20.2.10/24", "2001:db8:2::10/64"]}],
                "services": [{"name": "page", "protocol": "tcp", "port": 443}],
            },
        ],
        "links": [
            {"ends": ["west:wan0", "east:wan0"]},
            {"ends": ["west:eth0", "plover:eth0"]},
            {"ends": ["east:eth0", "dunlin:eth0"]},
        ],
        "lists": [],
        "placements": [],
        "tests": [],
    }


def with_list(
    entries: str,
    device: str | None = "west",
    at: str = "eth0",
    direction: str = "in",
    name: str = "guard",
    family: str = "ipv4",
    kind: str = "extended",
) -> Callable[[Data], None]:
    def change(data: Data) -> None:
        data["lists"].append({"name": name, "family": family, "kind": kind, "entries": entries})
        if device is not None:
            data["placements"].append({"list": name, "device": device, "at": at, "direction": direction})

    return change


def both(*changes: Callable[[Data], None]) -> Callable[[Data], None]:
    def change(data: Data) -> None:
        for each in changes:
            each(data)

    return change


def device(data: Data, name: str) -> Data:
    found: Data = next(each for each in data["devices"] if each["name"] == name)
    return found


def switched(first: Data, second: Data) -> Callable[[Data], None]:
    """Two switches between plover and west, joined by ports with these VLAN settings."""

    def change(data: Data) -> None:
        for name, port in (("reed", first), ("sedge", second)):
            data["devices"].append(
                {"name": name, "kind": "switch", "interfaces": [{"name": "p1"}, {"name": "up", **port}]}
            )
        data["links"][1:2] = [
            {"ends": ["west:eth0", "reed:p1"]},
            {"ends": ["reed:up", "sedge:up"]},
            {"ends": ["sedge:p1", "plover:eth0"]},
        ]

    return change


def as_it_is(_data: Data) -> None:
    pass


def no_gateway(data: Data) -> None:
    del device(data, "dunlin")["gateway"]


def no_routing(data: Data) -> None:
    del device(data, "west")["interfaces"][1]["ospf"]


def other_gateway(data: Data) -> None:
    device(data, "dunlin")["gateway"] = "172.20.2.99"


def same_local(data: Data) -> None:
    for name in ("west", "east"):
        device(data, name)["interfaces"][1]["addresses"].append("fe80::7/64")


def other_local(data: Data) -> None:
    for number, name in enumerate(("west", "east")):
        device(data, name)["interfaces"][1]["addresses"].append(f"fe80::{number + 7}/64")


def same_prefix(data: Data) -> None:
    device(data, "dunlin")["interfaces"][0]["addresses"][0] = "172.20.1.77/24"


def answers_for_dunlin(to: str) -> Callable[[Data], None]:
    def change(data: Data) -> None:
        rule = {"kind": "static", "inside": ["eth0"], "outside": "wan0", "source": "172.20.1.10/32", "to": to}
        device(data, "west")["translations"] = [rule]

    return change


def second_way(data: Data) -> None:
    """west leads to a second place beside dunlin's."""
    device(data, "west")["interfaces"].append(
        {"name": "eth1", "addresses": ["172.20.3.1/24"], "ospf": {"passive": True}}
    )
    data["devices"].append(
        {
            "name": "knot",
            "kind": "host",
            "gateway": "172.20.3.1",
            "interfaces": [{"name": "eth0", "addresses": ["172.20.3.10/24"]}],
            "services": [{"name": "page", "protocol": "tcp", "port": 443}],
        }
    )
    data["links"].append({"ends": ["west:eth1", "knot:eth0"]})


def kept_apart(data: Data) -> None:
    data["tests"].append({"flow": "plover → dunlin page block"})


def answers_for_plover(data: Data) -> None:
    answers_for_dunlin("198.51.100.9/32")(data)
    device(data, "east")["routes"] = [{"to": "198.51.100.9/32", "via": "172.20.9.1"}]


def clear(port: int) -> Callable[[Data], None]:
    def change(data: Data) -> None:
        device(data, "dunlin")["services"] = [{"name": "old", "protocol": "tcp", "port": port}]

    return change


def test_flow(flow: str) -> Callable[[Data], None]:
    def change(data: Data) -> None:
        data["tests"].append({"flow": flow})

    return change


def requirement(statement: str) -> Callable[[Data], None]:
    def change(data: Data) -> None:
        data.setdefault("requirements", []).append({"id": "r1", "statement": statement})

    return change


test_flow.__test__ = False  # type: ignore[attr-defined]

OSPF = "permit ospf from any to any\n"
REST = "permit any from any to any"
CASES: list[tuple[str, Callable[[Data], None], Callable[[Data], None]]] = [
    (
        "entry that never matches",
        with_list(f"permit tcp from any to any port 80-90\npermit tcp from any to any port 85 log\n{REST}"),
        with_list(
            f"permit tcp from any to any port 80-90 log\npermit tcp from any to any port 91 log\n{REST}"
        ),
    ),
    (  # by two entries together, neither of which would do alone
        "entry that never matches",
        with_list(
            "deny udp from 172.20.1.0/25 to any\ndeny udp from 172.20.1.128/25 to any\n"
            f"deny udp from 172.20.1.0/24 to any log\n{REST}"
        ),
        with_list(
            "deny udp from 172.20.1.0/25 to any\ndeny udp from 172.20.1.128/26 to any\n"
            f"deny udp from 172.20.1.0/24 to any log\n{REST}"
        ),
    ),
    (
        "general before specific",
        with_list(f"permit tcp from any to @dunlin\ndeny tcp from @plover to @dunlin port 443\n{REST}"),
        with_list(f"deny tcp from @plover to @dunlin port 22\npermit tcp from any to @dunlin log\n{REST}"),
    ),
    (
        "entry that changes nothing",
        with_list(f"permit tcp from @plover to @dunlin port 443\n{REST}"),
        with_list(f"permit tcp from @plover to @dunlin port 443\ndeny tcp from any to @dunlin\n{REST}"),
    ),
    ("placed nowhere", with_list(REST, device=None), with_list(REST)),
    ("empty list", with_list("", device="east", at="console"), with_list(REST, device="east", at="console")),
    (
        "list of denies only",
        with_list("deny tcp from any to any port 23"),
        with_list(f"deny tcp from any to any port 23\n{REST}"),
    ),
    (
        "list that faces the wrong way",
        with_list("permit any from @plover to @dunlin", direction="out"),
        with_list("permit any from @plover to @dunlin", direction="in"),
    ),
    (
        "list on the console line",
        with_list("permit tcp from @plover to any", at="console"),
        with_list("permit tcp from @plover to any", at="remote"),
    ),
    (
        "standard list near the source",
        with_list("deny from @plover\npermit from any", kind="standard"),
        with_list("deny from @plover\npermit from any", kind="standard", device="east", direction="out"),
    ),
    (
        "one address of several",
        with_list(f"deny tcp from any to 172.20.9.2 port 22\n{REST}"),
        with_list(f"deny tcp from any to @east port 22\n{REST}"),
    ),
    (
        "reply blocked",
        with_list(f"deny tcp from any port 443 to any\n{REST}", device="east"),
        with_list(f"deny tcp from any port 444 to any\n{REST}", device="east"),
    ),
    (
        "routing neighbours cut",
        with_list("permit tcp from any to any", at="wan0"),
        with_list(f"{OSPF}permit tcp from any to any", at="wan0"),
    ),
    (  # they may talk, and do not find each other
        "routing neighbours cut",
        with_list("permit ospf from any to any\ndeny any from any to any", at="wan0", family="ipv6"),
        with_list("permit ospf from any to any", at="wan0", family="ipv6"),  # discovery is permitted unseen
    ),
    (
        "neighbour discovery cut",
        with_list("permit tcp from any to any\ndeny any from any to any", family="ipv6", device="east"),
        with_list("permit tcp from any to any", family="ipv6", device="east"),  # permitted unseen
    ),
    (
        "management locked out",
        with_list("deny from any", at="remote", kind="standard"),
        with_list("permit from @dunlin", at="remote", kind="standard"),
    ),
    (
        "ICMP type that does not fit its note",
        with_list(f"permit icmp time-exceeded from any to any # so that they can ping\n{REST}"),
        with_list(f"permit icmp echo-reply from any to any # so that they can ping\n{REST}"),
    ),
    (
        "ICMP type that does not fit its note",
        with_list(f"# traceroute answers\npermit icmp echo-reply from any to any\n{REST}"),
        with_list(f"# traceroute answers\npermit icmp time-exceeded from any to any\n{REST}"),
    ),
    (
        "wider than what is there",
        with_list(f"deny any from 172.20.1.0~0.0.0.255 to 172.20.2.0~0.0.1.255\n{REST}"),
        with_list(f"deny any from 172.20.1.0~0.0.0.255 to 172.20.0.0/14\n{REST}"),
    ),
    (
        "inverted wildcard",
        with_list(f"deny any from 172.20.1.0~255.255.255.0 to any\n{REST}"),
        with_list(f"deny any from 172.20.1.0~0.0.0.255 to any\n{REST}"),
    ),
    (
        "unknown address",
        with_list(f"deny any from 172.21.1.10 to any\n{REST}"),
        with_list(f"deny any from 172.20.1.99 to any\n{REST}"),  # a host that could be there
    ),
    *(
        (
            "ICMP type that does not fit its note",
            with_list(f"deny icmp {wrong} from any to any # {note}\n{REST}"),
            with_list(f"deny icmp {right} from any to any # {note}\n{REST}"),
        )
        for note, wrong, right in (
            ("stop pings", "host-unreachable", "echo-request"),
            ("nobody here is pinged", "timestamp-request", "echo-reply"),
            ("large packets must find their size: path MTU", "host-unreachable", "fragmentation-needed"),
            ("no redirects", "time-exceeded", "redirect"),
            ("hide from tracing", "echo-reply", "time-exceeded"),
            ("no clocks are read", "echo-request", "timestamp-request"),
            ("port unreachables stay inside", "echo-reply", "port-unreachable"),
        )
    ),
    *(
        (
            "name of another direction",
            with_list(f"deny udp from any to any\n{REST}", name=name, family="ipv4"),
            with_list(f"deny udp from any to any\n{REST}", name=name, direction="out"),
        )
        for name in ("outbound6", "lan-egress", "out_to_reserve", "webOutgoing", "guests.OUT")
    ),
    *(
        (
            "name of another direction",
            with_list(f"deny udp from any to any\n{REST}", name=name, direction="out"),
            with_list(f"deny udp from any to any\n{REST}", name=name),
        )
        for name in ("in_from_x", "ingress4", "inbound")
    ),
    (
        "one address of several",
        with_list(f"deny tcp from 172.20.9.2 to any port 22\n{REST}", at="wan0"),
        with_list(f"deny tcp from @east to any port 22\n{REST}", at="wan0"),
    ),
    (
        "hole for fragments",
        with_list(f"deny tcp from any to @dunlin port 22\n{REST}"),
        with_list(f"deny any from any to any fragment\ndeny tcp from any to @dunlin port 22\n{REST}"),
    ),
    (
        "source-only list on a shared way",
        both(second_way, with_list("deny from @plover\npermit from any", kind="standard"), kept_apart),
        both(
            second_way,
            with_list("deny from @plover\npermit from any", kind="standard", device="east", direction="out"),
            kept_apart,
        ),
    ),
    *(
        (
            "list stops what is wanted",
            both(second_way, with_list(entries, kind=kind), kept_apart, wanted),
            both(
                second_way,
                with_list(entries, kind=kind, device="east", direction="out"),
                kept_apart,
                wanted,
            ),
        )
        for entries, kind in (
            ("deny from @plover\npermit from any", "standard"),
            ("permit from 172.20.1.200", "standard"),
            ("deny tcp from any to any port 443\npermit any from any to any", "extended"),
        )
        for wanted in (test_flow("plover → knot page pass"), requirement("allow plover → knot tcp/443"))
    ),
    (
        "inside address of a translated host",
        both(answers_for_plover, test_flow("dunlin → plover page pass")),
        both(answers_for_plover, test_flow("dunlin → 198.51.100.9 tcp/443 pass")),
    ),
    (
        "name of another direction",
        with_list(f"deny udp from any to any\n{REST}", name="guests-out"),
        with_list(f"deny udp from any to any\n{REST}", name="guests-in"),
    ),
    (
        "lists that drift apart",
        both(
            with_list(
                f"deny tcp from any to any port 23\ndeny udp from any to any port 69\n{REST}", name="a"
            ),
            with_list(
                "deny tcp from any to any port 23\ndeny udp from any to any port 69\ndeny 47 "
                f"from any to any\n{REST}",
                name="b",
                device="east",
            ),
        ),
        both(
            with_list(
                f"deny tcp from any to any port 23\ndeny udp from any to any port 69\n{REST}", name="a"
            ),
            with_list(
                f"deny tcp from any to any port 23\ndeny udp from any to any port 69\n{REST}",
                name="b",
                device="east",
            ),
        ),
    ),
    (
        "test that proves nothing",
        test_flow("plover → 203.0.113.99 tcp/25 block"),
        test_flow("plover → dunlin tcp/25 block"),
    ),
    ("clear-text service", clear(80), clear(443)),
    ("no way out", no_routing, as_it_is),
    ("no way back", no_gateway, as_it_is),
    ("no way back", other_gateway, as_it_is),
    ("duplicate address", same_local, other_local),
    ("duplicate address", answers_for_dunlin("172.20.9.2/32"), answers_for_dunlin("198.51.100.9/32")),
    ("prefix on two segments", same_prefix, as_it_is),
    ("VLAN mismatch", switched({"access": 10}, {"access": 20}), switched({"access": 1}, {"access": 1})),
    (
        "VLAN mismatch",
        switched({"trunk": [1, 10]}, {"trunk": [1, 20]}),
        switched({"trunk": [1]}, {"trunk": [1]}),
    ),
]


def findings(network: Network) -> tuple[Finding, ...]:
    return find_in_time(Timeline.build(network), engines(), KeptFindings())


def built(change: Callable[[Data], None]) -> Network:
    data = hut()
    change(data)
    return read_network(data)


@pytest.mark.parametrize(
    ("kind", "wrong", "right"), CASES, ids=[f"{n}-{case[0]}" for n, case in enumerate(CASES)]
)
def test_each_kind_is_found_where_it_is_and_not_where_it_nearly_is(
    kind: str, wrong: Callable[[Data], None], right: Callable[[Data], None]
) -> None:
    assert kind in {finding.kind for finding in findings(built(wrong))}
    assert kind not in {finding.kind for finding in findings(built(right))}


def test_lists_before_hosts_are_judged_in_networks_of_any_size(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(passing, "MOST_ENDS", 0)
    entries = "permit any from @plover to @dunlin"
    for direction, kinds in (("out", {"list that faces the wrong way"}), ("in", set[str]())):
        found = findings(built(with_list(entries, direction=direction)))
        assert {each.kind for each in found if each.severity is Severity.FAULT} >= kinds
        assert ("list that faces the wrong way" in {each.kind for each in found}) is bool(kinds)
    turned = next(each for each in findings(built(with_list(entries, direction="out"))) if each.repair)
    assert turned.repair is not None
    assert turned.repair.label == "turn guard to entering west by eth0"
    towards_routers = with_list(f"deny any from @dunlin to any\n{REST}", at="wan0", direction="out")
    assert "list that faces the wrong way" not in {each.kind for each in findings(built(towards_routers))}


def test_nothing_is_wrong_with_the_hut() -> None:
    assert findings(built(as_it_is)) == ()


def test_the_healthy_demo_shows_what_it_means_to_show() -> None:
    above = [finding for finding in findings(saltmarsh()) if finding.severity is not Severity.NOTE]
    assert [(finding.kind, finding.lists) for finding in above] == [("reply blocked", ("hides-in",))]


def test_every_fault_of_the_storm_is_found() -> None:
    found = {(finding.kind, *(finding.lists or finding.devices)) for finding in findings(storm())}
    assert found >= {
        ("inverted wildcard", "wardens-only"),
        ("list on the console line", "wardens-only"),
        ("general before specific", "from-beyond"),
        ("list of denies only", "lab-guard"),
        ("list that faces the wrong way", "visitors-in"),
        ("list that faces the wrong way", "lab-six"),
        ("routing neighbours cut", "hides-core"),
        ("neighbour discovery cut", "lab-six"),
        ("one address of several", "no-jetty-login"),
        ("placed nowhere", "boat-guard"),
        ("frame list that stops ARP", "cam-ports"),
        ("query for a name blocked", "no-jetty-login"),
        ("no way back", "boat-desk"),
    }


def holding(world: World, network: Network) -> set[str]:
    """The test flows that hold."""
    found = set()
    for test in network.tests:
        flow, expect = test.flow.flow, test.flow.expect
        now, without = (converse(each, flow).verdict for each in (world, world.baseline))
        if judge(expect, now, without).standing is Standing.HOLDS:
            found.add(test.id)
    return found


REOPENING = {"neighbour discovery cut", "routing neighbours cut"}
"""Their repairs give back ways that were cut: then it shows what lists do with whatever goes there."""


def test_no_repair_of_the_storm_breaks_a_test_that_held() -> None:
    network = storm()
    before = holding(build_world(network), network)
    repairs = [
        finding.repair
        for finding in findings(network)
        if finding.repair is not None and finding.kind not in REOPENING
    ]
    assert len(repairs) >= 5
    for repair in repairs:
        mended = apply(network, repair.changes)
        lost = before - holding(build_world(mended), mended)
        assert not lost, f"{repair.label} breaks {lost}"


def test_the_storms_repairs_mend_its_tests() -> None:
    network = storm()
    before = holding(build_world(network), network)
    for finding in findings(network):
        if finding.repair is not None and finding.kind not in REOPENING:
            network = apply(network, finding.repair.changes)
    after = holding(build_world(network), network)
    assert after > before


def test_a_finding_stays_accepted_until_what_it_speaks_of_changes() -> None:
    network = built(with_list(f"deny any from 172.21.1.10 to any\n{REST}"))
    found = next(each for each in findings(network) if each.kind == "unknown address")
    accepted = [Acceptance(finding=found.key, evidence=found.digest, reason="it is planned")]
    assert [each.accepted for each in noted([found], accepted)] == ["it is planned"]
    other = built(with_list(f"deny any from 172.21.1.11 to any\n{REST}"))
    changed = next(each for each in findings(other) if each.kind == "unknown address")
    assert changed.key == found.key
    assert [each.accepted for each in noted([changed], accepted)] == [None]


def one_of(change: Callable[[Data], None], kind: str) -> tuple[Network, Finding]:
    network = built(change)
    return network, next(each for each in findings(network) if each.kind == kind)


def test_a_source_only_list_is_moved_to_the_last_place_where_it_does_its_work() -> None:
    network, finding = one_of(
        both(second_way, with_list("deny from @plover\npermit from any", kind="standard"), kept_apart),
        "source-only list on a shared way",
    )
    assert "keeps from knot as well" in finding.text
    assert "Leaving east by eth0, it would still do that, and nothing else." in finding.text
    assert finding.repair is not None
    mended = apply(network, list(finding.repair.changes))
    assert [(each.device, each.at, each.direction.value) for each in mended.placements] == [
        ("east", "eth0", "out")
    ]


@pytest.mark.parametrize(
    "kept", [kept_apart, requirement("block plover → dunlin any")], ids=["test", "requirement"]
)
def test_a_list_that_stops_what_is_wanted_is_moved_to_what_it_is_for(kept: Callable[[Data], None]) -> None:
    wanted = test_flow("plover → knot page pass")
    entries = with_list("deny from @plover\npermit from any", kind="standard")
    network, finding = one_of(both(second_way, entries, kept, wanted), "list stops what is wanted")
    assert finding.repair is not None
    mended = apply(network, list(finding.repair.changes))
    assert [(each.device, each.at, each.direction.value) for each in mended.placements] == [
        ("east", "eth0", "out")
    ]
    assert not {each.kind for each in findings(mended)} & {"list stops what is wanted"}


def test_what_no_move_would_mend_is_left_to_the_test_that_fails() -> None:
    change = both(with_list("deny from @plover\npermit from any", kind="standard"), kept_apart)
    network = built(both(change, test_flow("plover → dunlin tcp/81 pass")))
    assert "list stops what is wanted" not in {each.kind for each in findings(network)}


def test_a_set_of_strangers_is_one_finding_for_an_entry_and_one_object_for_all() -> None:
    def strangers(data: Data) -> None:
        members = [f"172.21.1.{number}" for number in range(1, 6)]
        data["address_sets"] = [{"name": "strangers", "members": members}]

    entries = f"deny tcp from @strangers to any\ndeny udp from @strangers to any\n{REST}"
    network = built(both(strangers, with_list(entries)))
    said = [each for each in findings(network) if each.kind == "unknown address"]
    assert len(said) == 2
    assert "names 172.21.1.1, 172.21.1.2, 172.21.1.3 and 2 more, which nobody has" in said[0].text
    found = next(each for each in build_world(network).lists.values() if len(each.rules) == 3)
    assert found.rules[0].sources is found.rules[1].sources


def test_of_whom_something_speaks_nothing_is_said() -> None:
    change = both(second_way, with_list("deny from @plover\npermit from any", kind="standard"), kept_apart)
    network = built(both(change, test_flow("plover → knot ping block")))
    assert "source-only list on a shared way" not in {each.kind for each in findings(network)}


def test_the_address_to_use_instead_is_named() -> None:
    _, finding = one_of(
        both(answers_for_plover, test_flow("dunlin → plover page pass")),
        "inside address of a translated host",
    )
    assert "use 198.51.100.9 instead" in finding.text


def test_requirements_to_inside_addresses_are_found_too() -> None:
    def required(data: Data) -> None:
        data["requirements"] = [{"id": "r1", "statement": "allow dunlin → plover page ipv4"}]

    _, finding = one_of(both(answers_for_plover, required), "inside address of a translated host")
    assert finding.text.startswith("allow dunlin → plover page ipv4 goes to the inside address")


@pytest.mark.parametrize(
    "name", ["in-house-web", "check-in-desks", "out-of-band", "built-in", "main", "routes"]
)
def test_not_every_in_is_a_direction(name: str) -> None:
    assert named_direction(name) is None


def test_the_witness_of_a_hole_gets_through_where_the_whole_packet_does_not() -> None:
    network, finding = one_of(
        with_list(f"deny tcp from any to @dunlin port 22\n{REST}"), "hole for fragments"
    )
    assert finding.flow is not None
    world, flow = build_world(network), read_bare_flow(finding.flow)
    assert flow.fragment
    assert converse(world, flow).verdict is Verdict.PASSES
    assert converse(world, read_bare_flow("plover → dunlin tcp/22")).verdict is Verdict.BLOCKED
