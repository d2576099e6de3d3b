"""Requirements answered by trying every conversation there is, in networks small enough for it.

Hosts that could be there are put there: every address that nobody holds gets a device of its own.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from ipaddress import ip_address, ip_network
from itertools import pairwise
from random import Random
from typing import Any

from msgspec.structs import replace

from greyheron.core.lists.frames import derived_mac
from greyheron.core.packet import Packet
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.entry import mac_text
from greyheron.model.header import TcpFlags
from greyheron.model.read import read_network
from greyheron.model.values import Family
from tests.random_networks import SERVICES
from tests.random_settings import add_settings

BLOCK_PORTS = ((1022, 1025),)
ALLOW_PORTS = ((1024, 1025),)
FEW_DSCP = ((0, 0), (10, 10), (46, 46))
"""Source ports and code points that are tried here in place of all there are."""
Data = dict[str, Any]
Conversation = tuple[int, int, int, str, int | None]
"""IP version, source, destination, service, source port."""
Tried = Callable[[Network, Packet, str], tuple[bool, bool]]
"""In a network, an opening packet and its sender: does it pass on every path, and arrive on any?"""


def tiny_network(seed: int) -> Network:
    """Two or three gates in a row with a site of eight addresses each, and perhaps an outside."""
    chance = Random(seed)
    gates = chance.choice([2, 2, 3])
    six = chance.random() < 0.4
    devices: list[Data] = []
    links: list[Data] = []
    for number in range(1, gates + 1):
        kind = "firewall" if chance.random() < 0.25 else "router"
        gate: Data = {"name": f"g{number}", "kind": kind, "interfaces": [], "routes": []}
        gate["lines"] = [{"name": "remote", "transports": ["ssh"]}, {"name": "console"}]
        if chance.random() < 0.2:
            gate["tracks"] = chance.choice([["tcp"], []])
        site = [f"172.20.{number}.1/29"] + ([f"2001:db8:{number}::1/125"] if six else [])
        gate["interfaces"].append({"name": "e0", "addresses": site})
        switch: Data = {
            "name": f"s{number}",
            "kind": "switch",
            "interfaces": [{"name": "up"}, {"name": "p0"}],
        }
        host: Data = {"name": f"h{number}", "kind": "host", "gateway": f"172.20.{number}.1"}
        own = [f"172.20.{number}.2/29"] + ([f"2001:db8:{number}::2/125"] if six else [])
        host["interfaces"] = [{"name": "eth0", "addresses": own}]
        if six:
            host["gateway6"] = f"2001:db8:{number}::1"
        if chance.random() < 0.15:
            del host["gateway"]
        host["services"] = [
            {"name": name, "protocol": protocol, "port": port}
            for name, protocol, port in SERVICES
            if chance.random() < 0.7
        ]
        devices += [gate, switch, host]
        links += [
            {"ends": [f"g{number}:e0", f"s{number}:up"]},
            {"ends": [f"h{number}:eth0", f"s{number}:p0"]},
        ]
    routers = [device for device in devices if device["name"].startswith("g")]
    for number, (one, other) in enumerate(pairwise(routers), 1):
        for end, gate in enumerate((one, other), 1):
            addresses = [f"172.21.{number}.{end}/30"] + (
                [f"2001:db8:f{number}::{end + 1}/127"] if six else []
            )
            gate["interfaces"].append({"name": f"w{number}", "addresses": addresses})
        links.append({"ends": [f"{one['name']}:w{number}", f"{other['name']}:w{number}"]})
    for place, gate in enumerate(routers, 1):
        for goal in range(1, gates + 1):
            if goal == place or chance.random() < 0.05:
                continue
            link, end = (place, 2) if goal > place else (place - 1, 1)
            gate["routes"].append({"to": f"172.20.{goal}.0/29", "via": f"172.21.{link}.{end}"})
            if six:
                gate["routes"].append({"to": f"2001:db8:{goal}::/125", "via": f"2001:db8:f{link}::{end + 1}"})
        if place > 1:
            gate["routes"].append({"to": "0.0.0.0/0", "via": f"172.21.{place - 1}.1"})
        if gate["kind"] == "firewall":
            names = [item["name"] for item in gate["interfaces"]]
            gate["zones"] = [
                {"name": "inner", "interfaces": names[:1]},
                {"name": "outer", "interfaces": names[1:]},
            ]
    if chance.random() < 0.4:
        _outside(routers[0], devices, links, chance)
    data: Data = {"format": "grey-heron/1", "name": "tiny", "devices": devices, "links": links}
    data["address_sets"] = [
        {"name": "some", "members": ["172.20.1.2", "172.20.2.4/30", "172.20.1.1~0.0.0.6"]},
        {"name": "gates", "members": ["172.20.1.1", "172.20.2.0/29"]},
    ]
    twist = Random(-1 - seed)
    _lists(data, chance, six, twist)
    if twist.random() < 0.15:
        data["periods"] = [
            {"name": "a", "windows": [twist.choice(["mon-fri 08:00-18:00", "daily 22:00-06:00"])]}
        ]
        for each in data["lists"]:
            lines = each["entries"].splitlines()
            each["entries"] = "\n".join(
                line + twist.choice(["", " during a", " during !a"]) for line in lines
            )
    _frames(data, Random(f"frames {seed}"), six)
    add_settings(data, Random(f"settings {seed}"))
    return read_network(data)


def _frames(data: Data, chance: Random, six: bool) -> None:
    """In some networks a frame list stands at a switch or a gate."""
    if chance.random() < 0.7:
        return
    macs = [mac_text(derived_mac(f"{kind}1", port)) for kind, port in (("h", "eth0"), ("g", "e0"))]
    entries = []
    for _ in range(chance.randint(1, 3)):
        words = [chance.choice(["permit", "deny"]), chance.choice(["any", "ipv4", "arp", "ipv6"])]
        words += ["from", chance.choice(macs)] if chance.random() < 0.4 else []
        to = [*macs, *["33:33:ff:00:00:04~00:00:00:00:00:01", "33:33:ff:00:00:02"] * six]
        words += ["to", chance.choice(to)] if chance.random() < 0.4 else []
        entries.append(" ".join(words))
    entries += ["permit any"] * (chance.random() < 0.7)
    data["lists"].append({"name": "frames", "kind": "frame", "entries": "\n".join(entries)})
    device, at = chance.choice([("s1", "up"), ("s1", "p0"), ("g1", "e0"), ("s2", "up"), ("g2", "w1")])
    direction = chance.choice(["in", "out"])
    data["placements"].append({"list": "frames", "device": device, "at": at, "direction": direction})


def _outside(gate: Data, devices: list[Data], links: list[Data], chance: Random) -> None:
    gate["interfaces"].append({"name": "out", "addresses": ["203.0.113.1/30"]})
    gate["routes"].append({"to": "0.0.0.0/0", "via": "203.0.113.2"})
    if gate["kind"] == "firewall":
        gate["zones"][1]["interfaces"].append("out")
    beyond: Data = {
        "name": "beyond",
        "kind": "outside",
        "prefixes": ["198.51.100.0/31"],
        "gateway": "203.0.113.1",
    }
    beyond["interfaces"] = [{"name": "wan0", "addresses": ["203.0.113.2/30"]}]
    devices.append(beyond)
    links.append({"ends": ["g1:out", "beyond:wan0"]})
    if chance.random() < 0.5:
        inside = [item["name"] for item in gate["interfaces"] if item["name"] != "out"]
        rule = {"kind": "static", "inside": inside, "outside": "out", "source": "172.20.1.2/32"}
        limited = {"protocol": "tcp", "port": 80, "to_port": 22} if chance.random() < 0.5 else {}
        gate["translations"] = [{**rule, "to": "198.51.100.9/32", **limited}]
        if chance.random() < 0.5:
            gate["translations"].append(
                {"kind": "dynamic", "inside": inside, "outside": "out", "source": "172.20.0.0/16"}
            )


def _lists(data: Data, chance: Random, six: bool, twist: Random) -> None:
    """twist:  decides what else entries say of a header"""
    points = [
        (device["name"], interface["name"], way)
        for device in data["devices"]
        if device["kind"] in ("router", "firewall", "host")
        for interface in device["interfaces"]
        for way in ("in", "out")
    ]
    points += [(device["name"], "remote", "in") for device in data["devices"] if "lines" in device]
    data["lists"], data["placements"] = [], []
    taken = set()
    for number in range(chance.randint(1, 4)):
        family = "ipv6" if six and chance.random() < 0.4 else "ipv4"
        entries = [_twisted(_entry(chance, family), twist) for _ in range(chance.randint(1, 5))]
        if chance.random() < 0.6:
            entries.append("permit any from any to any")
        data["lists"].append(
            {"name": f"l{number}", "family": family, "kind": "extended", "entries": "\n".join(entries)}
        )
        for device, at, way in chance.sample(points, chance.randint(1, 2)):
            if (device, at, way, family) not in taken:
                taken.add((device, at, way, family))
                data["placements"].append(
                    {"list": f"l{number}", "device": device, "at": at, "direction": way}
                )


def _entry(chance: Random, family: str) -> str:
    protocol = chance.choice(["any", "tcp", "tcp", "udp", "icmp", "47"])
    words = [chance.choice(["permit", "deny"]), protocol]
    if protocol == "icmp" and chance.random() < 0.5:
        words.append(
            chance.choice(["echo-request", "echo-reply", "135" if family == "ipv6" else "unreachable"])
        )
    words += ["from", _address(chance, family)]
    if protocol in ("tcp", "udp") and chance.random() < 0.3:
        words += ["port", chance.choice([">=1024", "80", "1023-1024"])]
    words += ["to", _address(chance, family)]
    if protocol in ("tcp", "udp") and chance.random() < 0.5:
        words += ["port", chance.choice(["80", "22", "!=80", "20-60", "22,53", ">=1025"])]
    if protocol == "tcp" and chance.random() < 0.2:
        words.append("established")
    return " ".join(words)


def _twisted(entry: str, twist: Random) -> str:
    """An entry that may look at flags, code points, or fragments only."""
    if entry.split()[1] == "tcp" and "established" not in entry and twist.random() < 0.3:
        entry += f" flags {twist.choice(['syn,!ack', 'ack', 'fin', '!rst'])}"
    elif entry.split()[2] == "from" and "port" not in entry and twist.random() < 0.15:
        entry += "" if "established" in entry else " fragment"
    return entry + f" dscp {twist.choice(['ef', '0', '10,46', '1-46'])}" * (twist.random() < 0.15)


def _address(chance: Random, family: str) -> str:
    site = chance.randint(1, 3)
    if chance.random() < 0.3:
        return "any"
    if family == "ipv6":
        return chance.choice(
            [
                f"2001:db8:{site}::/125",
                f"2001:db8:{site}::2",
                f"2001:db8:{site}::4/127",
                "ff02::1:ff00:4/127",
                "@h1",
            ]
        )
    return chance.choice(
        [
            f"172.20.{site}.0/29",
            f"172.20.{site}.2",
            f"172.20.{site}.4/31",
            "172.20.0.0~0.0.3.5",
            "@some",
            "@h2",
        ]
    )


SIDES = ("any", "h1", "h2", "g1", "g2", "some", "172.20.1.0/29", "segment:g2:e0", "172.20.2.4/31", "g1:e0")
SIDES_WITH_DEVICES = (
    "any+devices",
    "172.20.1.0/29+devices",
    "segment:g2:e0",
    "some+devices",
    "gates",
    "172.21.1.0/30",
    "172.20.1.1/32",
    "172.20.0.0/14",
    "segment:g2:e0+devices",
    "any",
)
"""With routers and firewalls inside, which some of them mean, and others only cover."""
ASKED = ("tcp/22", "tcp/80", "ping", "udp/53", "protocol/47", "icmp/3/1", "tcp/80-81,22", "ssh,ping")


FRAGMENTS_ASKED = ("tcp", "udp,icmp", "protocol/47,tcp")
FLAGS_ASKED = (
    "syn,!ack,!psh,!urg,!ece,!cwr",
    "ack,!fin,!psh,!urg,!ece,!cwr",
    "!ack,!rst,!psh,!urg,!ece,!cwr",
)


def random_requirement(seed: int) -> str:
    chance, twist = Random(seed), Random(-1 - seed)
    kind = chance.choice(["allow", "block", "block", "only"])
    sides = [chance.choice(SIDES), chance.choice(SIDES)]
    devices = Random(f"devices {seed}")
    if kind != "only":
        sides = [devices.choice(SIDES_WITH_DEVICES) if devices.random() < 0.4 else side for side in sides]
    published = Random(f"published {seed}")
    if kind != "block" and published.random() < 0.25:
        sides[1] = "198.51.100.9/32"
    text = f"{kind} {' → '.join(sides)} {chance.choice(ASKED)}"
    if devices.random() < 0.3 and kind == "allow":
        goal = devices.choice(["h1", "h2", "g1", "172.20.1.0/29", "segment:g2:e0"])
        return f"{kind} {sides[0]} → {goal} {devices.choice(['any', 'tcp', 'udp'])}"
    if twist.random() < 0.2:
        return " ".join([*text.split()[:4], twist.choice(FRAGMENTS_ASKED), "fragment"])
    if text.split()[4] in ("tcp/22", "tcp/80") and twist.random() < 0.6:
        text += f" flags {twist.choice(FLAGS_ASKED)}"
    return text + f" dscp {twist.choice(['10', '46', '0,46'])}" * (twist.random() < 0.3)


@dataclass(frozen=True)
class Someone:
    """An address, the device that has it in the crowded network, and whether it is drawn in the first one.

    passes_on:  whether that is a router or firewall
    """

    address: Any
    device: str
    drawn: bool
    via: str | None = None
    passes_on: bool = False


def crowded(network: Network) -> tuple[Network, list[Someone]]:
    """`network` with a device at every address that nobody holds, and everyone in it."""
    people: list[Someone] = []
    devices = {device.name: device for device in network.devices}
    held = {
        address.ip for device in devices.values() for each in device.interfaces for address in each.addresses
    }
    answered = {
        address
        for device in devices.values()
        for rule in device.translations
        if rule.to
        for address in rule.to
    }
    links = list(network.links)
    added: list[Device] = []
    ports: dict[str, list[str]] = {}
    for device in network.devices:
        for interface in device.interfaces:
            passes_on = device.kind in ("router", "firewall")
            people += [
                Someone(address.ip, device.name, True, passes_on=passes_on) for address in interface.addresses
            ]
        for prefix in device.prefixes:
            people += [Someone(each, device.name, True) for each in prefix if each not in held | answered]
    for gate in [device for device in network.devices if device.name.startswith("g")]:
        for address in gate.interfaces[0].addresses:
            prefix, switch = address.network, f"s{gate.name[1:]}"
            host = devices[f"h{gate.name[1:]}"]
            told = host.gateway if prefix.version == 4 else host.gateway6
            nobody = {prefix.network_address} | ({prefix.broadcast_address} if prefix.version == 4 else set())
            for each in prefix:
                if each in held | answered | nobody:
                    continue
                name = f"p{prefix.version}-{len(added)}"
                interface_ = {"name": "eth0", "addresses": [f"{each}/{prefix.prefixlen}"]}
                gateway = {"gateway" if prefix.version == 4 else "gateway6": str(told or address.ip)}
                added.append(
                    Device.model_validate(
                        {"name": name, "kind": "outside", "interfaces": [interface_], **gateway}
                    )
                )
                ports.setdefault(switch, []).append(name)
                people.append(Someone(each, name, False, str(prefix)))
    every = []
    for device in network.devices:
        new = [{"name": f"to-{name}"} for name in ports.get(device.name, ())]
        data = device.model_dump(mode="json")
        every.append(Device.model_validate({**data, "interfaces": [*data["interfaces"], *new]}))
    joined = [
        {"ends": (f"{switch}:to-{name}", f"{name}:eth0")} for switch, names in ports.items() for name in names
    ]
    crowd = network.model_copy(
        update={
            "devices": (*every, *added),
            "links": (*links, *(type(links[0]).model_validate(each) for each in joined)),
        }
    )
    return crowd, people


def translated(network: Network, people: list[Someone]) -> list[Someone]:
    """The outside addresses of static rules, as addresses of those whom they lead to."""
    found = []
    for device in network.devices:
        for rule in device.translations:
            if rule.kind == "static" and rule.to is not None:
                owner = next((each for each in people if each.address in rule.source and each.drawn), None)
                if owner is not None:
                    there = Someone(rule.to.network_address, owner.device, True, passes_on=owner.passes_on)
                    found.append(there)
    return found


def only_covered(who: Someone, side: str, network: Network, people: list[Someone]) -> bool:
    """Whether someone is a router or firewall that a side which speaks of hosts has inside."""
    names = {device.name for device in network.devices}
    if not who.passes_on or side.endswith("+devices") or side.partition(":")[0] in names:
        return False
    family = [each for each in people if each.address.version == who.address.version]
    if not any(belongs(each, side, network) for each in family if not each.passes_on):
        return False
    return not (side.endswith("/32") or (side == "gates" and str(who.address) == "172.20.1.1"))


def belongs(who: Someone, side: str, network: Network) -> bool:
    """Whether a side speaks of someone, read as plainly as can be."""
    side = side.removesuffix("+devices")
    devices = {device.name: device for device in network.devices}
    if side == "any":
        return True
    if side == "some":
        return who.address in {
            *map(ip_address, ("172.20.1.2", "172.20.2.4", "172.20.2.5", "172.20.2.6", "172.20.2.7")),
            *map(ip_address, ("172.20.1.1", "172.20.1.3", "172.20.1.5", "172.20.1.7")),
        }
    if side == "gates":
        return who.address == ip_address("172.20.1.1") or who.address in ip_network("172.20.2.0/29")
    if "/" in side:
        return who.address in ip_network(side)
    if side.startswith("segment:"):
        gate = devices[side.split(":")[1]]
        return any(who.address in address.network for address in gate.interfaces[0].addresses)
    name, _, interface = side.partition(":")
    if interface:
        return any(who.address == address.ip for address in devices[name].interfaces[0].addresses)
    return who.device == name


def _own_services(network: Network) -> dict[str, list[str]]:
    """What every device has, and ping."""
    found = {}
    for device in network.devices:
        has = [f"{service.protocol}/{service.port}" for service in device.services]
        has += [f"tcp/{port}" for line in device.lines for port in sorted(line.ports)]
        found[device.name] = [*dict.fromkeys(has), "ping"]
    return found


def packets(asked: str, version: int, ports: Any, rest: list[str]) -> Iterator[tuple[str, Packet]]:
    """The first packets of every conversation about a service, without their ends.

    rest:  what the requirement says behind its services
    """
    family = Family.IPV4 if version == 4 else Family.IPV6
    terms = dict(pairwise(rest))
    if "fragment" in rest:
        numbers = {"tcp": 6, "udp": 17, "icmp": family.icmp, "protocol/47": 47}
        plain = [
            (f"fragment/{numbers[word]}", Packet(family, 0, 0, numbers[word], fragment=True))
            for word in asked.split(",")
        ]
    else:
        plain = list(_whole(asked, version, ports))
    if "flags" in terms:
        plain = [
            (f"{word} flags {number}", replace(packet, flags=TcpFlags(number)))
            for word, packet in plain
            for number in range(256)
            if _meant(terms["flags"], TcpFlags(number))
        ]
    wanted = terms.get("dscp", "0,10,46").split(",")
    for word, packet in plain:
        for dscp in map(int, wanted):
            yield f"{word} dscp {dscp}", replace(packet, dscp=dscp)


def _meant(words: str, flags: TcpFlags) -> bool:
    names = {name.lower() for name in flags.names}
    return all(word[1:] not in names if word[0] == "!" else word in names for word in words.split(","))


def _whole(asked: str, version: int, ports: Any) -> Iterator[tuple[str, Packet]]:
    family = Family.IPV4 if version == 4 else Family.IPV6
    for word in asked.replace("80-81,22", "80,tcp/81,tcp/22").replace("ssh", "tcp/22").split(","):
        head, _, rest = word.partition("/")
        if head in ("tcp", "udp"):
            for port in range(ports[0][0], ports[0][1] + 1):
                flags = TcpFlags.SYN if head == "tcp" else TcpFlags.NONE
                yield word, Packet(family, 0, 0, 6 if head == "tcp" else 17, port, int(rest), flags)
        elif head == "protocol":
            yield word, Packet(family, 0, 0, int(rest))
        else:
            kind, code = (family.echo[0], 0) if head == "ping" else map(int, rest.split("/"))
            yield word, Packet(family, 0, 0, family.icmp, icmp_type=kind, icmp_code=code)


WRONG = ("pass", "block", "pass of devices", "block of devices")


def violating(network: Network, requirement: str, tried: Tried) -> dict[str, set[Conversation]]:
    """Every conversation that does not do what `requirement` wants of it, by what is expected.

    Those of devices themselves are apart, where it speaks of hosts.
    """
    kind, source, _, goal, asked, *rest = requirement.split()
    crowd, people = crowded(network)
    others = translated(network, people)
    told = any(entry.dscp for each in network.lists for entry in each.body.entries)
    known: dict[tuple[Packet, str], tuple[bool, bool]] = {}

    def once(packet: Packet, device: str) -> tuple[bool, bool]:
        """What no list tells apart is tried once."""
        key = packet if told else replace(packet, dscp=0), device
        if key not in known:
            known[key] = tried(crowd, *key)
        return known[key]

    found: dict[str, set[Conversation]] = {what: set() for what in WRONG}
    own = _own_services(crowd)
    for expect in ("pass", "block"):
        if (expect, kind) in (("pass", "block"), ("block", "allow")):
            continue
        for one in people:
            if belongs(one, source, network) is not (kind != "only" or expect == "pass"):
                continue
            # To be let through by an outside address is wanted where that address itself is named.
            for other in [*people, *(others if expect == "block" or goal.endswith("/32") else [])]:
                if one.device == other.device or one.address.version != other.address.version:
                    continue
                if not belongs(other, goal, network) or (expect == "pass" and not other.drawn):
                    continue
                ports = ALLOW_PORTS if expect == "pass" else BLOCK_PORTS
                covered = kind != "only" and (
                    only_covered(one, source, network, people) or only_covered(other, goal, network, people)
                )
                had = [asked]
                if asked in ("any", "tcp", "udp") and not rest:
                    had = [each for each in own[other.device] if asked in ("any", each.split("/")[0])]
                for word, packet in (
                    each for service in had for each in packets(service, one.address.version, ports, rest)
                ):
                    first = replace(packet, source=int(one.address), destination=int(other.address))
                    every, some = once(first, one.device)
                    if (not every) if expect == "pass" else some:
                        found[expect + " of devices" * covered].add(
                            (
                                one.address.version,
                                int(one.address),
                                int(other.address),
                                word,
                                packet.source_port,
                            )
                        )
    return found
