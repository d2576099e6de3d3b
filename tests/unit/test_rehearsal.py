"""What a rehearsal makes and compares, as values: nothing here touches the kernel."""

import json
import struct
from pathlib import Path
from typing import Any

import pytest
from dns.message import from_wire
from dns.rcode import NXDOMAIN
from msgspec.structs import replace

from greyheron.core.lists.resolved import Names, resolve
from greyheron.core.packet import Packet
from greyheron.core.timeline import Timeline
from greyheron.core.walk.icmp_errors import Seen
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import AccessList, Network
from greyheron.model.header import TcpFlags
from greyheron.model.values import Direction, Family
from greyheron.rehearsal.asking import RehearsedFlow, Selection, asked_of
from greyheron.rehearsal.comparison import Rehearsal, Rehearsed, SeenFacts, differences, predicted_like
from greyheron.rehearsal.expressions import matching
from greyheron.rehearsal.filterlog import told_in
from greyheron.rehearsal.naming import addresses_in, answer_of, query_for
from greyheron.rehearsal.packets import PAYLOAD, Captured, crafted, fragment, header_of
from greyheron.rehearsal.pcapng import write_captures
from greyheron.rehearsal.plan import NetworkPlan, Wire, plan_of
from greyheron.rehearsal.report import SeenHop, report_of
from greyheron.rehearsal.rulebook import Counted
from greyheron.rehearsal.sendings import Probe, apart, guests_of, sendings_of
from tests.lab import Lab
from tests.unit.test_frames import frames

TWO_NEIGHBOURS = """
devices:
  - {name: r1, kind: router, interfaces: [{name: wan0, addresses: ["2001:db8:9::1/64"], ospf: {}}]}
  - {name: r2, kind: router, interfaces: [{name: wan0, addresses: ["2001:db8:9::2/64"], ospf: {}}]}
links: [{ends: ["r1:wan0", "r2:wan0"]}]
"""


def plan(lab: Lab) -> NetworkPlan:
    return plan_of(Timeline.build(lab.network()).first)


def asked(lab: Lab, flow: str) -> list[Probe]:
    lab.data["tests"] = [{"id": "t1", "flow": f"{flow} pass"}]
    network = lab.network()
    return sendings_of(RehearsedFlow(network.tests[0].flow.flow, test="t1"), Timeline.build(network).first)


def conditions(entry: str, family: str = "ipv4") -> list[list[dict[str, Any]]]:
    item = {"name": "x", "family": family, "kind": "extended", "entries": entry}
    network = saltmarsh()
    (rule,) = resolve(AccessList.model_validate(item), Names(network)).rules
    return list(matching(rule, Family(family)))


def texts(found: list[list[dict[str, Any]]]) -> list[str]:
    return [json.dumps(each, sort_keys=True) for each in found]


def test_a_plan_has_a_namespace_for_every_device_and_a_wire_for_every_link() -> None:
    found = plan(Lab())
    assert found.places.keys() == {each["name"] for each in Lab().data["devices"]}
    joined = [wire for wire in found.wires if wire.far is not None]
    assert len(joined) == len(Lab().data["links"])
    # Loopbacks lead to nobody.
    assert Wire(("r1", "i3"), None) in found.wires
    assert found.left_out == ()
    assert all(len(port.name) < 16 for place in found.places.values() for port in place.ports)


def test_each_vlan_of_a_trunk_is_a_wire_of_its_own() -> None:
    found = plan_of(Timeline.build(saltmarsh()).first)
    boat = found.places["boat-sw"]
    assert len(boat.bridges) == 2
    assert [(port.interface, port.bridge) for port in boat.ports if port.interface == "p1"] == [
        ("p1", boat.bridges[0]),
        ("p1", boat.bridges[1]),
    ]
    jetty = found.places["jetty"]
    macs = {port.interface: port.mac for port in jetty.ports}
    assert macs["eth1.56"] == macs["eth1.57"] == macs["eth1"]


def test_preferences_become_metrics_and_no_route_is_no_route() -> None:
    lab = Lab().route("r1", "172.20.9.0/24", via="172.20.0.2", preference=7)
    lab.route("r1", "172.20.8.0/24", discard=True).route("r1", "172.20.7.0/24", via="172.20.200.1")
    routes = {each.prefix: each for each in plan(lab).places["r1"].routes}
    assert (routes["172.20.9.0/24"].metric, routes["172.20.9.0/24"].hops) == (
        7 << 24,
        (("i1", "172.20.0.2"),),
    )
    assert routes["172.20.8.0/24"].hops == ()
    assert "172.20.7.0/24" in routes  # by the wider route to 172.20.0.0/16
    assert {each.prefix for each in plan(Lab()).places["left"].routes} == {"0.0.0.0/0"}


def test_hosts_that_could_be_there_are_made_when_flows_need_them() -> None:
    lab = Lab()
    lab.data["tests"] = [{"id": "t1", "flow": "172.20.1.77/24 → right web pass"}]
    network = lab.network()
    guests = guests_of(test.flow.flow for test in network.tests)
    assert guests == {"172.20.1.0/24": ("172.20.1.77/24",)}
    world = Timeline.build(network).first.with_possible_hosts
    found = plan_of(world, guests)
    guest = found.places["172.20.1.0/24"]
    assert "172.20.1.77/24" in guest.ports[0].addresses
    assert [route.hops for route in guest.routes if route.prefix == "0.0.0.0/0"] == [(("i0", "172.20.1.1"),)]
    assert "172.20.3.0/24" not in found.places


def test_every_entry_has_a_counter_at_every_place() -> None:
    lab = Lab().place("r2 wan0 in", "deny tcp from any to any port 80\npermit any from any to any")
    rules = plan(lab).places["r2"].rules
    point = AttachmentPoint("r2", "wan0", Direction.IN)
    assert set(rules.counters.values()) == {Counted(point, "list", each) for each in (10, 20, None)}
    hooks = [each["add"]["chain"].get("hook") for each in rules.commands if "chain" in each["add"]]
    assert "prerouting" in hooks
    assert plan(Lab()).places["r2"].rules.commands == ()


def test_frame_lists_stand_at_the_edge_of_each_port() -> None:
    lab = Lab().with_(frames("sw p1 in", "permit arp\ndeny 0x9100"))
    rules = plan(lab).places["sw"].rules
    chains = [each["add"]["chain"] for each in rules.commands if "chain" in each["add"]]
    assert [(chain["family"], chain["hook"], chain["dev"]) for chain in chains] == [
        ("netdev", "ingress", "i0")
    ]
    assert '"right": 2054' in json.dumps(rules.commands)


def test_what_a_firewall_does_is_there_in_its_order() -> None:
    weir = plan_of(Timeline.build(saltmarsh()).first).places["weir"]
    hooks = {
        each["add"]["chain"]["name"]: (each["add"]["chain"].get("hook"), each["add"]["chain"].get("prio"))
        for each in weir.rules.commands
        if "chain" in each["add"]
    }
    order = ["arrive", "inside", "enter", "came", "cross", "depart"]
    assert [hooks[name][0] for name in order] == [
        *("prerouting", "prerouting", "prerouting"),
        *("forward", "forward", "postrouting"),
    ]
    assert hooks["arrive"] < hooks["inside"] < hooks["enter"]
    text = json.dumps(weir.rules.commands)
    assert "203.0.113.10" in text
    assert weir.answered == (("203.0.113.10", weir.port("wan0")),)


def test_routing_daemons_are_told_what_is_spoken_where() -> None:
    places = plan_of(Timeline.build(saltmarsh()).first).places
    daemons = places["sluice"].daemons
    assert daemons is not None
    assert daemons.families == (Family.IPV4, Family.IPV6)
    assert " ip ospf network point-to-point\n" in daemons.configuration
    assert places["kiosk"].daemons is None


def test_a_list_between_two_neighbours_makes_them_speak_as_many_would() -> None:
    lab = Lab.of(TWO_NEIGHBOURS)
    plain = plan(lab).places["r1"].daemons
    listed = plan(lab.place("r2 wan0 in", "permit any", family="ipv6")).places["r1"].daemons
    assert plain is not None
    assert listed is not None
    assert " ipv6 ospf6 network point-to-point\n" in plain.configuration
    assert " ipv6 ospf6 network broadcast\n" in listed.configuration


@pytest.mark.parametrize(
    ("entry", "family", "parts"),
    [
        ("permit any from any to any", "ipv4", [[]]),
        ("permit tcp from any to any port 80,443-450", "ipv4", ['{"range": [443, 450]}', '"tcp"']),
        ("permit tcp from any to any port !=80", "ipv4", ['"op": "!="', "80"]),
        ("permit icmp echo-request from any to any", "ipv6", ['"icmpv6"', "128"]),
        ("permit tcp from any to any established", "ipv4", ['"flags"', "20"]),
        ("permit tcp from any to any flags syn,!ack", "ipv4", ["18", '"right": 2']),
        ("permit any from any to any fragment", "ipv4", ['"frag-off"', "8191"]),
        ("permit any from any to any fragment", "ipv6", ['"exthdr"']),
        ("permit any from any to any dscp ef", "ipv4", ['"dscp"', "46"]),
        ("permit any from 172.20.0.0~0.0.255.1 to any", "ipv4", ['"255.255.0.254"']),
    ],
)
def test_entries_are_said_to_the_packet_filter(entry: str, family: str, parts: Any) -> None:
    found = conditions(entry, family)
    if parts == [[]]:
        assert found == [[]]
        return
    (text,) = texts(found)
    assert all(part in text for part in parts)


def test_scattered_addresses_take_a_rule_each_and_prefixes_one_together() -> None:
    network = saltmarsh().model_dump(mode="json", by_alias=True)
    network["address_sets"].append(
        {"name": "odd", "members": ["172.20.1.0~0.0.0.254", "172.20.4.0/24", "172.20.4.7", "172.20.9.9"]}
    )
    item = {"name": "x", "family": "ipv4", "kind": "extended", "entries": "permit any from @odd to @odd"}
    (rule,) = resolve(AccessList.model_validate(item), Names(Network.model_validate(network))).rules
    found = list(matching(rule, Family.IPV4))
    assert len(found) == 4
    assert "172.20.4.7" not in json.dumps(found)  # within a prefix beside it


def test_conversations_that_could_be_taken_for_each_other_are_sent_apart() -> None:
    lab = Lab()
    one = asked(lab, "left → right web") + asked(lab, "mate → right web") + asked(lab, "left → right web")
    groups = list(apart(one, 64))
    assert [[each.sender for each in group] for group in groups] == [["left", "mate"], ["left"]]
    assert [len(group) for group in apart(one, 1)] == [1, 1, 1]
    assert [[each.sender for each in group] for group in apart(one[:2], 64, one_each=True)] == [
        ["left", "mate"]
    ]


def test_requirements_are_asked_by_what_violates_them_and_by_witnesses() -> None:
    network = storm()
    asked = asked_of(network, Selection(("t1",), ("r2", "r4")))
    assert [(each.test, each.requirement) for each in asked[:2]] == [("t1", None), (None, "r2")]
    assert {each.requirement for each in asked[1:]} == {"r2", "r4"}
    assert len(asked_of(network, Selection.all_of(network))) > len(network.tests) + len(network.requirements)


def test_a_name_takes_a_query_and_then_the_conversation() -> None:
    network = saltmarsh()
    test = next(each for each in network.tests if each.id == "t26")
    query, conversation = sendings_of(
        RehearsedFlow(test.flow.flow, test="t26"), Timeline.build(network).first
    )
    assert query.name.startswith("query for sightings.saltmarsh.example of kiosk")
    assert query.query is not None
    assert conversation.query is None
    right = facts(query, addresses=("172.20.72.10",))
    assert differences(query, right) == ()
    (wrong,) = differences(query, replace(right, addresses=("172.20.72.11",)))
    assert (wrong.fact, wrong.predicted, wrong.seen) == (
        "what the name stands for",
        "172.20.72.10",
        "172.20.72.11",
    )
    assert (query.opener.destination_port, conversation.opener.destination_port) == (53, 443)


def test_names_are_answered_from_the_records_of_who_is_asked() -> None:
    serving = next(each for each in saltmarsh().devices if each.records)
    for name, family, addresses in (
        ("Ledger.saltmarsh.example", Family.IPV4, ("172.20.40.10",)),
        ("ledger.saltmarsh.example", Family.IPV6, ("2001:db8:40::10",)),
        ("sightings.saltmarsh.example", Family.IPV6, ()),
        ("nobody.saltmarsh.example", Family.IPV4, ()),
    ):
        answer = answer_of(serving, query_for(name, family))
        assert answer is not None
        assert addresses_in(answer) == addresses
        assert (from_wire(answer).rcode() == NXDOMAIN) is name.startswith("nobody")
    assert answer_of(serving, PAYLOAD) is None


def test_packets_that_the_filter_told_of_are_read_from_netlink() -> None:
    told = attribute(10, b"c17\0") + attribute(9, b"\x45packet") + attribute(11, b"\0\0\0\0")
    body = struct.pack("=BBH", 2, 0, 1) + told
    message = struct.pack("=IHHII", 16 + len(body), 4 << 8, 0, 0, 0) + body
    message += b"\0" * (-len(message) % 4)
    other = struct.pack("=IHHII", 20, 2, 0, 0, 0) + b"\0" * 4
    assert list(told_in(message + other + message)) == [("c17", b"\x45packet")] * 2
    assert list(told_in(message[:30])) == []
    assert list(told_in(b"\0" * 16)) == []


def attribute(kind: int, value: bytes) -> bytes:
    found = struct.pack("=HH", 4 + len(value), kind) + value
    return found + b"\0" * (-len(found) % 4)


def test_who_decided_is_told_by_its_own_packets_before_counters_that_others_raise() -> None:
    lab = Lab().place("r2 wan0 in", "10 deny tcp from any to any port 443\n20 permit any from any to any")
    (sending,) = asked(lab, "left → right web")
    (predicted,) = sending.predicted
    decider = predicted.decider
    assert decider is not None
    other = replace(decider, entry=20)
    (signature, *_) = predicted.signatures
    assert differences(sending, facts(sending, rose=frozenset({decider, other}))) == ()
    told = facts(sending, counted=((other, signature),))
    (wrong,) = differences(sending, told)
    assert (wrong.fact, wrong.seen[-8:]) == ("the deciding entry", "entry 20")


def facts(sending: Probe, **other: Any) -> SeenFacts:
    predicted = sending.predicted[0]
    decider = () if predicted.decider is None else (predicted.decider,)
    found = {"sees": predicted.sees, "by": predicted.by, "way": predicted.way, "rose": frozenset(decider)}
    found |= {"addresses": (), "counted": ()}
    return SeenFacts(**{**found, **other})


def test_what_went_as_predicted_differs_in_nothing_and_each_fact_is_told() -> None:
    lab = Lab().place("r2 wan0 in", "deny tcp from any to any port 443\npermit any from any to any")
    (sending,) = asked(lab, "left → right web")
    assert differences(sending, facts(sending)) == ()
    (seen,) = differences(sending, facts(sending, sees=Seen.NOTHING, by=None))
    assert (seen.fact, seen.seen) == ("what the sender sees", "nothing")
    (way,) = differences(sending, facts(sending, way=("left", "r1")))
    assert (way.predicted, way.seen) == ("left → r1 → r2", "left → r1")
    (entry,) = differences(sending, facts(sending, rose=frozenset()))
    assert entry.seen == "list entering r2 by wan0 counted nothing"
    assert predicted_like(sending, facts(sending)) == sending.predicted[0]


def test_what_answers_a_single_packet_is_no_part_of_its_story() -> None:
    (sending,) = asked(Lab(), "left → right protocol/47")
    assert differences(sending, facts(sending, sees=Seen.PORT_UNREACHABLE, by="172.20.3.10")) == ()


TCP = Packet(Family.IPV4, 0xAC14010A, 0xAC14030A, 6, 49152, 443, TcpFlags.SYN)
SIX = Packet(Family.IPV6, 0x20010DB8 << 96 | 1, 0x20010DB8 << 96 | 2, 17, fragment=True)


def ethernet(kind: int, packet: bytes) -> bytes:
    return bytes(12) + kind.to_bytes(2, "big") + packet


def test_crafted_packets_are_read_back() -> None:
    head = struct.pack("!BBHHHBBH", 0x45, 0, 40, 0, 0, 64, 6, 0) + bytes.fromhex("ac14010aac14030a")
    header = header_of(ethernet(0x0800, head + crafted(TCP, 1)))
    assert header is not None
    assert header.signature == (6, 0xAC14010A, 49152, 0xAC14030A, 443)
    piece = header_of(ethernet(0x86DD, fragment(SIX)))
    assert piece is not None
    assert piece.signature == (17, SIX.source, None, SIX.destination, None)
    four = Packet(Family.IPV4, 1, 2, 1, fragment=True)
    whole = header_of(ethernet(0x0800, fragment(four)))
    assert whole is not None
    assert (whole.signature, whole.code) == ((1, 1, None, 2, None), None)
    assert header_of(ethernet(0x0806, bytes(40))) is None
    assert header_of(b"short") is None


def test_a_tunnelled_packet_says_its_version() -> None:
    assert crafted(Packet(Family.IPV4, 1, 2, 47), 1)[:4] == bytes.fromhex("00000800")


def test_of_its_own_packet_that_came_back_a_device_tells_itself_nothing() -> None:
    lab = Lab().place("r1 wan0 in", "deny any")
    lab.without_route("r2", "172.20.3.0/24").route("r2", "172.20.3.0/24", via="172.20.0.1")
    (sending,) = asked(lab, "r1 → right web")
    assert [(each.sees, each.by, each.way) for each in sending.predicted] == [
        (Seen.NOTHING, None, ("r1", "r2"))
    ]


def test_an_echo_is_told_by_its_number() -> None:
    echo = Packet(Family.IPV6, 1, 2, 58, icmp_type=128, icmp_code=0)
    assert struct.unpack("!BBHHH", crafted(echo, 77)[:8])[3] == 77


def test_captures_are_pcapng(tmp_path: Path) -> None:
    file = tmp_path / "packets.pcapng"
    write_captures(file, [Captured("left", "i0", True, 1_700_000_000_000_000_001, b"abcde")])
    blocks, data = [], file.read_bytes()
    while data:
        kind, length = struct.unpack("<II", data[:8])
        assert data[length - 4 : length] == data[4:8]
        blocks.append((kind, data[8 : length - 4]))
        data = data[length:]
    assert [kind for kind, _ in blocks] == [0x0A0D0D0A, 1, 6]
    assert b"left i0" in blocks[1][1]
    number, high, low, captured, whole = struct.unpack("<IIIII", blocks[2][1][:20])
    assert (number, high << 32 | low, captured, whole) == (0, 1_700_000_000_000_000_001, 5, 5)


def test_a_difference_is_told_with_both_stories_and_its_packets() -> None:
    (sending,) = asked(Lab(), "left → right web")
    head = struct.pack("!BBHHHBBH", 0x45, 0, 40, 0, 0, 64, 6, 0) + bytes.fromhex("ac14010aac14030a")
    captured = Captured("left", "i0", True, 1, ethernet(0x0800, head + crafted(TCP, 1)))
    seen = facts(sending, sees=Seen.NOTHING, by=None, way=("left",))
    gone = Rehearsed(
        sending, "at all times", sending.predicted[0], seen, differences(sending, seen), (captured,)
    )
    doubted = Lab().place("r2 wan0 in", "10 maybe deny tcp from any to any\n20 permit any from any to any")
    report = report_of(Rehearsal((gone,), ("a link: why",), (1.234, 2.0)), doubted.network())
    (told,) = report.differing
    assert told.predicted == "left → r1 → r2 → r3 → right; the sender sees reply from 172.20.3.10"
    assert told.seen == "left; the sender sees nothing"
    assert (told.sees, told.hops) == ("nothing", (SeenHop("left", ("was sent",), ()),))
    assert told.packets == ("leaves left: tcp 172.20.1.10 port 49152 → 172.20.3.10 port 443",)
    assert (report.building_seconds, report.left_out) == (1.23, ("a link: why",))
    (rests,) = report.rests_on
    assert rests.endswith(", entry 10")
