"""Packets in words: “256 × 1 × 1,023”, “tcp from 172.20.16.0/24 to ledger, ports 1–1023”."""

from collections.abc import Callable, Sequence

from greyheron.analysis.entries.difference import PacketBox
from greyheron.core.intervals import Region, Spans, TooManyParts, minus, size, span_size, tidied
from greyheron.core.lists.resolved import Names
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock, NamedAddresses
from greyheron.model.names import port_name
from greyheron.model.values import Family

_FEW = 10_000_000
"""Larger counts are told as powers of two."""
_MOST_NAMED = 4


class PacketWords:
    """What packets of one family are called in a network."""

    def __init__(self, network: Network, family: Family) -> None:
        self._everyone: Region = (AddressBlock(family, 0, 0),)
        self._names: dict[Region, str] = {}
        names = Names(network)
        for name in [*(each.name for each in network.address_sets), *(each.name for each in network.devices)]:
            for blocks in (names.addresses(NamedAddresses(name), family) or (),):
                self._names.setdefault(tidied(tuple(blocks)), name)
        for device in network.devices:
            for interface in device.interfaces:
                for address in interface.of(family):
                    own = (AddressBlock.prefix(family, int(address.ip), family.bits),)
                    self._names.setdefault(own, device.name)

    def of(self, box: PacketBox) -> str:
        return packet_words(box, self._side(box.sources), self._side(box.destinations))

    def _side(self, region: Region | None) -> str:
        if region is None:
            return "any"
        if region in self._names:
            return self._names[region]
        if len(region) > 1:
            try:
                left = tidied(minus(self._everyone, region))
            except TooManyParts:
                left = region
            if len(left) < len(region):
                return f"any but {self._names.get(left) or _blocks(left)}"
        return _blocks(region)


def packet_words(box: PacketBox, source: str, destination: str) -> str:
    """Packets in words, between sides that have words already."""
    words = f"{', '.join(box.kinds)} from {source} to {destination}"
    if box.source_ports is not None:
        words += f", from {_ports(box.source_ports)}"
    return words if box.destination_ports is None else f"{words}, {_ports(box.destination_ports)}"


def _blocks(region: Region) -> str:
    named = ", ".join(map(str, region[:_MOST_NAMED]))
    return f"{named} and {len(region) - _MOST_NAMED} more" if len(region) > _MOST_NAMED else named


def _ports(spans: Spans) -> str:
    parts = [f"{low}" if low == high else f"{low}–{high}" for low, high in spans]
    if len(parts) > _MOST_NAMED:
        parts = [*parts[:_MOST_NAMED], f"{len(parts) - _MOST_NAMED} more"]
    low, high = spans[0]
    if len(spans) == 1 and low == high:
        name = port_name(low)
        return f"port {low} ({name})" if name else f"port {low}"
    return f"ports {', '.join(parts)}"


def counts(box: PacketBox) -> str:
    """How many addresses and ports there are on each side of which it says something; "" for all."""
    sizes = [size(each) for each in box.values[:2] if each is not None]
    return " × ".join(
        map(_count, [*sizes, *(span_size(each) for each in box.values[2:] if each is not None)])
    )


def _count(number: int) -> str:
    if number < _FEW:
        return f"{number:,}"
    power = number.bit_length() - 1
    return f"2^{power}" if number == 1 << power else f"about 2^{round_power(number)}"


def round_power(number: int) -> int:
    """The power of two that is nearest to a number, by their ratio."""
    power = number.bit_length() - 1
    return power + (number * number > 1 << 2 * power + 1)


def told(boxes: Sequence[PacketBox], words: Callable[[PacketBox], str], most: int) -> tuple[list[str], int]:
    """The largest of some boxes as sentences without an end, and how many more there are."""
    found = []
    for box in boxes[:most]:
        many = counts(box)
        verb = "permits" if box.permitted else "denies"
        found.append(f"{verb} {many + ' ' if many else ''}more: {words(box)}")
    return found, max(len(boxes) - most, 0)
