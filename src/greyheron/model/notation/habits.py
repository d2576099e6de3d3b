"""What people type from habit where the notation has another way, and that way in a sentence."""

from collections.abc import Sequence
from ipaddress import AddressValueError, IPv4Address

_EVERY_BIT = 0xFFFFFFFF


def way_of(words: Sequence[str], at: int) -> str:
    """How what is meant by the word at `at` is written; empty where nothing usual is meant."""
    word, before = words[at].lower(), words[at - 1].lower() if at else ""
    if word == "remark" and (at == 0 or before.isdigit()):
        return f"a remark stands behind #: write # {' '.join(words[at + 1 :])}".rstrip()
    if word == "ping" and before == "icmp":
        return "what ping sends is icmp echo-request: write that"
    address, mask = _address(before), _address(word)
    if address is not None and mask is not None:
        return _one_word(address, mask)
    return ""


def _one_word(address: int, mask: int) -> str:
    """An address and, as a word of its own, which bits may differ (a wildcard) or may not (a mask)."""
    wildcard = mask if not mask & (mask + 1) or not mask >> 31 else mask ^ _EVERY_BIT
    base = IPv4Address(address & ~wildcard & _EVERY_BIT)
    written = f"{base}~{IPv4Address(wildcard)}"
    if not wildcard & (wildcard + 1):
        written = f"{base}/{32 - wildcard.bit_length()} or {written}"
    return f"an address and its wildcard are one word: write {written}"


def _address(word: str) -> int | None:
    try:
        return int(IPv4Address(word))
    except AddressValueError:
        return None
