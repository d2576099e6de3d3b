"""Linking two devices: which interfaces the link takes, and the gateway that a host finds by it."""

from collections.abc import Iterable, Iterator, Mapping
from itertools import count

from greyheron.model.changes import ChangeError
from greyheron.model.device import Device, Interface
from greyheron.model.document import Link, Network
from greyheron.model.item import InterfaceAddress
from greyheron.model.values import DeviceKind

PAIR = 4
"""A prefix of no more addresses joins two devices."""


def joined(network: Network, one: str, other: str) -> tuple[list[Device], Link]:
    """The link between two devices of `network`, each by name or as `device:interface`, and those it changes.

    An interface that is named is taken as it is. Else it is a free one with an address that fits what is at
    the other side, then a free one, then a new one. Hosts without a gateway that are on one segment with a
    router's interface then, and have an address in its prefix, get that as their gateway.
    """
    devices = {device.name: device for device in network.devices}
    sides = [(devices[end.partition(":")[0]], end.partition(":")[2]) for end in (one, other)]
    chosen = [next(iter(names), None) for names in would_do(network, one, other)]
    changed: dict[str, Device] = {}
    ends = []
    for (device, _), name in zip(sides, chosen, strict=True):
        interface = name
        if interface is None:
            interface = next(free_names(device))
            added = (*device.interfaces, Interface(name=interface))
            changed[device.name] = device.model_copy(update={"interfaces": added})
        ends.append(f"{device.name}:{interface}")
    link = Link(ends=(ends[0], ends[1]))
    after = devices | changed
    for host in _with_gateways(after, (*network.links, link), ends):
        changed[host.name] = host
    return [changed.get(device.name, device) for device, _ in sides] + [
        device for name, device in changed.items() if name not in {each.name for each, _ in sides}
    ], link


def require_end(devices: Mapping[str, Device], end: str) -> None:
    """Raises ChangeError unless `end`, a device or `device:interface`, is there."""
    name, colon, interface = end.partition(":")
    device = devices.get(name)
    if device is None:
        raise ChangeError(f"there is no “{name}” in devices any more")
    if colon and all(each.name != interface for each in device.interfaces):
        known = ", ".join(each.name for each in device.interfaces) or "none"
        raise ChangeError(f"{name} has no interface “{interface}”: there are {known}")


def would_do(network: Network, one: str, other: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The interfaces of each side that a link between two devices could take; none: it gets a new one.

    One alone where it is named, is the only free one, or the only one that fits; ports are all alike.
    """
    devices = {device.name: device for device in network.devices}
    linked = {end for link in network.links for end in link.ends}
    sides = [(devices[end.partition(":")[0]], end.partition(":")[2]) for end in (one, other)]

    def of(device: Device, named: str, far: Device) -> tuple[str, ...]:
        free = (named,) if named else _free(device, linked)
        found = _fitting(device, free, _prefixes(network, devices, far), far.traits.bridges)
        return found[:1] if device.traits.bridges else found

    (near, near_named), (far, far_named) = sides
    return of(near, near_named, far), of(far, far_named, near)


def free_names(device: Device) -> Iterator[str]:
    """What interfaces that a device does not have would be called."""
    stem, first = ("p", 1) if device.traits.bridges else ("eth", 0)
    taken = {interface.name for interface in device.interfaces}
    return (name for name in (f"{stem}{number}" for number in count(first)) if name not in taken)


def _free(device: Device, linked: set[str]) -> list[str]:
    """The interfaces that no link ends at."""
    whole = (each.name for each in device.interfaces if each.parent is None)
    return [name for name in whole if not name.startswith("lo") and f"{device.name}:{name}" not in linked]


def _prefixes(network: Network, devices: dict[str, Device], device: Device) -> list[InterfaceAddress]:
    """The addresses that are at a device's free interfaces, or behind a switch."""
    if not device.traits.bridges:
        linked = {end for link in network.links for end in link.ends}
        return [each for name in _free(device, linked) for each in _addresses(device, name)]
    ends = (end.partition(":") for end in _behind(network.links, devices, device.name))
    return [each for name, _, interface in ends for each in _addresses(devices[name], interface)]


def _addresses(device: Device, interface: str) -> tuple[InterfaceAddress, ...]:
    return next((each.addresses for each in device.interfaces if each.name == interface), ())


def _fitting(
    device: Device, names: Iterable[str], others: list[InterfaceAddress], to_bridge: bool
) -> tuple[str, ...]:
    """Those of these whose prefix is that of one of `others`; else those with room for hosts, else all."""
    prefixes = {each.network for each in others}
    found = tuple(
        name for name in names if any(each.network in prefixes for each in _addresses(device, name))
    )
    # To a switch that nothing hangs on yet: by an interface that has room for more than one other.
    roomy = tuple(
        name
        for name in names
        if to_bridge and any(each.network.num_addresses > PAIR for each in _addresses(device, name))
    )
    return found or roomy or tuple(names)


def _behind(links: Iterable[Link], devices: dict[str, Device], switch: str) -> list[str]:
    """The ends of links, `device:interface`, that hang on a switch and on those it is linked with."""
    pairs = [(end, other) for link in links for end, other in (link.ends, link.ends[::-1])]
    found, seen, waiting = [], {switch}, [switch]
    while waiting:
        here = waiting.pop()
        for end, other in pairs:
            name = other.partition(":")[0]
            if end.partition(":")[0] != here:
                continue
            if not devices[name].traits.bridges:
                found.append(other)
            elif name not in seen:
                seen.add(name)
                waiting.append(name)
    return found


def _with_gateways(devices: dict[str, Device], links: tuple[Link, ...], ends: list[str]) -> Iterator[Device]:
    """Hosts on the segment of a new link that have no gateway yet, with that of their prefix."""
    on_it: dict[str, None] = {}
    for end in ends:
        name = end.partition(":")[0]
        on_it |= dict.fromkeys(_behind(links, devices, name) if devices[name].traits.bridges else [end])
    pairs = [(devices[end.partition(":")[0]], end.partition(":")[2]) for end in on_it]
    routers = [
        address
        for device, interface in pairs
        if device.traits.forwards
        for address in _addresses(device, interface)
    ]
    for device, interface in pairs:
        if device.kind is not DeviceKind.HOST:
            continue
        found = {}
        for own in _addresses(device, interface):
            field = "gateway" if own.version == 4 else "gateway6"
            there = [each.ip for each in routers if each.network == own.network]
            if getattr(device, field) is None and len(there) == 1:
                found[field] = there[0]
        if found:
            yield device.model_copy(update=found)
