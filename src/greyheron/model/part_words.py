"""Words of the lines that make parts of a device: names, addresses, VLANs, numbers."""

import re
from collections.abc import Callable
from ipaddress import ip_address, ip_interface, ip_network
from typing import Final

from greyheron.model.item import Address, InterfaceAddress, Prefix
from greyheron.model.notation.flows import INTERFACE
from greyheron.model.notation.line import Option
from greyheron.model.notation.terms import DOMAIN_NAME, NAME

HOP: Final = Option("172.20.32.1", "an address", literal=False)


ADDRESS = Option("172.20.16.1/24", "an address with its prefix length", literal=False)


PREFIX = Option("172.20.16.0/24", "a prefix", literal=False)


MAC = Option("02:1a:00:00:4c:07", "a MAC address", literal=False)


VLAN = Option("20", "a VLAN, 1 to 4094", literal=False)


def name_of(word: str) -> str:
    """A name. Raises ValueError."""
    if not NAME.fullmatch(word):
        raise ValueError(f"“{word}” is no name: a letter, then letters, digits, dots, dashes or underscores")
    return word


def domain_name_of(word: str) -> str:
    """A domain name. Raises ValueError."""
    if not re.fullmatch(DOMAIN_NAME, word):
        raise ValueError(
            f"“{word}” is no domain name: labels of letters, digits and dashes with dots between"
        )
    return word


def interface_name_of(word: str) -> str:
    """The name of an interface. Raises ValueError."""
    if not INTERFACE.fullmatch(word):
        raise ValueError(f"“{word}” is no interface: a letter, then letters, digits, dots, dashes or slashes")
    return word


def address_of(word: str) -> Address:
    """An address. Raises ValueError."""
    try:
        return ip_address(word)
    except ValueError:
        raise ValueError(f"“{word}” is no address") from None


def interface_address_of(word: str) -> InterfaceAddress:
    """An address with its prefix length. Raises ValueError."""
    if "/" not in word:
        raise ValueError(f"“{word}” has no prefix length: write {word}/{64 if ':' in word else 24}, say")
    try:
        return ip_interface(word)
    except ValueError:
        raise ValueError(f"“{word}” is no address with a prefix length") from None


def is_address(word: str) -> bool:
    return word[0].isdigit() or ":" in word


def prefix_of(word: str) -> Prefix:
    try:
        return ip_network(word)
    except ValueError as error:
        raise ValueError(f"“{word}” is no prefix: {error}") from None


def vlan_of(word: str) -> int:
    if not word.isdecimal() or not 1 <= int(word) <= 4094:
        raise ValueError(f"“{word}” is no VLAN: 1 to 4094 can stand here")
    return int(word)


def vlans_of(word: str) -> tuple[int, ...]:
    """`10,20,30-35`"""
    found: list[int] = []
    for part in word.split(","):
        low, dash, high = part.partition("-")
        first = vlan_of(low)
        last = vlan_of(high) if dash else first
        if last < first:
            raise ValueError(f"the range {part} runs backwards: write {last}-{first}")
        found += range(first, last + 1)
    return tuple(dict.fromkeys(found))


def number_between(least: int, most: int) -> Callable[[str], int]:
    def read(word: str) -> int:
        if not word.isdecimal() or not least <= int(word) <= most:
            raise ValueError(f"“{word}” does not fit here: a number from {least} to {most} can stand here")
        return int(word)

    return read


def names_of(word: str) -> tuple[str, ...]:
    return tuple(interface_name_of(part) for part in word.split(","))
