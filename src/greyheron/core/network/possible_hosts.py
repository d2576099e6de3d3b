"""Possible hosts: who could stand on a segment beside the machines that are drawn (§10).

One stand-in for each prefix of a segment holds every address of it that no device holds. It is attached to
the segment, sends by the gateway that its neighbours use, answers on every service, and filters nothing.
"""

from collections.abc import Mapping

from msgspec import Struct

from greyheron.core.network.addresses import HeldAddress, is_link_local
from greyheron.core.network.segments import InterfaceId, Segments
from greyheron.model.device import Device, Interface, Route
from greyheron.model.entry import AddressBlock
from greyheron.model.values import DeviceKind, Family

STAND_IN_PORT = "eth0"


Holdings = Mapping[tuple[InterfaceId, Family], tuple[HeldAddress, ...]]


class StandIn(Struct, frozen=True):
    """Everyone who could be on one prefix of a segment; the device is called as the prefix is written."""

    device: Device
    prefix: AddressBlock
    segment: int


def stand_ins(devices: Mapping[str, Device], segments: Segments, held: Holdings) -> list[StandIn]:
    """One for every prefix of a segment that has room; a prefix on two segments has one on the first."""
    found: dict[AddressBlock, StandIn] = {}
    for number, members in enumerate(segments.members):
        for prefix, taken in _prefixes(members, held).items():
            if prefix not in found and room(prefix) > taken:
                gateways = _gateways(prefix, members, devices, held)
                found[prefix] = StandIn(_stand_in(prefix, gateways), prefix, number)
    return list(found.values())


def room(prefix: AddressBlock) -> int:
    """How many addresses of a prefix hosts can have: not an IPv4 network's own nor its broadcast address."""
    return prefix.size - len(reserved(prefix))


def reserved(prefix: AddressBlock) -> tuple[int, ...]:
    """The addresses of a prefix that no host can have (RFC 1122 3.2.1.3, RFC 3021; RFC 4291 2.6.1)."""
    if prefix.size <= 2:
        return ()
    return (prefix.first, prefix.last) if prefix.family is Family.IPV4 else (prefix.first,)


def _prefixes(members: tuple[InterfaceId, ...], held: Holdings) -> dict[AddressBlock, int]:
    """The prefixes on a segment, and how many of their addresses are held there."""
    found: dict[AddressBlock, int] = {}
    for port in members:
        for family in Family:
            for each in held.get((port, family), ()):
                if not is_link_local(family, each.address):
                    found[each.prefix] = found.get(each.prefix, 0) + 1
    return found


def _gateways(
    prefix: AddressBlock,
    members: tuple[InterfaceId, ...],
    devices: Mapping[str, Device],
    held: Holdings,
) -> list[int]:
    """What the prefix's own hosts use; where none is known, every router and firewall on the segment."""
    family = prefix.family
    used: set[int] = set()
    routers: set[int] = set()
    for port in members:
        device = devices[port[0]]
        own = [each.address for each in held.get((port, family), ()) if each.prefix == prefix]
        if not own:
            continue
        if device.traits.forwards:
            routers.update(own)
        elif device.traits.end_system:
            gateway = device.gateway if family is Family.IPV4 else device.gateway6
            used.update(() if gateway is None else (int(gateway),))
    return sorted(used or routers)


def _stand_in(prefix: AddressBlock, gateways: list[int]) -> Device:
    text = prefix.family.text
    everywhere = "0.0.0.0/0" if prefix.family is Family.IPV4 else "::/0"
    routes = [Route.model_validate({"to": str(prefix), "interface": STAND_IN_PORT})]
    routes += [
        Route.model_validate(
            {"to": everywhere, "via": text(gateway)}
            | ({"interface": STAND_IN_PORT} if is_link_local(prefix.family, gateway) else {})
        )
        for gateway in gateways
    ]
    return Device.model_construct(  # its name is no device's name
        name=str(prefix),
        kind=DeviceKind.OUTSIDE,
        interfaces=(Interface(name=STAND_IN_PORT),),
        routes=tuple(routes),
        prefixes=(routes[0].to,),
    )
