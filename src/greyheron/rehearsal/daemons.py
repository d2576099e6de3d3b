"""What the routing daemons of a device are told: OSPF v2 and v3, in one area (§9)."""

from collections.abc import Iterator, Mapping

from msgspec import Struct

from greyheron.core.network.segments import InterfaceId
from greyheron.core.routing.ospf import EXTERNAL_COST
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device
from greyheron.model.values import Direction, Family

_FAST = """\
 timers throttle spf 0 50 50
 timers lsa min-arrival 0
"""
_HELLOS = """\
 ip ospf hello-interval 1
 ip ospf dead-interval 2
 ip ospf retransmit-interval 1
 ipv6 ospf6 hello-interval 1
 ipv6 ospf6 dead-interval 2
 ipv6 ospf6 retransmit-interval 1
"""


class Daemons(Struct, frozen=True):
    """The families that are spoken, and one configuration for all daemons of the device."""

    families: tuple[Family, ...]
    configuration: str


def daemons_of(world: World, device: Device, ports: Mapping[str, str]) -> Daemons | None:
    """ports:  the kernel's names of its interfaces;  None where it does not speak OSPF"""
    speaking = [each for each in device.interfaces if each.ospf is not None and each.name in ports]
    if not device.traits.forwards or not speaking:
        return None
    families = tuple(family for family in Family if any(each.of(family) for each in speaking))
    return Daemons(families, "".join(_lines(world, device, ports)))


def _lines(world: World, device: Device, ports: Mapping[str, str]) -> Iterator[str]:
    for interface in device.interfaces:
        if interface.ospf is None or interface.name not in ports:
            continue
        ospf = interface.ospf
        yield f"interface {ports[interface.name]}\n"
        for family, words in ((Family.IPV4, "ip ospf"), (Family.IPV6, "ipv6 ospf6")):
            if not interface.of(family):
                continue
            yield f" {words} area 0\n {words} cost {ospf.cost}\n"
            if ospf.passive:
                yield f" {words} passive\n"
            else:
                alone = _are_alone(world, (device.name, interface.name), family)
                yield f" {words} network {'point-to-point' if alone else 'broadcast'}\n"
        if not ospf.passive:
            yield _HELLOS
    number = 1 + list(world.topology.devices).index(device.name)
    router_id = f"0.0.{number >> 8}.{number & 255}"
    external = f"metric {EXTERNAL_COST} metric-type 1"
    for protocol in ("ospf", "ospf6"):
        yield f"router {protocol}\n {protocol} router-id {router_id}\n{_FAST}"
        if protocol == "ospf":
            yield " timers throttle lsa all 0\n"
        if device.announces_static:
            yield f" redistribute kernel {external}\n"
        if device.announces_default:
            yield f" default-information originate always {external}\n"


def _are_alone(world: World, port: InterfaceId, family: Family) -> bool:
    """Whether two neighbours may take each other for the ends of a cable, which is quicker.

    They say everything to the group then; where a list stands between them it matters that they do not (§9).
    """
    segments = world.topology.segments
    members = segments.members[segments.of[port]]
    spoken = (world.topology.interfaces[each].ospf for each in members)
    listed = any(
        (AttachmentPoint(*each, way), family) in world.lists for each in members for way in Direction
    )
    return not listed and sum(each is not None and not each.passive for each in spoken) <= 2
