"""The addresses that interfaces really have: IPv6 ones are never without a link-local address."""

from functools import lru_cache
from hashlib import sha256
from ipaddress import IPv6Address

from msgspec import Struct

from greyheron.core.network.segments import is_up
from greyheron.model.device import Device, Interface
from greyheron.model.entry import AddressBlock
from greyheron.model.item import Prefix, family_of
from greyheron.model.values import Family

LINK_LOCAL = AddressBlock.prefix(Family.IPV6, int(IPv6Address("fe80::")), 10)


class HeldAddress(Struct, frozen=True):
    """An address of an interface, and the prefix that it is on."""

    address: int
    prefix: AddressBlock


def block_of(prefix: Prefix) -> AddressBlock:
    """The addresses of a prefix."""
    return AddressBlock.prefix(family_of(prefix), int(prefix.network_address), prefix.prefixlen)


def is_link_local(family: Family, address: int) -> bool:
    return family is Family.IPV6 and LINK_LOCAL.holds(address)


def held(device: Device, interface: Interface, family: Family) -> tuple[HeldAddress, ...]:
    """Every address of `interface` in `family`; for IPv6 a link-local one, given or derived, comes last.

    None while the interface is disabled, or its parent is: its addresses are nobody's then (§1).
    """
    if not is_up(device, interface):
        return ()
    given = tuple(HeldAddress(int(address.ip), block_of(address.network)) for address in interface.of(family))
    if family is Family.IPV4:
        return given
    wide = tuple(each for each in given if not LINK_LOCAL.holds(each.address))
    local = tuple(each for each in given if LINK_LOCAL.holds(each.address))
    return wide + (local or (derived_link_local(device.name, interface.name),))


@lru_cache(maxsize=65536)
def derived_link_local(device: str, interface: str) -> HeldAddress:
    """A link-local address that is always the same for a device and interface name (§1)."""
    digest = sha256(f"{device}/{interface}".encode()).digest()
    prefix = AddressBlock.prefix(Family.IPV6, int(IPv6Address("fe80::")), 64)
    return HeldAddress(prefix.value | int.from_bytes(digest[:8], "big"), prefix)
