"""Networks with very many equal ways: shapes of any size, and random ones with lists and firewalls."""

import itertools
from collections.abc import Iterable
from random import Random
from typing import Any

from greyheron.model.document import Network
from greyheron.model.read import read_network

Data = dict[str, Any]
PORTS = (22, 80, 443)


class Shape:
    """Routers that are joined by links of one cost, and sites behind some of them."""

    def __init__(self) -> None:
        self.devices: dict[str, Data] = {}
        self.links: list[Data] = []
        self._sites = 0

    def device(self, name: str, kind: str = "router", **more: Any) -> None:
        self.devices[name] = {"name": name, "kind": kind, "interfaces": [], **more}

    def join(self, one: str, other: str, cost: int = 10) -> None:
        number = 4 * len(self.links)
        ends = []
        for last, name in ((1, one), (2, other)):
            address = f"172.22.{number // 256}.{number % 256 + last}/30"
            ends.append(self._port(name, addresses=[address], ospf={"cost": cost}))
        self.links.append({"ends": ends})

    def site(self, gate: str) -> str:
        """A host behind a router; returns its name."""
        number, self._sites = self._sites, self._sites + 1
        host, net = f"h{number}", f"172.20.{number}"
        end = self._port(gate, addresses=[f"{net}.1/24"], ospf={"passive": True})
        services = [{"name": f"s{port}", "protocol": "tcp", "port": port} for port in PORTS]
        services.append({"name": "dns", "protocol": "udp", "port": 53})
        self.device(host, "host", gateway=f"{net}.1", services=services)
        self.links.append({"ends": [end, self._port(host, addresses=[f"{net}.10/24"])]})
        return host

    def _port(self, name: str, **more: Any) -> str:
        interfaces = self.devices[name]["interfaces"]
        interfaces.append({"name": f"p{len(interfaces)}", **more})
        return f"{name}:p{len(interfaces) - 1}"

    def network(self, **more: Any) -> Network:
        return read_network(
            {
                "format": "grey-heron/1",
                "name": "Equal ways",
                "devices": list(self.devices.values()),
                "links": self.links,
                **more,
            }
        )


def _joined(names: Iterable[str], pairs: Iterable[tuple[str, str]], ends: tuple[str, str]) -> Shape:
    shape = Shape()
    for name in names:
        shape.device(name)
    for one, other in pairs:
        shape.join(one, other)
    for end in ends:
        shape.site(end)
    return shape


def chain(length: int, links: int = 2) -> Shape:
    """Routers in a row, each pair joined by several links."""
    names = [f"r{number}" for number in range(length)]
    pairs = [pair for pair in itertools.pairwise(names) for _ in range(links)]
    return _joined(names, pairs, (names[0], names[-1]))


def grid(width: int) -> Shape:
    """Routers in rows and columns, with a site at two corners."""
    at = {(x, y): f"g{x}-{y}" for x in range(width) for y in range(width)}
    pairs = [
        (name, at[x + one, y + 1 - one])
        for (x, y), name in at.items()
        for one in (0, 1)
        if (x + one, y + 1 - one) in at
    ]
    return _joined(at.values(), pairs, (at[0, 0], at[width - 1, width - 1]))


def ladder(length: int) -> Shape:
    """Two rows of routers with a rung between each two."""
    rails = [[f"{side}{number}" for number in range(length)] for side in "ab"]
    pairs = [pair for rail in rails for pair in itertools.pairwise(rail)]
    return _joined([*rails[0], *rails[1]], [*pairs, *zip(*rails, strict=True)], ("a0", f"b{length - 1}"))


def mesh(size: int) -> Shape:
    """Every router joined to every other."""
    names = [f"m{number}" for number in range(size)]
    pairs = [(one, other) for number, one in enumerate(names) for other in names[number + 1 :]]
    return _joined(names, pairs, (names[0], names[-1]))


def layers(width: int, depth: int) -> Shape:
    """Rows of routers, each joined to all of the next row."""
    rows = [["in"], *([f"l{row}-{number}" for number in range(width)] for row in range(depth)), ["out"]]
    pairs = [
        (one, other) for row, following in itertools.pairwise(rows) for one in row for other in following
    ]
    return _joined([name for row in rows for name in row], pairs, ("in", "out"))


def random_equal_ways(seed: int) -> Network:
    """A few routers and firewalls in rows, several links between them, and lists at some points."""
    chance = Random(seed)
    shape, rows = Shape(), []
    for depth in range(chance.randint(2, 5)):
        names = [f"d{depth}-{number}" for number in range(1 if depth == 0 else chance.randint(1, 3))]
        for name in names:
            shape.device(name, **_traits(chance))
        rows.append(names)
    for row, following in itertools.pairwise(rows):
        for one in row:
            for other in following:
                for _ in range(chance.choice((0, 1, 1, 2)) if len(row) * len(following) > 1 else 2):
                    shape.join(one, other, chance.choice((10, 10, 10, 20)))
    hosts = [shape.site(rows[0][0]), shape.site(chance.choice(rows[-1]))]
    if chance.random() < 0.3:
        hosts.append(shape.site(chance.choice(rows[len(rows) // 2])))
    for device in shape.devices.values():
        if device["kind"] == "firewall" and chance.random() < 0.7:
            names = [each["name"] for each in device["interfaces"]]
            chance.shuffle(names)
            cut = chance.randint(0, len(names))
            zones = [("inner", names[:cut]), ("outer", names[cut:])]
            device["zones"] = [{"name": name, "interfaces": some} for name, some in zones if some]
            device["same_zone"] = chance.random() < 0.7
    return shape.network(**_lists(shape, chance))


def _traits(chance: Random) -> Data:
    draw = chance.random()
    if draw < 0.15:
        return {"kind": "firewall"}
    if draw < 0.3:
        return {"tracks": chance.sample(["tcp", "udp", "icmp"], chance.randint(1, 3))}
    return {"filters_own_traffic": True} if draw < 0.35 else {}


def _lists(shape: Shape, chance: Random) -> Data:
    points = [
        (device["name"], port["name"], way)
        for device in shape.devices.values()
        if device["kind"] != "host"
        for port in device["interfaces"]
        for way in ("in", "out")
    ]
    chosen = chance.sample(points, min(len(points), chance.randint(0, 4)))
    lists = [
        {"name": f"l{number}", "family": "ipv4", "kind": "extended", "entries": _entries(chance)}
        for number in range(len(chosen))
    ]
    placements = [
        {"list": f"l{number}", "device": device, "at": port, "direction": way}
        for number, (device, port, way) in enumerate(chosen)
    ]
    return {"lists": lists, "placements": placements}


def _entries(chance: Random) -> str:
    lines = []
    for _ in range(chance.randint(1, 3)):
        action, protocol = chance.choice(("permit", "deny", "deny")), chance.choice(("tcp", "tcp", "udp"))
        line = f"{action} {protocol} from {_side(chance)} to {_side(chance)}"
        if chance.random() < 0.5:
            line += f" port {chance.choice((*PORTS, 53))}"
        if protocol == "tcp" and chance.random() < 0.4:
            line += " established"
        lines.append(line)
    if chance.random() < 0.85:
        lines.append("permit any from any to any")
    return "\n".join(lines)


def _side(chance: Random) -> str:
    return chance.choice(("any", "any", "172.20.0.0/24", "172.20.1.0/24", "172.20.1.10"))
