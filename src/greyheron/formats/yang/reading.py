"""Instance data read: by our own module where it is there, else by what the standard ones say."""

from collections.abc import Mapping
from ipaddress import ip_interface
from typing import Any

import orjson

from greyheron.core.progress import Progress
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought, Notice
from greyheron.formats.machines.wiring import Plug, wiring_of
from greyheron.formats.workspace import parsed, read_item
from greyheron.formats.yang.entries import entry_of
from greyheron.formats.yang.fields import Malformed, fields, items, text_at
from greyheron.formats.yang.nat import NAT, read_nat
from greyheron.formats.yang.routing import ROUTING, read_routing
from greyheron.formats.yang.topology import NETWORKS, Drawn
from greyheron.formats.yang.xml import NotRead, from_xml
from greyheron.model.document import FORMAT
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import read_network

SET = "ietf-yang-instance-data:instance-data-set"
_FAMILY = {"ipv4-acl-type": "ipv4", "ipv6-acl-type": "ipv6"}
_WAYS = {"ingress": "in", "egress": "out"}
_INTERFACES, _ACLS = "ietf-interfaces:interfaces", "ietf-access-control-list:acls"
_KNOWN = frozenset((_INTERFACES, _ACLS, ROUTING, NAT, NETWORKS, "grey-heron:device", "grey-heron:network"))
STEP = 10


def read_instances(bundle: Bundle, progress: Progress) -> Brought:
    """The network in instance data. Raises DocumentError, Cancelled."""
    reader = _Instances()
    problems: list[Problem] = []
    for number, (path, content) in enumerate(sorted(bundle.files.items())):
        progress(number / len(bundle.files))
        try:
            reader.take(path, content)
        except DocumentError as error:
            problems += error.problems
        except Malformed as error:
            problems.append(Problem(path, str(error)))
    if problems:
        raise DocumentError(problems)
    return reader.brought(bundle.name.partition(".")[0])


class _Instances:
    def __init__(self) -> None:
        self._devices: dict[str, dict[str, Any]] = {}
        self._lists: dict[str, dict[str, Any]] = {}
        self._placements: list[dict[str, str]] = []
        self._rest: dict[str, Any] | None = None
        self._plugs: list[Plug] = []
        self._drawn = Drawn()
        self._left_out: list[Notice] = []
        self._guessed: list[Notice] = []

    def take(self, path: str, content: bytes) -> None:
        data = _parsed(path, content)
        if not isinstance(data, dict) or SET not in data:
            self._left_out.append(Notice(path, "this is no instance data: it was not read"))
            return
        described = fields(data[SET], SET)
        name = text_at(described, "name", path)
        inside = fields(described.get("content-data", {}), "content-data")
        for key in inside:
            if key not in _KNOWN:
                self._left_out.append(Notice(f"{path}, {key}", "this part is not read"))
        self._drawn.take(inside, path)
        if "grey-heron:network" in inside:
            text = text_at(fields(inside["grey-heron:network"], "network"), "definition", path)
            self._rest = fields(parsed(text), "network")
        elif set(inside) != {NETWORKS}:
            self._device(name, path, inside)
        self._acls(name, path, inside)

    def _device(self, name: str, path: str, inside: Mapping[str, Any]) -> None:
        if name in self._devices:
            raise Malformed(f"{name} is described in another file too")
        if "grey-heron:device" in inside:
            text = text_at(fields(inside["grey-heron:device"], "device"), "definition", path)
            self._devices[name] = read_item("devices", text)
            return
        told = fields(inside.get(_INTERFACES, {}), "interfaces")
        interfaces, forwards = [], False
        for each in items(told, "interface"):
            port = text_at(each, "name", "interface")
            addresses = []
            for key in ("ietf-ip:ipv4", "ietf-ip:ipv6"):
                family = fields(each.get(key, {}), key)
                forwards |= family.get("forwarding") is True
                for address in items(family, "address"):
                    written = f"{text_at(address, 'ip', port)}/{address.get('prefix-length')}"
                    try:
                        addresses.append(str(ip_interface(written)))
                    except ValueError:
                        raise Malformed(f"interface {port}: {written} is no address") from None
            plugged: dict[str, Any] = {"name": port, "addresses": addresses}
            if each.get("enabled") is False:
                plugged["enabled"] = False
            elif addresses:
                held = [ip_interface(address).network for address in addresses]
                networks = frozenset(net for net in held if net.prefixlen < net.max_prefixlen)
                self._plugs += [Plug((name, port), (name, port), None, networks)] if networks else []
            interfaces.append(plugged)
        kind = "router" if forwards else "host"
        made = {"name": name, "kind": kind, "interfaces": interfaces}
        made |= read_routing(inside, forwards, path, self._left_out)
        translations = read_nat(inside, [each["name"] for each in interfaces if each["addresses"]], path)
        if translations:
            self._guessed.append(Notice(f"{path}, {NAT}", "every other interface with addresses is inside"))
            made["translations"] = translations
        self._devices[name] = made

    def _acls(self, name: str, path: str, inside: Mapping[str, Any]) -> None:
        acls = fields(inside.get(_ACLS, {}), "acls")
        every = [self._list(each) for each in items(acls, "acl")]
        called = {each["name"]: self._kept(name, each) for each in every}
        points = fields(acls.get("attachment-points", {}), "attachment-points")
        for point in items(points, "interface"):
            at = text_at(point, "interface-id", path)
            for way, direction in _WAYS.items():
                sets = fields(fields(point.get(way, {}), way).get("acl-sets", {}), "acl-sets")
                for each in items(sets, "acl-set"):
                    list_name = text_at(each, "name", at)
                    placed = {"list": called.get(list_name, list_name), "device": name, "at": at}
                    self._placements.append(placed | {"direction": direction})

    def _kept(self, device: str, found: dict[str, Any]) -> str:
        """What a list of a device is called: devices may have different ones of one name."""
        known = self._lists.setdefault(found["name"], found)
        if known == found:
            return str(found["name"])
        name = f"{found['name']}-{device}"[:63]
        self._lists[name] = found | {"name": name}
        where = f"{device}, list {found['name']}"
        self._guessed.append(Notice(where, f"another one of that name: called {name}"))
        return name

    def _list(self, acl: Mapping[str, Any]) -> dict[str, Any]:
        name = text_at(acl, "name", "acl")
        if "grey-heron:definition" in acl:
            found = read_item("lists", text_at(acl, "grey-heron:definition", name))
            return found | {"entries": found.get("entries", "")}
        kind = str(acl.get("type", "")).rpartition(":")[2]
        if kind not in _FAMILY:
            raise Malformed(f"list {name}: lists of the type {kind or 'none'} are not read")
        lines = []
        for number, ace in enumerate(items(fields(acl.get("aces", {}), "aces"), "ace"), 1):
            lines.append(f"{number * STEP} {entry_of(ace, _FAMILY[kind], f'list {name}')}")
        text = "\n".join(lines) + "\n" if lines else ""
        return {"name": name, "family": _FAMILY[kind], "kind": "extended", "entries": text}

    def _links(self) -> list[dict[str, Any]]:
        """The links of the topology. What it has of nodes without addresses joins segments: switches."""
        for node, points in self._drawn.nodes.items():
            known = self._devices.get(node)
            if known is None or not any(each.get("addresses") for each in known["interfaces"]):
                interfaces = [{"name": point} for point in dict.fromkeys(points)]
                self._devices[node] = {"name": node, "kind": "switch", "interfaces": interfaces}
        ends = {
            f"{name}:{each['name']}"
            for name, device in self._devices.items()
            for each in device["interfaces"]
        }
        links = []
        for link in self._drawn.links.values():
            unknown = sorted(set(link) - ends)
            if unknown:
                where = " – ".join(link)
                self._left_out.append(Notice(where, f"{unknown[0]} is no interface of any device"))
            else:
                links.append({"ends": [*link]})
        return links

    def brought(self, name: str) -> Brought:
        guessed = self._guessed
        if self._rest is not None:
            data = self._rest | {"format": FORMAT, "devices": list(self._devices.values())}
        else:
            data = {
                "format": FORMAT,
                "name": name[:80] or "Instance data",
                "placements": self._placements,
            }
            if self._drawn.nodes:
                links = self._links()
                data |= {"devices": [*self._devices.values()], "links": links}
            else:
                wiring = wiring_of(self._plugs, set(self._devices))
                guessed = [*guessed, *wiring.guessed]
                data |= {"devices": [*self._devices.values(), *wiring.switches], "links": wiring.links}
        data["lists"] = list(self._lists.values())
        return Brought(read_network(data), tuple(self._left_out), tuple(guessed))


def _parsed(path: str, content: bytes) -> Any:
    """JSON or XML, as RFC 7951 has it. Raises DocumentError."""
    if content.lstrip()[:1] == b"<":
        try:
            return from_xml(content)
        except NotRead as error:
            raise DocumentError([Problem(path, str(error))]) from None
    try:
        return orjson.loads(content)
    except orjson.JSONDecodeError as error:
        raise DocumentError([Problem(path, f"this is no JSON: {error}")]) from None
