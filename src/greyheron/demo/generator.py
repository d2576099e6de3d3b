"""Large invented networks: hierarchical or meshed, static or OSPF, both families, with realistic lists.

The same arguments give the same network. Addresses are drawn from 172.20.0.0/14 and 2001:db8::/32.
"""

from collections.abc import Iterator
from ipaddress import IPv4Address
from random import Random
from typing import Any

from msgspec import Struct

from greyheron.model.document import Network
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import read_network

Data = dict[str, Any]

MOST_ROUTERS = 5000
ROOMY = 500
"""Of so many routers each has 256 addresses behind it; of more it has 16."""
SITES_OF_CORE = 8
PORTS = (443, 443, 443, 80, 80, 22, 53, 25, 23, 161, 389, 514, 587, 993, 1812, 5060, 8080, 8443)
"""Drawn from with this skew: most entries are about a few ports."""


class Plan(Struct, frozen=True):
    """What to generate.

    routers:  how many, 2 to MOST_ROUTERS; one in SITES_OF_CORE belongs to the core
    lists:  how many lists;  entries: in each;  meshed: core links at random instead of a ring with spokes
    """

    routers: int
    lists: int
    entries: int
    seed: int = 0
    meshed: bool = False


def generate(plan: Plan) -> Network:
    """The network of `plan`. Raises DocumentError when the plan cannot be carried out."""
    if not 2 <= plan.routers <= MOST_ROUTERS:
        raise DocumentError(
            [Problem("routers", f"{plan.routers} routers: 2 to {MOST_ROUTERS} can be generated")]
        )
    if plan.lists < 0 or plan.entries < 0:
        raise DocumentError([Problem("lists", "there cannot be fewer than no lists or entries")])
    return read_network(_Generator(plan).data())


class _Generator:
    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._sites = _Sites(ROOMY_LENGTH if plan.routers <= ROOMY else NARROW_LENGTH)
        self._chance = Random(plan.seed)
        self._core = max(1, plan.routers // SITES_OF_CORE)
        self._devices: list[Data] = []
        self._links: list[Data] = []
        self._transit = self._transits()

    def data(self) -> Data:
        plan, chance = self._plan, self._chance
        gates = [self._router(number) for number in range(plan.routers)]
        for one, other in self._pairs():
            self._join(gates[one], gates[other])
        for number, gate in enumerate(gates):
            self._site(number, gate)
        lists = [self._list(number) for number in range(plan.lists)]
        points = [(number, way) for number in range(plan.routers) for way in ("in", "out")]
        placed = chance.sample(points, min(len(points), len(lists)))
        return {
            "format": "grey-heron/1",
            "name": f"Generated, {plan.routers} routers",
            "note": f"Generated with seed {plan.seed}.",
            "devices": self._devices,
            "links": self._links,
            "lists": lists,
            "placements": [
                {"list": access_list["name"], "device": f"r{number}", "at": "eth0", "direction": way}
                for access_list, (number, way) in zip(lists, placed, strict=False)
            ],
            "tests": [
                {"id": f"t{number}", "flow": f"h{one} → h{other} web pass", "group": "Generated"}
                for number, (one, other) in enumerate(self._talkers(min(40, plan.routers)), 1)
            ],
        }

    def _talkers(self, count: int) -> Iterator[tuple[int, int]]:
        for _ in range(count):
            one, other = self._chance.sample(range(self._plan.routers), 2)
            yield one, other

    def _pairs(self) -> list[tuple[int, int]]:
        """The core as a ring (or a mesh), every other router at one or two core routers."""
        core = range(self._core)
        pairs = {(number, (number + 1) % self._core) for number in core if self._core > 1}
        if self._plan.meshed:
            pairs |= {tuple(sorted(self._chance.sample(core, 2))) for _ in core if self._core > 2}  # type: ignore[misc]
        for number in range(self._core, self._plan.routers):
            homes = self._chance.sample(core, min(self._core, 2 if number % 3 == 0 else 1))
            pairs |= {(home, number) for home in homes}
        return sorted({(min(pair), max(pair)) for pair in pairs if pair[0] != pair[1]})

    def _router(self, number: int) -> Data:
        router: Data = {
            "name": f"r{number}",
            "kind": "router",
            "interfaces": [
                {
                    "name": "lo0",
                    "addresses": [f"172.23.{number // 250}.{number % 250 + 1}/32"],
                    "ospf": {"passive": True},
                }
            ],
            "lines": [{"name": "remote", "transports": ["ssh"]}, {"name": "console"}],
        }
        self._devices.append(router)
        return router

    def _transits(self) -> Iterator[tuple[list[str], list[str]]]:
        """Addresses for both ends of one link after another."""
        number = 0
        while True:
            third, fourth = divmod(number * 4, 256)
            base = f"172.22.{third}"
            six = f"2001:db8:f000:{number:x}"
            yield (
                [f"{base}.{fourth + 1}/30", f"{six}::1/64"],
                [f"{base}.{fourth + 2}/30", f"{six}::2/64"],
            )
            number += 1

    def _join(self, one: Data, other: Data) -> None:
        cost = self._chance.choice([10, 10, 10, 20, 40])
        ends = []
        for gate, addresses in zip((one, other), next(self._transit), strict=True):
            name = f"wan{len(gate['interfaces']) - 1}"
            gate["interfaces"].append({"name": name, "addresses": addresses, "ospf": {"cost": cost}})
            ends.append(f"{gate['name']}:{name}")
        self._links.append({"ends": ends})

    def _site(self, number: int, gate: Data) -> None:
        """One segment behind each router, with one host on it; one site in five is a static stub."""
        site, six = self._sites, _six_of(number)
        length = site.length
        stub = number >= self._core and number % 5 == 0
        lan: Data = {"name": "eth0", "addresses": [f"{site.four(number, 1)}/{length}", f"{six}::1/64"]}
        if not stub:
            lan["ospf"] = {"passive": True}
        else:
            upper = f"{site.four(number, site.size // 2)}/{length + 1}"
            gate["routes"] = [{"to": upper, "discard": True, "preference": 200}]
            lan["ospf"] = {"passive": True, "cost": 50}
        gate["interfaces"].append(lan)
        self._devices.append(
            {
                "name": f"h{number}",
                "kind": "host",
                "interfaces": [
                    {"name": "eth0", "addresses": [f"{site.four(number, 10)}/{length}", f"{six}::10/64"]}
                ],
                "gateway": site.four(number, 1),
                "gateway6": f"{six}::1",
                "services": [
                    {"name": "web", "protocol": "tcp", "port": 443},
                    {"name": "ssh", "protocol": "tcp", "port": 22},
                ],
            }
        )
        self._links.append({"ends": [f"{gate['name']}:eth0", f"h{number}:eth0"]})

    def _list(self, number: int) -> Data:
        family = "ipv6" if number % 4 == 3 else "ipv4"
        lines = [self._entry(family) for _ in range(max(0, self._plan.entries - 3))]
        closing = [
            "permit ospf from any to any",
            "permit tcp from any to any established",
            "permit any from any to any",
        ]
        entries = [*lines, *closing[: self._plan.entries]]
        return {"name": f"list{number}", "family": family, "kind": "extended", "entries": "\n".join(entries)}

    def _entry(self, family: str) -> str:
        """Mostly narrow, so that the first match lies deep; permits and denies mixed."""
        chance = self._chance
        action = "permit" if chance.random() < 0.6 else "deny"
        protocol = chance.choice(["tcp", "tcp", "tcp", "udp"])
        words = [action, protocol, "from", self._block(family), "to", self._block(family)]
        words += ["port", str(chance.choice(PORTS))]
        return " ".join(words) + (" log" if chance.random() < 0.05 else "")

    def _block(self, family: str) -> str:
        """A host, a site, part of a site, or a nest of sites, in that order of frequency."""
        number = self._chance.randrange(self._plan.routers)
        draw, six, site = self._chance.random(), _six_of(number), self._sites
        if family == "ipv6":
            return f"{six}::{self._chance.randrange(1, 0xFFFF):x}" if draw < 0.5 else f"{six}::/64"
        if draw < 0.5:
            return site.four(number, self._chance.randrange(1, site.size - 1))
        if draw < 0.75:
            return f"{site.four(number)}/{site.length}"
        if draw < 0.9:
            quarter = site.size // 4
            return f"{site.four(number, quarter * self._chance.choice(range(4)))}/{site.length + 2}"
        if draw < 0.97:
            wildcard = self._chance.choice((252, 254, 170, 85)) & site.size - 1
            return f"{site.four(number)}~0.0.0.{wildcard}"
        return f"{site.nest(number)}/{site.length - 4}"


ROOMY_LENGTH, NARROW_LENGTH = 24, 28


class _Sites(Struct, frozen=True):
    """The IPv4 prefixes behind routers, by the routers' numbers; 16 of them are a nest.

    length:  of the prefixes, in bits
    """

    length: int

    @property
    def size(self) -> int:
        return 1 << 32 - self.length

    def four(self, number: int, host: int = 0) -> str:
        """An address behind a router."""
        return str(IPv4Address(self._first(number) + host))

    def nest(self, number: int) -> str:
        """The first address of the nest that a site is in."""
        return str(IPv4Address(self._first(number) & -(self.size << 4)))

    def _first(self, number: int) -> int:
        if self.length == ROOMY_LENGTH:
            return (172 << 24) + (20 + number // 250 << 16) + (number % 250 << 8)
        return (172 << 24) + (20 << 16) + number * self.size


def _six_of(number: int) -> str:
    """The first half of a site's IPv6 prefix."""
    return f"2001:db8:{number + 1:x}:0"
