"""Instance data read: by our own module where it is there, else by what the standard ones say."""

from collections.abc import Mapping
from ipaddress import IPv4Interface, IPv6Interface
from typing import Any

import orjson

from greyheron.core.progress import Progress
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought, Notice
from greyheron.formats.machines.collection import kept_names
from greyheron.formats.machines.wiring import Plug, wiring_of
from greyheron.formats.workspace import parsed, read_item
from greyheron.formats.yang.acls import ACLS, InstanceLists
from greyheron.formats.yang.fields import Malformed, fields, items, text_at
from greyheron.formats.yang.interfaces import interface_addresses
from greyheron.formats.yang.nat import NAT, read_nat
from greyheron.formats.yang.routing import ROUTING, read_routing
from greyheron.formats.yang.topology import NETWORKS, Drawn
from greyheron.formats.yang.xml import NotRead, from_xml
from greyheron.model.document import FORMAT
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import read_network

SET = "ietf-yang-instance-data:instance-data-set"
_INTERFACES = "ietf-interfaces:interfaces"
_KNOWN = frozenset((_INTERFACES, ACLS, ROUTING, NAT, NETWORKS, "grey-heron:device", "grey-heron:network"))


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
        self._ports: dict[str, dict[str, str]] = {}
        self._rest: dict[str, Any] | None = None
        self._plugs: list[Plug] = []
        self._drawn = Drawn()
        self._left_out: list[Notice] = []
        self._guessed: list[Notice] = []
        self._lists = InstanceLists(self._left_out, self._guessed)

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
        self._lists.take(name, path, fields(inside.get(ACLS, {}), "acls"), self._ports.get(name, {}))

    def _device(self, name: str, path: str, inside: Mapping[str, Any]) -> None:
        if name in self._devices:
            raise Malformed(f"{name} is described in another file too")
        if "grey-heron:device" in inside:
            text = text_at(fields(inside["grey-heron:device"], "device"), "definition", path)
            self._devices[name] = read_item("devices", text)
            return
        told = items(fields(inside.get(_INTERFACES, {}), "interfaces"), "interface")
        names = self._ports[name] = kept_names([text_at(each, "name", "interface") for each in told])
        for written, kept in names.items():
            if written != kept:
                self._guessed.append(Notice(f"{path}, interface {written}", f"called {kept}"))
        held: dict[str, list[IPv4Interface | IPv6Interface]] = {}
        interfaces, forwards = [], False
        for each in told:
            port = names[each["name"]]
            held[port], on = interface_addresses(each, f"{path}, interface {each['name']}", self._left_out)
            forwards |= on
            plugged: dict[str, Any] = {"name": port, "addresses": [str(one) for one in held[port]]}
            if each.get("enabled") is False:
                plugged["enabled"] = False
            else:
                networks = frozenset(
                    one.network for one in held[port] if one.network.prefixlen < one.max_prefixlen
                )
                self._plugs += [Plug((name, port), (name, port), None, networks)] if networks else []
            interfaces.append(plugged)
        kind = "router" if forwards else "host"
        made = {"name": name, "kind": kind, "interfaces": interfaces}
        doubted: list[Notice] = []
        made |= read_routing(inside, forwards, path, names, doubted)
        addressed = {port: each for port, each in held.items() if each}
        rules = read_nat(inside, addressed, names, path, doubted, self._guessed)
        if rules:
            self._guessed.append(Notice(f"{path}, {NAT}", "every other interface with addresses is inside"))
            made["translations"] = rules
        if doubted:
            self._left_out += doubted
            self._lists.doubt(name, addressed)
        self._devices[name] = made

    def _links(self) -> list[dict[str, Any]]:
        """The links of the topology. What it has of nodes without addresses joins segments: switches."""
        for node, points in self._drawn.nodes.items():
            known = self._devices.get(node)
            if known is None or not any(each.get("addresses") for each in known["interfaces"]):
                self._ports[node] = kept_names(list(dict.fromkeys(points)))
                interfaces = [{"name": point} for point in self._ports[node].values()]
                self._devices[node] = {"name": node, "kind": "switch", "interfaces": interfaces}
        ends = {
            f"{name}:{each['name']}"
            for name, device in self._devices.items()
            for each in device["interfaces"]
        }
        links = []
        for written in self._drawn.links.values():
            link = [f"{node}:{self._ports.get(node, {}).get(point, point)}" for node, point in written]
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
                "placements": self._lists.placements(),
            }
            if self._drawn.nodes:
                links = self._links()
                data |= {"devices": [*self._devices.values()], "links": links}
            else:
                wiring = wiring_of(self._plugs, set(self._devices))
                guessed = [*guessed, *wiring.guessed]
                data |= {"devices": [*self._devices.values(), *wiring.switches], "links": wiring.links}
        data["lists"] = list(self._lists.found.values())
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
