"""Entries of frame lists as they are written and read: an EtherType, and MAC addresses (§14)."""

import re

from greyheron.model.entry import EVERY_MAC_BIT, FrameMatch, MacBlock, mac_text
from greyheron.model.names import ETHER_TYPES, LEAST_ETHER_TYPE, ether_type_name
from greyheron.model.notation.line import NotationLine, Option

_MAC = re.compile(r"[0-9a-f]{2}(:[0-9a-f]{2}){5}")
_TYPE = re.compile(r"0x[0-9a-f]{1,4}")
_TYPE_OPTIONS = (
    Option("any", "every frame"),
    *(Option(name, f"EtherType {number:#06x}") for name, number in ETHER_TYPES.items()),
    Option(f"{LEAST_ETHER_TYPE:#06x}-0xffff", "an EtherType by number", literal=False),
)
_MAC_OPTIONS = (
    Option("any", "every MAC address"),
    Option("02:1a:00:00:4c:07", "one MAC address", literal=False),
    Option(
        "02:1a:00:00:00:00~00:00:00:ff:ff:ff", "several: ones are the bits that do not matter", literal=False
    ),
)


def read_frame_match(line: NotationLine) -> FrameMatch:
    """What an entry of a frame list asks for. Raises LineError."""
    ether_type = line.value(_read_ether_type, *_TYPE_OPTIONS)
    source = line.value(read_mac_block, *_MAC_OPTIONS) if line.take("from", "who sends the frame") else None
    destination = line.value(read_mac_block, *_MAC_OPTIONS) if line.take("to", "whom it is sent to") else None
    return FrameMatch(ether_type, source, destination)


def write_frame_match(match: FrameMatch) -> list[str]:
    """The words that `read_frame_match` reads as `match`."""
    words = ["any" if match.ether_type is None else ether_type_name(match.ether_type)]
    for word, block in (("from", match.source), ("to", match.destination)):
        words += [] if block is None else [word, str(block)]
    return words


def read_mac(text: str) -> int:
    """One MAC address as a number. Raises ValueError with a sentence."""
    if not _MAC.fullmatch(text.lower()):
        raise ValueError(f"“{text}” is no MAC address: write six pairs of digits, such as 02:1a:00:00:4c:07")
    return int(text.replace(":", ""), 16)


def read_own_mac(text: str) -> str:
    """A MAC address that an interface can have, as it is written. Raises ValueError with a sentence."""
    address = read_mac(text)
    if address >> 40 & 1 or not address:
        raise ValueError(f"“{text}” stands for no one interface: the second digit of its first pair is even")
    return mac_text(address)


def read_mac_block(text: str) -> MacBlock | None:
    """An address, or several by a wildcard; None for any. Raises ValueError with a sentence."""
    if text.lower() == "any":
        return None
    address, tilde, wildcard = text.partition("~")
    mask = EVERY_MAC_BIT ^ (read_mac(wildcard) if tilde else 0)
    return MacBlock(read_mac(address) & mask, mask)


def _read_ether_type(text: str) -> int | None:
    text = text.lower()
    if text == "any":
        return None
    if text in ETHER_TYPES:
        return ETHER_TYPES[text]
    if _TYPE.fullmatch(text) and int(text, 16) >= LEAST_ETHER_TYPE:
        return int(text, 16)
    raise ValueError(
        f"“{text}” is no EtherType: expected any, a name such as ipv4 or arp, "
        f"or {LEAST_ETHER_TYPE:#06x} to 0xffff"
    )
