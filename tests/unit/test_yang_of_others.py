"""Instance data as others write it: taken where it can be, else refused for that item alone: not known."""

import json
from pathlib import Path
from tempfile import TemporaryDirectory
from types import MappingProxyType
from typing import Any

import pytest

from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.over_time import prove_in_time
from greyheron.analysis.proof.prover import Prover
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought
from greyheron.formats.known import bring
from greyheron.formats.yang.reading import SET
from greyheron.formats.yang.xml import to_xml
from greyheron.model.document import Network
from greyheron.model.notation.lists import write_body
from greyheron.model.notation.requirements import read_requirement
from tests.yang import VALIDATOR, complaints

ACL = "ietf-access-control-list:"
_MODULES = {"acls": f"{ACL}acls", "routing": "ietf-routing:routing", "nat": "ietf-nat:nat"}


KIND = "iana-if-type:ethernetCsmacd"


def port(name: str, *addresses: str, **more: Any) -> dict[str, Any]:
    """An interface that forwards; more: of its IPv4."""
    held = [
        {"ip": ip, "prefix-length": int(length)} for ip, _, length in (a.partition("/") for a in addresses)
    ]
    return {"name": name, "type": KIND, "ietf-ip:ipv4": {"forwarding": True, "address": held} | more}


WEST, EAST = port("west", "172.20.1.1/24"), port("east", "203.0.113.1/24")


def file(name: str, *ports: dict[str, Any], **parts: Any) -> dict[str, bytes]:
    """parts: acls, routing, nat"""
    found = {"ietf-interfaces:interfaces": {"interface": list(ports)}}
    found |= {_MODULES[key]: told for key, told in parts.items()}
    return {f"{name}.json": json.dumps({SET: {"name": name, "content-data": found}}).encode()}


def read(*files: dict[str, bytes]) -> Brought:
    found, brought = bring(Bundle("reserve", {path: told for each in files for path, told in each.items()}))
    assert found.name == "yang"
    return brought


def sound(*files: dict[str, bytes]) -> tuple[dict[str, bytes], ...]:
    """The same, if a validator of others has nothing against it."""
    with TemporaryDirectory() as folder:
        for content in (told for each in files for told in each.values()):
            assert (
                VALIDATOR is None or complaints(json.loads(content)[SET]["content-data"], Path(folder)) == ""
            )
    return files


def said(brought: Brought) -> list[str]:
    return [each.message for each in brought.left_out]


def acls(*lists: Any, ingress: tuple[str, ...] = (), at: str = "west") -> dict[str, Any]:
    sets = {"acl-sets": {"acl-set": [{"name": name} for name in ingress]}}
    point = {"interface-id": at, "ingress": sets}
    return {"acl": list(lists)} | ({"attachment-points": {"interface": [point]}} if ingress else {})


def acl(name: str, *aces: Any, kind: str | None = "ipv4-acl-type") -> dict[str, Any]:
    return {"name": name, "aces": {"ace": list(aces)}} | ({} if kind is None else {"type": f"{ACL}{kind}"})


def ace(name: str, matches: Any, forwarding: str = "accept") -> dict[str, Any]:
    return {"name": name, "matches": matches, "actions": {"forwarding": f"{ACL}{forwarding}"}}


def entries(brought: Brought, name: str) -> list[str]:
    found = next(each for each in brought.network.lists if each.name == name)
    return write_body(found.body, found.family, found.kind).splitlines()


def answer(network: Network, text: str) -> Answer:
    requirement = read_requirement(f"{text} ipv4")
    return prove_in_time(Prover(engines()), requirement, Timeline.build(network))[0].answer


def routing(*static: Any, kind: str = "static") -> dict[str, Any]:
    routes = {"ietf-ipv4-unicast-routing:ipv4": {"route": list(static)}}
    one = {"type": f"ietf-routing:{kind}", "name": "st0", "static-routes": routes}
    return {"control-plane-protocols": {"control-plane-protocol": [one]}}


def guest(name: str, address: str, gateway: str) -> dict[str, bytes]:
    everywhere = {"destination-prefix": "0.0.0.0/0", "next-hop": {"next-hop-address": gateway}}
    return file(name, port("eth0", address, forwarding=False), routing=routing(everywhere))


GUESTS = (
    guest("pc", "172.20.1.10/24", "172.20.1.1"),
    guest("server", "203.0.113.10/24", "203.0.113.1"),
)
WEB = "block 172.20.1.10 → 203.0.113.10 tcp/80"


def test_what_is_read_whole_is_known() -> None:
    assert answer(read(*sound(file("gate", WEST, EAST), *GUESTS)).network, WEB) is Answer.VIOLATED


def test_a_family_that_is_off_has_no_addresses() -> None:
    off = port("west", "172.20.1.1/24", enabled=False)
    six = {"enabled": True, "address": [{"ip": "2001:db8::1", "prefix-length": 64}]}
    found = read(*sound(file("gate", off | {"ietf-ip:ipv6": six})))
    [device] = found.network.devices
    assert [str(each) for each in device.interfaces[0].addresses] == ["2001:db8::1/64"]
    assert device.kind == "host"
    assert said(found) == ["IPv4 is off here: 172.20.1.1/24 not taken over"]


def test_it_is_off_in_xml_too() -> None:
    ports = {"interface": [port("west", "172.20.1.1/24", enabled=False)]}
    told = {"name": "gate", "content-data": {"ietf-interfaces:interfaces": ports}}
    found = read({"gate.xml": to_xml(SET, told)})
    assert found.network.devices[0].interfaces[0].addresses == ()


def test_an_interface_as_the_rfc_shows_one_is_read_and_what_is_not_read_is_named() -> None:
    """After RFC 8344, appendix A: neighbours, an MTU, and a netmask in the place of a length."""
    four = {
        "address": [{"ip": "172.20.1.1", "netmask": "255.255.255.0"}],
        "neighbor": [{"ip": "172.20.1.2", "link-layer-address": "00:00:5E:00:53:AB"}],
    }
    six = {
        "mtu": 1280,
        "dup-addr-detect-transmits": 0,
        "address": [{"ip": "2001:db8::10", "prefix-length": 32}],
    }
    told = {"name": "eth0", "type": KIND, "description": "to the hides"}
    found = read(*sound(file("gate", told | {"ietf-ip:ipv4": four, "ietf-ip:ipv6": six})))
    held = [str(each) for each in found.network.devices[0].interfaces[0].addresses]
    assert held == ["172.20.1.1/24", "2001:db8::10/32"]
    assert said(found) == ["not read: description, IPv4 neighbor, IPv6 dup-addr-detect-transmits, IPv6 mtu"]


def test_lists_as_the_rfc_shows_them_keep_the_names_of_their_entries() -> None:
    """After RFC 8519, 4.4 and 4.5."""
    networks = {"destination-ipv4-network": "203.0.113.77/24", "source-ipv4-network": "172.20.0.0/16"}
    tcp = ace("rule1", {"ipv4": {"protocol": 6} | networks})
    telnet = ace("drop telnet", {"tcp": {"destination-port": {"operator": "eq", "port": 23}}}, "drop")
    found = read(*sound(file("gate", WEST, acls=acls(acl("sample", tcp, telnet)))))
    assert entries(found, "sample") == [
        "10 permit tcp from 172.20.0.0/16 to 203.0.113.0/24 # rule1",
        "20 deny silently tcp from any to any port 23 # drop telnet",
    ]
    assert found.left_out == ()


@pytest.mark.parametrize(
    ("one", "why", "entry"),
    [
        (ace("a", {"eth": {}}), "“eth” cannot be said", "maybe permit any from any to any # a"),
        (ace("a", {"ipv6": {}}, "reject"), "“ipv6” cannot be said in a list of ipv4", "maybe deny any"),
        (ace("a", {"ipv4": {"ttl": 3}}, "drop"), "“ttl” cannot be said", "maybe deny silently any"),
        (ace("a", {"ipv4": {"protocol": 300}}), "300 is no protocol", "maybe permit any"),
        (ace("a", {"tcp": {"flags": "syn sheep"}}), "sheep is no TCP flag", "maybe permit any"),
        (ace("a", {"udp": {"flags": "syn"}}), "“flags” cannot be said", "maybe permit any"),
        (
            ace("a", {"tcp": {"source-port": {"operator": "sheep", "port": 1}}}),
            "an operator or",
            "maybe permit",
        ),
        (ace("a", {"icmp": {"rest-of-header": "AAAA"}}), "ICMP by anything but type", "maybe permit any"),
        (ace("a", {"ipv4": {"source-ipv4-network": "sheep"}}), "sheep is no prefix", "maybe permit any"),
        (ace("a", 5), "expected fields", "maybe permit any"),
    ],
    ids=map(str, range(10)),
)
def test_an_entry_that_cannot_be_said_may_be_there(one: Any, why: str, entry: str) -> None:
    found = read(file("gate", WEST, acls=acls(acl("x", one))))
    assert entries(found, "x")[0].startswith(f"10 {entry}")
    [left] = said(found)
    assert why in left
    assert left.endswith("whether it applies is not known")


def test_what_rests_on_it_is_not_called_proved() -> None:
    early = ace("early", {"ipv4": {"ttl": 3}})
    web = ace("web", {"ipv4": {"protocol": 6}, "tcp": {"destination-port": {"operator": "eq", "port": 80}}})
    network = read(file("gate", WEST, EAST, acls=acls(acl("x", web, early), ingress=("x",))), *GUESTS).network
    assert answer(network, WEB) is Answer.VIOLATED
    assert answer(network, WEB.replace("80", "23")) is Answer.INCONCLUSIVE


@pytest.mark.parametrize(
    ("told", "why", "families"),
    [
        (acl("x", kind="sheep"), "lists of the type sheep are not read", ["ipv4", "ipv6"]),
        (acl("x", kind="mixed-eth-ipv4-acl-type"), "mixed-eth-ipv4-acl-type are not read", ["ipv4"]),
        (acl("x", ace("a", {"tcp": {}}), kind=None), "lists of the type none are not read", ["ipv4", "ipv6"]),
        (acl("x", ace("a", {}, "perhaps")), "the action ietf-access-control-list:perhaps is", ["ipv4"]),
    ],
    ids=["type", "mixed", "no-type", "action"],
)
def test_a_list_that_cannot_be_read_decides_nobody_knows_what(
    told: Any, why: str, families: list[str]
) -> None:
    found = read(file("gate", WEST, EAST, acls=acls(told, ingress=("x",))), *GUESTS)
    assert [each.family for each in found.network.lists] == families
    assert len(found.network.placements) == len(families)
    [left] = said(found)
    assert why in left
    assert left.endswith("what it decides is not known")
    assert answer(found.network, WEB) is Answer.INCONCLUSIVE


def test_a_list_without_a_type_is_of_the_family_that_it_speaks_of() -> None:
    six = ace("a", {"ipv6": {"protocol": 6, "source-ipv6-network": "2001:db8::1/64"}})
    found = read(file("gate", WEST, acls=acls(acl("x", six, kind=None))))
    assert [each.family for each in found.network.lists] == ["ipv6"]
    assert entries(found, "x") == ["10 permit tcp from 2001:db8::/64 to any # a"]
    assert "it has no type" in found.guessed[0].message


def test_what_two_lists_decide_at_one_point_is_not_known() -> None:
    two = acls(acl("x", ace("a", {})), acl("y", ace("b", {}, "drop")), ingress=("x", "y"))
    found = read(file("gate", WEST, EAST, acls=two), *GUESTS)
    assert said(found) == ["what x and y decide here together is not known"]
    assert {each.name for each in found.network.lists} == {"x", "y", "not-read-gate-west-in"}
    assert answer(found.network, WEB) is Answer.INCONCLUSIVE


def test_names_that_are_not_allowed_here_are_mended() -> None:
    """As in RFC 8345, appendix B: termination points are called 1-0-1."""
    told = acls(acl("4 the gate", ace("a", {})), ingress=("4 the gate",), at="1-0-1")
    static = {"destination-prefix": "172.20.9.1/24", "next-hop": {"outgoing-interface": "1-0-1"}}
    gate = file("gate", port("1-0-1", "172.20.1.1/24"), acls=told, routing=routing(static))
    found = read(*sound(gate))
    [device] = found.network.devices
    assert [each.name for each in device.interfaces] == ["i1-0-1"]
    assert [(str(each.to), each.interface) for each in device.routes] == [("172.20.9.0/24", "i1-0-1")]
    assert [(each.list, each.at) for each in found.network.placements] == [("l-4-the-gate", "i1-0-1")]
    assert {"called i1-0-1", "list 4 the gate: called l-4-the-gate"} <= {
        each.message for each in found.guessed
    }


def test_wires_of_a_topology_are_found_by_the_names_that_its_file_has() -> None:
    ends = {
        "source": {"source-node": "D1", "source-tp": "1-2-1"},
        "destination": {"dest-node": "D2", "dest-tp": "2-1-1"},
    }
    points = "ietf-network-topology:termination-point"
    nodes = [{"node-id": f"D{n}", points: [{"tp-id": tp}]} for n, tp in ((1, "1-2-1"), (2, "2-1-1"))]
    drawn = {
        "network": [
            {"network-id": "wires", "node": nodes, "ietf-network-topology:link": [{"link-id": "x"} | ends]}
        ]
    }
    wires = json.dumps({SET: {"name": "wires", "content-data": {"ietf-network:networks": drawn}}}).encode()
    found = read(
        *sound(
            file("D1", port("1-2-1", "172.20.1.1/24")),
            file("D2", port("2-1-1", "172.20.1.2/24")),
            {"w.json": wires},
        )
    )
    assert [[*each.ends] for each in found.network.links] == [["D1:i1-2-1", "D2:i2-1-1"]]


WEST_ROUTE = {"destination-prefix": "172.20.9.0/24"}


@pytest.mark.parametrize(
    ("told", "why"),
    [
        (routing({"destination-prefix": "sheep"}), "route to sheep: this is no prefix of IPv4"),
        (routing({"destination-prefix": "2001:db8::/32"}), "this is no prefix of IPv4"),
        (routing(WEST_ROUTE), "it leads to no next hop"),
        (routing(WEST_ROUTE | {"next-hop": {"special-next-hop": "receive"}}), "“receive” cannot be said"),
        (routing(WEST_ROUTE | {"next-hop": {"next-hop-address": "west"}}), "west is no address"),
        (routing(kind="ospf"), "ietf-routing:ospf is not read: which routes it gives is not known"),
    ],
    ids=map(str, range(6)),
)
def test_a_route_that_cannot_be_read_leaves_all_that_passes_not_known(told: Any, why: str) -> None:
    found = read(file("gate", WEST, EAST, routing=told), *GUESTS)
    [left] = said(found)
    assert why in left
    assert answer(found.network, WEB) is Answer.INCONCLUSIVE


def nat(
    mapping: Any = None, outside: str | None = None, policy: Any = MappingProxyType({})
) -> dict[str, Any]:
    realm = {} if outside is None else {"external-realm": {"external-interface": outside}}
    one: dict[str, Any] = {"id": 1, "policy": [{"id": 1} | {**policy} | realm]}
    if mapping is not None:
        one["mapping-table"] = {"mapping-entry": [mapping]}
    return {"instances": {"instance": [one]}}


MAPPED = {
    "index": 1,
    "type": "static",
    "internal-src-address": "172.20.1.10/32",
    "external-src-address": "203.0.113.5/32",
}


def test_the_interface_that_holds_the_outside_addresses_is_outside() -> None:
    """After RFC 8512, appendix A: no external interface is said."""
    inside = {"subscriber-match": [{"match-id": 1, "subnet": "172.20.1.7/24"}]}
    pool = {"external-ip-address-pool": [{"pool-id": 1, "external-ip-pool": "203.0.113.8/30"}]}
    found = read(*sound(file("gate", WEST, EAST, nat=nat(MAPPED, policy=pool | inside))))
    rules = found.network.devices[0].translations
    assert [(each.outside, each.inside, str(each.source)) for each in rules] == [
        ("east", ("west",), "172.20.1.10/32"),
        ("east", ("west",), "172.20.1.0/24"),
    ]
    assert "east holds its outside addresses" in found.guessed[0].message


@pytest.mark.parametrize(
    ("told", "why"),
    [
        (nat(MAPPED | {"external-src-address": "198.51.100.5/32"}), "no external interface, and none holds"),
        (nat({"type": "dynamic-implicit"}, "east"), "only static mappings"),
        (nat(MAPPED | {"transport-protocol": 47}, "east"), "says tcp or udp, and its port"),
        (nat(MAPPED | {"external-src-address": "sheep"}, "east"), "sheep is no prefix"),
    ],
    ids=["nowhere", "dynamic", "gre", "sheep"],
)
def test_translation_that_cannot_be_read_leaves_all_that_passes_not_known(told: Any, why: str) -> None:
    found = read(file("gate", WEST, EAST, nat=told), *GUESTS)
    [left] = said(found)
    assert why in left
    assert left.endswith("what it does is not known")
    assert found.network.devices[0].translations == ()
    assert answer(found.network, WEB) is Answer.INCONCLUSIVE
