"""Small networks written in lines, for tables of cases: whoever shares a prefix is on one segment.

router r1 a=172.20.1.1/24 w=172.21.0.1/30     interfaces with their addresses, routed by OSPF
firewall f in=172.20.1.1/24 out=203.0.113.1/30 zones in,out
host pc 172.20.1.10/24 tcp/80,udp/53          with what it listens on
outside beyond 203.0.113.2/30 198.51.100.0/24
list guard at r1:a:in deny tcp from any to @pc; permit any from any to any
source-only list crowd at r1:b:out permit 172.20.1.0/24
test pc → server tcp/80 pass
route f 0.0.0.0/0 203.0.113.2
nat f static in out 172.20.1.10/32 198.51.100.9/32
"""

from ipaddress import ip_interface
from itertools import count
from typing import Any

from greyheron.model.document import Network
from greyheron.model.read import read_network

Data = dict[str, Any]
LINES = [
    {"name": "remote", "transports": ["ssh", "telnet"]},
    {"name": "web", "transports": ["https"]},
    {"name": "console"},
]


def site(*lines: str) -> Network:
    """The network that `lines` say."""
    data: Data = {"format": "grey-heron/1", "name": "site", "devices": [], "links": []}
    data |= {"lists": [], "placements": [], "tests": [], "address_sets": [], "requirements": []}
    for line in lines:
        word, _, rest = line.partition(" ")
        if word == "list":
            _list(data, "extended", rest)
        elif word == "source-only":
            _list(data, "standard", rest.removeprefix("list "))
        elif word == "test":
            data["tests"].append({"id": f"t{len(data['tests'])}", "flow": rest})
        elif word == "requirement":
            data["requirements"].append({"id": f"r{len(data['requirements'])}", "statement": rest})
        elif word == "set":
            name, *members = rest.split()
            data["address_sets"].append({"name": name, "members": members})
        elif word == "route":
            name, to, via = rest.split()
            _device(data, name).setdefault("routes", []).append({"to": to, "via": via})
        elif word == "nat":
            name, kind, inside, outside, source, to = rest.split()
            rule = {"kind": kind, "inside": [inside], "outside": outside, "source": source, "to": to}
            _device(data, name).setdefault("translations", []).append(rule)
        else:
            data["devices"].append(_made(word, rest.split()))
    _joined(data)
    return read_network(data)


def _device(data: Data, name: str) -> Data:
    found: Data = next(each for each in data["devices"] if each["name"] == name)
    return found


def _made(kind: str, words: list[str]) -> Data:
    name, *rest = words
    device: Data = {"name": name, "kind": kind, "interfaces": []}
    if kind in ("router", "firewall"):
        device["lines"] = LINES
        while rest:
            word = rest.pop(0)
            if word == "zones":
                zones = rest.pop(0).split(",")
                device["zones"] = [{"name": each, "interfaces": [each]} for each in zones]
                continue
            at, _, addresses = word.partition("=")
            device["interfaces"].append({"name": at, "addresses": addresses.split(","), "ospf": {}})
        return device
    device["interfaces"] = [{"name": "eth0", "addresses": rest.pop(0).split(",")}]
    if kind == "outside":
        device["prefixes"] = rest
        return device
    listens = ",".join(rest).split(",") if rest else ()
    for number, service in enumerate(listens):
        protocol, _, port = service.partition("/")
        offered = {"name": f"s{number}", "protocol": protocol, "port": int(port)}
        device.setdefault("services", []).append(offered)
    return device


def _list(data: Data, kind: str, text: str) -> None:
    name, _, rest = text.partition(" ")
    if rest.startswith("at "):
        place, _, rest = rest.removeprefix("at ").partition(" ")
        for each in place.split("+"):
            device, at, direction = each.split(":")
            placed = {"list": name, "device": device, "at": at, "direction": direction}
            data["placements"].append(placed)
    entries = "\n".join(entry.strip() for entry in rest.split(";"))
    family = "ipv6" if "2001:" in entries or "::" in entries or name.endswith("6") else "ipv4"
    data["lists"].append({"name": name, "family": family, "kind": kind, "entries": entries})


def _joined(data: Data) -> None:
    """Links and switches by shared prefixes; hosts and outside networks get the first router there."""
    members: dict[Any, list[tuple[Data, str, Any]]] = {}
    for device in data["devices"]:
        for interface in device["interfaces"]:
            first = ip_interface(interface["addresses"][0])
            for address in map(ip_interface, interface["addresses"]):
                there = members.setdefault(address.network, [])
                there.append((device, interface["name"], address.ip))
                if device["kind"] in ("host", "outside"):
                    key = "gateway" if address.version == 4 else "gateway6"
                    device.setdefault("_", []).append((key, address.network))
            assert first is not None
    number = count(1)
    done: set[tuple[str, str]] = set()
    for there in members.values():
        ports = [(device["name"], at) for device, at, _ in there if (device["name"], at) not in done]
        done |= set(ports)
        if len(ports) == 2:
            data["links"].append({"ends": [":".join(port) for port in ports]})
        elif len(ports) > 2:
            switch = f"sw{next(number)}"
            up = [{"name": f"p{index}"} for index in range(len(ports))]
            data["devices"].append({"name": switch, "kind": "switch", "interfaces": up})
            data["links"] += [
                {"ends": [":".join(port), f"{switch}:p{index}"]} for index, port in enumerate(ports)
            ]
    for device in data["devices"]:
        for key, prefix in device.pop("_", ()):
            gates = [ip for each, _, ip in members[prefix] if each["kind"] in ("router", "firewall")]
            if gates:
                device[key] = str(gates[0])
