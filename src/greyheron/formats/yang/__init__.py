"""YANG instance data (RFC 9195): a file for each device, one for the topology and one for the network.

In JSON (RFC 7951) or XML (RFC 7950). Standard modules say interfaces, addresses, static routes, translation,
lists and links; a module of our own carries the rest (docs/yang).
"""

from collections.abc import Mapping, Set
from typing import Any

import orjson

from greyheron.core.lists.resolved import Names, resolve
from greyheron.core.progress import Progress
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought, Notice, Taken
from greyheron.formats.workspace import write_item, write_workspace
from greyheron.formats.yang.aces import CannotExpand, aces_of
from greyheron.formats.yang.nat import nat_of
from greyheron.formats.yang.reading import SET, read_instances
from greyheron.formats.yang.routing import routing_of
from greyheron.formats.yang.topology import topology_of
from greyheron.formats.yang.xml import to_xml
from greyheron.model.device import Device
from greyheron.model.document import AccessList, Network
from greyheron.model.values import DenialAnswer, Direction, Family

MODULES = (
    "ietf-interfaces@2018-02-20",
    "iana-if-type@2017-01-19",
    "ietf-ip@2018-02-22",
    "ietf-access-control-list@2019-03-04",
    "ietf-routing@2018-03-13",
    "ietf-ipv4-unicast-routing@2018-03-13",
    "ietf-ipv6-unicast-routing@2018-03-13",
    "ietf-nat@2019-01-10",
    "ietf-network@2018-02-26",
    "ietf-network-topology@2018-02-26",
    "ietf-l3-unicast-topology@2018-02-26",
    "grey-heron@2026-11-26",
)
_WAYS = {Direction.IN: "ingress", Direction.OUT: "egress"}
_TYPE = {Family.IPV4: "ipv4-acl-type", Family.IPV6: "ipv6-acl-type"}
NETWORK, TOPOLOGY = "network", "topology"


class Yang:
    """Instance data, a file for each device."""

    name = "yang"
    title = "YANG instance data"
    suffix = ".zip"
    media_type = "application/yang-data+json"
    loses: tuple[str, ...] = (
        "Services, management lines, zones, tracking, routing protocols, VLANs, requirements and test flows "
        "are said by our own module only; so are preferences of routes and the inside of translation.",
        "So are frame lists, lists on lines, and lists with fragments or periods; remarks too.",
    )

    def recognises(self, bundle: Bundle) -> bool:
        module, _, name = SET.partition(":")
        return any(
            SET.encode() in content[:400]
            or (name.encode() in content[:400] and module.encode() in content[:400])
            for content in bundle.files.values()
        )

    def read(self, bundle: Bundle, progress: Progress) -> Brought:
        return read_instances(bundle, progress)

    _extension = ".json"

    def _file(self, name: str, content: Mapping[str, Any]) -> bytes:
        told = {SET: _described(name, content)}
        return orjson.dumps(told, option=orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE)

    def write(self, network: Network) -> Taken:
        left_out: list[Notice] = []
        written: dict[str, dict[str, Any]] = {}
        names = Names(network)
        for access_list in network.lists:
            written[access_list.name] = _acl(access_list, names, left_out)
        files = {}
        taken = {device.name for device in network.devices}
        placed: set[str] = set()
        for device in network.devices:
            here = [each for each in network.placements if each.device == device.name]
            placed |= {each.list for each in here}
            content = _device(device, network, written, left_out)
            files[f"{device.name}{self._extension}"] = self._file(device.name, content)
        rest = network.model_copy(update={"devices": (), "lists": ()})
        others = [written[each.name] for each in network.lists if each.name not in placed]
        content = {"grey-heron:network": {"definition": write_workspace(rest)}}
        if others:
            content["ietf-access-control-list:acls"] = {"acl": others}
        for stem, name, told in (
            (TOPOLOGY, TOPOLOGY, topology_of(network)),
            (NETWORK, network.name, content),
        ):
            files[f"{_free(stem, taken)}{self._extension}"] = self._file(name, told)
        return Taken(files, tuple(left_out))


class YangXml(Yang):
    """The same in XML."""

    name = "yang-xml"
    title = "YANG instance data in XML"
    media_type = "application/yang-data+xml"
    _extension = ".xml"

    def _file(self, name: str, content: Mapping[str, Any]) -> bytes:
        return to_xml(SET, _described(name, content))


def _free(stem: str, taken: Set[str]) -> str:
    """A name of a file that no device has."""
    while stem in taken:
        stem += "-"
    return stem


def _described(name: str, content: Mapping[str, Any]) -> dict[str, Any]:
    return {"name": name, "content-schema": {"module": list(MODULES)}, "content-data": content}


def _device(
    device: Device, network: Network, written: Mapping[str, dict[str, Any]], left_out: list[Notice]
) -> dict[str, Any]:
    content: dict[str, Any] = {"grey-heron:device": {"definition": write_item(device)}}
    interfaces = []
    for each in device.interfaces:
        found: dict[str, Any] = {"name": each.name, "type": "iana-if-type:ethernetCsmacd"}
        if not each.enabled:
            found["enabled"] = False
        for family, key in ((Family.IPV4, "ietf-ip:ipv4"), (Family.IPV6, "ietf-ip:ipv6")):
            held = each.of(family)
            if held:
                found[key] = {
                    "forwarding": device.traits.forwards,
                    "address": [{"ip": str(one.ip), "prefix-length": one.network.prefixlen} for one in held],
                }
        interfaces.append(found)
    if interfaces:
        content["ietf-interfaces:interfaces"] = {"interface": interfaces}
    content |= routing_of(device, left_out) | nat_of(device, left_out)
    acls, attached = _attachments(device, network, written, left_out)
    if acls:
        content["ietf-access-control-list:acls"] = {"acl": acls, "attachment-points": {"interface": attached}}
        if not attached:
            del content["ietf-access-control-list:acls"]["attachment-points"]
    return content


def _attachments(
    device: Device, network: Network, written: Mapping[str, dict[str, Any]], left_out: list[Notice]
) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    here = [each for each in network.placements if each.device == device.name]
    ports = {each.name for each in device.interfaces}
    attached: dict[str, dict[str, Any]] = {}
    for each in here:
        if each.at not in ports:
            left_out.append(
                Notice(f"{device.name}, {each.at}", f"{each.list} stands on a line: our own module says it")
            )
        elif "aces" in written[each.list]:
            point = attached.setdefault(each.at, {"interface-id": each.at})
            sets = point.setdefault(_WAYS[each.direction], {"acl-sets": {"acl-set": []}})
            sets["acl-sets"]["acl-set"].append({"name": each.list})
    own = dict.fromkeys(each.list for each in here)
    return [_answered(written[name], device) for name in own], list(attached.values())


def _acl(access_list: AccessList, names: Names, left_out: list[Notice]) -> dict[str, Any]:
    found: dict[str, Any] = {"name": access_list.name}
    definition = write_item(access_list)
    if access_list.family is None:
        left_out.append(Notice(f"list {access_list.name}", "a frame list: our own module says it"))
    else:
        try:
            aces = aces_of(resolve(access_list, names))
        except CannotExpand as error:
            left_out.append(Notice(f"list {access_list.name}", f"{error}: our own module says the list"))
        else:
            found["type"] = f"ietf-access-control-list:{_TYPE[access_list.family]}"
            found["aces"] = {"ace": aces}
    return found | {"grey-heron:definition": definition}


def _answered(acl: dict[str, Any], device: Device) -> dict[str, Any]:
    """With denials as the device says them: rejected where it answers, else dropped."""
    if device.denial_answer is not DenialAnswer.NOTHING or "aces" not in acl:
        return acl
    reject, drop = (f"ietf-access-control-list:{each}" for each in ("reject", "drop"))
    aces = [
        each | {"actions": each["actions"] | {"forwarding": drop}}
        if each["actions"]["forwarding"] == reject
        else each
        for each in acl["aces"]["ace"]
    ]
    return acl | {"aces": {"ace": aces}}
