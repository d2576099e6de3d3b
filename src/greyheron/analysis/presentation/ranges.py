"""What the entries of a list cover: ranges, and the known devices inside them."""

from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from dataclasses import dataclass

from greyheron.core.intervals import meet
from greyheron.core.lists.frames import mac_of
from greyheron.core.lists.resolved import Names, resolve
from greyheron.core.lists.rules import Rule
from greyheron.core.network.addresses import block_of, is_link_local
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import AddressBlock, AddressTerm, FrameMatch, MacBlock, NamedAddresses
from greyheron.model.item import family_of
from greyheron.model.values import Family

MOST_NAMED = 4


@dataclass(frozen=True, slots=True)
class EntryCover:
    """One entry in words.

    line:  where its text stands, counted from 1, in the list's own writing
    source, destination:  the addresses and known devices; empty for any
    """

    number: int
    line: int
    source: str
    destination: str


def cover_list(access_list: AccessList, network: Network) -> tuple[EntryCover, ...]:
    """What every entry covers. The list's names must exist in `network`."""
    if access_list.family is None:
        return tuple(_cover_frames(access_list, network))
    held = _Holders(network, access_list.family)
    covers = []
    line = 0
    for rule in resolve(access_list, Names(network)).rules:
        line += len(rule.entry.remarks) + 1
        covers.append(_cover(rule, line, held))
    return tuple(covers)


def _cover_frames(access_list: AccessList, network: Network) -> Iterator[EntryCover]:
    """For a frame list: the interfaces with those MAC addresses."""
    macs = [
        (mac_of(device, interface.name), f"{device.name} {interface.name}")
        for device in network.devices
        if not device.traits.bridges
        for interface in device.interfaces
    ]

    def side(block: MacBlock | None) -> str:
        if block is None:
            return ""
        inside = [name for mac, name in macs if block.holds(mac)]
        return f"{block}: {_named(inside)}"

    line = 0
    for entry in access_list.body.entries:
        line += len(entry.remarks) + 1
        match = entry.frame or FrameMatch()
        yield EntryCover(entry.number, line, side(match.source), side(match.destination))


class _Holders:
    """The devices of a network by the addresses of one family that they hold."""

    def __init__(self, network: Network, family: Family) -> None:
        held = sorted(
            (int(address.ip), index, device.name)
            for index, device in enumerate(network.devices)
            for interface in device.interfaces
            for address in interface.of(family)
        )
        self._addresses = [address for address, _, _ in held]
        self._devices = [(index, name) for _, index, name in held]
        self._standing_for = [*_published(network, family), *_beyond(network, family)]

    def inside(self, blocks: tuple[AddressBlock, ...]) -> list[str]:
        """Those with an address in some block, in the order of the network."""
        found: set[tuple[int, str]] = set()
        for block in blocks:
            first, end = bisect_left(self._addresses, block.first), bisect_right(self._addresses, block.last)
            whole = block.length is not None
            found.update(
                self._devices[at] for at in range(first, end) if whole or block.holds(self._addresses[at])
            )
        return [name for _, name in sorted(found)]

    def standing_for(self, blocks: tuple[AddressBlock, ...]) -> list[str]:
        """Whom addresses mean that no interface holds: who is published, or outside, or on the same link."""
        found = [
            words
            for own, words in self._standing_for
            if any(meet(own, block) is not None for block in blocks)
        ]
        if blocks and all(is_link_local(block.family, block.first) and block.length for block in blocks):
            found.append("neighbours on the same link")
        return found


def _published(network: Network, family: Family) -> Iterator[tuple[AddressBlock, str]]:
    """Outside addresses of translation rules, with who is reached or seen by them (§7)."""
    for device in network.devices:
        for rule in device.translations:
            if rule.to is None or family_of(rule.to) is not family:
                continue
            if rule.kind == "dynamic":
                yield block_of(rule.to), f"whom {device.name} translates from {rule.source}"
                continue
            inside = block_of(rule.source)
            names = [
                other.name
                for other in network.devices
                if any(inside.holds(int(each.ip)) for port in other.interfaces for each in port.of(family))
            ]
            if names:
                yield block_of(rule.to), f"{_named(names)} as {device.name} publishes it"


def _beyond(network: Network, family: Family) -> Iterator[tuple[AddressBlock, str]]:
    """What outside networks stand for."""
    for device in network.devices:
        for prefix in device.prefixes:
            if family_of(prefix) is family:
                yield block_of(prefix), f"whoever is behind {device.name}"


def _cover(rule: Rule, line: int, held: _Holders) -> EntryCover:
    entry = rule.entry
    return EntryCover(
        entry.number,
        line,
        _side(entry.source, rule.sources, held),
        _side(entry.destination, rule.destinations, held),
    )


def _side(term: AddressTerm | None, blocks: tuple[AddressBlock, ...] | None, held: _Holders) -> str:
    if blocks is None:
        return ""
    if not blocks:
        return f"{term}: no address at all"
    inside = [*held.inside(blocks), *dict.fromkeys(held.standing_for(blocks))]
    ranges = ", ".join(map(block_words, blocks[:MOST_NAMED])) + (", …" if len(blocks) > MOST_NAMED else "")
    name = f"{term} = " if isinstance(term, NamedAddresses) else ""
    return f"{name}{ranges}: {_named(inside)}"


def _named(inside: list[str]) -> str:
    if not inside:
        return "no device of this network"
    more = f" and {len(inside) - MOST_NAMED} more" if len(inside) > MOST_NAMED else ""
    return f"{', '.join(inside[:MOST_NAMED])}{more}"


def block_words(block: AddressBlock) -> str:
    """The addresses from first to last; of a scattered wildcard, how many there are in between."""
    family = block.family
    if block.size == 1:
        return family.text(block.value)
    ends = f"{family.text(block.first)}–{family.text(block.last)}"
    return ends if block.length is not None else f"{block.size:,} of {ends}"
