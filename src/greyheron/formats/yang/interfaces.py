"""Interfaces and their addresses (RFC 8343, RFC 8344)."""

from collections.abc import Mapping
from ipaddress import IPv4Interface, IPv6Interface, ip_interface
from typing import Any

from greyheron.formats.format import Notice
from greyheron.formats.yang.fields import Malformed, fields, items, text_at

_FAMILIES = {"ietf-ip:ipv4": "IPv4", "ietf-ip:ipv6": "IPv6"}
_READ = frozenset(("name", "type", "enabled", *_FAMILIES))
_READ_OF_FAMILY = frozenset(("enabled", "forwarding", "address"))


def interface_addresses(
    told: Mapping[str, Any], where: str, left_out: list[Notice]
) -> tuple[list[IPv4Interface | IPv6Interface], bool]:
    """The addresses that an interface has, and whether it forwards in any family. Raises Malformed.

    A family that is off has neither: `left_out` says so, and names what else is not read.
    """
    found, forwards = [], False
    unread = sorted(set(told) - _READ)
    for key, called in _FAMILIES.items():
        family = fields(told.get(key, {}), key)
        unread += [f"{called} {each}" for each in sorted(set(family) - _READ_OF_FAMILY)]
        addresses = [_address(each, where) for each in items(family, "address")]
        if family.get("enabled") is False:
            if addresses:
                off = ", ".join(map(str, addresses))
                left_out.append(Notice(where, f"{called} is off here: {off} not taken over"))
            continue
        forwards |= family.get("forwarding") is True
        found += addresses
    if unread:
        left_out.append(Notice(where, f"not read: {', '.join(unread)}"))
    return found, forwards


def _address(told: Mapping[str, Any], where: str) -> IPv4Interface | IPv6Interface:
    """With its prefix length, or a netmask in its place (RFC 8344 3)."""
    written = f"{text_at(told, 'ip', where)}/{told.get('prefix-length', told.get('netmask'))}"
    try:
        return ip_interface(written)
    except ValueError:
        raise Malformed(f"{where}: {written} is no address") from None
