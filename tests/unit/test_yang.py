"""YANG instance data: out and in again, with our module the same, without it deciding alike."""

import json
import subprocess
import sys
from collections.abc import Mapping
from operator import attrgetter
from pathlib import Path
from random import Random
from typing import Any

import pytest

from greyheron.core.lists.fields.ports import spans_of
from greyheron.core.lists.matching import decide
from greyheron.core.lists.resolved import Names, ResolvedList, resolve
from greyheron.core.packet import Packet
from greyheron.demo.networks import saltmarsh, storm
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought, Taken
from greyheron.formats.known import bring
from greyheron.formats.yang import Yang, YangXml
from greyheron.formats.yang.reading import SET
from greyheron.formats.yang.xml import from_xml, to_xml
from greyheron.model.device import Translation
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import AddressBlock
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP, UDP
from greyheron.model.problems import DocumentError
from tests.random_networks import random_network
from tests.yang import OURS as OUR_MODULES
from tests.yang import VALIDATOR, complaints, folders

OURS = "grey-heron:"


XML_HEAD = "ietf-yang-instance-data"


def read(files: Mapping[str, bytes]) -> Brought:
    found, brought = bring(Bundle("reserve", files))
    assert found.name == "yang"
    return brought


def stripped(taken: Taken) -> dict[str, bytes]:
    """As a reader sees it who ignores our module; lists that have nothing else are gone."""
    found = {}
    for path, content in taken.files.items():
        if path != "network.json":
            data = _without(json.loads(content))
            acls = data[SET]["content-data"].get("ietf-access-control-list:acls")
            if acls:
                acls["acl"] = [each for each in acls["acl"] if "aces" in each]
            found[path] = json.dumps(data).encode()
    return found


def _without(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _without(each) for key, each in value.items() if not key.startswith(OURS)}
    return [_without(each) for each in value] if isinstance(value, list) else value


@pytest.mark.long
@pytest.mark.parametrize("form", [Yang(), YangXml()], ids=["json", "xml"])
@pytest.mark.parametrize("network", [saltmarsh(), storm(), *map(random_network, range(12))])
def test_with_our_module_everything_comes_back_the_same(network: Network, form: Yang) -> None:
    back = read(form.write(network).files)
    assert back.left_out == ()
    for part in type(network).model_fields:
        one, other = getattr(network, part), getattr(back.network, part)
        if isinstance(one, tuple):
            one, other = sorted(map(repr, one)), sorted(map(repr, other))
        assert one == other, part


@pytest.mark.long
@pytest.mark.parametrize("seed", range(25))
def test_without_it_lists_decide_alike_where_they_can_be_said(seed: int) -> None:
    network = random_network(seed)
    taken = Yang().write(network)
    back = read(stripped(taken)).network
    chance = Random(seed)
    names, others = Names(network), Names(back)
    said: dict[str, list[AccessList]] = {}
    for each in back.lists:  # one that stands on devices that answer otherwise is several
        said.setdefault(each.name.partition("-")[0], []).append(each)
    unsaid = {notice.where for notice in taken.left_out}
    for access_list in network.lists:
        if access_list.family is None or access_list.name not in said:
            placed = any(each.list == access_list.name for each in network.placements)
            assert not placed or any(
                access_list.name in f"{each.where} {each.message}" for each in taken.left_out
            )
            continue
        assert f"list {access_list.name}" not in unsaid
        one = resolve(access_list, names)
        for other in (resolve(each, others) for each in said[access_list.name]):
            for _ in range(80):
                packet = packet_like(one, chance)
                assert decide(one, packet).denies == decide(other, packet).denies, (packet, access_list)


def packet_like(access_list: ResolvedList, chance: Random) -> Packet:
    """One that comes near to what some rule of a list asks."""
    family = access_list.family
    rules = [*access_list.rules]
    rule = chance.choice(rules) if rules else None
    ends = []
    for blocks in (rule.sources, rule.destinations) if rule else (None, None):
        block = chance.choice(blocks or (AddressBlock.prefix(family, 0, 0),))
        free = block.mask ^ family.every_bit
        ends.append((block.value | chance.getrandbits(family.bits) & free) ^ (chance.random() < 0.2))
    spans = (
        [spans_of(ports) for ports in (rule.source_ports, rule.destination_ports) if ports] if rule else []
    )
    near = [edge for each in spans for span in each for edge in (*span, span[0] - 1, span[1] + 1)]
    ports = [min(65535, max(0, chance.choice([*near, 80, 49152]))) for _ in range(2)]
    asked = rule.entry.protocol if rule and rule.entry.protocol is not None else TCP
    protocol = asked if chance.random() < 0.8 else chance.choice([TCP, UDP, family.icmp, 89])
    dscp = chance.choice([0, 10, 46, 48])
    if protocol == family.icmp:
        kind = rule.entry.icmp.type if rule and rule.entry.icmp and chance.random() < 0.7 else 135
        return Packet(family, ends[0], ends[1], protocol, icmp_type=kind, icmp_code=0, dscp=dscp)
    if protocol not in (TCP, UDP):
        return Packet(family, ends[0], ends[1], protocol, dscp=dscp)
    flags = TcpFlags(chance.getrandbits(8)) if protocol == TCP else TcpFlags.NONE
    return Packet(family, ends[0], ends[1], protocol, ports[0], ports[1], flags, dscp=dscp)


def test_places_addresses_and_answers_are_said_by_the_standard_modules() -> None:
    network = saltmarsh()
    taken = Yang().write(network)
    back = read(stripped(taken)).network
    devices = {each.name: each for each in back.devices}
    for device in network.devices:
        there = devices[device.name]
        assert [each.addresses for each in there.interfaces] == [each.addresses for each in device.interfaces]
    ports = {(device.name, each.name) for device in network.devices for each in device.interfaces}
    said = {each.name for each in back.lists}
    want = {
        (each.device, each.at, str(each.direction), each.list)
        for each in network.placements
        if (each.device, each.at) in ports and each.list in said
    }
    assert {
        (each.device, each.at, str(each.direction), each.list.removesuffix(f"-{each.device}"))
        for each in back.placements
    } == want
    notices = {str(notice) for notice in taken.left_out}
    assert any("asks for “during”: our own module says the list" in notice for notice in notices)
    assert any("stands on a line" in notice for notice in notices)


@pytest.mark.parametrize("network", [saltmarsh(), *map(random_network, range(8))])
def test_routes_translations_and_wires_are_said_by_the_standard_modules(network: Network) -> None:
    taken = Yang().write(network)
    back = read(stripped(taken))
    devices = {each.name: each for each in back.network.devices}
    told = {str(notice) for notice in taken.left_out}
    for device in network.devices:
        there = devices[device.name]
        if not device.traits.open_ended:
            assert (there.gateway, there.gateway6) == (device.gateway, device.gateway6)
        preferred = {
            (each.to, each.via, each.interface, each.discard)
            for each in device.routes
            if each.preference == min(one.preference for one in device.routes if one.to == each.to)
        }
        discarded = {to for to, _, _, discard in preferred if discard}
        routes = {(each.to, each.via, each.interface, each.discard) for each in there.routes}
        assert {each for each in routes if each[0] not in discarded} == {
            each for each in preferred if each[0] not in discarded
        }
        assert discarded == {to for to, _, _, discard in routes if discard}
        for rule in device.translations:
            said = any(_same(rule, each) for each in there.translations)
            assert said or any(f"the pool {rule.to}" in notice for notice in told)
    assert {frozenset(each.ends) for each in back.network.links} == {
        frozenset(each.ends) for each in network.links if each.enabled
    }
    switches = {each.name for each in network.devices if each.traits.bridges}
    assert switches <= {each.name for each in back.network.devices if each.traits.bridges}


def _same(one: Translation, other: Translation) -> bool:
    what = attrgetter("kind", "outside", "source", "to", "protocol", "port")
    return bool(what(one) == what(other)) and (one.to_port or one.port) == (other.to_port or other.port)


def test_what_is_denied_is_rejected_or_dropped_as_the_device_does() -> None:
    text = json.dumps({path: content.decode() for path, content in Yang().write(saltmarsh()).files.items()})
    assert "ietf-access-control-list:reject" in text
    weir = json.loads(Yang().write(saltmarsh()).files["weir.json"])
    acls = weir[SET]["content-data"]["ietf-access-control-list:acls"]["acl"]
    actions = {ace["actions"]["forwarding"] for acl in acls for ace in acl.get("aces", {}).get("ace", ())}
    assert actions == {"ietf-access-control-list:accept", "ietf-access-control-list:drop"}


@pytest.mark.skipif(VALIDATOR is None, reason="install libyang2-tools for an independent validator")
@pytest.mark.parametrize("network", [saltmarsh(), storm(), *map(random_network, range(6))])
def test_an_independent_validator_accepts_every_instance(network: Network, tmp_path: Path) -> None:
    for path, content in Yang().write(network).files.items():
        assert complaints(json.loads(content)[SET]["content-data"], tmp_path) == "", path
    for path, content in YangXml().write(network).files.items():
        _, _, inside = content.decode().partition("<content-data>")
        assert complaints(inside.partition("</content-data>")[0], tmp_path) == "", path


@pytest.mark.long
@pytest.mark.parametrize("network", [saltmarsh(), *map(random_network, range(12))])
def test_xml_says_what_json_says(network: Network) -> None:
    for path, content in Yang().write(network).files.items():
        told = json.loads(content)
        assert from_xml(to_xml(SET, told[SET])) == told, path


def in_xml(inside: str) -> bytes:
    head = f'<instance-data-set xmlns="urn:ietf:params:xml:ns:yang:{XML_HEAD}">'
    return f"{head}<name>gate</name><content-data>{inside}</content-data></instance-data-set>".encode()


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (in_xml("")[:-3], "this is no XML"),
        (b'<?xml version="1.0" encoding="UTY-8"?>' + in_xml(""), "unknown encoding"),
        (in_xml("<a>" * 100 + "</a>" * 100), "nested too deep"),
        (b'<!DOCTYPE x [<!ENTITY a "b">]>' + in_xml("<x>&a;</x>"), "this is no XML that is read here"),
        (in_xml('<x xmlns="urn:x"/><x xmlns="urn:x"/>'), "stands there twice"),
        (
            in_xml('<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">x</interfaces>'),
            "expected",
        ),
    ],
    ids=["cut", "encoding", "deep", "entity", "twice", "text"],
)
def test_broken_xml_is_refused(content: bytes, why: str) -> None:
    with pytest.raises(DocumentError, match=why):
        read({"gate.xml": content})


def test_our_module_is_sound_by_the_rules_of_the_ietf() -> None:
    ours = next(OUR_MODULES.glob("*.yang"))
    places = ":".join(map(str, folders()))
    program = Path(sys.executable).with_name("pyang")
    done = subprocess.run(
        [str(program), "--strict", "--lint", "-p", places, str(ours)], capture_output=True, text=True
    )
    assert (done.returncode, done.stderr) == (0, "")


ACL = {"name": "x", "type": "ietf-access-control-list:ipv4-acl-type", "aces": {"ace": []}}


def ace(matches: dict[str, Any], forwarding: str = "ietf-access-control-list:accept") -> dict[str, Any]:
    return {"name": "1", "matches": matches, "actions": {"forwarding": forwarding}}


def instance(content: Any, **more: Any) -> bytes:
    return json.dumps({SET: {"name": "gate", "content-data": content} | more}).encode()


def with_ace(one: Any) -> bytes:
    return instance({"ietf-access-control-list:acls": {"acl": [ACL | {"aces": {"ace": [one]}}]}})


WEST = {"destination-prefix": "172.20.9.0/24"}
MAPPED = {
    "type": "static",
    "internal-src-address": "172.20.1.10/32",
    "external-src-address": "203.0.113.5/32",
}
_END = {f"{side}-{what}": name for side in ("source", "dest") for what, name in (("node", "a"), ("tp", "e"))}
CIRCLE = {"ietf-network-topology:link": [{"link-id": "x", "source": _END, "destination": _END}]}


def with_route(route: Any) -> bytes:
    static = {"ietf-ipv4-unicast-routing:ipv4": {"route": [route]}}
    protocol = {"type": "ietf-routing:static", "name": "static", "static-routes": static}
    protocols = {"control-plane-protocols": {"control-plane-protocol": [protocol]}}
    return instance({"ietf-routing:routing": protocols})


def with_mapping(mapping: Any) -> bytes:
    realm = {"id": 1, "external-realm": {"external-interface": "out"}}
    translated = {"id": 1, "policy": [realm], "mapping-table": {"mapping-entry": [mapping]}}
    return instance({"ietf-nat:nat": {"instances": {"instance": [translated]}}})


def with_port(port: Any) -> bytes:
    return instance({"ietf-interfaces:interfaces": {"interface": [port]}})


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (instance({})[:-3], "this is no JSON"),
        (f'{{"{SET}":'.encode() + b"[" * 100_000, "this is no JSON|nested too deep"),
        (json.dumps({SET: 5}).encode(), "expected fields"),
        (instance({}, name=5), "expected text in “name”"),
        (instance([]), "content-data: expected fields"),
        (instance({"ietf-interfaces:interfaces": []}), "interfaces: expected fields"),
        (with_port(5), "interface: expected fields"),
        (with_port({}), "expected text in “name”"),
        (
            with_port({"name": "e", "ietf-ip:ipv4": {"address": [{"ip": "x", "prefix-length": 24}]}}),
            "no address",
        ),
        (
            with_port(
                {"name": "e", "ietf-ip:ipv4": {"address": [{"ip": "172.20.1.1", "prefix-length": 40}]}}
            ),
            "no add",
        ),
        (instance({"ietf-access-control-list:acls": {"acl": {}}}), "acl: expected a list"),
        (instance({"ietf-network:networks": {"network": [{"node": [{}]}]}}), "expected text in “node-id”"),
        (instance({"ietf-network:networks": {"network": [CIRCLE]}}), "ends where it begins"),
        (instance({"grey-heron:device": {"definition": "name: ["}}), "this is not YAML"),
    ],
    ids=map(str, range(15)),
)
def test_broken_instances_are_refused_with_the_place(content: bytes, why: str) -> None:
    with pytest.raises(DocumentError, match=why):
        read({"gate.json": content})


def test_parts_that_are_not_read_are_named() -> None:
    found = read({"gate.json": instance({"ietf-system:system": {}}), "notes.txt": b"{}"})
    assert [str(each) for each in found.left_out] == [
        "gate.json, ietf-system:system: this part is not read",
        "notes.txt: this is no instance data: it was not read",
    ]


def test_what_xml_does_not_say_is_told_by_the_standard_modules() -> None:
    """An empty container stays one, a leaf-list of one entry a list, 32 bits a number and 64 bits text."""
    spaces = "urn:ietf:params:xml:ns:yang:ietf-"
    written = (
        f'<interfaces xmlns="{spaces}interfaces"><interface><name>eth0</name><enabled>true</enabled>'
        "<higher-layer-if>eth0.20</higher-layer-if><if-index>7</if-index><speed>1000000000</speed>"
        f'<ipv4 xmlns="{spaces}ip"/></interface></interfaces>'
    )
    port = {
        "name": "eth0",
        "enabled": True,
        "higher-layer-if": ["eth0.20"],
        "if-index": 7,
        "speed": "1000000000",
        "ietf-ip:ipv4": {},
    }
    assert from_xml(written.encode()) == {"ietf-interfaces:interfaces": {"interface": [port]}}
