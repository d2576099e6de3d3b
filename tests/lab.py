"""A small network to bend: two sites, four routers in a diamond, every way static.

left, mate ─ sw ─ r1 ─ r2 ─ r3 ─ right, spare
                   └── r4 ──┘           (r4 is used only where a case adds routes by it)
"""

from collections.abc import Callable
from copy import deepcopy
from typing import Any

import yaml

from greyheron.model.document import Network
from greyheron.model.read import read_network

Data = dict[str, Any]


def _host(name: str, address: str, gateway: str, **more: Any) -> Data:
    return {
        "name": name,
        "kind": "host",
        "interfaces": [{"name": "eth0", "addresses": [address]}],
        "gateway": gateway,
        **more,
    }


def _router(name: str, interfaces: dict[str, str], routes: dict[str, str]) -> Data:
    return {
        "name": name,
        "kind": "router",
        "interfaces": [{"name": key, "addresses": [value]} for key, value in interfaces.items()],
        "routes": [{"to": to, "via": via} for to, via in routes.items()],
        "lines": [{"name": "remote", "transports": ["ssh", "telnet"]}, {"name": "console"}],
    }


BASE: Data = {
    "format": "grey-heron/1",
    "name": "Lab",
    "devices": [
        _host("left", "172.20.1.10/24", "172.20.1.1"),
        _host(
            "mate", "172.20.1.11/24", "172.20.1.1", services=[{"name": "web", "protocol": "tcp", "port": 80}]
        ),
        {"name": "sw", "kind": "switch", "interfaces": [{"name": "p1"}, {"name": "p2"}, {"name": "p3"}]},
        _router(
            "r1",
            {
                "eth0": "172.20.1.1/24",
                "wan0": "172.20.0.1/30",
                "wan1": "172.20.0.9/30",
                "lo0": "172.20.255.1/32",
            },
            {"172.20.3.0/24": "172.20.0.2", "172.20.0.0/16": "172.20.0.2"},
        ),
        _router(
            "r2",
            {"wan0": "172.20.0.2/30", "wan1": "172.20.0.5/30", "lo0": "172.20.255.2/32"},
            {"172.20.1.0/24": "172.20.0.1", "172.20.3.0/24": "172.20.0.6"},
        ),
        _router(
            "r3",
            {
                "wan0": "172.20.0.6/30",
                "wan1": "172.20.0.14/30",
                "eth0": "172.20.3.1/24",
                "lo0": "172.20.255.3/32",
            },
            {"172.20.1.0/24": "172.20.0.5", "172.20.0.0/30": "172.20.0.5", "172.20.255.0/24": "172.20.0.5"},
        ),
        _router(
            "r4",
            {"wan0": "172.20.0.10/30", "wan1": "172.20.0.13/30"},
            {"172.20.1.0/24": "172.20.0.9", "172.20.3.0/24": "172.20.0.14"},
        ),
        _host(
            "right",
            "172.20.3.10/24",
            "172.20.3.1",
            services=[
                {"name": "web", "protocol": "tcp", "port": 443},
                {"name": "telnet", "protocol": "tcp", "port": 23},
                {"name": "names", "protocol": "udp", "port": 53},
            ],
        ),
        _host("spare", "172.20.3.11/24", "172.20.3.1"),
    ],
    "links": [
        {"ends": ["left:eth0", "sw:p1"]},
        {"ends": ["mate:eth0", "sw:p2"]},
        {"ends": ["sw:p3", "r1:eth0"]},
        {"ends": ["r1:wan0", "r2:wan0"]},
        {"ends": ["r2:wan1", "r3:wan0"]},
        {"ends": ["r1:wan1", "r4:wan0"]},
        {"ends": ["r4:wan1", "r3:wan1"]},
        {"ends": ["r3:eth0", "east:p1"]},
        {"ends": ["east:p2", "right:eth0"]},
        {"ends": ["east:p3", "spare:eth0"]},
    ],
}
BASE["devices"].append(
    {"name": "east", "kind": "switch", "interfaces": [{"name": "p1"}, {"name": "p2"}, {"name": "p3"}]}
)


class Lab:
    """The lab's document as data, with the changes that cases make to it."""

    def __init__(self, base: Data = BASE) -> None:
        self.data: Data = deepcopy(base)

    @classmethod
    def of(cls, text: str) -> "Lab":
        """A lab of another network, written as a workspace file without its head."""
        return cls({"format": "grey-heron/1", "name": "Lab", **yaml.safe_load(text)})

    def network(self) -> Network:
        return read_network(self.data)

    def device(self, name: str) -> Data:
        found: Data = next(device for device in self.data["devices"] if device["name"] == name)
        return found

    def interface(self, name: str, interface: str) -> Data:
        found: Data = next(item for item in self.device(name)["interfaces"] if item["name"] == interface)
        return found

    def place(self, at: str, entries: str, name: str = "list", kind: str = "extended", **more: str) -> "Lab":
        """A list with `entries` at `at`, written `device interface in`."""
        device, interface, direction = at.split()
        written = {"name": name, "family": "ipv4", "kind": kind, "entries": entries, **more}
        self.data.setdefault("lists", []).append(written)
        self.data.setdefault("placements", []).append(
            {"list": name, "device": device, "at": interface, "direction": direction}
        )
        return self

    def route(self, device: str, to: str, **how: Any) -> "Lab":
        self.device(device).setdefault("routes", []).append({"to": to, **how})
        return self

    def without_route(self, device: str, to: str) -> "Lab":
        routes = self.device(device)["routes"]
        self.device(device)["routes"] = [route for route in routes if route["to"] != to]
        return self

    def with_(self, change: Callable[["Lab"], object]) -> "Lab":
        change(self)
        return self
