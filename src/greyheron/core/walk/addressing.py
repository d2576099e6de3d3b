"""The first packet of a test flow: who sends it, from which address and to which (§8)."""

from ipaddress import ip_address, ip_interface

from msgspec.structs import replace

from greyheron.core.network.addresses import block_of, is_link_local
from greyheron.core.network.possible_hosts import reserved
from greyheron.core.packet import Packet
from greyheron.core.world import World
from greyheron.model.errors import GreyHeronError
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP
from greyheron.model.services import Request, requested
from greyheron.model.values import Family

USUAL_SOURCE_PORT = 49152


class FlowError(GreyHeronError, ValueError):
    """A test flow that cannot be tried in this network; says why."""


def first_packet(world: World, flow: Flow) -> Packet:
    """The packet that opens `flow`. Raises FlowError when the network lacks one of its ends."""
    world = world_of(world, flow)
    family = family_of_flow(world, flow)
    source = source_of(world, flow.source, family)
    destination = _destination(world, flow.destination, family)
    device = world.topology.devices.get(
        flow.destination.device or world.topology.owner(family, destination) or ""
    )
    request = requested(flow.service, device, family)
    if request is None:
        raise FlowError(f"no service is known by the name “{flow.service}”: write tcp/443, say")
    if flow.flags is not None:
        if request.protocol != TCP:
            raise FlowError(f"{flow.service} is not TCP: only TCP has flags")
        request = replace(request, flags=flow.flags)
    if flow.fragment:
        request = Request(request.protocol, fragment=True)
    port = USUAL_SOURCE_PORT if flow.source_port is None else flow.source_port
    dscp = 0 if flow.dscp is None else flow.dscp.low
    return opener_of(family, replace(request, dscp=dscp), source, destination, port)


def opener_of(
    family: Family, request: Request, source: int | None, destination: int, source_port: int
) -> Packet:
    """The packet that opens what is requested; the port is used where the request has one."""
    opens = TcpFlags.SYN if request.protocol == TCP and not request.fragment else TcpFlags.NONE
    return Packet(
        family,
        source,
        destination,
        request.protocol,
        None if request.port is None else source_port,
        request.port,
        opens if request.flags is None else request.flags,
        request.icmp_type,
        request.icmp_code,
        dscp=request.dscp,
        fragment=request.fragment,
    )


def request_of(opener: Packet) -> Request:
    """What a packet that `opener_of` made asks for."""
    single = opener.protocol == TCP and not opener.fragment and opener.flags != TcpFlags.SYN
    return Request(
        opener.protocol,
        opener.destination_port,
        opener.icmp_type,
        opener.icmp_code,
        opener.flags if single else None,
        opener.fragment,
        opener.dscp,
    )


def world_of(world: World, flow: Flow) -> World:
    """Where `flow` is tried: with everyone who could be there if one of its ends is such a host."""
    return world.with_possible_hosts if flow.source.possible or flow.destination.possible else world


def sender_of(flow: Flow) -> str:
    """The device that sends; of a possible host the stand-in on its segment."""
    if flow.source.device is not None:
        return flow.source.device
    assert flow.source.at is not None
    return str(ip_interface(flow.source.at).network)


def family_of_flow(world: World, flow: Flow) -> Family:
    """The family to try a flow in: as written, as its addresses are, else IPv4 where both ends have it."""
    if flow.family is not None:
        return flow.family
    for end in (flow.source, flow.destination):
        if end.at is not None and (
            end.device is None or (end.device, end.at) not in world.topology.interfaces
        ):
            return _number(end.at.partition("/")[0])[0]
    ends = [end.device for end in (flow.source, flow.destination) if end.device in world.topology.devices]
    has_ipv4 = all(world.topology.addresses(end, Family.IPV4) for end in ends if end is not None)
    return Family.IPV4 if has_ipv4 else Family.IPV6


def _possible_host(world: World, end: FlowEnd, family: Family) -> int:
    """The address of a host that could be there. Raises FlowError when nobody could have it."""
    assert end.at is not None
    interface = ip_interface(end.at)
    prefix = str(interface.network)
    address = _in_family(str(interface.ip), family)
    if world.topology.owner(family, address) == prefix and address not in reserved(
        block_of(interface.network)
    ):
        return address
    raise FlowError(
        f"no host could have {interface.ip} on {prefix}: a device has it, or no segment has that prefix"
    )


def source_of(world: World, end: FlowEnd, family: Family) -> int | None:
    if end.possible:
        return _possible_host(world, end, family)
    device = world.topology.devices.get(end.device or "")
    if device is None:
        raise FlowError(f"there is no device “{end.device}” in this network")
    if device.traits.bridges:
        raise FlowError(f"{device.name} is a switch: it neither sends nor answers")
    return None if end.at is None else _address_of(world, device.name, end.at, family)


def _destination(world: World, end: FlowEnd, family: Family) -> int:
    if end.possible:
        return _possible_host(world, end, family)
    if end.device is None:
        assert end.at is not None
        return _in_family(end.at, family)
    if end.device not in world.topology.devices:
        raise FlowError(f"there is no device “{end.device}” in this network")
    if end.at is not None:
        return _address_of(world, end.device, end.at, family)
    addresses = world.topology.addresses(end.device, family)
    if not addresses or is_link_local(family, addresses[0]):
        raise FlowError(f"{end.device} has no {family.word} address to send to")
    return addresses[0]


def _address_of(world: World, device: str, at: str, family: Family) -> int:
    interface = world.topology.interfaces.get((device, at))
    if interface is None:
        address = _in_family(at, family)
        if not world.topology.owns(device, family, address):
            raise FlowError(f"{at} is neither an interface nor an address of {device}")
        return address
    if not interface.of(family):
        raise FlowError(f"{device} {at} has no {family.word} address")
    held = world.topology.held((device, at), family)
    if not held:
        raise FlowError(f"{device} {at} is disabled: its addresses are nobody's")
    return held[0].address


def _in_family(text: str, family: Family) -> int:
    found, address = _number(text)
    if found is not family:
        raise FlowError(f"{text} is no {family.word} address, and the flow is {family.word}")
    return address


def _number(text: str) -> tuple[Family, int]:
    try:
        address = ip_address(text)
    except ValueError:
        raise FlowError(f"“{text}” is no address") from None
    return (Family.IPV4 if address.version == 4 else Family.IPV6), int(address)
