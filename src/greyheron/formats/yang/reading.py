"""Instance data read: by our own module where it is there, else by what the standard ones say."""

import json
from collections.abc import Mapping
from ipaddress import ip_interface
from typing import Any

from greyheron.core.progress import Progress
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought, Notice
from greyheron.formats.machines.wiring import Plug, wiring_of
from greyheron.formats.workspace import parsed, read_item
from greyheron.formats.yang.entries import Unread, entry_of
from greyheron.model.document import FORMAT
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import read_network

SET = "ietf-yang-instance-data:instance-data-set"
_FAMILY = {"ipv4-acl-type": "ipv4", "ipv6-acl-type": "ipv6"}
_WAYS = {"ingress": "in", "egress": "out"}
_KNOWN = frozenset(
    ("ietf-interfaces:interfaces", "ietf-access-control-list:acls", "grey-heron:device", "grey-heron:network")
)
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
        except (Malformed, Unread) as error:
            problems.append(Problem(path, str(error)))
    if problems:
        raise DocumentError(problems)
    return reader.brought(bundle.name.partition(".")[0])


class Malformed(Exception):
    """Part of instance data that is not as its module says; says where and what."""


class _Instances:
    def __init__(self) -> None:
        self._devices: dict[str, dict[str, Any]] = {}
        self._lists: dict[str, dict[str, Any]] = {}
        self._placements: list[dict[str, str]] = []
        self._rest: dict[str, Any] | None = None
        self._plugs: list[Plug] = []
        self._left_out: list[Notice] = []
        self._guessed: list[Notice] = []

    def take(self, path: str, content: bytes) -> None:
        try:
            data = json.loads(content)
        except (ValueError, RecursionError) as error:
            why = str(error) if isinstance(error, ValueError) else "it is nested too deep"
            raise DocumentError([Problem(path, f"this is no JSON: {why}")]) from None
        if not isinstance(data, dict) or SET not in data:
            self._left_out.append(Notice(path, "this is no instance data: it was not read"))
            return
        described = _fields(data[SET], SET)
        name = _text(described, "name", path)
        inside = _fields(described.get("content-data", {}), "content-data")
        for key in inside:
            if key not in _KNOWN:
                self._left_out.append(Notice(f"{path}, {key}", "this part is not read"))
        if "grey-heron:network" in inside:
            text = _text(_fields(inside["grey-heron:network"], "network"), "definition", path)
            self._rest = _fields(parsed(text), "network")
        else:
            self._device(name, path, inside)
        self._acls(name, path, inside)

    def _device(self, name: str, path: str, inside: Mapping[str, Any]) -> None:
        if name in self._devices:
            raise Malformed(f"{name} is described in another file too")
        if "grey-heron:device" in inside:
            text = _text(_fields(inside["grey-heron:device"], "device"), "definition", path)
            self._devices[name] = read_item("devices", text)
            return
        told = _fields(inside.get("ietf-interfaces:interfaces", {}), "interfaces")
        interfaces, forwards = [], False
        for each in _items(told, "interface"):
            port = _text(each, "name", "interface")
            addresses = []
            for key in ("ietf-ip:ipv4", "ietf-ip:ipv6"):
                family = _fields(each.get(key, {}), key)
                forwards |= family.get("forwarding") is True
                for address in _items(family, "address"):
                    written = f"{_text(address, 'ip', port)}/{address.get('prefix-length')}"
                    try:
                        addresses.append(str(ip_interface(written)))
                    except ValueError:
                        raise Malformed(f"interface {port}: {written} is no address") from None
            made: dict[str, Any] = {"name": port, "addresses": addresses}
            if each.get("enabled") is False:
                made["enabled"] = False
            elif addresses:
                held = [ip_interface(address).network for address in addresses]
                networks = frozenset(net for net in held if net.prefixlen < net.max_prefixlen)
                self._plugs += [Plug((name, port), (name, port), None, networks)] if networks else []
            interfaces.append(made)
        kind = "router" if forwards else "host"
        self._devices[name] = {"name": name, "kind": kind, "interfaces": interfaces}

    def _acls(self, name: str, path: str, inside: Mapping[str, Any]) -> None:
        acls = _fields(inside.get("ietf-access-control-list:acls", {}), "acls")
        every = [self._list(each) for each in _items(acls, "acl")]
        called = {each["name"]: self._kept(name, each) for each in every}
        points = _fields(acls.get("attachment-points", {}), "attachment-points")
        for point in _items(points, "interface"):
            at = _text(point, "interface-id", path)
            for way, direction in _WAYS.items():
                sets = _fields(_fields(point.get(way, {}), way).get("acl-sets", {}), "acl-sets")
                for each in _items(sets, "acl-set"):
                    list_name = _text(each, "name", at)
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
        name = _text(acl, "name", "acl")
        if "grey-heron:definition" in acl:
            found = read_item("lists", _text(acl, "grey-heron:definition", name))
            return found | {"entries": found.get("entries", "")}
        kind = str(acl.get("type", "")).rpartition(":")[2]
        if kind not in _FAMILY:
            raise Malformed(f"list {name}: lists of the type {kind or 'none'} are not read")
        lines = []
        for number, ace in enumerate(_items(_fields(acl.get("aces", {}), "aces"), "ace"), 1):
            lines.append(f"{number * STEP} {entry_of(ace, _FAMILY[kind], f'list {name}')}")
        text = "\n".join(lines) + "\n" if lines else ""
        return {"name": name, "family": _FAMILY[kind], "kind": "extended", "entries": text}

    def brought(self, name: str) -> Brought:
        guessed = self._guessed
        if self._rest is not None:
            data = self._rest | {"format": FORMAT, "devices": list(self._devices.values())}
        else:
            wiring = wiring_of(self._plugs, set(self._devices))
            guessed = [*guessed, *wiring.guessed]
            data = {
                "format": FORMAT,
                "name": name[:80] or "Instance data",
                "devices": [*self._devices.values(), *wiring.switches],
                "links": wiring.links,
                "placements": self._placements,
            }
        data["lists"] = list(self._lists.values())
        return Brought(read_network(data), tuple(self._left_out), tuple(guessed))


def _fields(value: Any, where: str) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise Malformed(f"{where}: expected fields")
    return value


def _items(value: Mapping[str, Any], key: str) -> list[dict[str, Any]]:
    found = value.get(key, [])
    if not isinstance(found, list):
        raise Malformed(f"{key}: expected a list")
    return [_fields(each, key) for each in found]


def _text(value: Mapping[str, Any], key: str, where: str) -> str:
    found = value.get(key)
    if not isinstance(found, str):
        raise Malformed(f"{where}: expected text in “{key}”")
    return found
