"""What is made in the kernel for a network, as values: namespaces, wires, addresses, routes, rules, daemons.

Nothing here does anything. A tag is a wire of its own: each VLAN of a link is a pair of virtual ports, and
each VLAN of a switch a bridge, so that kernels without VLANs can rehearse them too.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from msgspec import Struct

from greyheron.core.lists.frames import mac_of
from greyheron.core.network.answered_addresses import answered_addresses
from greyheron.core.network.segments import InterfaceId, LinkEnds, is_up
from greyheron.core.routing.table import NextHop, Origin
from greyheron.core.world import World
from greyheron.model.device import Device
from greyheron.model.entry import mac_text
from greyheron.model.values import Family
from greyheron.rehearsal.daemons import Daemons, daemons_of
from greyheron.rehearsal.rulebook import Rules
from greyheron.rehearsal.rules import rules_of

DISTANCE = 24
"""The routing daemon reads how much a kernel's route is preferred from the highest byte of its metric."""
LOOPBACK = "lo"


class Port(Struct, frozen=True):
    """A virtual port in a namespace.

    name:  as the kernel has it;  interface:  that of the device which it stands for
    addresses:  with prefix lengths, IPv6 link-local ones too;  bridge:  which one it is a port of, if any
    """

    name: str
    interface: str
    mac: str | None
    addresses: tuple[str, ...] = ()
    bridge: str | None = None


class Wire(Struct, frozen=True):
    """Two ports that are joined; `far` is None for one that nobody is at the other end of."""

    near: InterfaceId
    far: InterfaceId | None


class RoutePlan(Struct, frozen=True):
    """A route: by next hops (port, address or None), or none at all as if there were no route."""

    prefix: str
    hops: tuple[tuple[str, str | None], ...]
    metric: int


class DevicePlan(Struct, frozen=True):
    """A namespace, which stands for a device.

    local:  prefixes all of whose addresses are its own
    answered:  addresses that it answers for, and at which port
    """

    device: str
    forwards: bool
    ports: tuple[Port, ...]
    bridges: tuple[str, ...]
    routes: tuple[RoutePlan, ...]
    local: tuple[str, ...]
    answered: tuple[tuple[str, str], ...]
    rules: Rules
    daemons: Daemons | None

    def port(self, interface: str) -> str | None:
        """The kernel's name of an interface; None while it is disabled."""
        return next((each.name for each in self.ports if each.interface == interface), None)


@dataclass(frozen=True, slots=True)
class NetworkPlan:
    """Everything that is made.

    places:  by device;  wires:  by (device, port);  left_out:  what cannot be rehearsed, and why
    """

    places: Mapping[str, DevicePlan]
    wires: tuple[Wire, ...]
    left_out: tuple[str, ...] = field(default=())


def plan_of(world: World, guests: Mapping[str, tuple[str, ...]] | None = None) -> NetworkPlan:
    """What a world takes, which is one of a single moment.

    guests:  hosts to be there that are not drawn, by the stand-in for their segment: addresses with lengths
    """
    guests = guests or {}
    devices = {
        name: device
        for name, device in world.topology.devices.items()
        if name in guests or name not in world.topology.stand_ins
    }
    names = _PortNames(devices, guests)
    left_out: list[str] = []
    wires = list(_wires(world, names, left_out))
    places = {device.name: _place(world, device, names, left_out) for device in devices.values()}
    return NetworkPlan(places, tuple(wires), tuple(dict.fromkeys(left_out)))


class _PortNames:
    """The kernel's names of ports: of interfaces, and of switch ports for each VLAN and link end."""

    def __init__(self, devices: Mapping[str, Device], guests: Mapping[str, tuple[str, ...]]) -> None:
        self.guests = guests
        self.of_interface: dict[InterfaceId, str] = {}
        self.switch_ports: dict[str, list[Port]] = {}
        self.bridges: dict[InterfaceId, str] = {}
        for device in devices.values():
            if device.traits.bridges:
                self.switch_ports[device.name] = []
                continue
            for number, interface in enumerate(device.interfaces):
                if is_up(device, interface):
                    self.of_interface[device.name, interface.name] = f"i{number}"

    def on_bridge(self, node: InterfaceId, port: str | None) -> InterfaceId:
        """A new port of the bridge that `node` (a switch in a VLAN) is; `port`: the switch's own."""
        bridge = self.bridges.setdefault(node, f"b{sum(known[0] == node[0] for known in self.bridges)}")
        name = f"i{len(self.switch_ports[node[0]])}"
        self.switch_ports[node[0]].append(Port(name, port or "", None, bridge=bridge))
        return node[0], name


def _wires(world: World, names: _PortNames, left_out: list[str]) -> Iterator[Wire]:
    segments, devices = world.topology.segments, world.topology.devices
    joined: dict[InterfaceId, InterfaceId] = {}

    def root(node: InterfaceId) -> InterfaceId:
        while joined.setdefault(node, node) != node:
            node = joined[node]
        return node

    wired: set[InterfaceId] = set()
    seen: set[tuple[InterfaceId, InterfaceId, LinkEnds]] = set()
    for near in sorted(segments.crossings):
        for far, ends in segments.crossings[near]:
            if (far, near, ends[::-1]) in seen:
                continue
            seen.add((near, far, ends))
            both = [devices[node[0]].traits.bridges for node in (near, far)]
            if all(both):
                if root(near) == root(far):
                    left_out.append(f"the link {' – '.join(ends)}: it closes a circle of switches")
                    continue
                joined[root(near)] = root(far)
            ports = []
            for node, end, bridges in zip((near, far), ends, both, strict=True):
                if bridges:
                    ports.append(names.on_bridge(node, end.partition(":")[2]))
                else:
                    wired.add(node)
                    ports.append((node[0], names.of_interface[node]))
            yield Wire(ports[0], ports[1])
    for port, node in segments.joined_at.items():
        if port not in names.of_interface:
            continue
        wired.add(port)
        yield Wire((port[0], names.of_interface[port]), names.on_bridge(node, None))
    for port, name in names.of_interface.items():
        if port not in wired:
            yield Wire((port[0], name), None)


def _place(world: World, device: Device, names: _PortNames, left_out: list[str]) -> DevicePlan:
    topology = world.topology
    ports = tuple(names.switch_ports.get(device.name, ()))
    if not device.traits.bridges:
        ports = tuple(_ports(world, device, names))
    bridges = tuple(name for (owner, _), name in names.bridges.items() if owner == device.name)
    of = {each.interface: each.name for each in ports}
    answered = tuple(
        (block.family.text(address), of[outside])
        for outside, block in answered_addresses(device)
        if outside in of
        for address in range(block.first, block.last + 1)
        if topology.owner(block.family, address) != device.name
    )
    return DevicePlan(
        device.name,
        device.traits.forwards,
        ports,
        bridges,
        tuple(_routes(world, device, of)),
        () if device.name in names.guests else tuple(str(prefix) for prefix in device.prefixes),
        answered,
        rules_of(
            world,
            device,
            {item.name: _kernel_names(ports, item.name) for item in device.interfaces},
            left_out,
        ),
        daemons_of(world, device, of),
    )


def _kernel_names(ports: tuple[Port, ...], interface: str) -> tuple[str, ...]:
    """A switch port has one for each VLAN that it carries."""
    return tuple(each.name for each in ports if each.interface == interface)


def _ports(world: World, device: Device, names: _PortNames) -> Iterator[Port]:
    for interface in device.interfaces:
        port = device.name, interface.name
        if port not in names.of_interface:
            continue
        addresses = tuple(
            f"{family.text(each.address)}/{each.prefix.length}"
            for family in Family
            for each in world.topology.held(port, family)
        )
        addresses += names.guests.get(device.name, ())
        yield Port(
            names.of_interface[port], interface.name, mac_text(mac_of(device, interface.name)), addresses
        )


def _routes(world: World, device: Device, of: Mapping[str, str]) -> Iterator[RoutePlan]:
    """Static routes and gateways that lead somewhere, equal ones together; others come by themselves.

    Routes into nothing that are announced stand there once more, never used: a daemon does not tell of those
    that lead nowhere.
    """
    if device.traits.bridges:
        return
    for family in Family:
        table = world.table(device.name, family)
        found: dict[tuple[str, int], set[NextHop]] = {}
        for route in table.routes:
            if route.origin not in (Origin.STATIC, Origin.GATEWAY):
                continue
            hops = table.next_hops(route)
            if route.discard and device.announces_static:
                never = (route.preference << DISTANCE) + 1
                yield RoutePlan(_with_length(str(route.prefix), family), ((LOOPBACK, None),), never)
            if hops or route.discard:
                found.setdefault((str(route.prefix), route.preference), set()).update(hops)
        for (prefix, preference), hops in found.items():
            through = tuple(
                (of[hop.interface], None if hop.address is None else family.text(hop.address))
                for hop in sorted(hops, key=lambda hop: (hop.interface, hop.address or 0))
            )
            yield RoutePlan(_with_length(prefix, family), through, preference << DISTANCE)


def _with_length(prefix: str, family: Family) -> str:
    return prefix if "/" in prefix else f"{prefix}/{family.bits}"
