"""The walk: one packet, hop by hop, with every step recorded (2-semantics §4).

Plain code that reads like the semantics. Equal-cost routes make several paths of one walk.
"""

from collections.abc import Mapping, Sequence
from dataclasses import replace

from greyheron.core.delivery import deliver
from greyheron.core.filters import at_interface
from greyheron.core.packet import Packet
from greyheron.core.places import AttachmentPoint
from greyheron.core.routing import Lookup, NextHop
from greyheron.core.steps import (
    Enters,
    Filtered,
    Hop,
    HopLimitReached,
    Leaves,
    LoopFound,
    NobodyAnswers,
    NotForwarded,
    Outcome,
    Path,
    Routed,
    Sends,
    Step,
    Unfiltered,
    Unrouted,
)
from greyheron.core.world import FORWARDING, World
from greyheron.model.values import DeviceKind, Direction

MOST_PATHS = 64

Ends = tuple[Hop, Outcome]
Onward = tuple[Hop, str, str, Packet]
"""The hop just made, then device, interface and packet of the next one."""


def walk(
    world: World,
    packet: Packet,
    origin: str,
    choices: Mapping[str, NextHop] | None = None,
    most: int = MOST_PATHS,
) -> tuple[tuple[Path, ...], bool]:
    """Every path of `packet` from device `origin`, and whether there were more than `most`.

    choices:  next hops to keep to where equal routes offer them, so that later packets of a
        conversation follow the first
    """
    paths: list[Path] = []
    ahead: list[tuple[tuple[Hop, ...], str, str | None, Packet]] = [((), origin, None, packet)]
    while ahead:
        if len(paths) == most:
            return tuple(paths), True
        hops, device, ingress, arrived = ahead.pop()
        came_before = any(hop.device == device for hop in hops)
        ends, onward = _cross(world, arrived, device, ingress, came_before, choices or {})
        paths += [Path((*hops, hop), outcome) for hop, outcome in ends]
        for hop, next_device, next_interface, sent in reversed(onward):
            ahead.append(((*hops, hop), next_device, next_interface, sent))
    return tuple(paths), False


def _cross(
    world: World,
    packet: Packet,
    device: str,
    ingress: str | None,
    came_before: bool,
    choices: Mapping[str, NextHop],
) -> tuple[list[Ends], list[Onward]]:
    """One device: the ways in which the walk ends here and those in which it goes on."""
    steps: list[Step] = []

    def end(outcome: Outcome, *last: Step) -> tuple[list[Ends], list[Onward]]:
        return [(Hop(device, ingress, None, packet, None, (*steps, *last)), outcome)], []

    if ingress is not None:
        steps.append(Enters(ingress))
        if came_before:
            return end(Outcome.LOOP, LoopFound())
        met = at_interface(world, AttachmentPoint(device, ingress, Direction.IN), packet)
        steps.append(met)
        if not isinstance(met, Unfiltered) and met.decision.denies:
            return end(Outcome.DENIED)
    if world.owner(packet.destination) == device:
        if ingress is None:
            packet = packet if packet.source is not None else replace(packet, source=packet.destination)
            steps.append(Sends(packet))
        outcome, last = deliver(world, device, packet)
        return end(outcome, *last)
    if ingress is None:
        return _send(world, packet, device, choices)
    if world.devices[device].kind not in FORWARDING:
        return end(Outcome.LOST, NotForwarded())
    if packet.hop_limit <= 1:
        return end(Outcome.HOP_LIMIT, HopLimitReached())
    return _forward(world, packet, device, ingress, steps, choices)


def _send(
    world: World, packet: Packet, device: str, choices: Mapping[str, NextHop]
) -> tuple[list[Ends], list[Onward]]:
    """Send a packet of the device's own: it skips the outbound list where §4 says so."""
    lookup = world.tables[device, packet.family].lookup(packet.destination)
    if not lookup.hops:
        unrouted = Hop(device, None, None, packet, None, (Sends(packet), Unrouted(lookup)))
        return [(unrouted, Outcome.NO_ROUTE)], []
    filters = _filters_own_traffic(world, device)
    found = []
    for chosen in _kept(lookup, choices.get(device)):
        made = packet
        if packet.source is None:
            made = replace(packet, source=own_address(world, device, chosen, packet))
        out = AttachmentPoint(device, chosen.interface, Direction.OUT)
        skipped = Unfiltered(out, own=(out, packet.family) in world.lists)
        met = at_interface(world, out, made) if filters else skipped
        steps = (Sends(made), Routed(lookup, chosen), met)
        found.append(_leave(world, Hop(device, None, chosen.interface, made, made, steps, chosen), met))
    return _sorted_out(found)


def _forward(
    world: World,
    packet: Packet,
    device: str,
    ingress: str,
    steps: Sequence[Step],
    choices: Mapping[str, NextHop],
) -> tuple[list[Ends], list[Onward]]:
    """Route a packet in transit by each of the equal next hops (§4, steps 5 to 8)."""
    lookup = world.tables[device, packet.family].lookup(packet.destination)
    if not lookup.hops:
        return [(Hop(device, ingress, None, packet, None, (*steps, Unrouted(lookup))), Outcome.NO_ROUTE)], []
    sent = packet.forwarded()
    found = []
    for chosen in _kept(lookup, choices.get(device)):
        met = at_interface(world, AttachmentPoint(device, chosen.interface, Direction.OUT), sent)
        taken = (*steps, Routed(lookup, chosen), met)
        found.append(_leave(world, Hop(device, ingress, chosen.interface, packet, sent, taken, chosen), met))
    return _sorted_out(found)


def _kept(lookup: Lookup, kept: NextHop | None) -> tuple[NextHop, ...]:
    """The next hops to walk: the one chosen before if it is still offered, else all."""
    return (kept,) if kept is not None and kept in lookup.hops else lookup.hops


def _leave(world: World, hop: Hop, met: Filtered | Unfiltered) -> Ends | Onward:
    """What the outbound list and the next hop's neighbour make of a packet that is about to leave."""
    assert hop.sent is not None
    assert hop.next_hop is not None
    if isinstance(met, Filtered) and met.decision.denies:
        return replace(hop, egress=None), Outcome.DENIED
    chosen = hop.next_hop
    address = hop.sent.destination if chosen.address is None else chosen.address
    neighbour = world.neighbour((hop.device, chosen.interface), address)
    if neighbour is None:
        missing = NobodyAnswers(chosen.interface, address)
        return replace(hop, steps=(*hop.steps, missing)), Outcome.NO_NEIGHBOUR
    leaves = Leaves(chosen.interface, neighbour[0], address)
    return replace(hop, steps=(*hop.steps, leaves)), *neighbour, hop.sent


def _sorted_out(found: Sequence[Ends | Onward]) -> tuple[list[Ends], list[Onward]]:
    return [item for item in found if len(item) == 2], [item for item in found if len(item) == 4]


def own_address(world: World, device: str, hop: NextHop, packet: Packet) -> int | None:
    """The source of a packet that a device sends itself by `hop` (§4).

    The address of the interface it leaves by, the one on the neighbour's prefix if there are several;
    an interface without an address lends the device's first.
    """
    toward = packet.destination if hop.address is None else hop.address
    addresses = world.interfaces[device, hop.interface].addresses
    for address in addresses:
        if toward & int(address.network.netmask) == int(address.network.network_address):
            return int(address.ip)
    if addresses:
        return int(addresses[0].ip)
    return next(iter(world.addresses(device)), None)


def _filters_own_traffic(world: World, name: str) -> bool:
    device = world.devices[name]
    if device.filters_own_traffic is not None:
        return device.filters_own_traffic
    return device.kind is DeviceKind.HOST
