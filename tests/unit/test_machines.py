"""Machines as they are: what is made of what their commands print, and what is said to be left out."""

import json
import subprocess
from collections.abc import Mapping
from ipaddress import ip_address
from pathlib import Path
from random import Random
from typing import Any

import pytest

from greyheron.analysis.testing.sending import CountedAt
from greyheron.core.lists.matching import decide
from greyheron.core.lists.resolved import Names, resolve
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought
from greyheron.formats.known import bring
from greyheron.formats.machines import collecting_script
from greyheron.formats.machines.printed import FORMAT
from greyheron.model.document import Network
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.notation.lists import write_body
from greyheron.model.problems import DocumentError
from greyheron.model.values import Direction
from tests.filters import Rules, decided, random_packet, random_rules

COLLECTED = Path(__file__).parents[1] / "machines"
GATE = {"lan": "172.20.16.1/24", "up": "172.20.0.1/30", "lab": "172.20.40.1/24"}
ACCEPT, DROP = {"accept": None}, {"drop": None}


def port(name: str, *addresses: str, **more: Any) -> dict[str, Any]:
    held = [address.split("/") for address in addresses]
    info = [{"local": local, "prefixlen": int(length), "scope": "global"} for local, length in held]
    return {"ifname": name, "flags": ["UP"], "addr_info": info, **more}


def machine(name: str, ports: list[dict[str, Any]], **more: Any) -> bytes:
    told = {"format": FORMAT, "machine": name, "address": ports, "route": [], "ruleset": listing({}), **more}
    return json.dumps(told, separators=(",", ":")).encode()


def listing(chains: Mapping[str, list[Any]], policies: Mapping[str, str] | None = None, **more: Any) -> Any:
    """What `nft -j list ruleset` prints of a table of IPv4; chains called as hooks are base chains."""
    objects: list[Any] = [{"metainfo": {"version": "1"}}, {"table": {"family": "ip", "name": "t"}}]
    for name, rules in chains.items():
        chain: dict[str, Any] = {"family": "ip", "table": "t", "name": name}
        if name in ("input", "forward", "output", "prerouting", "postrouting"):
            kind = "nat" if more.get("nat") else "filter"
            chain |= {"type": kind, "hook": name, "prio": 0}
            chain["policy"] = (policies or {}).get(name, "accept")
        objects.append({"chain": chain})
        for handle, expressions in enumerate(rules, 1):
            rule = {"family": "ip", "table": "t", "chain": name, "handle": handle, "expr": expressions}
            objects.append({"rule": rule})
    return {"nftables": objects}


def gate(ruleset: Any, **more: Any) -> bytes:
    ports = [port(name, address) for name, address in GATE.items()]
    route = [{"dst": "default", "gateway": "172.20.0.2", "dev": "up", "flags": []}]
    route += [
        {"dst": f"{address.rpartition('.')[0]}.0/{address[-2:]}", "dev": name, "protocol": "kernel"}
        for name, address in GATE.items()
    ]
    return machine("gate", ports, **({"forwards4": "1", "route": route, "ruleset": ruleset} | more))


def brought(*files: bytes, **named: bytes) -> Brought:
    every = {f"{number}.json": content for number, content in enumerate(files)} | named
    return bring(Bundle("reserve.zip", every))[1]


def texts(network: Network) -> dict[str, list[str]]:
    return {each.name: write_body(each.body, each.family, each.kind).splitlines() for each in network.lists}


def match(left: Any, right: Any, op: str = "==") -> dict[str, Any]:
    return {"match": {"op": op, "left": left, "right": right}}


def state(*states: str) -> dict[str, Any]:
    return match({"ct": {"key": "state"}}, list(states), "in")


def dport(port: Any) -> dict[str, Any]:
    return match({"payload": {"protocol": "tcp", "field": "dport"}}, port)


def test_five_real_machines_become_a_network() -> None:
    found = bring(Bundle("reserve", {each.name: each.read_bytes() for each in COLLECTED.iterdir()}))
    assert found[0].name == "machines"
    network = found[1].network
    assert {each.name: str(each.kind) for each in network.devices} == {
        "desk": "host", "till": "host", "ledger": "host", "gate": "router", "shed": "router", "sw-1": "switch"
    }  # fmt: skip
    assert ("gate:up", "shed:down") in [link.ends for link in network.links]
    assert found[1].left_out == ()
    assert "40 permit tcp from any to @gate-by-up-4 port 443" in texts(network)["gate-lan-in"]
    assert texts(network)["ledger-eth0-out"] == [
        "10 deny tcp from any to any port 8081",
        "20 permit any from any to any",
    ]
    world = Timeline.build(network).first
    assert converse(world, read_bare_flow("desk → ledger https")).verdict == "passes"
    assert converse(world, read_bare_flow("till → ledger ssh ipv4")).verdict == "blocked"


@pytest.mark.parametrize("seed", range(120))
def test_lists_decide_as_the_filter_does(seed: int) -> None:
    """Read literally, packet by packet, on random rules for what is its own and what is passed on."""
    chance = Random(seed)
    policies = {hook: chance.choice(["accept", "drop"]) for hook in ("input", "forward")}
    own = random_rules(chance, "input", ("iifname",))
    through = random_rules(chance, "forward", ("iifname", "oifname"))
    further = own.pop("further")
    rules: Rules = {**own, **through, "further": further}
    network = brought(gate(listing(rules, policies))).network
    placed = {
        (each.at, each.direction): next(list_ for list_ in network.lists if list_.name == each.list)
        for each in network.placements
    }
    resolved = {at: resolve(each, Names(network)) for at, each in placed.items()}
    owned = {int(ip_address(address.partition("/")[0])) for address in GATE.values()}
    for _ in range(60):
        packet, arrives = random_packet(chance), chance.choice(list(GATE))
        chain, leaves = (
            ("input", None) if packet.destination in owned else ("forward", led(packet.destination))
        )
        verdict = decided(rules, chain, packet, arrives, leaves) or policies[chain]
        list_ = resolved.get((arrives, Direction.IN))
        permits = list_ is None or not decide(list_, packet).denies
        assert permits is (verdict == "accept"), (packet, arrives, rules, network.lists)


def led(address: int) -> str:
    text = str(ip_address(address))
    return "lan" if text.startswith("172.20.16.") else "lab" if text.startswith("172.20.40.") else "up"


MAYBE = "20 maybe deny silently any from any to any"


@pytest.mark.parametrize(
    ("expressions", "why", "entry"),
    [
        ([{"limit": {"rate": 3, "per": "second"}}, DROP], "“limit”: it decides so for some packets", MAYBE),
        ([match({"meta": {"key": "mark"}}, 5), DROP], "“meta mark” is not known here", MAYBE),
        ([match({"fib": {"result": "type", "flags": ["daddr"]}}, "local"), DROP], "“fib", MAYBE),
        ([match({"payload": {"protocol": "ip", "field": "length"}}, 40), DROP], "“ip length” is not", MAYBE),
        ([dport("@nobody"), DROP], "there is no set @nobody", MAYBE),
        (
            [match({"payload": {"protocol": "ip", "field": "saddr"}}, "2001:db8::1"), DROP],
            "the address",
            MAYBE,
        ),
        (
            [state("new"), dport(22), DROP],
            "nothing lets known conversations pass",
            "20 maybe deny silently tcp from any to any port 22",
        ),
        ([{"queue": None}], "“queue”: what becomes of a packet", "20 maybe permit any from any to any"),
        ([{"xt": {"type": "match", "name": "owner"}}, DROP], "“xt” is not known here", MAYBE),
    ],
    ids=range(9),
)
def test_what_is_not_known_is_named_and_may_be_so(expressions: list[Any], why: str, entry: str) -> None:
    """The rest of the chain stays."""
    refusing = [dport(25), {"reject": None}]
    found = brought(gate(listing({"forward": [[dport(23), DROP], expressions, refusing]})))
    own, first, *others, refused, end = texts(found.network)["gate-in"]
    assert own == "10 permit any from any to @gate-own4"
    assert first == "20 deny silently tcp from any to any port 23"
    assert [line.partition(" ")[2] for line in others][:1] == [entry.partition(" ")[2]]
    assert "deny tcp from any to any port 25" in refused
    assert end.endswith("permit any from any to any")
    assert why in " ".join(map(str, found.left_out))
    assert found.network.devices[0].note.startswith("Not all of its filter is known here.")


@pytest.mark.parametrize(
    ("expressions", "entries"),
    [
        (
            [{"log": {"prefix": "x"}}],
            ["deny tcp from any to any port 23", "deny tcp from any to any port 25"],
        ),
        (
            [{"mangle": {"key": {"meta": {"key": "mark"}}, "value": 5}}],
            ["deny tcp from any to any port 23", "deny tcp from any to any port 25"],
        ),
        ([{"goto": {"target": "further"}}], ["deny tcp from any to any port 23"]),
        (
            [dport(25), {"return": None}],
            [
                "deny tcp from any to any port 23",
                "permit tcp from any to any port 25",
                "deny tcp from any to any port 25",
            ],
        ),
    ],
    ids=["logging", "marks", "goto", "return"],
)
def test_what_decides_nothing_or_leads_back_is_said(expressions: list[Any], entries: list[str]) -> None:
    found = brought(
        gate(listing({"forward": [[dport(23), DROP], expressions, [dport(25), DROP]], "further": []}))
    )
    lines = [line.partition(" ")[2] for line in texts(found.network)["gate-in"]]
    assert lines == ["permit any from any to @gate-own4", *entries, f"permit any {WHOEVER}"]
    assert found.left_out == ()


def test_what_lets_known_conversations_pass_becomes_tracking() -> None:
    rules = [
        [state("established", "related"), ACCEPT],
        [state("invalid"), DROP],
        [state("new"), dport(22), ACCEPT],
    ]
    found = brought(gate(listing({"forward": rules}, {"forward": "drop"})))
    assert found.network.devices[0].tracks == ("tcp", "udp", "icmp")
    assert texts(found.network)["gate-in"][1:] == [
        "20 permit tcp from any to any port 22", "30 deny any from any to any"
    ]  # fmt: skip
    assert not any("its sessions" in notice.where for notice in found.guessed)
    late = brought(gate(listing({"forward": [[dport(23), DROP], rules[0]]}, {"forward": "drop"})))
    assert "it denies packets of known conversations too: whether those get through" in str(late.left_out[0])
    assert "10 maybe deny tcp from any port 23 to any" in texts(late.network)["gate-in"]
    half = brought(gate(listing({"forward": rules, "input": [[dport(23), DROP]]}, {"forward": "drop"})))
    assert "it denies packets of known conversations too" in " ".join(map(str, half.left_out))
    none = brought(gate(listing({"forward": rules, "input": [[dport(22), ACCEPT]]}, {"input": "drop"})))
    assert "chain input, policy: it denies packets of known" in " ".join(map(str, none.left_out))


def test_counters_come_along_where_a_rule_is_one_entry_at_one_place() -> None:
    lan = match({"meta": {"key": "iifname"}}, "lan")
    counted = [[lan, dport(80), {"counter": {"packets": 7, "bytes": 1}}, ACCEPT]]
    counted += [[dport(443), {"counter": {"packets": 9, "bytes": 1}}, ACCEPT]]
    found = brought(gate(listing({"forward": counted}, {"forward": "drop"})))
    assert found.counts == {CountedAt("gate", "lan", Direction.IN, "gate-lan-in", 20): 7}
    assert any(
        "its 9 packets are counted at no entry, as it stands" in notice.message for notice in found.left_out
    )


def test_rewriting_becomes_translation_and_lists_see_what_comes_in() -> None:
    up = match({"meta": {"key": "iifname"}}, "up")
    public = match({"payload": {"protocol": "ip", "field": "daddr"}}, "172.20.0.1")
    nat = listing(
        {
            "prerouting": [[up, public, dport(8443), {"dnat": {"addr": "172.20.40.10", "port": 443}}]],
            "postrouting": [
                [
                    match({"meta": {"key": "oifname"}}, "up"),
                    match(
                        {"payload": {"protocol": "ip", "field": "saddr"}},
                        {"prefix": {"addr": "172.20.16.0", "len": 24}},
                    ),
                    {"masquerade": None},
                ],
                [match({"meta": {"key": "oifname"}}, "up"), dport(25), {"snat": {"addr": "172.20.0.1"}}],
            ],
        },
        nat=True,
    )
    filtered = listing({"forward": [[up, dport(443), ACCEPT], [up, DROP]]})
    nat["nftables"] += filtered["nftables"][2:]
    found = brought(gate(nat))
    (device, *_) = found.network.devices
    published, hidden = device.translations
    assert (published.kind, str(published.source), str(published.to)) == (
        "static",
        "172.20.40.10/32",
        "172.20.0.1/32",
    )
    assert (published.protocol, published.port, published.to_port) == ("tcp", 443, 8443)
    assert (hidden.kind, hidden.inside, hidden.outside) == ("dynamic", ("lan", "lab"), "up")
    assert published.inward
    assert texts(found.network)["gate-up-in"][0] == "10 permit tcp from any to 172.20.0.1 port 8443"
    assert "30 maybe deny tcp from any to @gate-by-up-4 port 25" in texts(found.network)["gate-in"]
    assert [notice.message for notice in found.left_out] == [
        "this snat cannot be said: what it rewrites is not known"
    ]


def test_routes_are_taken_over_and_what_they_lead_to_is_guessed() -> None:
    ports = [port("lan", "172.20.16.1/24", "2001:db8:16::1/64")]
    link = {"local": "fe80::7", "prefixlen": 64, "scope": "link"}
    far = port("eth0", "172.20.16.2/24", "2001:db8:16::2/64")
    far["addr_info"].append(link)
    route = [
        {"dst": "default", "gateway": "172.20.16.254", "dev": "lan", "metric": 100},
        {"dst": "172.20.8.0/24", "type": "blackhole"},
        {"dst": "172.20.9.0/24", "gateway": "172.20.16.2", "dev": "lan", "protocol": "ospf", "metric": 20},
        {"dst": "172.20.9.0/24", "gateway": "172.20.16.9", "dev": "lan", "metric": 30},
        {
            "dst": "172.20.10.0/24",
            "nexthops": [{"gateway": "172.20.16.2", "dev": "lan"}, {"gateway": "172.20.16.9", "dev": "lan"}],
        },
        {"dst": "172.20.11.0/24", "dev": "gone"},
        {"dst": "172.20.12.0/24", "dev": "lan", "via": {"family": "inet6", "host": "2001:db8::1"}},
    ]
    route6 = [
        {"dst": "2001:db8:9::/64", "gateway": "fe80::7", "dev": "lan"},
        {"dst": "2001:db8:8::/64", "gateway": "fe80::8", "dev": "lan"},
    ]
    found = brought(machine("gate", ports, forwards4="1", route=route, route6=route6), machine("far", [far]))
    devices = {each.name: each for each in found.network.devices}
    routes = {(str(each.to), str(each.via), each.preference) for each in devices["gate"].routes}
    assert routes == {
        ("0.0.0.0/0", "172.20.16.254", 5), ("172.20.8.0/24", "None", 5), ("172.20.9.0/24", "172.20.16.2", 5),
        ("172.20.9.0/24", "172.20.16.9", 6), ("172.20.10.0/24", "172.20.16.2", 5),
        ("172.20.10.0/24", "172.20.16.9", 5), ("2001:db8:9::/64", "2001:db8:16::2", 5),
    }  # fmt: skip
    assert [str(each) for each in devices["beyond-1"].prefixes] == ["0.0.0.0/0"]
    left_out = {notice.where: notice.message for notice in found.left_out}
    assert left_out["gate, route to 172.20.11.0/24"] == "it leads out of gone, which is left out"
    assert "of the other family" in left_out["gate, route to 172.20.12.0/24"]
    assert "nobody is known at fe80::8" in left_out["gate, route to 2001:db8:8::/64"]
    assert any("learnt by ospf: taken as static" in notice.message for notice in found.guessed)


def test_tagged_subinterfaces_meet_at_a_switch_with_a_trunk() -> None:
    def tagged(number: int, address: str) -> dict[str, Any]:
        return port(
            f"lan.{number}", address, link="lan", linkinfo={"info_kind": "vlan", "info_data": {"id": number}}
        )

    gate = machine(
        "gate", [port("lan"), tagged(56, "172.20.56.1/24"), tagged(57, "172.20.57.1/24")], forwards4="1"
    )
    found = brought(
        gate,
        machine("desk", [port("eth0", "172.20.56.10/24")]),
        machine("gauge", [port("eth0", "172.20.57.10/24")]),
    )
    switch = next(each for each in found.network.devices if each.name == "sw-1")
    assert [(each.access, each.trunk) for each in switch.interfaces] == [(56, ()), (None, (56, 57)), (57, ())]
    world = Timeline.build(found.network).first
    routed = converse(world, read_bare_flow("desk → gauge ping"))
    assert routed.exchanges[0].legs[0].path.hops[0].device == "desk"
    assert converse(world, read_bare_flow("desk → 172.20.56.1 ping")).verdict == "passes"


def test_a_bridge_is_a_switch_and_who_shares_its_segment_hangs_on_it() -> None:
    def bridge(address: str, *ports: str) -> list[Any]:
        own = port("br0", address, linkinfo={"info_kind": "bridge"})
        return [own, *(port(each, master="br0") for each in ports)]

    vlan = [{"ifname": "lan1", "vlans": [{"vlan": 7, "flags": ["PVID", "Egress Untagged"]}]}]
    found = brought(
        machine("hub", bridge("172.20.1.1/24", "lan1", "lan2", "lan3", "lan4"), vlan=vlan),
        machine("hut", bridge("172.20.1.2/24", "west")),
        machine("desk", [port("eth0", "172.20.1.10/24")]),
        machine("till", [port("eth0", "172.20.1.11/24")]),
        machine("late", [port("eth0", "172.20.1.12/24")]),
    )
    assert {link.ends for link in found.network.links} == {
        ("hub-br0:br0", "hub:br0"),
        ("hut-br0:br0", "hut:br0"),
        ("hub-br0:lan1", "hut-br0:west"),
        ("hub-br0:lan2", "desk:eth0"),
        ("hub-br0:lan3", "late:eth0"),
        ("hub-br0:lan4", "till:eth0"),
    }
    hub = next(each for each in found.network.devices if each.name == "hub-br0")
    assert (hub.kind, [each.access for each in hub.interfaces]) == ("switch", [None, 7, None, None, None])
    world = Timeline.build(found.network).first
    assert converse(world, read_bare_flow("desk → hub ping")).verdict == "passes"
    assert converse(world, read_bare_flow("desk → hut ping")).verdict == "unreachable"  # in VLAN 7
    told = {notice.where: notice.message for notice in found.guessed}
    assert "they share 172.20.1.0/24: any port" in told["hub-br0:lan2 – desk:eth0"]
    few = brought(
        machine("hub", bridge("172.20.1.1/24", "lan1")),
        machine("desk", [port("eth0", "172.20.1.10/24")]),
        machine("till", [port("eth0", "172.20.1.11/24")]),
    )
    assert any("no port of a bridge is left for it" in notice.message for notice in few.guessed)


def test_bridges_stand_for_their_ports_and_what_is_off_or_bare_is_named() -> None:
    bridge = port("br0", "172.20.1.1/24", linkinfo={"info_kind": "bridge"})
    untagged = {"vlan": 1, "flags": ["PVID", "Egress Untagged"]}
    listening = ["tcp LISTEN 0 128 0.0.0.0:80", "tcp LISTEN 0 128 127.0.0.1:25", "udp UNCONN 0 0 *:53"]
    down = port("eth9", "172.20.2.1/24") | {"flags": []}
    found = brought(
        machine(
            "hub",
            [bridge, port("eth0", master="br0"), port("wlan0"), down, port("lo", "127.0.0.1/8")],
            vlan=[{"ifname": "eth0", "vlans": [untagged, {"vlan": 7, "vlanEnd": 8}]}],
            listening=[f"{each} 0 0 *:*" for each in listening],
        )
    )  # fmt: skip
    device = next(each for each in found.network.devices if each.name == "hub")
    assert [(each.name, each.enabled) for each in device.interfaces] == [("br0", True), ("eth9", False)]
    switch = next(each for each in found.network.devices if each.name == "hub-br0")
    eth0 = switch.interfaces[1]
    assert (eth0.name, eth0.trunk, eth0.untagged) == ("eth0", (7, 8), 1)
    assert {(each.protocol, each.port) for each in device.services} == {("tcp", 80), ("udp", 53)}
    told = {notice.where: notice.message for notice in (*found.left_out, *found.guessed)}
    assert told["hub, wlan0"] == "it has no address: left out"
    assert "listens at 0.0.0.0 only" in told["hub, tcp/80"]


def test_names_that_are_not_allowed_here_are_mended_and_stay_apart() -> None:
    found = brought(
        machine("9 gate.reserve.example", [port("9p@x", "172.20.1.1/24")]),
        machine("9 gate", [port("e", "172.20.1.2/24")]),
    )
    assert [each.name for each in found.network.devices] == ["m-9-gate", "m-9-gate-2"]
    assert found.network.devices[0].interfaces[0].name == "i9p-x"


@pytest.mark.parametrize(
    ("content", "where", "why"),
    [
        (machine("a", [])[:-5], "0.json", "this is no JSON"),
        (
            machine("a", [])[:-1] + b',"x":' + b"[" * 100_000 + b"]" * 100_000 + b"}",
            "0.json",
            "nested too deep",
        ),
        (machine("a", [{"ifname": 3}]), "0.json, address, 0, ifname", "string"),
        (
            machine("a", [port("e", "172.20.1.1/40")]),
            "0.json, address, 0, addr_info, 0",
            "prefix length of 40",
        ),
        (machine("a", [port("e", "172.20.1.999/24")]), "0.json, address, 0, addr_info, 0, local", "ipv4"),
        (machine("a", [], route=[{"dst": "nowhere"}]), "0.json, route, 0, dst", "ipv4 or ipv6"),
        (machine("a", [], address=None), "0.json", "nothing was collected by `ip -j -d address`"),
        (
            machine("a", [port("e", "172.20.1.1/24")], ruleset={"nftables": 5}),
            "0.json, ruleset",
            "nft -j list ruleset",
        ),
        (
            machine("a", [port("e", "172.20.1.1/24")], ruleset={"nftables": [[]]}),
            "0.json, ruleset",
            "one field",
        ),
    ],
)
def test_bad_files_are_refused_with_the_place(content: bytes, where: str, why: str) -> None:
    with pytest.raises(DocumentError) as refused:
        brought(content)
    problem = refused.value.problems[0]
    assert problem.where.startswith(where)
    assert why in problem.message


@pytest.mark.parametrize("seed", range(60))
def test_whatever_is_broken_ends_in_words(seed: int) -> None:
    """Real files with values swapped, cut and doubled: brought in, or refused, and nothing else."""
    chance = Random(seed)
    files = {}
    for each in sorted(COLLECTED.iterdir()):
        data = json.loads(each.read_text())
        for _ in range(chance.randrange(3)):
            _break(data, chance)
        text = json.dumps(data, separators=(",", ":"))
        cut = chance.randrange(len(text)) if chance.random() < 0.05 else len(text)
        files[each.name] = text[:cut].encode()
    try:
        found = bring(Bundle("reserve", files))[1]
    except DocumentError:
        return
    assert isinstance(found.network, Network)


def _break(data: Any, chance: Random) -> None:
    """Change one value somewhere, but not what says of a file what it is."""
    at, depth = data, 0
    while isinstance(at, dict | list) and at and depth < 9:
        keys = [key for key in (at if isinstance(at, dict) else range(len(at))) if key != "format"]
        key = chance.choice(keys)
        if not isinstance(at[key], dict | list) or not at[key] or chance.random() < 0.2:
            at[key] = chance.choice([None, 7, -1, "x", [], {}, [[]], {"set": [1]}, "172.20.16.0/24", at[key]])
            return
        at, depth = at[key], depth + 1


def test_the_script_prints_what_is_read(tmp_path: Path) -> None:
    script = tmp_path / "collect.sh"
    script.write_text(collecting_script())
    done = subprocess.run(["sh", str(script)], capture_output=True, check=True)
    told = json.loads(done.stdout)
    assert told["format"] == FORMAT
    assert {"machine", "address", "route", "route6", "vlan", "ruleset", "listening"} <= told.keys()
    assert not any(word in collecting_script() for word in (" add ", " set ", " del ", " flush "))


def header(protocol: str, field: str, value: Any, op: str = "==") -> dict[str, Any]:
    return match({"payload": {"protocol": protocol, "field": field}}, value, op)


WHOEVER = "from any to any"
SOURCE = {"payload": {"protocol": "ip", "field": "saddr"}}
DPORT = {"payload": {"protocol": "tcp", "field": "dport"}}
FLAGS = {"payload": {"protocol": "tcp", "field": "flags"}}


@pytest.mark.parametrize(
    ("expressions", "entries"),
    [
        ([dport({"range": [80, 90]})], [f"permit tcp {WHOEVER} port 80-90"]),
        ([dport({"set": [22, {"range": [80, 90]}]})], [f"permit tcp {WHOEVER} port 22,80-90"]),
        ([header("tcp", "dport", 22, "!=")], [f"permit tcp {WHOEVER} port <=21,>=23"]),
        ([header("tcp", "dport", 1024, ">=")], [f"permit tcp {WHOEVER} port >=1024"]),
        ([header("tcp", "dport", 1024, "<")], [f"permit tcp {WHOEVER} port <=1023"]),
        ([header("udp", "sport", 53)], ["permit udp from any port 53 to any"]),
        (
            [match({"meta": {"key": "l4proto"}}, {"set": ["tcp", "udp"]}), header("th", "dport", 53)],
            [f"permit tcp {WHOEVER} port 53", f"permit udp {WHOEVER} port 53"],
        ),
        ([header("th", "dport", 53)], [f"permit tcp {WHOEVER} port 53", f"permit udp {WHOEVER} port 53"]),
        (
            [header("ip", "saddr", {"range": ["172.20.8.0", "172.20.8.7"]})],
            ["permit any from 172.20.8.0/29 to any"],
        ),
        ([header("ip", "protocol", "esp")], [f"permit esp {WHOEVER}"]),
        ([match({"meta": {"key": "l4proto"}}, 89)], [f"permit ospf {WHOEVER}"]),
        ([match({"meta": {"key": "nfproto"}}, "ipv4"), dport(22)], [f"permit tcp {WHOEVER} port 22"]),
        (
            [match({"meta": {"key": "protocol"}}, {"set": ["ip", "ip6"]}), dport(22)],
            [f"permit tcp {WHOEVER} port 22"],
        ),
        ([match({"meta": {"key": "nfproto"}}, "ipv6"), dport(22)], []),
        (
            [header("icmp", "type", {"set": ["echo-request", 3]})],
            [f"permit icmp unreachable {WHOEVER}", f"permit icmp echo-request {WHOEVER}"],
        ),
        ([header("ip", "dscp", {"set": ["ef", 10]})], [f"permit any {WHOEVER} dscp 10,46"]),
        ([match(FLAGS, "syn", "in")], [f"permit tcp {WHOEVER} flags syn"]),
        (
            [match(FLAGS, ["syn", "ack"], "in")],
            [f"permit tcp {WHOEVER} flags syn", f"permit tcp {WHOEVER} flags ack"],
        ),
        ([match(FLAGS, "syn")], [f"permit tcp {WHOEVER} flags syn,!fin,!rst,!psh,!ack,!urg,!ece,!cwr"]),
        ([match({"&": [FLAGS, {"|": ["syn", "ack"]}]}, "syn")], [f"permit tcp {WHOEVER} flags syn,!ack"]),
        ([match({"&": [FLAGS, 18]}, 2)], [f"permit tcp {WHOEVER} flags syn,!ack"]),
        (
            [
                match(
                    {"concat": [SOURCE, DPORT]},
                    {"set": [{"concat": ["172.20.8.1", 22]}, {"concat": ["172.20.8.2", 80]}]},
                )
            ],
            ["permit tcp from 172.20.8.1 to any port 22", "permit tcp from 172.20.8.2 to any port 80"],
        ),
        ([match({"meta": {"key": "iifname"}}, "l*"), dport(22)], [f"permit tcp {WHOEVER} port 22"]),
        ([match({"meta": {"key": "iifname"}}, "lan", "!="), dport(22)], []),
        ([dport({"set": [{"elem": {"val": 22, "counter": None}}]})], [f"permit tcp {WHOEVER} port 22"]),
    ],
    ids=range(25),
)
def test_what_a_rule_asks_is_what_an_entry_asks(expressions: list[Any], entries: list[str]) -> None:
    network = brought(gate(listing({"forward": [[*expressions, ACCEPT]]}, {"forward": "drop"}))).network
    placed = next(each.list for each in network.placements if each.at == "lan")
    lines = [line.partition(" ")[2] for line in texts(network)[placed]]
    assert lines[0] == "permit any from any to @gate-own4"
    assert lines[1:-1] == entries
    assert lines[-1] == f"deny any {WHOEVER}"


@pytest.mark.parametrize(
    ("expressions", "why"),
    [
        ([{"match": {"op": "=="}}], "a match without operator or sides"),
        ([header("tcp", "dport", 22, "~")], "the operator “~”"),
        ([match(5, 5)], "“5” is not known here"),
        ([match({"concat": [{"meta": {"key": "iifname"}}]}, {"set": ["x"]})], "for a concatenation"),
        ([match({"concat": []}, "x", "!=")], "a concatenation that must not be"),
        ([match({"&": [5, 6]}, 5)], "a mask on anything but TCP flags"),
        ([match({"&": [FLAGS, "syn"]}, "ack")], "not under their mask"),
        ([match(FLAGS, "sheep")], "the TCP flag sheep"),
        ([match(FLAGS, "syn", "<")], "TCP flags with “<”"),
        ([state("sheep")], "the states ['sheep']"),
        ([match({"meta": {"key": "nfproto"}}, "sheep")], "“meta nfproto”"),
        ([header("ip", "protocol", "sheep")], "the protocol sheep"),
        ([dport("sheep")], "the port sheep"),
        ([header("ip", "dscp", "sheep")], "the code point sheep"),
        ([header("icmp", "type", "sheep")], "the ICMP type sheep"),
        ([header("icmp", "type", 8, "!=")], "where it must not be"),
        ([header("ip", "saddr", {"prefix": {"addr": "x", "len": 3}})], "the address"),
        ([header("ip", "saddr", {"range": ["172.20.0.9", "172.20.0.1"]})], "the address"),
        ([header("ip", "protocol", "tcp", "!=")], "is for 255 protocols"),
        (
            [match({"meta": {"key": "l4proto"}}, 89), header("th", "dport", 1)],
            "asks for ports of protocol 89",
        ),
        (["sheep"], "sheep"),
        (
            [{"vmap": {"key": {"meta": {"key": "mark"}}, "data": {"set": [[1, {"sheep": None}]]}}}],
            "“sheep” in a map",
        ),
        ([{"vmap": {"key": {"meta": {"key": "mark"}}, "data": {"set": [1]}}}], "“vmap” with 1"),
        ([{"vmap": {"key": {"meta": {"key": "mark"}}, "data": 5}}], "5 is no set"),
    ],
    ids=range(24),
)
def test_what_a_rule_asks_that_no_entry_can_is_named(expressions: list[Any], why: str) -> None:
    found = brought(gate(listing({"forward": [[*expressions, DROP]]})))
    assert "maybe" in texts(found.network)["gate-in"][1]
    assert why in " ".join(map(str, found.left_out))


def base(family: str, kind: str, hook: str, **more: str) -> dict[str, Any]:
    chain = {"family": family, "table": kind, "name": hook, "type": kind, "hook": hook, "prio": 0}
    return {"chain": chain | more}


def test_named_sets_counters_and_tables_of_other_kinds() -> None:
    told = listing({"forward": [[dport("@ports"), {"counter": "hits"}, DROP]], "input": []})
    told["nftables"] += [
        {"set": {"family": "ip", "table": "t", "name": "ports", "elem": [23, 25]}},
        {"counter": {"family": "ip", "table": "t", "name": "hits", "packets": 5}},
        base("bridge", "filter", "forward", policy="drop"),
        base("ip", "filter", "postrouting", policy="drop"),
    ]
    found = brought(gate(told))
    assert texts(found.network)["gate-in"][0] == f"10 maybe deny any {WHOEVER}"
    assert texts(found.network)["gate-in"][2] == f"30 deny tcp {WHOEVER} port 23,25"
    assert texts(found.network)["gate-out"] == [f"10 deny any {WHOEVER}"]
    assert "chains of the kind filter of bridge are not read" in " ".join(map(str, found.left_out))
    deep = {f"c{number}": [[{"jump": {"target": f"c{number + 1}"}}]] for number in range(20)}
    circle = brought(gate(listing({"forward": [[{"jump": {"target": "c0"}}]], **deep})))
    assert "jumps lead deeper than 16 chains" in " ".join(map(str, circle.left_out))


def test_what_one_chain_lets_pass_the_next_one_is_asked_about() -> None:
    told = listing({"prerouting": [[dport(23), DROP]], "forward": [[dport(25), DROP]]})
    assert [line[3:] for line in texts(brought(gate(told)).network)["gate-in"]] == [
        f"deny tcp {WHOEVER} port 23",
        "permit any from any to @gate-own4",
        f"deny tcp {WHOEVER} port 25",
        f"permit any {WHOEVER}",
    ]
    told = listing({"prerouting": [[dport(22), ACCEPT], [DROP]]})
    assert [line[3:] for line in texts(brought(gate(told)).network)["gate-in"]] == [
        f"permit tcp {WHOEVER} port 22",
        f"deny any {WHOEVER}",
    ]


def test_translations_that_cannot_be_said_are_named() -> None:
    out = match({"meta": {"key": "oifname"}}, "up")
    rules = {
        "prerouting": [
            [dport(80), {"dnat": {"addr": "172.20.40.10"}}],
            [header("ip", "daddr", "172.20.0.1"), {"dnat": {"addr": "203.0.113.7"}}],
            [header("ip", "daddr", "172.20.0.1"), {"dnat": {"addr": "172.20.40.11"}}],
        ],
        "postrouting": [
            [out, header("ip", "saddr", {"set": ["172.20.16.1", "172.20.40.1"]}), {"masquerade": None}],
            [out, {"snat": {"addr": "203.0.113.9"}}],
            [{"masquerade": None}],
            [out, {"snat": {"addr": 5}}],
        ],
    }
    found = brought(gate(listing(rules, nat=True)))
    made = found.network.devices[0].translations
    assert {(each.kind, str(each.source), str(each.to), each.outside) for each in made} == {
        *(
            ("static", "172.20.40.10/32", own, at)
            for own, at in (("172.20.16.1/32", "lan"), ("172.20.0.1/32", "up"))
        ),
        *(("static", "203.0.113.7/32", "172.20.0.1/32", at) for at in ("lan", "lab")),
        *(("static", "172.20.40.11/32", "172.20.0.1/32", at) for at in ("lan", "up")),
        *(("dynamic", f"172.20.{site}.1/32", "None", "up") for site in (16, 40)),
        ("dynamic", "0.0.0.0/0", "203.0.113.9/32", "up"),
        *(("dynamic", "0.0.0.0/0", "None", at) for at in ("lan", "up", "lab")),
    }
    assert sum("cannot be said" in notice.message for notice in found.left_out) == 1
    assert any("to anything but one address" in notice.message for notice in found.left_out)


def test_an_address_of_several_machines_is_the_first_ones() -> None:
    inner = port("inner0", "172.23.0.1/16")
    found = brought(
        machine("one", [port("eth0", "172.20.1.1/24"), inner]),
        machine("two", [port("eth0", "172.20.1.2/24"), inner]),
    )
    devices = {each.name: each for each in found.network.devices}
    assert [each.name for each in devices["one"].interfaces] == ["eth0", "inner0"]
    assert [each.name for each in devices["two"].interfaces] == ["eth0"]
    told = " ".join(map(str, found.left_out))
    assert "two: 172.23.0.1 is an address of one too: taken for its, and left out here" in told


def test_interfaces_that_are_asked_alike_share_lists_with_names_of_their_own() -> None:
    ports = [port(f"p{number}", f"172.20.{number}.1/24") for number in range(4)]
    first = match({"meta": {"key": "iifname"}}, {"set": ["p0", "p1"]})
    rules = listing({"forward": [[first, dport(22), DROP], [dport(23), DROP]]})
    network = brought(machine("gate", ports, forwards4="1", ruleset=rules)).network
    assert {each.at: each.list for each in network.placements} == {
        "p0": "gate-in", "p1": "gate-in", "p2": "gate-p2-in", "p3": "gate-p2-in"
    }  # fmt: skip


def test_a_host_with_tagged_interfaces_has_ports_for_them() -> None:
    ports = [port("eth0")]
    for number in (56, 57):
        tag = {"info_kind": "vlan", "info_data": {"id": number}}
        ports.append(port(f"eth0.{number}", f"172.20.{number}.10/24", link="eth0", linkinfo=tag))
    found = brought(machine("desk", ports), machine("gauge", [port("eth0", "172.20.57.20/24")]))
    world = Timeline.build(found.network).first
    assert converse(world, read_bare_flow("desk:172.20.57.10 → gauge ping")).verdict == "passes"
