"""Zones: what a firewall lets through where no inbound list decides (§6)."""

from greyheron.model.device import Device


def zone_of(device: Device, interface: str) -> str | None:
    return next((zone.name for zone in device.zones if interface in zone.interfaces), None)


def lets_through(device: Device, ingress: str, egress: str) -> bool:
    """From a more to a less trusted zone; within one only if the firewall says so; never without a zone."""
    if not device.traits.zoned:
        return True
    order = [zone.name for zone in device.zones]
    here, there = zone_of(device, ingress), zone_of(device, egress)
    if here is None or there is None:
        return False
    return device.same_zone if here == there else order.index(here) < order.index(there)
