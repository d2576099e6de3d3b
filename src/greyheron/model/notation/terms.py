"""Addresses and ports as words of the notation."""

import re
from ipaddress import ip_address
from socket import AF_INET, AF_INET6, inet_pton

from greyheron.model.entry import (
    AddressBlock,
    AddressTerm,
    NamedAddresses,
    NamedPorts,
    NotPort,
    PortSpan,
    PortTerm,
)
from greyheron.model.names import PORTS
from greyheron.model.notation.line import NotationLine, Option
from greyheron.model.values import Family

NAME = re.compile(r"[A-Za-z][A-Za-z0-9._-]{0,62}")
DOMAIN_NAME = r"^([A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)+[A-Za-z][A-Za-z0-9-]*[A-Za-z0-9]$"
"""Labels with dots between (RFC 1034 3.5); at least two, so that it is no device's name by accident."""
_NUMBER = re.compile(r"[0-9]{1,10}")
_SOCKETS = {Family.IPV4: AF_INET, Family.IPV6: AF_INET6}

_NAME_OPTION = Option("@", "an address set, or a device by name", literal=False)
_ADDRESS_OPTIONS = {
    Family.IPV4: (
        Option("172.20.16.21", "one address", literal=False),
        Option("172.20.16.0/24", "a prefix", literal=False),
        Option("172.20.16.0~0.0.0.254", "a wildcard: ones are the bits that do not matter", literal=False),
        _NAME_OPTION,
    ),
    Family.IPV6: (
        Option("2001:db8:16::21", "one address", literal=False),
        Option("2001:db8:16::/64", "a prefix", literal=False),
        _NAME_OPTION,
    ),
}


def read_address(text: str, family: Family) -> int:
    """One address of `family` as a number. Raises ValueError with a sentence."""
    try:
        return int.from_bytes(inet_pton(_SOCKETS[family], text))
    except (OSError, ValueError):  # what it does not read is read once more, slowly, to say what is wrong
        return _read_carefully(text, family)


def _read_carefully(text: str, family: Family) -> int:
    try:
        address = ip_address(text)
    except ValueError:
        if "," in text:
            raise ValueError(
                f"“{text}” is several addresses: write a set, @name, or an entry for each"
            ) from None
        raise ValueError(f"“{text}” is no address") from None
    if address.version != (4 if family is Family.IPV4 else 6):
        raise ValueError(f"{text} is no {family.word} address, and the list is for {family.word}")
    return int(address)


def read_block(text: str, family: Family) -> AddressBlock:
    """An address, `address/len` or `address~wildcard`. Raises ValueError with a sentence."""
    if "~" in text:
        head, wildcard = text.split("~", 1)
        if family is Family.IPV6:
            raise ValueError("a wildcard mask is for IPv4 only: write a prefix such as 2001:db8::/64")
        mask = read_address(wildcard, family) ^ family.every_bit
        return AddressBlock(family, read_address(head, family) & mask, mask)
    head, slash, length_text = text.partition("/")
    address = read_address(head, family)
    if not slash:
        return AddressBlock(family, address, family.every_bit)
    if not _NUMBER.fullmatch(length_text) or int(length_text) > family.bits:
        raise ValueError(f"“/{length_text}” is no prefix length: 0 to {family.bits} can stand here")
    block = AddressBlock.prefix(family, address, int(length_text))
    if block.value != address:
        raise ValueError(
            f"{text} has bits set beyond the prefix: write {block}, or {head} for the one address"
        )
    return block


def read_term(line: NotationLine, family: Family) -> AddressTerm | None:
    """The next word as an address term; None for `any`."""
    if line.take("any", "every address"):
        return None
    return line.value(lambda word: read_address_term(word, family), *_ADDRESS_OPTIONS[family])


def read_address_term(word: str, family: Family) -> AddressTerm:
    """An address, a prefix, a wildcard or `@name`. Raises ValueError with a sentence."""
    if word.startswith("@"):
        return NamedAddresses(read_name(word))
    if not word[0].isdigit() and ":" not in word:
        near = f" (a name is written @{word})" if NAME.fullmatch(word) else ""
        raise ValueError(f"“{word}” is no address{near}: expected any, an address, a prefix or @name")
    return read_block(word, family)


def read_name(word: str) -> str:
    """The name behind `@`. Raises ValueError with a sentence."""
    if not NAME.fullmatch(word[1:]):
        raise ValueError(f"“{word}” is no name: a letter, then letters, digits, dots, dashes or underscores")
    return word[1:]


def read_port(text: str) -> tuple[int, str | None]:
    """A port number and, when it was written as a service name, that name. Raises ValueError."""
    if _NUMBER.fullmatch(text):
        if int(text) > 65535:
            raise ValueError(f"{text} is no port: ports end at 65535")
        return int(text), None
    if text.lower() in PORTS:
        return PORTS[text.lower()], text.lower()
    raise ValueError(f"“{text}” is no port: expected a number from 0 to 65535, a service name, or @name")


def read_ports(text: str) -> tuple[PortTerm, ...]:
    """A comma list of ports, ranges, comparisons and port sets. Raises ValueError with a sentence."""
    parts = text.split(",")
    if not all(parts):
        raise ValueError(f"“{text}” has an empty place between its commas")
    if len(parts) > 1 and any(part.startswith("!=") for part in parts):
        raise ValueError("!= stands alone: in a list of alternatives it would let every port match")
    return tuple(_read_port_term(part) for part in parts)


def _read_port_term(part: str) -> PortTerm:
    if part.startswith("@"):
        return NamedPorts(read_name(part))
    if part.startswith("!="):
        return NotPort(*read_port(part[2:]))
    if part.startswith(">="):
        return PortSpan(read_port(part[2:])[0], 65535)
    if part.startswith("<="):
        return PortSpan(0, read_port(part[2:])[0])
    part = part.removeprefix("=")
    if "-" in part and part.lower() not in PORTS:
        low_text, high_text = part.split("-", 1)
        low, high = read_port(low_text)[0], read_port(high_text)[0]
        if low > high:
            raise ValueError(f"the range {part} runs backwards: write {high}-{low}")
        return PortSpan(low, high)
    port, word = read_port(part)
    return PortSpan(port, port, word)
