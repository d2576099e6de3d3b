"""The parts of a device, each a line: `eth1 172.20.16.1/24 ospf cost 20`, `0.0.0.0/0 via 172.20.32.1`.

A device is added and changed by such lines. Only what the words of a line mean is checked here; whether the
device is sound with it is for `greyheron.model.check`.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from ipaddress import ip_address, ip_interface, ip_network
from typing import Any, Final, Literal, TypeVar

from greyheron.model.document import (
    Address,
    Device,
    Interface,
    InterfaceAddress,
    Line,
    Ospf,
    Prefix,
    Route,
    Service,
    Translation,
    Zone,
)
from greyheron.model.names import PORTS, UDP_SERVICES
from greyheron.model.notation.flows import INTERFACE
from greyheron.model.notation.line import Line as Words
from greyheron.model.notation.line import LineError, NotationError, Option
from greyheron.model.notation.terms import NAME, read_port
from greyheron.model.values import DeviceKind, LineKind

T = TypeVar("T")
Section = Literal[
    "interfaces", "gateways", "prefixes", "services", "lines", "zones", "translations", "routes"
]
KINDS: Final = {
    DeviceKind.ROUTER: "joins segments, and filters between them",
    DeviceKind.FIREWALL: "joins zones, and keeps track of sessions",
    DeviceKind.SWITCH: "joins interfaces to a segment",
    DeviceKind.HOST: "sends, and listens on services",
    DeviceKind.OUTSIDE: "stands for a network that is not drawn",
}
TRANSPORTS: Final = ("ssh", "telnet", "https", "http")
_ADDRESS = Option("172.20.16.1/24", "an address with its prefix length", literal=False)
_PREFIX = Option("172.20.16.0/24", "a prefix", literal=False)
_HOP = Option("172.20.32.1", "an address", literal=False)
_VLAN = Option("20", "a VLAN, 1 to 4094", literal=False)


@dataclass(frozen=True, slots=True)
class PartKind:
    """How the lines of one section are read and written.

    read:  raises LineError;  of:  the parts that a device has;  put:  the device with other ones
    kinds:  the devices that may have it
    """

    read: Callable[[Words, Device], Any]
    write: Callable[[Any], str]
    of: Callable[[Device], tuple[Any, ...]]
    put: Callable[[Device, tuple[Any, ...]], Device]
    kinds: frozenset[DeviceKind]


def lines_of(device: Device, section: Section) -> tuple[str, ...]:
    """Every part of a section, in order, as it would be typed."""
    kind = PARTS[section]
    return tuple(kind.write(part) for part in kind.of(device))


def with_part(device: Device, section: Section, text: str, place: int | None) -> Device:
    """`device` with the part that `text` describes, instead of the one at `place` or behind the others.

    Raises NotationError.
    """
    kind = PARTS[section]
    part = _whole(text, lambda line: kind.read(line, device))
    parts = list(kind.of(device))
    if place is None:
        parts.append(part)
    else:
        parts[place] = part
    return kind.put(device, tuple(parts))


def without_part(device: Device, section: Section, place: int) -> Device:
    """`device` without the part at `place`, which it has."""
    kind = PARTS[section]
    parts = kind.of(device)
    return kind.put(device, (*parts[:place], *parts[place + 1 :]))


def read_new_device(text: str) -> Device:
    """A device from a line: `host kiosk 172.20.16.21/24 gateway 172.20.16.1`. Raises NotationError."""
    return _whole(text, new_device)


def new_device(line: Words) -> Device:
    """Read a device's kind, name and first addresses. Raises LineError."""
    kind = DeviceKind(line.choose({each.value: words for each, words in KINDS.items()}))
    name = line.value(_name, Option("new-name", "what it is called", literal=False))
    addresses = _addresses(line) if kind is not DeviceKind.SWITCH else ()
    gateways: tuple[Address, ...] = ()
    if kind in (DeviceKind.HOST, DeviceKind.OUTSIDE):
        while line.take("gateway", "where it sends what is not on its own segment"):
            gateways += (line.value(_address, _HOP),)
    line.end()
    device = Device(
        name=name,
        kind=kind,
        interfaces=(Interface(name="eth0", addresses=addresses),) if addresses else (),
        lines=(Line(name=LineKind.REMOTE, transports=("ssh",)), Line(name=LineKind.CONSOLE))
        if kind in (DeviceKind.ROUTER, DeviceKind.FIREWALL)
        else (),
    )
    return _put_gateways(device, gateways)


def _whole(text: str, read: Callable[[Words], T]) -> T:
    line = Words(text)
    try:
        if line.note is not None:
            raise line.error("there is no room for a note here: take out what begins with #")
        return read(line)
    except LineError as error:
        raise NotationError([error.misreading]) from None


def _name(word: str) -> str:
    if not NAME.fullmatch(word):
        raise ValueError(f"“{word}” is no name: a letter, then letters, digits, dots, dashes or underscores")
    return word


def _interface_name(word: str) -> str:
    if not INTERFACE.fullmatch(word):
        raise ValueError(f"“{word}” is no interface: a letter, then letters, digits, dots, dashes or slashes")
    return word


def _address(word: str) -> Address:
    try:
        return ip_address(word)
    except ValueError:
        raise ValueError(f"“{word}” is no address") from None


def _interface_address(word: str) -> InterfaceAddress:
    if "/" not in word:
        raise ValueError(f"“{word}” has no prefix length: write {word}/{64 if ':' in word else 24}, say")
    try:
        return ip_interface(word)
    except ValueError:
        raise ValueError(f"“{word}” is no address with a prefix length") from None


def _is_address(word: str) -> bool:
    return word[0].isdigit() or ":" in word


def _prefix(word: str) -> Prefix:
    try:
        return ip_network(word)
    except ValueError as error:
        raise ValueError(f"“{word}” is no prefix: {error}") from None


def _vlan(word: str) -> int:
    if not word.isdecimal() or not 1 <= int(word) <= 4094:
        raise ValueError(f"“{word}” is no VLAN: 1 to 4094 can stand here")
    return int(word)


def _vlans(word: str) -> tuple[int, ...]:
    """`10,20,30-35`"""
    found: list[int] = []
    for part in word.split(","):
        low, dash, high = part.partition("-")
        first = _vlan(low)
        last = _vlan(high) if dash else first
        if last < first:
            raise ValueError(f"the range {part} runs backwards: write {last}-{first}")
        found += range(first, last + 1)
    return tuple(dict.fromkeys(found))


def _number(least: int, most: int) -> Callable[[str], int]:
    def read(word: str) -> int:
        if not word.isdecimal() or not least <= int(word) <= most:
            raise ValueError(f"“{word}” does not fit here: a number from {least} to {most} can stand here")
        return int(word)

    return read


def _interfaces(device: Device) -> Iterator[Option]:
    for each in device.interfaces:
        words = ", ".join(str(address) for address in each.addresses)
        yield Option(each.name, words or "an interface without an address")


def _names(word: str) -> tuple[str, ...]:
    return tuple(_interface_name(part) for part in word.split(","))


def _addresses(line: Words) -> tuple[InterfaceAddress, ...]:
    found: tuple[InterfaceAddress, ...] = ()
    line.offer(_ADDRESS)
    while line.word is not None and _is_address(line.word):
        found += (line.value(_interface_address, _ADDRESS),)
        line.offer(_ADDRESS)
    return found


def _read_interface(line: Words, device: Device) -> Interface:
    given: dict[str, Any] = {}
    name = line.value(_interface_name, Option("eth0", "what the interface is called", literal=False))
    if device.kind is DeviceKind.SWITCH:
        if line.take("access", "in one VLAN"):
            given["access"] = line.value(_vlan, _VLAN)
        elif line.take("trunk", "carries several VLANs with tags"):
            given["trunk"] = line.value(_vlans, Option("10,20", "VLANs, with commas", literal=False))
            if line.take("untagged", "the VLAN that it carries without a tag"):
                given["untagged"] = line.value(_vlan, _VLAN)
    else:
        given["addresses"] = _addresses(line)
        if line.take("vlan", "a subinterface: frames with this tag"):
            given["vlan"] = line.value(_vlan, _VLAN)
            if not line.take("of", "on another interface"):
                raise line.error()
            given["parent"] = line.value(_interface_name, *_interfaces(device))
        if line.take("ospf", "speaks OSPF with its neighbours"):
            cost = Ospf().cost
            if line.take("cost", f"other than {cost}"):
                cost = line.value(_number(1, 65535), Option("20", "a cost", literal=False))
            passive = line.take("passive", "announces its prefix and has no neighbours")
            given["ospf"] = Ospf(cost=cost, passive=passive)
    if line.take("disabled", "nothing comes in or goes out"):
        given["enabled"] = False
    if line.word is not None and _is_address(line.word):
        raise line.error(f"“{line.word}” stands too late: addresses follow the name")
    line.end()
    return Interface(name=name, **given)


def _write_interface(part: Interface) -> str:
    words = [part.name, *map(str, part.addresses)]
    if part.access is not None:
        words.append(f"access {part.access}")
    if part.trunk:
        words.append(f"trunk {','.join(map(str, part.trunk))}")
    if part.untagged is not None:
        words.append(f"untagged {part.untagged}")
    if part.parent is not None:
        words.append(f"vlan {part.vlan} of {part.parent}")
    if part.ospf is not None:
        cost = f" cost {part.ospf.cost}" * (part.ospf.cost != Ospf().cost)
        words.append(f"ospf{cost}{' passive' * part.ospf.passive}")
    return " ".join(words) + " disabled" * (not part.enabled)


def _read_route(line: Words, device: Device) -> Route:
    given: dict[str, Any] = {}
    to = line.value(
        _prefix,
        Option("0.0.0.0/0", "everywhere, IPv4"),
        Option("::/0", "everywhere, IPv6"),
        Option("172.20.16.0/24", "where to", literal=False),
    )
    if line.take("discard", "drop it, and say that the network is unreachable"):
        given["discard"] = True
    else:
        if line.take("via", "by a next hop"):
            given["via"] = line.value(_address, _HOP)
        if line.take("out", "by an interface"):
            given["interface"] = line.value(_interface_name, *_interfaces(device))
        if not given:
            raise line.error()
    if line.take("preference", "lower ones win; 5 unless given"):
        given["preference"] = line.value(_number(1, 254), Option("20", "1 to 254", literal=False))
    line.end()
    return Route(to=to, **given)


def _write_route(part: Route) -> str:
    words = [str(part.to)]
    words += ["discard"] * part.discard
    words += [f"via {part.via}"] * (part.via is not None)
    words += [f"out {part.interface}"] * (part.interface is not None)
    words += [f"preference {part.preference}"] * (part.preference != 5)
    return " ".join(words)


def _read_service(line: Words, _device: Device) -> Service:
    """`https`, or a name of one's own and what it is: `page tcp/8080`."""
    name = line.value(
        _name,
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


def _write_service(part: Service) -> str:
    usual = "udp" if part.name in UDP_SERVICES else "tcp"
    known = PORTS.get(part.name) == part.port and part.protocol == usual
    return part.name if known else f"{part.name} {part.protocol}/{part.port}"


def _read_line(line: Words, _device: Device) -> Line:
    name = LineKind(
        line.choose(
            {
                LineKind.REMOTE: "logins over the network: ssh, telnet",
                LineKind.WEB: "a web page to manage it: https, http",
                LineKind.CONSOLE: "a cable; no login over the network uses it",
            }
        )
    )
    transports: tuple[Any, ...] = ()
    if line.word is not None or name is not LineKind.CONSOLE:
        transports = line.value(_transports, *(Option(each, f"tcp/{PORTS[each]}") for each in TRANSPORTS))
    line.end()
    return Line(name=name, transports=transports)


def _transports(word: str) -> tuple[str, ...]:
    found = tuple(word.lower().split(","))
    for each in found:
        if each not in TRANSPORTS:
            raise ValueError(f"“{each}” is no way to log in: expected {', '.join(TRANSPORTS)}")
    return found


def _write_line(part: Line) -> str:
    return " ".join([part.name, *([",".join(part.transports)] if part.transports else [])])


def _read_zone(line: Words, device: Device) -> Zone:
    name = line.value(_name, Option("inner", "what the zone is called", literal=False))
    interfaces: tuple[str, ...] = ()
    if line.word is None:
        line.offer(*_interfaces(device))
    else:
        interfaces = line.value(_names, *_interfaces(device))
    line.end()
    return Zone(name=name, interfaces=interfaces)


def _write_zone(part: Zone) -> str:
    return " ".join([part.name, *([",".join(part.interfaces)] if part.interfaces else [])])


def _read_translation(line: Words, device: Device) -> Translation:
    """`static INSIDE [tcp/PORT] as OUTSIDE [port N] from INTERFACES to INTERFACE`, or `dynamic …`."""
    given: dict[str, Any] = {}
    kind: Any = line.choose(
        {
            "static": "an inside address is always the same outside one",
            "dynamic": "many inside addresses share outside ones",
        }
    )
    source = line.value(_prefix, Option("172.20.40.10", "an inside address", literal=False), _PREFIX)
    if kind == "static" and line.word is not None and line.word.lower().startswith(("tcp/", "udp/")):
        given["protocol"], given["port"] = line.value(_transport_port)
    elif kind == "static":
        line.offer(Option("tcp/443", "for one service only", literal=False))
    if line.take("as", "what it is outside"):
        given["to"] = line.value(
            _prefix, Option("203.0.113.10", "an outside address", literal=False), _PREFIX
        )
        if "port" in given and line.take("port", "another port outside"):
            given["to_port"] = line.value(
                lambda word: read_port(word)[0], Option("8443", "a port", literal=False)
            )
    elif kind == "static":
        raise line.error()
    if not line.take("from", "inside interfaces"):
        raise line.error()
    given["inside"] = line.value(_names, *_interfaces(device))
    if not line.take("to", "the outside interface"):
        raise line.error()
    given["outside"] = line.value(_interface_name, *_interfaces(device))
    line.end()
    return Translation(kind=kind, source=source, **given)


def _write_translation(part: Translation) -> str:
    words = [part.kind, _short(part.source)]
    if part.protocol is not None:
        words.append(f"{part.protocol}/{part.port}")
    if part.to is not None:
        words.append(f"as {_short(part.to)}")
    if part.to_port is not None:
        words.append(f"port {part.to_port}")
    return " ".join([*words, "from", ",".join(part.inside), "to", part.outside])


def _short(prefix: Prefix) -> str:
    """A prefix, or the one address in it."""
    return str(prefix.network_address if prefix.prefixlen == prefix.max_prefixlen else prefix)


def _read_gateway(line: Words, _device: Device) -> Address:
    found = line.value(_address, _HOP)
    line.end()
    return found


def _gateways(device: Device) -> tuple[Address, ...]:
    return tuple(each for each in (device.gateway, device.gateway6) if each is not None)


def _put_gateways(device: Device, found: Sequence[Address]) -> Device:
    """The last of each family stands."""
    by_version = {each.version: each for each in found}
    return device.model_copy(update={"gateway": by_version.get(4), "gateway6": by_version.get(6)})


def _read_prefix(line: Words, _device: Device) -> Prefix:
    found = line.value(_prefix, Option("198.51.100.0/24", "addresses that are out there", literal=False))
    line.end()
    return found


def _field(
    name: str,
) -> tuple[Callable[[Device], tuple[Any, ...]], Callable[[Device, tuple[Any, ...]], Device]]:
    """How parts that stand in a field of the device are found and put there."""

    def put(device: Device, parts: tuple[Any, ...]) -> Device:
        return device.model_copy(update={name: parts})

    return (lambda device: getattr(device, name)), put


_FORWARDING = frozenset({DeviceKind.ROUTER, DeviceKind.FIREWALL})
_ENDS = frozenset({DeviceKind.HOST, DeviceKind.OUTSIDE})
PARTS: Final[dict[Section, PartKind]] = {
    "interfaces": PartKind(_read_interface, _write_interface, *_field("interfaces"), frozenset(DeviceKind)),
    "gateways": PartKind(_read_gateway, str, _gateways, _put_gateways, _ENDS),
    "prefixes": PartKind(_read_prefix, str, *_field("prefixes"), frozenset({DeviceKind.OUTSIDE})),
    "services": PartKind(_read_service, _write_service, *_field("services"), _FORWARDING | {DeviceKind.HOST}),
    "lines": PartKind(_read_line, _write_line, *_field("lines"), _FORWARDING),
    "zones": PartKind(_read_zone, _write_zone, *_field("zones"), frozenset({DeviceKind.FIREWALL})),
    "translations": PartKind(_read_translation, _write_translation, *_field("translations"), _FORWARDING),
    "routes": PartKind(_read_route, _write_route, *_field("routes"), _FORWARDING | _ENDS),
}
