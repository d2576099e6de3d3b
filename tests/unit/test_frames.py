"""Frame lists: on switch ports and interfaces, ARP and neighbour discovery among what they see (§14)."""

import pytest

from greyheron.analysis.findings.finding import SearchGround
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.findings.lists import in_lists
from greyheron.analysis.network.completion import complete_entry
from greyheron.analysis.presentation.ranges import cover_list
from greyheron.analysis.testing.sending import sending_of
from greyheron.core.bulk.engines import engines
from greyheron.core.lists.frames import derived_mac, group_mac, mac_of
from greyheron.core.network.segments import find_segments
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.core.world import build_world
from greyheron.formats.listing import read_listing, write_listing
from greyheron.model.entry import EVERY_MAC_BIT, FrameMatch, MacBlock, mac_text
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.notation.line import NotationError
from greyheron.model.notation.lists import read_body, write_body
from greyheron.model.problems import DocumentError
from greyheron.model.values import Family, ListKind
from tests.cases import Case, check, traced
from tests.lab import Lab

USUAL = "permit ipv4\npermit ipv6\npermit arp"


def mac(device: str, interface: str = "eth0") -> str:
    return mac_text(derived_mac(device, interface))


def frames(at: str, entries: str, name: str = "frames") -> "Placing":
    return Placing(at, entries, name)


class Placing:
    """A frame list, as a change to the lab."""

    def __init__(self, at: str, entries: str, name: str) -> None:
        self.at, self.entries, self.name = at, entries, name

    def __call__(self, lab: Lab) -> None:
        lab.place(self.at, self.entries, name=self.name, kind="frame")
        del lab.data["lists"][-1]["family"]


CASES = {
    "what is usual passes": Case("left → mate ping", "passes", "", frames("sw p1 in", USUAL)),
    "an empty one denies everything": Case(
        "left → mate ping",
        "blocked",
        "as ARP is stopped entering sw by p1: frames denies, implicit deny",
        frames("sw p1 in", ""),
    ),
    "without ARP nobody is found": Case(
        "left → mate ping",
        "blocked",
        "as ARP is stopped entering sw by p1: frames denies, implicit deny",
        frames("sw p1 in", "permit ipv4"),
        sees="host unreachable",
    ),
    "nor where only the answer is stopped": Case(
        "left → mate ping",
        "blocked",
        "as ARP is stopped entering sw by p2: frames denies, entry 10",
        frames("sw p2 in", "deny arp\npermit any"),
    ),
    "with ARP alone the packet is stopped, and nobody answers": Case(
        "left → right tcp/443",
        "blocked",
        "with its frame entering sw by p1: frames denies, implicit deny",
        frames("sw p1 in", "permit arp"),
        sees="nothing",
    ),
    "the reply's frame counts too": Case(
        "left → mate ping",
        "blocked",
        "on the way home, with its frame leaving sw by p1: frames denies, entry 10",
        frames("sw p1 out", f"deny ipv4 from {mac('mate')}\npermit any"),
    ),
    "one sender": Case(
        "left → right tcp/443",
        "blocked",
        "with its frame leaving sw by p3: frames denies, entry 10",
        frames("sw p3 out", f"deny ipv4 from {mac('left')}\npermit any"),
    ),
    "and not its neighbour": Case(
        "mate → right tcp/443",
        "passes",
        "",
        frames("sw p3 out", f"deny ipv4 from {mac('left')}\npermit any"),
    ),
    "behind a router the MAC address is the router's": Case(
        "left → right tcp/443",
        "blocked",
        "with its frame entering r2 by wan0: frames denies, entry 10",
        frames("r2 wan0 in", f"deny ipv4 from {mac('r1', 'wan0')}\npermit any"),
    ),
    "what a router sends itself is seen": Case(
        "r1 → r2 ping",
        "blocked",
        "with its frame leaving r1 by wan0: frames denies, entry 10",
        frames("r1 wan0 out", "deny ipv4\npermit any"),
    ),
    "inbound before the list of packets": Case(
        "left → right tcp/443",
        "blocked",
        "with its frame entering r2 by wan0: frames denies, entry 10",
        lambda lab: frames("r2 wan0 in", "deny ipv4\npermit any")(lab) or lab.place("r2 wan0 in", ""),
    ),
    "outbound after it": Case(
        "left → right tcp/443",
        "blocked",
        "leaving r1 by wan0: list denies, implicit deny",
        lambda lab: frames("r1 wan0 out", "deny ipv4\npermit any")(lab) or lab.place("r1 wan0 out", ""),
    ),
    "a MAC address that is given": Case(
        "left → mate ping",
        "blocked",
        "with its frame entering sw by p1: frames denies, entry 10",
        lambda lab: (
            lab.interface("left", "eth0").update(mac="02:1A:00:00:4C:07")
            or frames("sw p1 in", "deny ipv4 from 02:1a:00:00:00:00~00:00:00:ff:ff:ff\npermit any")(lab)
        ),
    ),
    "a possible host stands at a port of its own": Case(
        "172.20.1.77/24 → mate ping",
        "blocked",
        "with its frame leaving sw by p2: frames denies, entry 10",
        frames("sw p2 out", "deny ipv4\npermit any"),
    ),
    "and meets no list of another port": Case(
        "172.20.1.77/24 → right tcp/443", "passes", "", frames("sw p1 in", "deny any")
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_frames(case: Case) -> None:
    check(Lab(), case)


def test_frames_have_no_part_in_the_baseline() -> None:
    lab = Lab().with_(frames("sw p1 in", ""))
    assert traced(lab, "left → mate ping", baseline=True).verdict == "passes"


def test_the_trace_names_switches_and_ends_at_the_port_that_stops() -> None:
    lab = Lab().with_(frames("sw p2 out", "deny ipv4 log\npermit any"))
    (exchange,) = traced(lab, "left → mate ping").exchanges
    (hop,) = exchange.out.hops
    assert [step.text for step in hop.steps[-2:]] == [
        "leaves by eth0 to mate, 172.20.1.11, through sw",
        f"frame list frames leaving sw by p2 denies, entry 10 (ipv4 from {mac('left')} to {mac('mate')})",
    ]
    assert hop.links == (("left:eth0", "sw:p1"),)
    assert exchange.deciding is not None
    assert (exchange.deciding.device, exchange.deciding.at, exchange.deciding.list) == ("sw", "p2", "frames")


def test_frames_are_counted_and_logged_where_they_pass() -> None:
    lab = Lab().with_(frames("sw p1 in", "permit arp\npermit ipv4 log"))
    world = build_world(lab.network())
    sent = sending_of(converse(world, read_bare_flow("left → mate ping")), 2, world.topology.devices)
    assert {(count.list, count.entry): times for count, times in sent.counts.items()} == {("frames", 20): 2}
    assert [(line.protocol, line.source) for line in sent.lines] == [("icmp echo-request", "172.20.1.10")]


TWO_WAYS = """
devices:
  - {name: a, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.1/24]}]}
  - {name: b, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.2/24]}]}
  - {name: near, kind: switch, interfaces: [{name: p1}, {name: p2}, {name: p3}]}
  - {name: mid1, kind: switch, interfaces: [{name: p1}, {name: p2}]}
  - {name: mid0, kind: switch, interfaces: [{name: p1}, {name: p2}]}
  - {name: far, kind: switch, interfaces: [{name: p1}, {name: p2}, {name: p3}]}
links:
  - {ends: ["a:eth0", "near:p1"]}
  - {ends: ["near:p2", "mid1:p1"]}
  - {ends: ["near:p3", "mid0:p1"]}
  - {ends: ["mid1:p2", "far:p2"]}
  - {ends: ["mid0:p2", "far:p3"]}
  - {ends: ["far:p1", "b:eth0"]}
"""


def test_of_equal_ways_the_first_by_name_is_taken_there_and_back() -> None:
    segments = find_segments(Lab.of(TWO_WAYS).network())
    there = segments.crossing(("a", "eth0"), ("b", "eth0"))
    assert [far for _, far in there] == ["near:p1", "mid0:p1", "far:p3", "b:eth0"]
    back = segments.crossing(("b", "eth0"), ("a", "eth0"))
    assert back == tuple((far, near) for near, far in reversed(there))


OSPF = """
devices:
  - name: r1
    kind: router
    interfaces: [{name: eth0, addresses: [172.20.1.1/30, "2001:db8:1::1/64"], ospf: {}}]
  - {name: sw, kind: switch, interfaces: [{name: p1}, {name: p2}]}
  - name: r2
    kind: router
    interfaces: [{name: eth0, addresses: [172.20.1.2/30, "2001:db8:1::2/64"], ospf: {}}]
links:
  - {ends: ["r1:eth0", "sw:p1"]}
  - {ends: ["sw:p2", "r2:eth0"]}
"""


@pytest.mark.parametrize(
    ("entries", "cut"),
    [
        (USUAL, []),
        ("permit ipv4\npermit ipv6", [("sw", True)]),  # hellos come through, and nobody is found
        ("deny ipv4 to 01:00:5e:00:00:05\npermit any", [("sw", False)]),
        ("deny any to 33:33:00:00:00:05\npermit any", [("sw", False)]),
        ("deny ipv6 to 33:33:ff:00:00:00~00:00:00:ff:ff:ff\npermit any", [("sw", True)]),
    ],
)
def test_routing_neighbours_must_get_their_frames_through(entries: str, cut: list[tuple[str, bool]]) -> None:
    world = build_world(Lab.of(OSPF).with_(frames("sw p1 in", entries)).network())
    found = [(each.by.point.device, each.unfound) for each in world.routes.cut_neighbours()]
    assert found == cut


def test_a_subinterface_has_its_parents_mac_address_and_groups_have_their_own() -> None:
    text = """
devices:
  - name: r1
    kind: router
    interfaces: [{name: eth0, mac: "02:00:00:00:00:09"}, {name: eth0.5, parent: eth0, vlan: 5}]
"""
    (router,) = Lab.of(text).network().devices
    assert mac_of(router, "eth0.5") == 0x02_00_00_00_00_09
    assert group_mac(Family.IPV4, 0xE0000005) == 0x01_00_5E_00_00_05
    assert group_mac(Family.IPV6, 0xFF02 << 112 | 0x1_FF00_0010) == 0x33_33_FF_00_00_10
    assert group_mac(Family.IPV4, 0xAC140101) is None
    assert derived_mac("left", "eth0") >> 40 & 0b11 == 0b10


@pytest.mark.parametrize(
    ("line", "match"),
    [
        ("permit any", FrameMatch()),
        ("deny silently arp", FrameMatch(0x0806)),
        ("permit 0x9100 log", FrameMatch(0x9100)),
        ("permit ipv4 from 02:1a:00:00:4c:07", FrameMatch(0x0800, MacBlock(0x021A00004C07))),
        (
            "deny ipv6 to 33:33:00:00:00:00~00:00:ff:ff:ff:ff",
            FrameMatch(0x86DD, None, MacBlock(0x3333_0000_0000, EVERY_MAC_BIT ^ 0xFFFF_FFFF)),
        ),
    ],
)
def test_entries_are_read_back_as_they_are_written(line: str, match: FrameMatch) -> None:
    body = read_body(line, None, ListKind.FRAME)
    assert body.entries[0].frame == match
    assert write_body(body, None, ListKind.FRAME) == f"10 {line}\n"


@pytest.mark.parametrize(
    ("line", "words"),
    [
        (
            "permit tcp",
            "“tcp” is no EtherType: expected any, a name such as ipv4 or arp, or 0x0600 to",
        ),
        ("permit 0x05dc", "“0x05dc” is no EtherType"),
        ("permit ipv4 from 172.20.1.1", "“172.20.1.1” is no MAC address: write six pairs of digits"),
        ("permit ipv4 port 80", "“port” does not fit here: expected from, to, during, log"),
    ],
)
def test_misreadings_say_what_could_stand_there(line: str, words: str) -> None:
    with pytest.raises(NotationError, match="line 1") as caught:
        read_body(line, None, ListKind.FRAME)
    assert words in str(caught.value)


def test_a_list_file_holds_frame_lists() -> None:
    text = "list camera-ports frame  # the hides\n10 permit arp\n20 permit ipv4\n"
    lists = read_listing(text)
    assert [(each.name, each.family, each.kind) for each in lists] == [("camera-ports", None, "frame")]
    assert write_listing(lists) == text


@pytest.mark.parametrize(
    ("at", "kind", "words"),
    [
        ("left eth0 in", "frame", "a host takes no frame lists: place it on a switch port"),
        ("r1 remote in", "frame", "a management line sees no frames: place it on an interface"),
        ("sw p1 in", "extended", "a switch takes no lists: place it on a router or host"),
    ],
)
def test_each_kind_of_list_has_its_places(at: str, kind: str, words: str) -> None:
    lab = Lab()
    if kind == "frame":
        frames(at, USUAL)(lab)
    else:
        lab.place(at, "")
    with pytest.raises(DocumentError) as caught:
        lab.network()
    assert words in str(caught.value)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"family": "ipv4"}, "a frame list belongs to no family"),
        ({"kind": "extended", "entries": ""}, "a list of this kind is for one family"),
    ],
)
def test_a_frame_list_has_no_family_and_others_have_one(change: dict[str, str], words: str) -> None:
    lab = Lab().with_(frames("sw p1 in", USUAL))
    lab.data["lists"][-1].update(change)
    with pytest.raises(DocumentError) as caught:
        lab.network()
    assert words in str(caught.value)


def test_a_mac_address_is_of_one_interface() -> None:
    lab = Lab()
    lab.interface("left", "eth0")["mac"] = "ff:ff:ff:ff:ff:ff"
    with pytest.raises(DocumentError) as caught:
        lab.network()
    assert "stands for no one interface" in str(caught.value)


@pytest.mark.parametrize(
    ("entries", "kinds"),
    [
        (USUAL, set()),
        ("permit ipv4\npermit ipv6", {"frame list that stops ARP"}),
        (f"permit ipv4\npermit arp from {mac('left')}", {"frame list that stops ARP"}),
        (f"permit ipv4 from {mac('left')}\npermit arp from {mac('left')}", set()),
        (f"deny any\npermit arp from {mac('left')}", {"general before specific"}),
        (f"permit arp\npermit arp from {mac('left')}\npermit ipv4", {"entry that never matches"}),
        ("deny arp from 02:00:00:00:00:00~00:ff:ff:ff:ff:ff\npermit arp\npermit ipv6", set()),
        ("deny ipv6", {"list of denies only"}),
    ],
)
def test_what_is_doubtful_in_a_frame_list_is_found(entries: str, kinds: set[str]) -> None:
    network = Lab().with_(frames("sw p1 in", entries)).network()
    timeline = Timeline.build(network)
    ground = SearchGround(network, timeline.first, timeline, engines(), KeptFindings())
    assert {finding.kind for finding in in_lists(ground)} == kinds


def test_what_an_entry_covers_is_said_with_the_interfaces_that_it_means() -> None:
    network = Lab().with_(frames("sw p1 in", f"# ours\npermit any from {mac('left')} to any")).network()
    (cover,) = cover_list(network.lists[0], network)
    assert (cover.line, cover.source, cover.destination) == (2, f"{mac('left')}: left eth0", "")


def test_a_mac_address_belongs_to_one_interface_of_the_network() -> None:
    lab = Lab()
    for name in ("left", "mate"):
        lab.interface(name, "eth0")["mac"] = "02:00:00:00:00:09"
    with pytest.raises(DocumentError) as caught:
        lab.network()
    assert "02:00:00:00:00:09 is also the MAC address of device left, interface eth0" in str(caught.value)


def test_mac_addresses_are_offered_with_whose_they_are() -> None:
    network = Lab().network()
    _, options = complete_entry("permit arp from ", None, ListKind.FRAME, network)
    assert {option.text: option.explains for option in options}[mac("left")] == "left eth0"
    _, options = complete_entry("permit ", None, ListKind.FRAME, network)
    assert {"any", "arp", "lldp"} <= {option.text for option in options}
