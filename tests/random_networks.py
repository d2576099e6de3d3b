"""Random networks with every feature, and random conversations in them. The same seed gives the same ones."""

from random import Random
from typing import Any

from msgspec.structs import replace

from greyheron.core.lists.frames import derived_mac
from greyheron.model.document import Network
from greyheron.model.entry import mac_text
from greyheron.model.flow import Flow
from greyheron.model.header import DscpSpan, TcpFlags
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.read import read_network
from tests.random_settings import add_settings

Data = dict[str, Any]
WINDOWS = [
    "mon-fri 08:00-18:00",
    "sat,sun",
    "daily 22:00-06:00",
    "wed 10:00-12:00",
    "2026-12-24 12:00 to 2026-12-26 06:00",
]
MOMENTS = ["mon 00:00", "wed 11:00", "sat 23:00", "2026-12-24 11:59", "2026-12-25 09:00", "2026-12-26 06:00"]

SERVICES = [("web", "tcp", 80), ("ssh", "tcp", 22), ("names", "udp", 53)]
ASKED = ["tcp/80", "tcp/22", "udp/53", "tcp/81", "ping", "protocol/47", "icmp/13"]


def random_network(seed: int) -> Network:
    """Two to five forwarding devices, each with a site, joined at random, with every feature."""
    data = _Builder(Random(seed), Random(-1 - seed)).build()
    add_frames(data, Random(f"frames {seed}"))
    add_settings(data, Random(f"settings {seed}"))
    return read_network(data)


def add_frames(data: Data, chance: Random) -> None:
    """Some networks have more switches, and frame lists; the others stay as they are."""
    if chance.random() < 0.6:
        return
    for switch in [each for each in data["devices"] if each["kind"] == "switch"]:
        if chance.random() < 0.5:
            _second_switch(data, switch, chance)
    given: list[Data] = []
    for device in data["devices"]:
        for interface in device["interfaces"]:
            if device["kind"] != "switch" and not interface.get("parent") and chance.random() < 0.2:
                given.append(interface)
    for interface, number in zip(given, chance.sample(range(256), len(given)), strict=True):
        interface["mac"] = f"02:00:00:00:00:{number:02x}"
    points = [
        (device["name"], interface["name"], direction)
        for device in data["devices"]
        if device["kind"] in ("router", "firewall", "switch")
        for interface in device["interfaces"]
        for direction in ("in", "out")
    ]
    for number in range(chance.randint(1, 3)):
        entries = "\n".join(_frame_entry(data, chance) for _ in range(chance.randint(0, 4)))
        entries += "\npermit any" * (chance.random() < 0.7)
        data["lists"].append({"name": f"f{number}", "kind": "frame", "entries": entries})
        for device, at, direction in chance.sample(points, chance.randint(1, 2)):
            placed = {"device": device, "at": at, "direction": direction}
            frames = [each for each in data["placements"] if each["list"].startswith("f")]
            if placed not in [{key: each[key] for key in placed} for each in frames]:
                data["placements"].append({"list": f"f{number}", **placed})


def _second_switch(data: Data, switch: Data, chance: Random) -> None:
    """One device of a switch hangs on another one instead, behind a trunk, or two."""
    port = chance.choice(switch["interfaces"])
    link = next(each for each in data["links"] if f"{switch['name']}:{port['name']}" in each["ends"])
    name = f"t{switch['name']}"
    added: Data = {"name": name, "kind": "switch", "interfaces": [{**port, "name": "there"}]}
    end = link["ends"].index(f"{switch['name']}:{port['name']}")
    link["ends"][end] = f"{name}:there"
    switch["interfaces"].remove(port)
    for number in range(chance.choice([1, 1, 2])):
        trunk = {"name": f"between{number}", "trunk": [10, 20], "untagged": 1}
        switch["interfaces"].append(trunk)
        added["interfaces"].append(dict(trunk))
        ends = [f"{switch['name']}:between{number}", f"{name}:between{1 - number}"]
        data["links"].append({"ends": ends})
    if len(added["interfaces"]) == 2:
        data["links"][-1]["ends"][1] = f"{name}:between0"
    data["devices"].append(added)


def _frame_entry(data: Data, chance: Random) -> str:
    words = [chance.choice(["permit", "deny", "deny"]), chance.choice(["any", "ipv4", "arp", "ipv6", "mpls"])]
    for word in ("from", "to"):
        if chance.random() < 0.4:
            device = chance.choice([each for each in data["devices"] if each["kind"] != "switch"])
            interface = chance.choice(device["interfaces"])
            own = interface.get("mac") or mac_text(derived_mac(device["name"], interface["name"]))
            special = ["ff:ff:ff:ff:ff:ff", "33:33:ff:00:00:10", "33:33:00:00:00:00~00:00:ff:ff:ff:ff"]
            some = [own, own, own, "02:00:00:00:00:00~00:00:00:00:00:7f", *special[: 3 * (word == "to")]]
            words += [word, chance.choice(some)]
    timed = " during a" if data.get("periods") and chance.random() < 0.3 else ""
    return " ".join(words) + timed


def random_flows(network: Network, seed: int, count: int) -> list[Flow]:
    """Conversations between any two devices, sometimes to addresses that nobody owns."""
    chance = Random(seed)
    devices = [device for device in network.devices if device.kind != "switch"]
    flows: list[Flow] = []
    while len(flows) < count:
        source, destination = chance.choice(devices), chance.choice(devices)
        interface = chance.choice([item for item in destination.interfaces if item.parent is None])
        addresses = [address.ip for item in destination.interfaces for address in item.addresses]
        addresses += [
            rule.to.network_address for device in devices for rule in device.translations if rule.to
        ]
        goal = str(chance.choice(addresses)) if addresses else f"{destination.name}:{interface.name}"
        if chance.random() < 0.08:
            goal = chance.choice(["172.20.1.99", "198.51.100.7", "2001:db8:1::99"])
        family = 6 if ":" in goal else 4
        if not any(address.version == family for item in source.interfaces for address in item.addresses):
            continue
        flows.append(read_bare_flow(f"{source.name} → {goal} {chance.choice(ASKED)}"))
    twist = Random(-1 - seed)
    return [_twisted(flow, twist) for flow in flows]


def _twisted(flow: Flow, twist: Random) -> Flow:
    """Some flows are fragments, single packets, or have a code point."""
    if twist.random() < 0.1:
        return replace(flow, fragment=True)
    if flow.service.startswith("tcp") and twist.random() < 0.15:
        flow = replace(flow, flags=TcpFlags(twist.choice([0, 1, 3, 16, 18, 4, 66, 41])))
    return replace(flow, dscp=DscpSpan(46, 46)) if twist.random() < 0.15 else flow


class _Builder:
    def __init__(self, chance: Random, twist: Random) -> None:
        """twist:  decides about what was added later: each seed's network stays as it was otherwise"""
        self.chance, self.twist = chance, twist
        self.devices: list[Data] = []
        self.links: list[Data] = []
        self.six = chance.random() < 0.6
        self.ospf = chance.random() < 0.5
        self.spare = 0
        self.timed = twist.random() < 0.3

    def maybe(self, probability: float) -> bool:
        return self.chance.random() < probability

    def build(self) -> Data:
        gates = [self._gate(number) for number in range(1, self.chance.randint(2, 5) + 1)]
        pairs = [(number, self.chance.randrange(number)) for number in range(1, len(gates))]
        if len(gates) > 2 and self.maybe(0.6):
            pairs.append((0, len(gates) - 1))
        for one, other in dict.fromkeys(tuple(sorted(pair)) for pair in pairs):
            self._join(gates[one], gates[other])
        for number, gate in enumerate(gates, 1):
            self._site(gate, number)
        if self.twist.random() < 0.4:
            self._second_gateway(*self.twist.sample(range(1, len(gates) + 1), 2))
        if self.maybe(0.4):
            self._outside(gates[0])
        for gate in gates:
            self._routes(gate, gates)
            self._zones(gate)
        self._names()
        for link in self.links:
            if self.maybe(0.03):
                link["enabled"] = False
        data: Data = {
            "format": "grey-heron/1",
            "name": "random",
            "devices": self.devices,
            "links": self.links,
        }
        data["address_sets"] = [
            {
                "name": "some",
                "members": ["172.20.1.0/24", "172.20.2.10", "172.20.0.1~0.0.255.254", "2001:db8:1::/64"],
            }
        ]
        data["port_sets"] = [{"name": "usual", "members": ["22", "80-90"]}]
        if self.timed:
            data["periods"] = [
                {"name": name, "windows": self.twist.sample(WINDOWS, self.twist.randint(1, 2))}
                for name in "ab"
            ]
        self._lists(data)
        return data

    def _gate(self, number: int) -> Data:
        kind = "firewall" if self.maybe(0.25) else "router"
        gate: Data = {"name": f"g{number}", "kind": kind, "interfaces": [], "routes": []}
        gate["lines"] = [{"name": "remote", "transports": ["ssh"]}, {"name": "console"}]
        for setting, values in (
            ("filters_own_traffic", [True, False]),
            ("answers_denied", [True, False]),
            ("tracks", [["tcp"], ["tcp", "udp", "icmp"], []]),
            ("announces_default", [True]),
            ("announces_static", [True]),
        ):
            if self.maybe(0.15):
                gate[setting] = self.chance.choice(values)
        loopback = {"name": "lo0", "addresses": [f"172.20.255.{number}/32"]}
        gate["interfaces"].append(self._spoken(loopback, passive=True))
        self.devices.append(gate)
        return gate

    def _spoken(self, interface: Data, passive: bool = False) -> Data:
        if self.ospf and self.maybe(0.9):
            interface["ospf"] = {
                "passive": passive or self.maybe(0.05),
                "cost": self.chance.choice([10, 10, 10, 20]),
            }
        return interface

    def _join(self, one: Data, other: Data) -> None:
        self.spare += 1
        name = f"w{self.spare}"
        for end, gate in enumerate((one, other), 1):
            addresses = [f"172.20.{200 + self.spare}.{end}/30"]
            if self.six:
                addresses.append(f"2001:db8:f{self.spare}::{end}/64")
                if self.maybe(0.3):
                    addresses.append(f"fe80::{end}/64")
            gate["interfaces"].append(self._spoken({"name": name, "addresses": addresses}))
        self.links.append({"ends": [f"{one['name']}:{name}", f"{other['name']}:{name}"]})

    def _site(self, gate: Data, number: int) -> None:
        """A segment with hosts behind a switch; sometimes a trunk with a second VLAN on it."""
        tagged = self.maybe(0.3)
        switch: Data = {"name": f"s{number}", "kind": "switch", "interfaces": [{"name": "up"}]}
        inside = "e0"
        if tagged:
            inside = "e0.10"
            gate["interfaces"].append({"name": "e0"})
            switch["interfaces"][0].update(trunk=[10, 20])
        net: Data = {"name": inside, "addresses": [f"172.20.{number}.1/24"]}
        if tagged:
            net.update(parent="e0", vlan=10)
        if self.six:
            net["addresses"].append(f"2001:db8:{number}::1/64")
        gate["interfaces"].append(self._spoken(net, passive=True))
        self.links.append({"ends": [f"{gate['name']}:e0", f"s{number}:up"]})
        for host in range(self.chance.randint(1, 2)):
            vlan = 10 if not tagged or self.maybe(0.9) else 20
            self._host(number, host, switch, vlan if tagged else None)
        self.devices.append(switch)

    def _names(self) -> None:
        """Hosts that answer for names, and hosts that ask them."""
        hosts = [device for device in self.devices if device["kind"] == "host"]
        addresses = [
            address.split("/")[0] for host in hosts for address in host["interfaces"][0]["addresses"]
        ]
        addresses += ["203.0.113.10", "198.51.100.7"]
        for host in hosts:
            serves = any(service["name"] == "names" for service in host["services"])
            if serves and self.twist.random() < 0.7:
                known = self.twist.sample(addresses, min(len(addresses), self.twist.randint(1, 3)))
                host["records"] = [{"name": "page.example", "addresses": known}]
            if self.twist.random() < 0.5:
                host["resolvers"] = self.twist.sample(
                    addresses, min(len(addresses), self.twist.randint(1, 2))
                )

    def _second_gateway(self, near: int, far: int) -> None:
        """The far site's gate is on the near segment too: what goes by one may come back by the other."""
        gate, switch = (
            next(each for each in self.devices if each["name"] == name) for name in (f"g{far}", f"s{near}")
        )
        addresses = [f"172.20.{near}.2/24", *([f"2001:db8:{near}::2/64"] if self.six else [])]
        gate["interfaces"].append({"name": "e1", "addresses": addresses})
        tagged = "trunk" in switch["interfaces"][0]
        switch["interfaces"].append({"name": "up1", **({"access": 10} if tagged else {})})
        self.links.append({"ends": [f"g{far}:e1", f"s{near}:up1"]})
        if self.twist.random() < 0.7:
            tracker = self.twist.choice(
                [gate, next(each for each in self.devices if each["name"] == f"g{near}")]
            )
            tracker["tracks"] = self.twist.choice([["tcp"], ["tcp", "udp"], ["tcp", "udp", "icmp"]])

    def _host(self, site: int, host: int, switch: Data, vlan: int | None) -> None:
        name = f"h{site}{host}"
        last = 10 + host
        addresses = [f"172.20.{site}.{last}/24"]
        device: Data = {
            "name": name,
            "kind": "host",
            "interfaces": [{"name": "eth0", "addresses": addresses}],
        }
        device["gateway"] = f"172.20.{site}.{1 if self.maybe(0.95) else 254}"
        if self.six:
            addresses.append(f"2001:db8:{site}::{last}/64")
            device["gateway6"] = f"2001:db8:{site}::1"
        device["services"] = [
            {"name": service, "protocol": protocol, "port": port}
            for service, protocol, port in SERVICES
            if self.maybe(0.7)
        ]
        if self.maybe(0.15):
            device["tracks"] = []
        self.devices.append(device)
        port: Data = {"name": f"p{host}"}
        if vlan is not None:
            port["access"] = vlan
        switch["interfaces"].append(port)
        self.links.append({"ends": [f"{switch['name']}:p{host}", f"{name}:eth0"]})

    def _outside(self, gate: Data) -> None:
        gate["interfaces"].append({"name": "out", "addresses": ["203.0.113.1/24"]})
        gate["routes"].append({"to": "0.0.0.0/0", "via": "203.0.113.254"})
        outside: Data = {"name": "beyond", "kind": "outside", "prefixes": ["198.51.100.0/24"]}
        outside["interfaces"] = [{"name": "wan0", "addresses": ["203.0.113.254/24"]}]
        outside["gateway"] = "203.0.113.1"
        self.devices.append(outside)
        self.links.append({"ends": [f"{gate['name']}:out", "beyond:wan0"]})
        if self.maybe(0.7):
            inside = [item["name"] for item in gate["interfaces"] if item["name"] not in ("out", "lo0")]
            static: Data = {"kind": "static", "inside": inside, "outside": "out"}
            rules: list[Data] = [
                {**static, "source": "172.20.1.10/32", "to": "203.0.113.10/32"},
                {**static, "source": "172.20.2.10/32", "to": "203.0.113.20/32", "protocol": "tcp", "port": 80}
                | ({"to_port": 81} if self.maybe(0.5) else {}),
                {"kind": "dynamic", "inside": inside, "outside": "out", "source": "172.20.0.0/16"}
                | ({"to": "203.0.113.64/28"} if self.maybe(0.5) else {}),
            ]
            gate["translations"] = [rule for rule in rules if self.maybe(0.8)]

    def _routes(self, gate: Data, gates: list[Data]) -> None:
        """Static routes by flooding outward from `gate`; with OSPF only now and then."""
        if self.ospf and self.maybe(0.7):
            return
        ways = self._ways(gate)
        for number, other in enumerate(gates, 1):
            for via in ways.get(other["name"], []):
                if self.maybe(0.9):
                    gate["routes"].append({"to": f"172.20.{number}.0/24", "via": f"172.20.{via}"})
                if self.six and self.maybe(0.9):
                    spare, end = via.split(".")
                    hop = f"2001:db8:f{int(spare) - 200}::{end}"
                    gate["routes"].append({"to": f"2001:db8:{number}::/64", "via": hop})
        if gate is not gates[0]:
            for via in ways.get(gates[0]["name"], [])[:1]:
                gate["routes"].append({"to": "0.0.0.0/0", "via": f"172.20.{via}"})
        if self.maybe(0.1):
            gate["routes"].append(
                {"to": "172.20.1.8/29", "discard": True, "preference": self.chance.choice([1, 200])}
            )

    def _ways(self, gate: Data) -> dict[str, list[str]]:
        """For every other gate the next hops toward it, all that are on shortest ways."""
        near: dict[str, list[tuple[str, str]]] = {}
        for link in self.links:
            (one, name), (other, _) = (end.split(":") for end in link["ends"])
            if name.startswith("w"):
                spare = 200 + int(name[1:])
                near.setdefault(one, []).append((other, f"{spare}.2"))
                near.setdefault(other, []).append((one, f"{spare}.1"))
        found: dict[str, list[str]] = {}
        level: dict[str, list[str]] = {other: [via] for other, via in near.get(gate["name"], [])}
        while level:
            found |= level
            following: dict[str, list[str]] = {}
            for device, vias in level.items():
                for other, _ in near.get(device, []):
                    if other not in found and other != gate["name"]:
                        following.setdefault(other, []).extend(
                            via for via in vias if via not in following.get(other, [])
                        )
            level = following
        return found

    def _zones(self, gate: Data) -> None:
        if gate["kind"] != "firewall":
            return
        names = [item["name"] for item in gate["interfaces"]]
        zones: list[Data] = [{"name": f"z{number}", "interfaces": []} for number in range(3)]
        for name in names:
            if self.maybe(0.92):
                self.chance.choice(zones)["interfaces"].append(name)
        gate["zones"] = zones
        gate["same_zone"] = self.maybe(0.5)

    def _lists(self, data: Data) -> None:
        points = [
            (device["name"], interface["name"], direction)
            for device in self.devices
            if device["kind"] in ("router", "firewall", "host")
            for interface in device["interfaces"]
            for direction in ("in", "out")
        ]
        points += [(device["name"], "remote", "in") for device in self.devices if "lines" in device]
        data["lists"], data["placements"] = [], []
        taken = set()
        for number in range(self.chance.randint(0, 5)):
            family = "ipv6" if self.six and self.maybe(0.4) else "ipv4"
            kind = "standard" if family == "ipv4" and self.maybe(0.25) else "extended"
            entries = "\n".join(self._entry(family, kind) for _ in range(self.chance.randint(0, 5)))
            if family == "ipv6" and self.twist.random() < 0.4:
                message = self.twist.choice(["neighbour-solicitation", "neighbour-advertisement"])
                source = self.twist.choice(["any", "fe80::/10", f"2001:db8:{self.twist.randint(1, 4)}::/64"])
                entries = f"deny icmp {message} from {source}\n" + entries
            if self.maybe(0.5):
                entries += "\npermit any" if kind == "standard" else "\npermit any from any to any"
            data["lists"].append({"name": f"l{number}", "family": family, "kind": kind, "entries": entries})
            for device, at, direction in self.chance.sample(points, self.chance.randint(1, 2)):
                if (device, at, direction, family) not in taken:
                    taken.add((device, at, direction, family))
                    placed = {"list": f"l{number}", "device": device, "at": at, "direction": direction}
                    data["placements"].append(placed)

    def _entry(self, family: str, kind: str) -> str:
        action = self.chance.choice(["permit", "permit", "deny", "deny", "deny silently"])
        if kind == "standard":
            return f"{action} from {self._address(family)}"
        protocol = self.chance.choice(["any", "tcp", "tcp", "udp", "icmp", "ospf", "47"])
        words = [action, protocol]
        if protocol == "icmp" and self.maybe(0.4):
            words.append(self.chance.choice(["echo-request", "echo-reply", "unreachable"]))
        with_ports = protocol in ("tcp", "udp")
        words += ["from", self._address(family)]
        if with_ports and self.maybe(0.2):
            words += ["port", self.chance.choice([">=1024", "80", "<=100"])]
        words += ["to", self._address(family)]
        if with_ports and self.maybe(0.5):
            words += ["port", self.chance.choice(["80", "22", "53", "!=80", "@usual", "20-60", "22,53"])]
        if protocol == "tcp" and self.maybe(0.25):
            words.append("established")
        elif protocol == "tcp" and self.twist.random() < 0.25:
            words += ["flags", self.twist.choice(["syn,!ack", "ack", "!syn", "fin", "rst,ack", "!ece"])]
        elif len(words) == 6 - ("to" not in words) and self.twist.random() < 0.15:
            words.append("fragment")
        if self.twist.random() < 0.1:
            words += ["dscp", self.twist.choice(["ef", "0", "af11-cs6", "10,46"])]
        if self.timed and self.twist.random() < 0.4:
            words += ["during", self.twist.choice(["!", ""]) + self.twist.choice(["a", "b"])]
        return " ".join(words)

    def _address(self, family: str) -> str:
        if self.maybe(0.3):
            return "any"
        if self.maybe(0.3):
            return self.chance.choice(["@some", "@g1", "@g2", "@h10"])
        site = self.chance.randint(1, 4)
        if family == "ipv6":
            return self.chance.choice(
                [f"2001:db8:{site}::/64", f"2001:db8:{site}::10", "2001:db8::/32", "fe80::/10"]
            )
        return self.chance.choice(
            [
                f"172.20.{site}.0/24",
                f"172.20.{site}.10",
                "172.20.0.10~0.0.255.1",
                "172.20.0.0~0.1.255.254",
                f"172.20.{site}.0~0.0.0.254",
                "203.0.113.0/24",
            ]
        )
