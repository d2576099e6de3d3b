"""Test flows made of another one: the other way round, in the other family, for every host of a segment."""

from enum import StrEnum
from ipaddress import ip_address

from msgspec.structs import replace

from greyheron.core.network.addresses import is_link_local
from greyheron.core.walk.addressing import FlowError, family_of_flow
from greyheron.core.walk.dns import is_name
from greyheron.core.world import World
from greyheron.model.flow import ExpectedFlow, FlowEnd
from greyheron.model.services import requested, written
from greyheron.model.values import Family


class Derivation(StrEnum):
    MIRROR = "mirror"
    OTHER_FAMILY = "other family"
    SEGMENT = "segment"


def derive(world: World, test: ExpectedFlow, how: Derivation) -> list[ExpectedFlow]:
    """The test flows that `how` makes of `test`. Raises FlowError when it makes none."""
    return {
        Derivation.MIRROR: _mirrored,
        Derivation.OTHER_FAMILY: _in_other_family,
        Derivation.SEGMENT: _for_segment,
    }[how](world, test)


def _mirrored(world: World, test: ExpectedFlow) -> list[ExpectedFlow]:
    """From the destination to the source, about the same protocol and port."""
    flow = test.flow
    family = family_of_flow(world, flow)
    there = flow.destination
    if is_name(world.topology, there):
        raise FlowError(f"{there} is a name: write an address or a device to try it the other way")
    if there.device is None and not there.possible:
        owner = world.topology.owner(family, int(ip_address(there.at or "")))
        if owner is None:
            raise FlowError(f"{there} belongs to no device: nobody can send from there")
        there = FlowEnd(owner, there.at)
    request = requested(flow.service, world.topology.devices.get(there.device or ""), family)
    if request is None:
        raise FlowError(f"no service is known by the name “{flow.service}”")
    mirrored = replace(flow, source=there, destination=flow.source, service=written(request, family))
    return [replace(test, flow=mirrored)]


def _in_other_family(world: World, test: ExpectedFlow) -> list[ExpectedFlow]:
    flow = test.flow
    family = family_of_flow(world, flow)
    other = Family.IPV6 if family is Family.IPV4 else Family.IPV4
    named = is_name(world.topology, flow.destination)
    for end in (flow.source, *(() if named else (flow.destination,))):
        is_interface = end.device is not None and (end.device, end.at or "") in world.topology.interfaces
        if end.at is not None and not is_interface:
            raise FlowError(f"{end} is an address: write the flow with devices to try it in {other.word}")
        assert end.device is not None
        if all(is_link_local(other, address) for address in world.topology.addresses(end.device, other)):
            raise FlowError(f"{end.device} has no {other.word} address")
    return [replace(test, flow=replace(flow, family=other))]


def _for_segment(world: World, test: ExpectedFlow) -> list[ExpectedFlow]:
    """The same from every other host on the source's segment."""
    source = test.flow.source
    ports = [port for port in world.topology.segments.of if port[0] == source.device]
    beside = {
        port[0]
        for own in ports
        for port in world.topology.segments.members[world.topology.segments.of[own]]
        if port[0] != source.device and world.topology.devices[port[0]].traits.end_system
    }
    if not beside:
        raise FlowError(f"no other host is on a segment of {source.device}")
    return [replace(test, flow=replace(test.flow, source=FlowEnd(name))) for name in sorted(beside)]
