"""Addresses that devices answer for because translation rules name them (§7)."""

from greyheron.core.network.addresses import block_of
from greyheron.model.device import Device
from greyheron.model.entry import AddressBlock


def answered_addresses(device: Device) -> list[tuple[str, AddressBlock]]:
    """Outside interfaces, and the outside and pool addresses that the device answers for there."""
    return [(rule.outside, block_of(rule.to)) for rule in device.translations if rule.to is not None]
