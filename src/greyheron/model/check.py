"""Checks across a whole document: names that must exist, and what may be there only once."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network, ip_address

from greyheron.model.document import AccessList, Device, Network, Placement, TestFlow
from greyheron.model.entry import NamedAddresses, NamedPorts
from greyheron.model.problems import Problem
from greyheron.model.services import requested
from greyheron.model.values import DeviceKind, Direction, Family

_KINDS_WITH_GATEWAY = (DeviceKind.HOST, DeviceKind.OUTSIDE)


@dataclass(frozen=True)
class Broken:
    """Names of items that could not be read at all, so that references to them are not reported too."""

    names: dict[str, frozenset[str]] = field(default_factory=dict)

    def __contains__(self, place: tuple[str, str]) -> bool:
        collection, name = place
        return name in self.names.get(collection, frozenset())


def problems_of(network: Network, broken: Broken | None = None) -> list[Problem]:
    """Everything that is wrong between the items of `network`."""
    return list(_problems(network, broken or Broken()))


def _problems(network: Network, broken: Broken) -> Iterator[Problem]:
    yield from _doubles("device", (device.name for device in network.devices))
    yield from _doubles("address set", (group.name for group in network.address_sets))
    yield from _doubles("port set", (group.name for group in network.port_sets))
    yield from _doubles("list", (access_list.name for access_list in network.lists))
    yield from _doubles("test flow", (test.id for test in network.tests))
    yield from _doubles("position of", (position.device for position in network.positions))
    devices = {device.name: device for device in network.devices}
    for device in network.devices:
        yield from _device(device)
    yield from _addresses(network.devices)
    yield from _links(network, devices, broken)
    yield from _references(network, broken)
    yield from _placements(network, devices, broken)
    for test in network.tests:
        yield from _test(test, devices, broken)
    for position in network.positions:
        if position.device not in devices and ("devices", position.device) not in broken:
            yield Problem(f"position of {position.device}", _unknown("device", position.device, devices))


def _doubles(what: str, names: Iterable[str]) -> Iterator[Problem]:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            yield Problem(f"{what} {name}", "this name is used twice: each must be different")
        seen.add(name)


def _device(device: Device) -> Iterator[Problem]:
    where = f"device {device.name}"
    interfaces = [interface.name for interface in device.interfaces]
    yield from _doubles(f"{where}, interface", interfaces)
    yield from _doubles(f"{where}, service", (service.name for service in device.services))
    yield from _doubles(f"{where}, line", (line.name for line in device.lines))
    for line in device.lines:
        if line.name in interfaces:
            yield Problem(
                f"{where}, interface {line.name}", "a management line has this name: choose another"
            )
    if device.kind is DeviceKind.SWITCH:
        for interface in device.interfaces:
            if interface.addresses:
                yield Problem(
                    f"{where}, interface {interface.name}", "a switch port has no address: take it out"
                )
        if device.routes or device.services:
            yield Problem(where, "a switch has neither routes nor services: take them out")
    if device.lines and device.kind is not DeviceKind.ROUTER:
        yield Problem(where, f"a {device.kind} has no management lines: take them out")
    if device.gateway is not None and device.kind not in _KINDS_WITH_GATEWAY:
        yield Problem(where, f"a {device.kind} has no gateway: write a route to 0.0.0.0/0 instead")
    if device.prefixes and device.kind is not DeviceKind.OUTSIDE:
        yield Problem(where, "prefixes belong to an outside network: take them out, or change the kind")
    ports = [(service.protocol, service.port) for service in device.services]
    for service in device.services:
        if ports.count((service.protocol, service.port)) > 1:
            port = f"{service.protocol}/{service.port}"
            yield Problem(f"{where}, service {service.name}", f"another service listens on {port} too")
    yield from _routes(device, where)


def _routes(device: Device, where: str) -> Iterator[Problem]:
    own = {address.ip for interface in device.interfaces for address in interface.addresses}
    names = [interface.name for interface in device.interfaces]
    for route in device.routes:
        place = f"{where}, route {route.to}"
        if route.discard == bool(route.via or route.interface):
            yield Problem(place, "a route has a next hop, an interface, or both; or it discards")
        if route.interface is not None and route.interface not in names:
            yield Problem(place, _unknown("interface", route.interface, names))
        if route.via in own:
            yield Problem(
                place, f"the next hop {route.via} is the device's own address: name the neighbour's"
            )
    for hop in _cyclic_next_hops(device):
        yield Problem(f"{where}, route {hop}", "its next hop is reached only by way of the route itself")


def _cyclic_next_hops(device: Device) -> list[IPv4Network]:
    """Routes whose next hops are reached by each other in a circle (2-semantics §2).

    A default route alone whose next hop is on no own prefix is let through: it is a fault of the
    network, which a trace explains, and not of the document.
    """
    connected = [address.network for interface in device.interfaces for address in interface.addresses]
    routes = [route for route in device.routes if route.via is not None and route.interface is None]

    def next_prefix(hop: IPv4Address) -> IPv4Network | None:
        reached = [prefix for prefix in connected if hop in prefix]
        reached += [route.to for route in device.routes if hop in route.to]
        best = max(reached, key=lambda prefix: prefix.prefixlen, default=None)
        return None if best in connected else best

    cyclic = []
    for start in routes:
        seen: list[IPv4Network] = []
        at: IPv4Network | None = start.to
        while at is not None and at not in seen:
            seen.append(at)
            onward = [route for route in routes if route.to == at]
            at = next_prefix(onward[0].via) if onward and onward[0].via else None
        if at == start.to and (len(seen) > 1 or at.prefixlen > 0):
            cyclic.append(start.to)
    return cyclic


def _addresses(devices: Iterable[Device]) -> Iterator[Problem]:
    holders: dict[IPv4Address, str] = {}
    for device in devices:
        for interface in device.interfaces:
            place = f"device {device.name}, interface {interface.name}"
            for address in interface.addresses:
                if address.ip in holders:
                    yield Problem(place, f"{address.ip} is also the address of {holders[address.ip]}")
                holders.setdefault(address.ip, place)
                prefix = address.network
                if prefix.prefixlen < 31 and address.ip in (prefix.network_address, prefix.broadcast_address):
                    kind = "network" if address.ip == prefix.network_address else "broadcast"
                    yield Problem(
                        place, f"{address.ip} is the {kind} address of {prefix}: no interface can hold it"
                    )


def _links(network: Network, devices: dict[str, Device], broken: Broken) -> Iterator[Problem]:
    used: dict[str, str] = {}
    for link in network.links:
        where = f"link {link.ends[0]} – {link.ends[1]}"
        for end in link.ends:
            device_name, _, interface = end.partition(":")
            device = devices.get(device_name)
            if device is None:
                if ("devices", device_name) not in broken:
                    yield Problem(where, _unknown("device", device_name, devices))
                continue
            names = [candidate.name for candidate in device.interfaces]
            if interface not in names:
                yield Problem(where, f"{device_name}: " + _unknown("interface", interface, names))
            if end in used:
                yield Problem(where, f"{end} is already joined by {used[end]}: put a switch between them")
            used.setdefault(end, where)


def _references(network: Network, broken: Broken) -> Iterator[Problem]:
    groups = {group.name for group in network.address_sets} | {device.name for device in network.devices}
    port_sets = {group.name for group in network.port_sets}
    for access_list in network.lists:
        for entry in access_list.body.entries:
            where = f"list {access_list.name}, entry {entry.number}"
            for term in (entry.source, entry.destination):
                if not isinstance(term, NamedAddresses) or term.name in groups:
                    continue
                if ("devices", term.name) not in broken and ("address_sets", term.name) not in broken:
                    yield Problem(where, _unknown("address set or device", term.name, groups))
            for ports in (*entry.source_ports, *entry.destination_ports):
                if (
                    isinstance(ports, NamedPorts)
                    and ports.name not in port_sets
                    and ("port_sets", ports.name) not in broken
                ):
                    yield Problem(where, _unknown("port set", ports.name, port_sets))


def _placements(network: Network, devices: dict[str, Device], broken: Broken) -> Iterator[Problem]:
    lists = {access_list.name: access_list for access_list in network.lists}
    taken: dict[tuple[str, str, Direction, Family], str] = {}
    for placed in network.placements:
        where = f"placement of {placed.list} at {placed.device} {placed.at} {placed.direction}"
        if placed.list not in lists and ("lists", placed.list) not in broken:
            yield Problem(where, _unknown("list", placed.list, lists))
        device = devices.get(placed.device)
        if device is not None:
            yield from _attachment(placed, device, where)
        elif ("devices", placed.device) not in broken:
            yield Problem(where, _unknown("device", placed.device, devices))
        if placed.list in lists:
            yield from _occupied(placed, lists[placed.list], taken, where)


def _attachment(placed: Placement, device: Device, where: str) -> Iterator[Problem]:
    lines = [line.name for line in device.lines]
    names = [interface.name for interface in device.interfaces] + lines
    if device.kind in (DeviceKind.SWITCH, DeviceKind.OUTSIDE):
        yield Problem(where, f"a {device.kind} takes no lists: place it on a router or host")
    elif placed.at not in names:
        yield Problem(where, _unknown("interface or line", placed.at, names))
    elif placed.at in lines and placed.direction is Direction.OUT:
        yield Problem(where, "a management line takes a list inbound only: logins come in by it")


def _occupied(
    placed: Placement,
    access_list: AccessList,
    taken: dict[tuple[str, str, Direction, Family], str],
    where: str,
) -> Iterator[Problem]:
    point = (placed.device, placed.at, placed.direction, access_list.family)
    if point in taken:
        yield Problem(
            where, f"{taken[point]} is placed there already: one list per place, direction and family"
        )
    taken.setdefault(point, placed.list)


def _test(test: TestFlow, devices: dict[str, Device], broken: Broken) -> Iterator[Problem]:
    where = f"test flow {test.id}"
    flow = test.flow.flow
    for end in (flow.source, flow.destination):
        if end.device is None:
            continue
        device = devices.get(end.device)
        if device is None:
            if ("devices", end.device) not in broken:
                yield Problem(where, _unknown("device", end.device, devices))
            continue
        if device.kind is DeviceKind.SWITCH:
            yield Problem(where, f"{end.device} is a switch: it neither sends nor answers")
        elif not any(interface.addresses for interface in device.interfaces):
            yield Problem(where, f"{end.device} has no address yet: give one of its interfaces an address")
        interfaces = [interface.name for interface in device.interfaces]
        held = {str(address.ip) for interface in device.interfaces for address in interface.addresses}
        if (
            end.at is not None
            and end.at not in interfaces
            and end.at not in held
            and not _in_prefixes(end.at, device)
        ):
            yield Problem(
                where, f"{end.device}: " + _unknown("interface or address", end.at, [*interfaces, *held])
            )
    destination = devices.get(flow.destination.device or "")
    if flow.destination.device is not None and destination is None:
        return
    if requested(flow.service, destination, Family.IPV4) is None:
        offered = ", ".join(service.name for service in destination.services) if destination else ""
        services = f"{destination.name} offers {offered}" if destination and offered else "write tcp/443, say"
        yield Problem(where, f"no service is known by the name “{flow.service}”: {services}")


def _in_prefixes(at: str, device: Device) -> bool:
    try:
        return any(ip_address(at) in prefix for prefix in device.prefixes)
    except ValueError:
        return False


def _unknown(what: str, name: str, known: Iterable[str]) -> str:
    names = sorted(known)
    shown = ", ".join(names[:6]) + (", …" if len(names) > 6 else "")
    return f"there is no {what} “{name}”" + (f": known are {shown}" if names else "")
