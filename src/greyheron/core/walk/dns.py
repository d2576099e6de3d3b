"""Names: what a sender asks its resolvers before it begins a conversation (§13, RFC 1034)."""

from collections.abc import Iterator
from enum import StrEnum

from msgspec import Struct

from greyheron.core.network.addresses import is_link_local
from greyheron.core.network.topology import Topology
from greyheron.model.device import Device
from greyheron.model.flow import FlowEnd
from greyheron.model.item import Address, family_of
from greyheron.model.values import Family


class Unresolved(StrEnum):
    """Why a name leads nowhere."""

    NO_RESOLVER = "nobody to ask"
    NOT_ANSWERED = "not answered"
    NO_SUCH_NAME = "no such name"
    NOT_IN_FAMILY = "no address of this family"


class Resolver(Struct, frozen=True):
    """An address that a sender asks, and its family."""

    address: int
    family: Family


def is_name(topology: Topology, end: FlowEnd) -> bool:
    """Whether a destination is a name: it is called like no device, and has a dot in it."""
    return (
        end.device is not None and end.at is None and end.device not in topology.devices and "." in end.device
    )


def resolvers_of(device: Device) -> list[Resolver]:
    """Whom a device asks, in order."""
    return [Resolver(int(address), family_of(address)) for address in device.resolvers]


def records_of(device: Device, name: str) -> list[Address] | None:
    """What a device answers for a name; None when it knows no such name."""
    found = [record.addresses for record in device.records if record.name.lower() == name.lower()]
    return [address for addresses in found for address in addresses] if found else None


def known_addresses(topology: Topology, name: str, family: Family) -> Iterator[int]:
    """What somebody in the network would answer for a name, whoever may ask."""
    for device in topology.devices.values():
        for address in records_of(device, name) or ():
            if family_of(address) is family:
                yield int(address)


def family_for(topology: Topology, sender: str, name: str) -> Family:
    """IPv4 where the sender has it, unless the name is known to stand for IPv6 addresses only."""
    own = {
        family
        for family in Family
        if any(not is_link_local(family, each) for each in topology.addresses(sender, family))
    }
    known = {family for family in Family if any(known_addresses(topology, name, family))}
    both = [family for family in Family if family in own and (family in known or not known)]
    return both[0] if both else Family.IPV4 if Family.IPV4 in own else Family.IPV6
