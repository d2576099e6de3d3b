"""Checks across a whole document: names that must exist, and what may be there only once."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from ipaddress import ip_address, ip_interface

from msgspec import Struct

from greyheron.model.check_device import device_problems, doubles, unknown
from greyheron.model.device import Device
from greyheron.model.document import AccessList, Network, Placement, Requirement, TestFlow
from greyheron.model.entry import Entry, NamedAddresses, NamedPorts
from greyheron.model.flow import FlowEnd
from greyheron.model.item import Address
from greyheron.model.period import During
from greyheron.model.problems import Problem
from greyheron.model.requirement import KIND_WORDS, TermKind
from greyheron.model.services import KNOWN_SERVICES, requested
from greyheron.model.values import Direction, Family, ListKind


@dataclass(frozen=True)
class Broken:
    """Names of items that could not be read at all, so that references to them are not reported too."""

    names: dict[str, frozenset[str]] = field(default_factory=dict)

    def __contains__(self, where: tuple[str, str]) -> bool:
        collection, name = where
        return name in self.names.get(collection, frozenset())


def problems_of(
    network: Network, broken: Broken | None = None, before: Network | None = None
) -> list[Problem]:
    """Everything that is wrong between the items of `network`.

    before:  one with which nothing was wrong: only what may differ from it is looked at
    """
    every = None if before is None else _changed(before, network)
    lists = network.lists
    if before is not None and every is not None and every.isdisjoint(_NAMED_IN_LISTS):
        known = {id(access_list) for access_list in before.lists}
        lists = tuple(each for each in lists if id(each) not in known)
    devices = {device.name: device for device in network.devices}
    rests = _Rests(network, devices, broken or Broken(), lists)
    return [
        problem
        for on, check in _CHECKS
        if every is None or not on.isdisjoint(every)
        for problem in check(rests)
    ]


_NAMED_IN_LISTS = frozenset({"devices", "address_sets", "port_sets", "periods"})


def _changed(before: Network, after: Network) -> frozenset[str]:
    """The parts of a document that are not the same objects."""
    return frozenset(
        name for name in Network.model_fields if getattr(before, name) is not getattr(after, name)
    )


class _Rests(Struct, frozen=True):
    """What checks rest on; `lists` are those whose entries may name what is not there."""

    network: Network
    devices: dict[str, Device]
    broken: Broken
    lists: tuple[AccessList, ...]


def _names(rests: _Rests) -> Iterator[Problem]:
    network = rests.network
    yield from doubles("device", (device.name for device in network.devices))
    yield from doubles("address set", (group.name for group in network.address_sets))
    yield from doubles("port set", (group.name for group in network.port_sets))
    yield from doubles("period", (period.name for period in network.periods))
    yield from doubles("list", (access_list.name for access_list in network.lists))
    yield from doubles("test flow", (test.id for test in network.tests))
    yield from doubles("requirement", (requirement.id for requirement in network.requirements))
    yield from doubles("accepted finding", (each.finding for each in network.accepted))
    yield from doubles("position of", (position.device for position in network.positions))


def _devices(rests: _Rests) -> Iterator[Problem]:
    for device in rests.network.devices:
        yield from device_problems(device)
    yield from _addresses(rests.network.devices)


def _positions(rests: _Rests) -> Iterator[Problem]:
    for position in rests.network.positions:
        if position.device not in rests.devices and ("devices", position.device) not in rests.broken:
            yield Problem(f"position of {position.device}", unknown("device", position.device, rests.devices))


def _addresses(devices: Iterable[Device]) -> Iterator[Problem]:
    holders: dict[Address, str] = {}
    macs: dict[str, str] = {}
    for device in devices:
        for interface in device.interfaces:
            where = f"device {device.name}, interface {interface.name}"
            if interface.mac is not None:
                if interface.mac in macs:
                    yield Problem(where, f"{interface.mac} is also the MAC address of {macs[interface.mac]}")
                macs.setdefault(interface.mac, where)
            for address in interface.addresses:
                if address.ip.is_link_local:
                    continue  # every segment may use the same one again
                if address.ip in holders:
                    yield Problem(where, f"{address.ip} is also the address of {holders[address.ip]}")
                holders.setdefault(address.ip, where)
                prefix = address.network
                if (
                    prefix.version == 4
                    and prefix.prefixlen < 31
                    and address.ip in (prefix.network_address, prefix.broadcast_address)
                ):
                    kind = "network" if address.ip == prefix.network_address else "broadcast"
                    yield Problem(
                        where, f"{address.ip} is the {kind} address of {prefix}: no interface can hold it"
                    )


def _links(rests: _Rests) -> Iterator[Problem]:
    network, devices, broken = rests.network, rests.devices, rests.broken
    used: dict[str, str] = {}
    for link in network.links:
        where = f"link {link.ends[0]} – {link.ends[1]}"
        for end in link.ends:
            device_name, _, interface = end.partition(":")
            device = devices.get(device_name)
            if device is None:
                if ("devices", device_name) not in broken:
                    yield Problem(where, unknown("device", device_name, devices))
                continue
            names = [candidate.name for candidate in device.interfaces]
            if any(item.name == interface and item.parent for item in device.interfaces):
                yield Problem(where, f"{end} is a subinterface: link its parent")
            if interface not in names:
                yield Problem(where, f"{device_name}: " + unknown("interface", interface, names))
            if end in used:
                yield Problem(where, f"{end} is already joined by {used[end]}: put a switch between them")
            used.setdefault(end, where)


def _references(rests: _Rests) -> Iterator[Problem]:
    network, broken = rests.network, rests.broken
    groups = {group.name for group in network.address_sets} | {device.name for device in network.devices}
    port_sets = {group.name for group in network.port_sets}
    for access_list in rests.lists:
        for entry in access_list.body.entries:
            for message in _unknown_names(entry, groups, port_sets, broken):
                yield Problem(f"list {access_list.name}, entry {entry.number}", message)


def _periods(rests: _Rests) -> Iterator[Problem]:
    network, broken = rests.network, rests.broken
    periods = {period.name for period in network.periods}
    said: list[tuple[str, During | None]] = [
        (f"list {access_list.name}, entry {entry.number}", entry.during)
        for access_list in rests.lists
        if access_list.body.periods
        for entry in access_list.body.entries
    ]
    said += [(f"requirement {each.id}", each.statement.during) for each in network.requirements]
    for where, during in said:
        known = during is None or during.period in periods or ("periods", during.period) in broken
        if during is not None and not known:
            yield Problem(where, unknown("period", during.period, periods))


def _unknown_names(entry: Entry, groups: set[str], port_sets: set[str], broken: Broken) -> Iterator[str]:
    for term in (entry.source, entry.destination):
        if not isinstance(term, NamedAddresses) or term.name in groups:
            continue
        if ("devices", term.name) not in broken and ("address_sets", term.name) not in broken:
            yield unknown("address set or device", term.name, groups)
    for ports in (*entry.source_ports, *entry.destination_ports):
        if (
            isinstance(ports, NamedPorts)
            and ports.name not in port_sets
            and ("port_sets", ports.name) not in broken
        ):
            yield unknown("port set", ports.name, port_sets)


def _placements(rests: _Rests) -> Iterator[Problem]:
    network, devices, broken = rests.network, rests.devices, rests.broken
    lists = {access_list.name: access_list for access_list in network.lists}
    taken: dict[tuple[str, str, Direction, Family | None], str] = {}
    for placed in network.placements:
        where = f"placement of {placed.list} at {placed.device} {placed.at} {placed.direction}"
        if placed.list not in lists and ("lists", placed.list) not in broken:
            yield Problem(where, unknown("list", placed.list, lists))
        device = devices.get(placed.device)
        if device is not None:
            frames = placed.list in lists and lists[placed.list].kind is ListKind.FRAME
            yield from _attachment(placed, device, frames, where)
        elif ("devices", placed.device) not in broken:
            yield Problem(where, unknown("device", placed.device, devices))
        if placed.list in lists:
            yield from _occupied(placed, lists[placed.list], taken, where)


def _attachment(placed: Placement, device: Device, frames: bool, where: str) -> Iterator[Problem]:
    lines = [line.at for line in device.lines]
    names = [interface.name for interface in device.interfaces] + lines
    if frames and not device.traits.takes_frame_lists:
        yield Problem(
            where, f"a {device.kind} takes no frame lists: place it on a switch port, a router or a firewall"
        )
    elif not frames and not device.traits.takes_lists:
        yield Problem(where, f"a {device.kind} takes no lists: place it on a router or host")
    elif frames and placed.at in lines:
        yield Problem(where, "a management line sees no frames: place it on an interface")
    elif placed.at not in names:
        yield Problem(where, unknown("interface or line", placed.at, names))
    elif placed.at in lines and placed.direction is Direction.OUT:
        yield Problem(where, "a management line takes a list inbound only: logins come in by it")


def _occupied(
    placed: Placement,
    access_list: AccessList,
    taken: dict[tuple[str, str, Direction, Family | None], str],
    where: str,
) -> Iterator[Problem]:
    point = (placed.device, placed.at, placed.direction, access_list.family)
    if point in taken:
        yield Problem(
            where, f"{taken[point]} is placed there already: one list per place, direction and family"
        )
    taken.setdefault(point, placed.list)


def _tests(rests: _Rests) -> Iterator[Problem]:
    for test in rests.network.tests:
        yield from _test(test, rests.devices, rests.broken)


def _test(test: TestFlow, devices: dict[str, Device], broken: Broken) -> Iterator[Problem]:
    where = f"test flow {test.id}"
    flow = test.flow.flow
    for end in (flow.source, flow.destination):
        if end.device is None:
            yield from _possible(end, devices, where)
            continue
        device = devices.get(end.device)
        if device is None and "." in end.device and end is flow.destination and end.at is None:
            continue  # a name, which somebody may know or not
        if device is None:
            if ("devices", end.device) not in broken:
                yield Problem(where, unknown("device", end.device, devices))
            continue
        if device.traits.bridges:
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
                where, f"{end.device}: " + unknown("interface or address", end.at, [*interfaces, *held])
            )
    destination = devices.get(flow.destination.device or "")
    if flow.destination.device is not None and destination is None:
        return
    if requested(flow.service, destination, flow.family or Family.IPV4) is None:
        offered = ", ".join(service.name for service in destination.services) if destination else ""
        services = f"{destination.name} offers {offered}" if destination and offered else "write tcp/443, say"
        yield Problem(where, f"no service is known by the name “{flow.service}”: {services}")


def _possible(end: FlowEnd, devices: dict[str, Device], where: str) -> Iterator[Problem]:
    if not end.possible or end.at is None:
        return
    host = ip_interface(end.at)
    for device in devices.values():
        for interface in device.interfaces:
            if any(address.ip == host.ip for address in interface.addresses):
                yield Problem(where, f"{host.ip} is held by {device.name}: write {device.name}:{host.ip}")
                return
    if not _has_segment(str(host.network), devices):
        yield Problem(where, f"no interface has an address in {host.network}: no host could be there")


def _has_segment(prefix: str, devices: dict[str, Device]) -> bool:
    return any(
        str(address.network) == prefix
        for device in devices.values()
        for interface in device.interfaces
        for address in interface.addresses
    )


def _requirements(rests: _Rests) -> Iterator[Problem]:
    for requirement in rests.network.requirements:
        yield from _requirement(requirement, rests.network, rests.devices, rests.broken)


def _requirement(
    requirement: Requirement, network: Network, devices: dict[str, Device], broken: Broken
) -> Iterator[Problem]:
    where = f"requirement {requirement.id}"
    sets = {group.name for group in network.address_sets}
    statement = requirement.statement
    for term in (*statement.sources, *statement.destinations):
        if term.kind is TermKind.NAMED:
            domains = {record.name for device in devices.values() for record in device.records}
            known = sets | devices.keys() | KIND_WORDS.keys() | domains
            missing = ("devices", term.name) not in broken and ("address_sets", term.name) not in broken
            if term.name not in known and missing:
                yield Problem(where, unknown("device or address set", term.name, known))
        elif term.kind is TermKind.SEGMENT and not term.at:
            if not _has_segment(term.name, devices):
                yield Problem(where, f"no interface has an address in {term.name}: it is no segment’s prefix")
        elif term.kind in (TermKind.INTERFACE, TermKind.SEGMENT, TermKind.ZONE):
            device = devices.get(term.name)
            if device is None:
                if ("devices", term.name) not in broken:
                    yield Problem(where, unknown("device", term.name, devices))
                continue
            zone = term.kind is TermKind.ZONE
            names = [each.name for each in (device.zones if zone else device.interfaces)]
            if term.at not in names:
                yield Problem(
                    where, f"{term.name}: " + unknown("zone" if zone else "interface", term.at, names)
                )
    yield from _services(statement.services, network, where)


def _services(words: Iterable[str], network: Network, where: str) -> Iterator[Problem]:
    named = {service.name.lower() for device in network.devices for service in device.services}
    port_sets = {group.name for group in network.port_sets}
    for word in words:
        head, slash, ports = word.partition("/")
        for name in (part[1:] for part in ports.split(",") if part.startswith("@")):
            if head in ("tcp", "udp") and name not in port_sets:
                yield Problem(where, unknown("port set", name, port_sets))
        if not slash and word not in named and word not in KNOWN_SERVICES:
            yield Problem(
                where, f"no service is known by the name “{word}”: write tcp/443, any or services, say"
            )


def _in_prefixes(at: str, device: Device) -> bool:
    try:
        return any(ip_address(at) in prefix for prefix in device.prefixes)
    except ValueError:
        return False


_CHECKS: list[tuple[frozenset[str], Callable[[_Rests], Iterator[Problem]]]] = [
    (frozenset(Network.model_fields), _names),
    (frozenset({"devices"}), _devices),
    (frozenset({"devices", "links"}), _links),
    (frozenset({"devices", "address_sets", "port_sets", "lists"}), _references),
    (frozenset({"periods", "lists", "requirements"}), _periods),
    (frozenset({"devices", "lists", "placements"}), _placements),
    (frozenset({"devices", "tests"}), _tests),
    (frozenset({"devices", "address_sets", "port_sets", "requirements"}), _requirements),
    (frozenset({"devices", "positions"}), _positions),
]
"""Every check, with the collections whose changes it may have something to say about."""
