"""Checks within one device: names, kinds, routes, VLANs, zones and translations."""

from collections.abc import Iterable, Iterator
from functools import cache
from ipaddress import ip_network

from greyheron.model.device import Device, Interface, Translation
from greyheron.model.item import Address, Prefix
from greyheron.model.names import PORTS
from greyheron.model.problems import Problem
from greyheron.model.values import LineKind


def device_problems(device: Device) -> Iterator[Problem]:
    """Everything that is wrong within `device`."""
    where = f"device {device.name}"
    interfaces = [interface.name for interface in device.interfaces]
    yield from doubles(f"{where}, interface", interfaces)
    yield from doubles(f"{where}, service", (service.name for service in device.services))
    yield from doubles(f"{where}, record", (record.name.lower() for record in device.records))
    if device.records and not device.traits.open_ended and not _answers_names(device):
        yield Problem(where, "it has records and does not run the domain service: give it the service domain")
    yield from doubles(f"{where}, line", (line.at for line in device.lines))
    for line in device.lines:
        if line.at in interfaces:
            yield Problem(f"{where}, interface {line.at}", "a management line has this name: choose another")
    yield from _line_numbers(device, where)
    yield from _kind(device, where)
    ports = [(service.protocol, service.port) for service in device.services]
    for service in device.services:
        if ports.count((service.protocol, service.port)) > 1:
            port = f"{service.protocol}/{service.port}"
            yield Problem(f"{where}, service {service.name}", f"another service listens on {port} too")
    for interface in device.interfaces:
        yield from _interface(device, interface, f"{where}, interface {interface.name}")
    yield from _routes(device, where)
    yield from _zones(device, where, interfaces)
    for number, rule in enumerate(device.translations, 1):
        yield from _translation(rule, f"{where}, translation {number}", interfaces)


def doubles(what: str, names: Iterable[str]) -> Iterator[Problem]:
    """A problem for every name that stands more than once."""
    seen: set[str] = set()
    for name in names:
        if name in seen:
            yield Problem(f"{what} {name}", "this name is used twice: each must be different")
        seen.add(name)


def unknown(what: str, name: str, known: Iterable[str]) -> str:
    """A sentence about a name that stands for nothing, with those that would."""
    names = sorted(known)
    shown = ", ".join(names[:6]) + (", …" if len(names) > 6 else "")
    return f"there is no {what} “{name}”" + (f": known are {shown}" if names else "")


def _kind(device: Device, where: str) -> Iterator[Problem]:
    """What belongs to other kinds of device."""
    kind, traits = device.kind, device.traits
    if traits.bridges:
        for interface in device.interfaces:
            if interface.addresses:
                yield Problem(
                    f"{where}, interface {interface.name}", "a switch port has no address: take it out"
                )
        if device.routes or device.services:
            yield Problem(where, "a switch has neither routes nor services: take them out")
    gateways = device.gateway is not None or device.gateway6 is not None
    if gateways and not traits.has_gateway:
        yield Problem(where, f"a {kind} has no gateway: write a route to 0.0.0.0/0 or ::/0 instead")
    if device.gateway6 is not None and device.gateway6.is_link_local and len(device.interfaces) != 1:
        yield Problem(where, "a link-local gateway needs its interface: write a route to ::/0 with one")
    if device.prefixes and not traits.open_ended:
        yield Problem(where, "prefixes belong to an outside network: take them out, or change the kind")
    if traits.forwards:
        if not traits.zoned and device.zones:
            yield Problem(where, f"a {kind} has no zones: take them out, or make it a firewall")
        return
    for given, what in (
        (device.lines, "management lines"),
        (device.zones, "zones"),
        (device.translations, "translations"),
        (any(interface.ospf for interface in device.interfaces), "OSPF"),
    ):
        if given:
            yield Problem(where, f"a {kind} has no {what}: take them out")


def _interface(device: Device, interface: Interface, where: str) -> Iterator[Problem]:
    of_switch = interface.access is not None or interface.trunk or interface.untagged is not None
    if of_switch and not device.traits.bridges:
        yield Problem(where, "access, trunk and untagged belong to switch ports: use parent and vlan here")
    if interface.access is not None and (interface.trunk or interface.untagged is not None):
        yield Problem(where, "a switch port is access or trunk, not both")
    if (interface.parent is None) != (interface.vlan is None):
        yield Problem(where, "a subinterface has both a parent and a vlan")
    if interface.parent is None:
        return
    parents = {other.name: other for other in device.interfaces}
    if not device.traits.forwards:
        yield Problem(where, f"a {device.kind} has no subinterfaces")
    elif interface.parent not in parents:
        yield Problem(where, unknown("interface", interface.parent, parents))
    elif parents[interface.parent].parent is not None:
        yield Problem(where, f"{interface.parent} is a subinterface itself: name its parent")
    same = [
        other
        for other in device.interfaces
        if (other.parent, other.vlan) == (interface.parent, interface.vlan)
    ]
    if len(same) > 1:
        yield Problem(where, f"another subinterface of {interface.parent} has VLAN {interface.vlan} too")


def _line_numbers(device: Device, where: str) -> Iterator[Problem]:
    """Lines of one kind follow each other, and no number is on two."""
    behind: dict[LineKind, tuple[int, str]] = {}
    for line in device.lines:
        first, last = line.span
        if last < first:
            yield Problem(f"{where}, line {line.at}", f"the range runs backwards: write {last}-{first}")
        before = behind.get(line.name)
        if before is not None and before[1] != line.at and first <= before[0]:
            yield Problem(
                f"{where}, line {line.at}",
                f"its numbers do not follow those of {before[1]}: lines of one kind have numbers, which rise",
            )
        behind[line.name] = last, line.at


def _routes(device: Device, where: str) -> Iterator[Problem]:
    own = {address.ip for interface in device.interfaces for address in interface.addresses}
    names = [interface.name for interface in device.interfaces]
    for route in device.routes:
        at = f"{where}, route {route.to}"
        if route.discard == bool(route.via or route.interface):
            yield Problem(at, "a route has a next hop, an interface, or both; or it discards")
        if route.interface is not None and route.interface not in names:
            yield Problem(at, unknown("interface", route.interface, names))
        if route.via is None:
            continue
        if route.via in own and not route.via.is_link_local:
            yield Problem(at, f"the next hop {route.via} is the device's own address: name the neighbour's")
        if route.via.version != route.to.version:
            yield Problem(at, f"the next hop {route.via} is of the other family")
        if route.via.is_link_local and route.interface is None:
            yield Problem(at, f"the link-local next hop {route.via} needs its interface beside it")
    for hop in _cyclic_next_hops(device):
        yield Problem(f"{where}, route {hop}", "its next hop is reached only by way of the route itself")


def _cyclic_next_hops(device: Device) -> list[Prefix]:
    """Routes whose next hops are reached by each other in a circle (§2).

    A default route alone whose next hop is on no own prefix is let through: it is a fault of the
    network, which a trace explains, and not of the document.
    """
    connected: set[Prefix] = {
        address.network for interface in device.interfaces for address in interface.addresses
    }
    every = connected.union(route.to for route in device.routes)
    lengths = sorted({(prefix.version, prefix.prefixlen) for prefix in every}, reverse=True)

    @cache
    def reached_by(hop: Address) -> Prefix | None:
        """The longest prefix that a next hop is in, unless the device has it itself."""
        for version, length in lengths:
            prefix = ip_network((hop, length), strict=False) if version == hop.version else None
            if prefix in every:
                return None if prefix in connected else prefix
        return None

    onward: dict[Prefix, Prefix | None] = {}
    for route in device.routes:
        if route.via is not None and route.interface is None:
            onward.setdefault(route.to, reached_by(route.via))
    cyclic: set[Prefix] = set()
    done: set[Prefix] = set()
    for start in onward:
        way: dict[Prefix, int] = {}
        at: Prefix | None = start
        while at is not None and at not in way and at not in done:
            way[at] = len(way)
            at = onward.get(at)
        if at is not None and at in way:
            circle = list(way)[way[at] :]
            if len(circle) > 1 or at.prefixlen > 0:
                cyclic.update(circle)
        done.update(way)
    return [
        route.to
        for route in device.routes
        if route.via is not None and route.interface is None and route.to in cyclic
    ]


def _zones(device: Device, where: str, interfaces: list[str]) -> Iterator[Problem]:
    yield from doubles(f"{where}, zone", (zone.name for zone in device.zones))
    zoned: dict[str, str] = {}
    for zone in device.zones:
        for name in zone.interfaces:
            at = f"{where}, zone {zone.name}"
            if name not in interfaces:
                yield Problem(at, unknown("interface", name, interfaces))
            if name in zoned:
                yield Problem(at, f"{name} is in zone {zoned[name]} already: an interface has one zone")
            zoned.setdefault(name, zone.name)


def _translation(rule: Translation, where: str, interfaces: list[str]) -> Iterator[Problem]:
    for name in (*rule.inside, rule.outside):
        if name not in interfaces:
            yield Problem(where, unknown("interface", name, interfaces))
    if rule.outside in rule.inside:
        yield Problem(where, f"{rule.outside} is both inside and outside: choose one")
    if rule.to is not None and rule.to.version != rule.source.version:
        yield Problem(where, f"{rule.source} and {rule.to} are of different families")
    if rule.kind == "dynamic":
        if rule.protocol or rule.port or rule.to_port:
            yield Problem(where, "a dynamic rule is for every protocol and port: take them out")
        return
    if rule.to is None:
        yield Problem(where, "a static rule has an outside address: write it as `to`")
    elif rule.to.prefixlen != rule.source.prefixlen:
        yield Problem(where, f"{rule.source} and {rule.to} are not of the same size")
    if (rule.port is not None) != (rule.protocol is not None) or (rule.to_port and rule.port is None):
        yield Problem(where, "a rule for one service has both a protocol and a port")


def _answers_names(device: Device) -> bool:
    return any((service.protocol, service.port) == ("udp", PORTS["domain"]) for service in device.services)
