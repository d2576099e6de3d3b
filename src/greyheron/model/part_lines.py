"""The parts of a device, each read from a line and written as one.

Readers take the words of a line and the device that the part is of, and raise LineError.
"""

import re
from collections.abc import Iterator
from typing import Any, Final, Literal

from greyheron.model.device import (
    LINE_NUMBERS,
    Device,
    Interface,
    ManagementLine,
    Ospf,
    Record,
    Route,
    Service,
    Translation,
    Zone,
)
from greyheron.model.item import Address, InterfaceAddress, Prefix
from greyheron.model.names import PORTS, UDP_SERVICES
from greyheron.model.notation.frames import read_own_mac
from greyheron.model.notation.line import NotationLine, Option
from greyheron.model.notation.terms import read_port
from greyheron.model.part_words import (
    ADDRESS,
    HOP,
    MAC,
    PREFIX,
    VLAN,
    address_of,
    domain_name_of,
    interface_address_of,
    interface_name_of,
    is_address,
    name_of,
    names_of,
    number_between,
    prefix_of,
    vlan_of,
    vlans_of,
)
from greyheron.model.values import LineKind

TRANSPORTS: Final = ("ssh", "telnet", "https", "http")


def _interfaces(device: Device) -> Iterator[Option]:
    for each in device.interfaces:
        words = ", ".join(str(address) for address in each.addresses)
        yield Option(each.name, words or "an interface without an address")


def read_addresses(line: NotationLine) -> tuple[InterfaceAddress, ...]:
    found: tuple[InterfaceAddress, ...] = ()
    line.offer(ADDRESS)
    while line.word is not None and is_address(line.word):
        found += (line.value(interface_address_of, ADDRESS),)
        line.offer(ADDRESS)
    return found


def read_interface(line: NotationLine, device: Device) -> Interface:
    given: dict[str, Any] = {}
    name = line.value(interface_name_of, Option("eth0", "what the interface is called", literal=False))
    if device.traits.bridges:
        if line.take("access", "in one VLAN"):
            given["access"] = line.value(vlan_of, VLAN)
        elif line.take("trunk", "carries several VLANs with tags"):
            given["trunk"] = line.value(vlans_of, Option("10,20", "VLANs, with commas", literal=False))
            if line.take("untagged", "the VLAN that it carries without a tag"):
                given["untagged"] = line.value(vlan_of, VLAN)
    else:
        given["addresses"] = read_addresses(line)
        if line.take("vlan", "a subinterface: frames with this tag"):
            given["vlan"] = line.value(vlan_of, VLAN)
            if not line.take("of", "on another interface"):
                raise line.error()
            given["parent"] = line.value(interface_name_of, *_interfaces(device))
        if line.take("mac", "instead of the one that it is given"):
            given["mac"] = line.value(read_own_mac, MAC)
        if line.take("ospf", "speaks OSPF with its neighbours"):
            cost = Ospf().cost
            if line.take("cost", f"other than {cost}"):
                cost = line.value(number_between(1, 65535), Option("20", "a cost", literal=False))
            passive = line.take("passive", "announces its prefix and has no neighbours")
            given["ospf"] = Ospf(cost=cost, passive=passive)
    if line.take("disabled", "nothing comes in or goes out"):
        given["enabled"] = False
    if line.word is not None and is_address(line.word):
        raise line.error(f"“{line.word}” stands too late: addresses follow the name")
    line.end()
    return Interface(name=name, **given)


def write_interface(part: Interface) -> str:
    words = [part.name, *map(str, part.addresses)]
    if part.access is not None:
        words.append(f"access {part.access}")
    if part.trunk:
        words.append(f"trunk {','.join(map(str, part.trunk))}")
    if part.untagged is not None:
        words.append(f"untagged {part.untagged}")
    if part.parent is not None:
        words.append(f"vlan {part.vlan} of {part.parent}")
    if part.mac is not None:
        words.append(f"mac {part.mac}")
    if part.ospf is not None:
        cost = f" cost {part.ospf.cost}" * (part.ospf.cost != Ospf().cost)
        words.append(f"ospf{cost}{' passive' * part.ospf.passive}")
    return " ".join(words) + " disabled" * (not part.enabled)


def read_route(line: NotationLine, device: Device) -> Route:
    given: dict[str, Any] = {}
    to = line.value(
        prefix_of,
        Option("0.0.0.0/0", "everywhere, IPv4"),
        Option("::/0", "everywhere, IPv6"),
        Option("172.20.16.0/24", "where to", literal=False),
    )
    if line.take("discard", "drop it, and say that the network is unreachable"):
        given["discard"] = True
    else:
        if line.take("via", "by a next hop"):
            given["via"] = line.value(address_of, HOP)
        if line.take("out", "by an interface"):
            given["interface"] = line.value(interface_name_of, *_interfaces(device))
        if not given:
            raise line.error()
    if line.take("preference", "lower ones win; 5 unless given"):
        given["preference"] = line.value(number_between(1, 254), Option("20", "1 to 254", literal=False))
    line.end()
    return Route(to=to, **given)


def write_route(part: Route) -> str:
    words = [str(part.to)]
    words += ["discard"] * part.discard
    words += [f"via {part.via}"] * (part.via is not None)
    words += [f"out {part.interface}"] * (part.interface is not None)
    words += [f"preference {part.preference}"] * (part.preference != 5)
    return " ".join(words)


def read_service(line: NotationLine, _device: Device) -> Service:
    """`https`, or a name of one's own and what it is: `page tcp/8080`."""
    name = line.value(
        name_of,
        Option("page", "a name of your own, then tcp/PORT or udp/PORT", literal=False),
        *(Option(word, f"port {port}") for word, port in PORTS.items()),
    )
    known = PORTS.get(name)
    if line.word is None and known is not None:
        return Service(name=name, protocol="udp" if name in UDP_SERVICES else "tcp", port=known)
    protocol, port = line.value(
        _transport_port,
        Option("tcp/443", "a TCP port", literal=False),
        Option("udp/53", "a UDP port", literal=False),
    )
    line.end()
    return Service(name=name, protocol=protocol, port=port)


def _transport_port(word: str) -> tuple[Literal["tcp", "udp"], int]:
    protocol, slash, port = word.lower().partition("/")
    for each in ("tcp", "udp"):
        if protocol == each and slash:
            return each, read_port(port)[0]
    raise ValueError(f"“{word}” is no port: expected tcp/PORT or udp/PORT")


def write_service(part: Service) -> str:
    usual = "udp" if part.name in UDP_SERVICES else "tcp"
    known = PORTS.get(part.name) == part.port and part.protocol == usual
    return part.name if known else f"{part.name} {part.protocol}/{part.port}"


def read_line(line: NotationLine, _device: Device) -> ManagementLine:
    name = LineKind(
        line.choose(
            {
                LineKind.REMOTE: "logins over the network: ssh, telnet",
                LineKind.WEB: "a web page to manage it: https, http",
                LineKind.CONSOLE: "a cable; no login over the network uses it",
            }
        )
    )
    numbers: str | None = None
    if line.word is not None and line.word[0].isdigit():
        numbers = line.value(_line_numbers, _NUMBERS)
    elif name is LineKind.REMOTE:
        line.offer(_NUMBERS)
    transports: tuple[Any, ...] = ()
    if line.word is not None or name is not LineKind.CONSOLE:
        transports = line.value(_transports, *(Option(each, f"tcp/{PORTS[each]}") for each in TRANSPORTS))
    line.end()
    return ManagementLine(name=name, numbers=numbers, transports=transports)


NEW_LINES = (
    ManagementLine(name=LineKind.REMOTE, transports=("ssh",)),
    ManagementLine(name=LineKind.CONSOLE),
)
"""How one logs in to a new router or firewall, until it is said otherwise."""


_NUMBERS = Option("1-4", "several lines with lists of their own: the numbers of these", literal=False)


def _line_numbers(word: str) -> str:
    if not re.fullmatch(LINE_NUMBERS, word):
        raise ValueError(f"“{word}” is no range of lines: write the first and the last, 1-4 say")
    return word


def _transports(word: str) -> tuple[str, ...]:
    found = tuple(word.lower().split(","))
    for each in found:
        if each not in TRANSPORTS:
            raise ValueError(f"“{each}” is no way to log in: expected {', '.join(TRANSPORTS)}")
    return found


def write_line(part: ManagementLine) -> str:
    words = [part.name, part.numbers, ",".join(part.transports)]
    return " ".join(word for word in words if word)


def read_zone(line: NotationLine, device: Device) -> Zone:
    name = line.value(name_of, Option("inner", "what the zone is called", literal=False))
    interfaces: tuple[str, ...] = ()
    if line.word is None:
        line.offer(*_interfaces(device))
    else:
        interfaces = line.value(names_of, *_interfaces(device))
    line.end()
    return Zone(name=name, interfaces=interfaces)


def write_zone(part: Zone) -> str:
    return " ".join([part.name, *([",".join(part.interfaces)] if part.interfaces else [])])


def read_translation(line: NotationLine, device: Device) -> Translation:
    """`static INSIDE [tcp/PORT] as OUTSIDE [port N] from INTERFACES to INTERFACE`, or `dynamic …`."""
    given: dict[str, Any] = {}
    kind: Any = line.choose(
        {
            "static": "an inside address is always the same outside one",
            "dynamic": "many inside addresses share outside ones",
        }
    )
    source = line.value(prefix_of, Option("172.20.40.10", "an inside address", literal=False), PREFIX)
    if kind == "static" and line.word is not None and line.word.lower().startswith(("tcp/", "udp/")):
        given["protocol"], given["port"] = line.value(_transport_port)
    elif kind == "static":
        line.offer(Option("tcp/443", "for one service only", literal=False))
    if line.take("as", "what it is outside"):
        given["to"] = line.value(
            prefix_of, Option("203.0.113.10", "an outside address", literal=False), PREFIX
        )
        if "port" in given and line.take("port", "another port outside"):
            given["to_port"] = line.value(
                lambda word: read_port(word)[0], Option("8443", "a port", literal=False)
            )
    elif kind == "static":
        raise line.error()
    if not line.take("from", "inside interfaces"):
        raise line.error()
    given["inside"] = line.value(names_of, *_interfaces(device))
    if not line.take("to", "the outside interface"):
        raise line.error()
    given["outside"] = line.value(interface_name_of, *_interfaces(device))
    if kind == "static":
        given["inward"] = line.take("inward", "only what comes in: the inside address is let in as well")
    line.end()
    return Translation(kind=kind, source=source, **given)


def write_translation(part: Translation) -> str:
    words = [part.kind, _short(part.source)]
    if part.protocol is not None:
        words.append(f"{part.protocol}/{part.port}")
    if part.to is not None:
        words.append(f"as {_short(part.to)}")
    if part.to_port is not None:
        words.append(f"port {part.to_port}")
    return " ".join([*words, "from", ",".join(part.inside), "to", part.outside, *["inward"] * part.inward])


def _short(prefix: Prefix) -> str:
    """A prefix, or the one address in it."""
    return str(prefix.network_address if prefix.prefixlen == prefix.max_prefixlen else prefix)


def read_record(line: NotationLine, _device: Device) -> Record:
    """`page.example 203.0.113.10`, with more addresses behind it."""
    name = line.value(domain_name_of, Option("page.example", "the name that it answers for", literal=False))
    addresses = [line.value(address_of, HOP)]
    while line.word is not None:
        addresses.append(line.value(address_of, HOP))
    return Record(name=name, addresses=tuple(addresses))


def write_record(record: Record) -> str:
    return " ".join([record.name, *map(str, record.addresses)])


def read_gateway(line: NotationLine, _device: Device) -> Address:
    found = line.value(address_of, HOP)
    line.end()
    return found


def read_prefix(line: NotationLine, _device: Device) -> Prefix:
    found = line.value(prefix_of, Option("198.51.100.0/24", "addresses that are out there", literal=False))
    line.end()
    return found
