"""§1, §2, §4, §5 and §8, case by case: what comes of a conversation, and why."""

import pytest

from greyheron.core.walk.conversation import converse
from greyheron.core.walk.icmp_errors import Seen
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import build_world
from greyheron.model.notation.flows import read_bare_flow
from tests.cases import Case, all_of, check, traced
from tests.lab import Lab
from tests.sites import site


def diamond(lab: Lab) -> Lab:
    """Both ways around are equally good, out and home."""
    lab.route("r1", "172.20.3.0/24", via="172.20.0.10")
    return lab.route("r3", "172.20.1.0/24", via="172.20.0.13")


CASES: dict[str, Case] = {
    # no lists: the baseline
    "TCP to a service passes": Case(
        "left → right web", "passes", "reply gets home", sees="reply from 172.20.3.10"
    ),
    "UDP to a service passes": Case("left → right names", "passes"),
    "ping passes": Case("left → right ping", "passes"),
    "a protocol without replies passes one way": Case("left → right protocol/47", "passes", sees="nothing"),
    "a closed TCP port is refused": Case("left → right tcp/81", "refused", "nobody listens", sees="reset"),
    "a closed UDP port is refused": Case(
        "left → right udp/81", "refused", "nobody listens", sees="port unreachable"
    ),
    "refused stays refused when the reset is lost": Case(
        "left → right tcp/81",
        "refused",
        change=lambda lab: lab.place("r3 eth0 in", "deny tcp"),
        sees="nothing: a timeout",
    ),
    "same segment: no router sees it": Case(
        "left → mate web", "passes", change=lambda lab: lab.place("r1 eth0 in", "deny any")
    ),
    "nobody owns the address": Case(
        "left → 172.20.3.77 tcp/80",
        "unreachable",
        "nobody on eth0 answers for 172.20.3.77",
        sees="host unreachable from 172.20.0.6",
    ),
    "nobody owns an address of the own segment": Case(
        "left → 172.20.1.77 tcp/80", "unreachable", "left stops", sees="host unreachable, said by itself"
    ),
    "no route out": Case(
        "left → right web",
        "unreachable",
        "r2 stops: no route",
        lambda lab: lab.without_route("r2", "172.20.3.0/24"),
        sees="network unreachable from 172.20.0.2",
    ),
    "no route back": Case(
        "left → right web",
        "unreachable",
        "on the way home, r3 stops",
        lambda lab: lab.without_route("r3", "172.20.1.0/24"),
        sees="nothing: a timeout",
    ),
    "no gateway": Case(
        "left → right web",
        "unreachable",
        "left stops: no route",
        lambda lab: lab.device("left").pop("gateway"),
        sees="network unreachable, said by itself",
    ),
    "wrong gateway: an address nobody holds": Case(
        "left → right web",
        "unreachable",
        "nobody on eth0 answers for 172.20.1.2",
        lambda lab: lab.device("left").update(gateway="172.20.1.2"),
    ),
    "wrong gateway: a neighbour that forwards for nobody": Case(
        "left → right web",
        "unreachable",
        "mate stops",
        lambda lab: lab.device("left").update(gateway="172.20.1.11"),
    ),
    "wrong gateway: on no prefix of the host": Case(
        "left → right web",
        "unreachable",
        "next hop cannot be reached",
        lambda lab: lab.device("left").update(gateway="172.20.9.1"),
    ),
    "the server's gateway is wrong: the reply is lost": Case(
        "left → right web",
        "unreachable",
        "on the way home, right stops",
        lambda lab: lab.device("right").update(gateway="172.20.3.9"),
    ),
    "a loop is reported": Case(
        "left → right web",
        "unreachable",
        "loop through r1",
        lambda lab: lab.without_route("r2", "172.20.3.0/24").route("r2", "172.20.3.0/24", via="172.20.0.1"),
        sees="hop limit reached",
    ),
    "a loop is cut short by a list that sees the packet at its second visit": Case(
        "left → right web",
        "blocked",
        "entering r1 by wan0: list denies",
        all_of(
            lambda lab: lab.without_route("r2", "172.20.3.0/24").route(
                "r2", "172.20.3.0/24", via="172.20.0.1"
            ),
            lambda lab: lab.place("r1 wan0 in", "deny any to 172.20.3.0/24\npermit any"),
        ),
        sees="administratively prohibited from 172.20.1.1",
    ),
    "a disabled interface has no route": Case(
        "left → right web",
        "unreachable",
        "r3 stops: no route",
        lambda lab: lab.interface("r3", "eth0").update(enabled=False),
    ),
    "a disabled interface of the next router answers nobody": Case(
        "left → right web",
        "unreachable",
        "nobody on wan0 answers for 172.20.0.2",
        lambda lab: lab.interface("r2", "wan0").update(enabled=False),
    ),
    "a disabled switch port cuts a host off": Case(
        "left → right web",
        "unreachable",
        "nobody on eth0",
        lambda lab: lab.interface("sw", "p1").update(enabled=False),
    ),
    "a disabled link carries nothing": Case(
        "left → right web",
        "unreachable",
        "nobody on wan0",
        lambda lab: lab.data["links"][3].update(enabled=False),
    ),
    "the longest prefix wins": Case(
        "left → right web",
        "unreachable",
        "r1 stops: discarded by route 172.20.3.0/28",
        lambda lab: lab.route("r1", "172.20.3.0/28", discard=True),
        sees="network unreachable from 172.20.1.1",
    ),
    "a shorter prefix that discards does no harm": Case(
        "left → right web", "passes", change=lambda lab: lab.route("r1", "172.20.0.0/15", discard=True)
    ),
    "the lower preference wins": Case(
        "left → right web",
        "passes",
        change=lambda lab: lab.route("r1", "172.20.3.0/24", discard=True, preference=9),
    ),
    "connected wins over static": Case(
        "r3 → right web", "passes", change=lambda lab: lab.route("r3", "172.20.3.0/24", via="172.20.0.5")
    ),
    "a next hop is resolved through the table": Case(
        "left → right web",
        "passes",
        change=lambda lab: lab.without_route("r1", "172.20.3.0/24").route(
            "r1", "172.20.3.0/24", via="172.20.0.5"
        ),
    ),
    "a route by interface treats the destination as a neighbour": Case(
        "left → right web",
        "unreachable",
        "nobody on wan0 answers for 172.20.3.10",
        lambda lab: lab.route("r1", "172.20.3.10/32", interface="wan0"),
    ),
    "a route whose interface is disabled gives way": Case(
        "left → right web",
        "passes",
        change=all_of(
            lambda lab: lab.interface("r1", "wan1").update(enabled=False),
            lambda lab: lab.route("r1", "172.20.3.10/32", via="172.20.0.10", interface="wan1"),
        ),
    ),
    # lists in the way
    "blocked inbound, near the source": Case(
        "left → right web",
        "blocked",
        "entering r1 by eth0: list denies, entry 10",
        lambda lab: lab.place("r1 eth0 in", "deny tcp to @right port 443\npermit any"),
        sees="administratively prohibited from 172.20.1.1",
    ),
    "blocked outbound, near the destination": Case(
        "left → right web",
        "blocked",
        "leaving r3 by eth0: list denies, entry 10",
        lambda lab: lab.place("r3 eth0 out", "deny tcp to @right port 443\npermit any"),
        sees="administratively prohibited from 172.20.0.6",
    ),
    "a silent deny is not answered": Case(
        "left → right web",
        "blocked",
        "denies silently",
        lambda lab: lab.place("r1 eth0 in", "deny silently tcp\npermit any"),
        sees="nothing: a timeout",
    ),
    "a router that does not answer denials": Case(
        "left → right web",
        "blocked",
        change=all_of(
            lambda lab: lab.place("r1 eth0 in", "deny tcp"),
            lambda lab: lab.device("r1").update(answers_denied=False),
        ),
        sees="nothing: a timeout",
    ),
    "the implicit deny": Case(
        "left → right web",
        "blocked",
        "implicit deny",
        lambda lab: lab.place("r1 eth0 in", "permit udp"),
    ),
    "an empty list denies": Case(
        "left → right web", "blocked", "implicit deny", lambda lab: lab.place("r1 eth0 in", "")
    ),
    "wrong direction: it never matches": Case(
        "left → right web",
        "passes",
        change=lambda lab: lab.place("r1 eth0 out", "deny any from @left\npermit any"),
    ),
    "wrong interface: not on the way": Case(
        "left → right web", "passes", change=lambda lab: lab.place("r1 wan1 out", "deny any")
    ),
    "a list placed nowhere does nothing": Case(
        "left → right web",
        "passes",
        change=all_of(
            lambda lab: lab.place("r1 eth0 in", "deny any"), lambda lab: lab.data.update(placements=[])
        ),
    ),
    "the reply is blocked": Case(
        "left → right web",
        "blocked",
        "on the way home, entering r3 by eth0",
        lambda lab: lab.place("r3 eth0 in", "permit udp"),
        sees="nothing: a timeout",
    ),
    "the reply is let through by established": Case(
        "left → right web", "passes", change=lambda lab: lab.place("r3 eth0 in", "permit tcp established")
    ),
    "established inbound at the source blocks the opening": Case(
        "left → right web",
        "blocked",
        "entering r1",
        lambda lab: lab.place("r1 eth0 in", "permit tcp established"),
    ),
    "a list that lets only the first packet out blocks the later ones": Case(
        "left → right web",
        "blocked",
        "entering r1 by eth0: list denies, entry 10",
        lambda lab: lab.place("r1 eth0 in", "10 deny tcp established\n20 permit any"),
    ),
    "the ping's reply is blocked": Case(
        "left → right ping",
        "blocked",
        "on the way home",
        lambda lab: lab.place("r1 wan0 in", "deny icmp echo-reply\npermit any"),
    ),
    "the answer about a deny cannot get home": Case(
        "left → right web",
        "blocked",
        "leaving r3",
        all_of(
            lambda lab: lab.place("r3 eth0 out", "deny tcp"),
            lambda lab: lab.place("r1 wan0 in", "permit tcp", name="no-icmp"),
        ),
        sees="nothing: a timeout",
    ),
    "a standard list far from the source blocks every service": Case(
        "left → right ping",
        "blocked",
        "leaving r3",
        lambda lab: lab.place("r3 eth0 out", "deny 172.20.1.10\npermit any", kind="standard"),
    ),
    "and leaves the neighbour alone": Case(
        "mate → right ping",
        "passes",
        change=lambda lab: lab.place("r3 eth0 out", "deny 172.20.1.10\npermit any", kind="standard"),
    ),
    # own addresses, own traffic, management lines
    "ping to a router's far address": Case("left → r3:eth0 ping", "passes"),
    "a list outbound there does not stop it": Case(
        "left → r3:eth0 ping", "passes", change=lambda lab: lab.place("r3 eth0 out", "deny any")
    ),
    "a list inbound on the near side does": Case(
        "left → r3:eth0 ping",
        "blocked",
        "entering r3 by wan0",
        lambda lab: lab.place("r3 wan0 in", "deny icmp"),
    ),
    "a router's own packets skip its outbound lists": Case(
        "r1 → right web", "passes", change=lambda lab: lab.place("r1 wan0 out", "deny any")
    ),
    "unless it filters its own traffic": Case(
        "r1 → right web",
        "blocked",
        "leaving r1 by wan0",
        all_of(
            lambda lab: lab.place("r1 wan0 out", "deny any"),
            lambda lab: lab.device("r1").update(filters_own_traffic=True),
        ),
    ),
    "a host filters its own traffic": Case(
        "left → right web",
        "blocked",
        "leaving left by eth0",
        lambda lab: lab.place("left eth0 out", "deny any"),
        sees="nothing",
    ),
    "an outbound list of the router before it still sees it": Case(
        "r1 → right web", "blocked", "leaving r2 by wan1", lambda lab: lab.place("r2 wan1 out", "deny any")
    ),
    "its source is the address it leaves by": Case(
        "r1 → right web",
        "blocked",
        "entry 10",
        lambda lab: lab.place("r3 wan0 in", "deny any from 172.20.0.1\npermit any"),
    ),
    "a chosen source interface is another source": Case(
        "r1:lo0 → right web",
        "passes",
        change=all_of(
            lambda lab: lab.place("r3 wan0 in", "deny any from 172.20.0.1\npermit any"),
            lambda lab: lab.route("r2", "172.20.255.1/32", via="172.20.0.1"),
        ),
    ),
    "the reply to a chosen source needs a route": Case(
        "r1:lo0 → right web", "unreachable", "on the way home, r2 stops"
    ),
    "a login to a router's line": Case("left → r2 ssh", "passes"),
    "a login that no line offers is refused": Case("left → r2 https", "refused", "no line offers this login"),
    "a list on the line blocks the login": Case(
        "left → r2 ssh",
        "blocked",
        "r2’s remote line: list denies, entry 10",
        lambda lab: lab.place("r2 remote in", "deny from @left\npermit any", kind="standard"),
    ),
    "a list on the line stops nobody passing through": Case(
        "left → right web",
        "passes",
        change=lambda lab: lab.place("r2 remote in", "deny any", kind="standard"),
    ),
    "a list on the console line stops no network login": Case(
        "left → r2 ssh", "passes", change=lambda lab: lab.place("r2 console in", "deny any", kind="standard")
    ),
    "traffic to its own address stays inside": Case(
        "right → right web", "passes", change=lambda lab: lab.place("right eth0 in", "deny any")
    ),
    # equal-cost paths
    "equal ways, both open": Case("left → right web", "passes", change=diamond),
    "equal ways, one blocked: mixed": Case(
        "left → right web",
        "mixed",
        "passes",
        all_of(diamond, lambda lab: lab.place("r4 wan0 in", "deny any")),
    ),
    "equal ways, both blocked": Case(
        "left → right web",
        "blocked",
        "",
        all_of(
            diamond,
            lambda lab: lab.place("r4 wan0 in", "deny any"),
            lambda lab: lab.place("r2 wan0 in", "deny any", name="other"),
        ),
    ),
    "equal ways home, one of them cut": Case(
        "left → right web",
        "mixed",
        "",
        all_of(diamond, lambda lab: lab.without_route("r4", "172.20.1.0/24")),
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_verdict(case: Case) -> None:
    check(Lab(), case)


def test_the_baseline_ignores_every_placement() -> None:
    lab = (
        Lab().place("r1 eth0 in", "deny any").place("r2 remote in", "deny any", name="line", kind="standard")
    )
    assert traced(lab, "left → right web").verdict == "blocked"
    assert traced(lab, "left → right web", baseline=True).verdict == "passes"
    assert traced(lab, "left → r2 ssh", baseline=True).verdict == "passes"


def test_a_router_sends_a_packet_the_same_way_when_it_comes_by_again() -> None:
    lab = Lab().route("r1", "172.20.3.0/24", via="172.20.0.10")
    for back in ("r2", "r4"):
        lab.without_route(back, "172.20.3.0/24").route(
            back, "172.20.3.0/24", via="172.20.0.1" if back == "r2" else "172.20.0.9"
        )
    found = traced(lab, "left → right web")
    ways = [[hop.device for hop in each.out.hops] for each in found.exchanges]
    assert ways == [["left", "r1", "r2", "r1", "r2"], ["left", "r1", "r4", "r1", "r4"]]


def test_equal_ways_give_a_path_each_and_say_how_many() -> None:
    found = traced(Lab().with_(diamond), "left → right web")
    assert len(found.exchanges) == 4  # two ways out, each with two ways home
    ways = {tuple(hop.device for hop in each.out.hops) for each in found.exchanges}
    assert ways == {("left", "r1", "r2", "r3", "right"), ("left", "r1", "r4", "r3", "right")}


def test_more_than_64_combinations_are_cut_and_it_is_said() -> None:
    lab = Lab()
    for number in range(9):
        base = 16 + 4 * number
        for device, address, name in (
            ("r1", f"172.21.0.{base + 1}/30", f"x{number}"),
            ("r3", f"172.21.0.{base + 2}/30", f"x{number}"),
        ):
            lab.device(device)["interfaces"].append({"name": name, "addresses": [address]})
        lab.data["links"].append({"ends": [f"r1:x{number}", f"r3:x{number}"]})
        lab.route("r1", "172.20.3.0/24", via=f"172.21.0.{base + 2}")
        lab.route("r3", "172.20.1.0/24", via=f"172.21.0.{base + 1}")
    found = traced(lab, "left → right web")
    assert found.more_paths
    assert len(found.exchanges) == 64


def test_icmp_answers_carry_the_address_they_leave_by() -> None:
    lab = Lab().place("r3 eth0 out", "deny any")
    found = traced(lab, "left → right web").exchanges[0]
    assert found.sees.by == "172.20.0.6"
    assert found.home is not None
    assert [hop.device for hop in found.home.hops] == ["r3", "r2", "r1", "left"]


def test_the_deciding_place_is_named() -> None:
    found = traced(Lab().place("r1 eth0 in", "permit udp\ndeny tcp log"), "left → right web").exchanges[0]
    assert found.deciding is not None
    place = found.deciding
    assert (place.device, place.at, place.direction, place.list, place.entry) == (
        "r1",
        "eth0",
        "in",
        "list",
        20,
    )
    deciding = [step for hop in found.out.hops for step in hop.steps if step.deciding]
    assert [step.text for step in deciding] == ["list denies, entry 20"]


def test_routes_that_lost_are_told_with_the_reason() -> None:
    found = traced(Lab().route("r1", "172.20.3.0/24", discard=True, preference=9), "left → right web")
    lost = [text for hop in found.exchanges[0].out.hops for step in hop.steps for text in step.lost]
    assert "172.20.3.0/24, static, discards: another route of the same prefix is preferred" in lost
    assert "172.20.0.0/16, static, by 172.20.0.2: a longer prefix covers it" in lost


def test_an_outside_network_answers_for_what_nobody_else_owns() -> None:
    lab = Lab()
    lab.device("r2")["interfaces"].append({"name": "wan9", "addresses": ["203.0.113.2/30"]})
    lab.data["devices"].append(
        {
            "name": "beyond",
            "kind": "outside",
            "interfaces": [{"name": "wan0", "addresses": ["203.0.113.1/30"]}],
            "gateway": "203.0.113.2",
            "prefixes": ["198.51.100.0/24", "172.20.3.0/24"],
        }
    )
    lab.data["links"].append({"ends": ["r2:wan9", "beyond:wan0"]})
    lab.route("r2", "198.51.100.0/24", via="203.0.113.1").route("r1", "0.0.0.0/0", via="172.20.0.2")
    assert traced(lab, "left → 198.51.100.77 udp/9999").verdict == "passes"
    assert traced(lab, "left → beyond ping").verdict == "passes"
    assert traced(lab, "left → right tcp/81").verdict == "refused"  # right owns its own address
    assert traced(lab, "beyond → right web").verdict == "unreachable"  # no route home to 203.0.113.0/30
    lab.route("r3", "0.0.0.0/0", via="172.20.0.5")
    assert traced(lab, "beyond:198.51.100.9 → right web").verdict == "passes"


def test_nobody_who_could_be_there_is_a_next_hop() -> None:
    """A gateway that no device has is nobody's: the sender itself says so (§10)."""
    network = site(
        "router r1 a=172.20.1.1/24 b=172.20.9.1/24", "host h1 172.20.1.10/24", "host h9 172.20.9.10/24"
    )
    (r1, *others) = network.devices
    down = r1.interfaces[0].model_copy(update={"enabled": False})
    devices = (r1.model_copy(update={"interfaces": (down, *r1.interfaces[1:])}), *others)
    world = build_world(network.model_copy(update={"devices": devices}))
    (exchange,) = converse(world, read_bare_flow("172.20.1.99/24 → 172.20.9.10 ping")).exchanges
    assert (exchange.verdict, exchange.sees) == (Verdict.UNREACHABLE, Seen.HOST_UNREACHABLE)
    assert exchange.decider.path.last.ingress is None
