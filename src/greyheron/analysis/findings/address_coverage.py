"""Findings in the addresses that entries name: whose they are, and how many more they cover."""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator

import numpy as np
from msgspec.structs import replace

from greyheron.analysis.advice.entries import holding
from greyheron.analysis.findings.finding import (
    Finding,
    Repair,
    Severity,
    line_of,
    shortened,
)
from greyheron.core.intervals import Blocks, span_union
from greyheron.core.lists.fields import ADDRESS_FIELDS, AddressField
from greyheron.core.lists.fields.address import Role
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.network.addresses import block_of
from greyheron.core.packet import Way
from greyheron.model.changes import Change
from greyheron.model.device import Device
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import AddressBlock, AddressTerm, Entry, NamedAddresses
from greyheron.model.item import family_of
from greyheron.model.values import Action, Family


def in_addresses(
    access_list: AccessList, resolved: ResolvedList, held: "KnownAddresses"
) -> Iterator[Finding]:
    """What is doubtful in the addresses of one list."""
    for rule in resolved.rules:
        yield from _blocks(access_list, rule, held)
        yield from _too_wide(access_list, rule, held)
    yield from _one_address_only(access_list, resolved, held)


class KnownAddresses:
    """What addresses there are in a network, and whose."""

    def __init__(self, network: Network) -> None:
        found: dict[Family, list[AddressBlock]] = {family: [] for family in Family}
        self.owners: dict[tuple[Family, int], Device] = {}
        for device in network.devices:
            for interface in device.interfaces:
                for address in interface.addresses:
                    block = block_of(address.network)
                    found[block.family].append(block)
                    self.owners[block.family, int(address.ip)] = device
            outside = (*device.prefixes, *(rule.to for rule in device.translations if rule.to is not None))
            for prefix in outside:
                found[family_of(prefix)].append(block_of(prefix))
        self._spans = {
            family: span_union((block.first, block.last) for block in blocks)
            for family, blocks in found.items()
        }
        self._firsts = {family: [low for low, _ in spans] for family, spans in self._spans.items()}
        self._prefixes = {
            family: sorted(dict.fromkeys(blocks), key=lambda block: (block.first, -block.size))
            for family, blocks in found.items()
        }
        self._prefix_firsts = {
            family: [block.first for block in blocks] for family, blocks in self._prefixes.items()
        }
        known = {(block.value, block.mask) for block in found[Family.IPV4]}
        self._judged: dict[Blocks, tuple[AddressBlock | None, str]] = {}
        self._scattered = np.array(sorted(known), dtype=np.int64).reshape(-1, 2)

    def only_in(self, block: AddressBlock) -> AddressBlock | None:
        """The one prefix of which something is in a contiguous `block`; None if there are more, or none."""
        first, last = self._prefix_firsts[block.family], block.last
        low, end = bisect_left(first, block.first), bisect_right(first, last)
        found = self._prefixes[block.family][low:end]
        return found[0] if found and all(found[0].holds(each.value) for each in found) else None

    def doubtful(self, blocks: Blocks) -> tuple[AddressBlock | None, str]:
        """A block whose mask is the wrong way round, and in words the addresses that nobody has."""
        if blocks not in self._judged:
            inverted = next((block for block in blocks if _is_inverted(block)), None)
            unknown = [
                block
                for block in blocks
                if not (_is_inverted(block) or self.any_in(block))
                and not any(each.holds(block.value) for each in _LOCAL)
            ]
            self._judged[blocks] = inverted, shortened(map(str, unknown), 3)
        return self._judged[blocks]

    def any_in(self, block: AddressBlock) -> bool:
        if block.length is None:  # a wildcard mask, so IPv4
            value, mask = self._scattered.T
            return bool((((value ^ block.value) & mask & block.mask) == 0).any())
        at = bisect_right(self._firsts[block.family], block.last) - 1
        return at >= 0 and self._spans[block.family][at][1] >= block.first


_LOCAL = (
    AddressBlock.prefix(Family.IPV4, 0xE000_0000, 4),
    AddressBlock.prefix(Family.IPV6, 0xFF << 120, 8),
    AddressBlock.prefix(Family.IPV6, 0xFE80 << 112, 10),
    AddressBlock.prefix(Family.IPV4, 0xFFFF_FFFF, 32),
)


def _blocks(access_list: AccessList, rule: Rule, held: KnownAddresses) -> Iterator[Finding]:
    for blocks in (rule.sources, rule.destinations):
        if blocks is None:
            continue
        inverted, unknown = held.doubtful(blocks)
        if inverted is not None:
            wild = inverted.mask ^ inverted.family.every_bit
            yield Finding(
                "inverted wildcard",
                Severity.FAULT,
                f"{access_list.name} entry {rule.entry.number}",
                f"{access_list.name} entry {rule.entry.number} has a mask where a wildcard belongs: "
                f"it matches {inverted.size:,} scattered addresses, all those that end like "
                f"{inverted.family.text(inverted.value)}.",
                (
                    line_of(access_list, rule.entry.number),
                    "bits that are one in a wildcard are not compared: "
                    f"write the intended prefix, with /{wild.bit_count()}",
                ),
                lists=(access_list.name,),
            )
        if unknown:
            yield Finding(
                "unknown address",
                Severity.WARNING,
                f"{access_list.name} entry {rule.entry.number}",
                f"{access_list.name} entry {rule.entry.number} names {unknown}, which "
                "nobody has in this network.",
                (line_of(access_list, rule.entry.number),),
                lists=(access_list.name,),
            )


def _is_inverted(block: AddressBlock) -> bool:
    """Whether a block has the complement of a prefix's mask, where the mask would do."""
    wild = block.mask ^ block.family.every_bit
    return block.length is None and bool(wild & (wild + 1)) and _is_mask(wild, block.family)


def _is_mask(wild: int, family: Family) -> bool:
    """Whether the ones of a wildcard all stand in front, as those of a prefix's mask do."""
    return wild == family.every_bit ^ (family.every_bit >> wild.bit_count())


def _too_wide(access_list: AccessList, rule: Rule, held: KnownAddresses) -> Iterator[Finding]:
    """A wildcard or prefix that begins where a segment's does, and covers much that nobody has."""
    entry = rule.entry
    sides: tuple[tuple[AddressTerm | None, Callable[[AddressBlock], Entry]], ...] = (
        (entry.source, lambda block: replace(entry, source=block)),
        (entry.destination, lambda block: replace(entry, destination=block)),
    )
    for term, narrowed in sides:
        if not isinstance(term, AddressBlock) or term.length is None or term.mask == 0:
            continue
        only = held.only_in(term)
        if only is None or only.size >= term.size or only.first != term.first:
            continue
        wildcard = ""
        if term.family is Family.IPV4:
            wildcard = f", the wildcard {term.family.text(only.mask ^ term.family.every_bit)}"
        yield Finding(
            "wider than what is there",
            Severity.WARNING,
            f"{access_list.name} entry {entry.number}",
            f"{access_list.name} entry {entry.number} covers {term}, {term.size:,} addresses, and of "
            f"those only {only} is there: is /{only.length} meant{wildcard}?",
            (line_of(access_list, entry.number),),
            lists=(access_list.name,),
            repair=Repair(
                f"make it {only} in {access_list.name}",
                (_with_entry(access_list, narrowed(only)),),
            ),
        )


def _with_entry(access_list: AccessList, entry: Entry) -> Change:
    """The change that puts an entry in place of the one with its number."""
    entries = access_list.body.entries
    return holding(access_list, (entry if each.number == entry.number else each for each in entries))


def _one_address_only(
    access_list: AccessList, resolved: ResolvedList, held: KnownAddresses
) -> Iterator[Finding]:
    """A deny of one address of a device that has more, on either side: the others are not covered."""
    family = resolved.family
    for side in ADDRESS_FIELDS:
        denying = [rule for rule in resolved.rules if rule.entry.action is Action.DENY and side.blocks(rule)]
        for rule in denying:
            blocks = side.blocks(rule)
            if blocks is None or len(blocks) != 1 or blocks[0].mask != family.every_bit:
                continue
            device = held.owners.get((family, blocks[0].value))
            if device is None:
                continue
            every = [int(address.ip) for interface in device.interfaces for address in interface.of(family)]
            left = [
                address
                for address in every
                if not any(blocks.holds(address) for other in denying if (blocks := side.blocks(other)))
            ]
            if left:
                yield _one_of_several(access_list, rule.entry, side, device, map(family.text, left))


def _one_of_several(
    access_list: AccessList, entry: Entry, side: AddressField, device: Device, left: Iterable[str]
) -> Finding:
    whole = NamedAddresses(device.name)
    if side.shows(Way.OUT) is Role.SOURCE:
        term, mended = entry.source, replace(entry, source=whole)
    else:
        term, mended = entry.destination, replace(entry, destination=whole)
    return Finding(
        "one address of several",
        Severity.WARNING,
        f"{access_list.name} entry {entry.number}",
        f"{access_list.name} entry {entry.number} covers {term} of {device.name} only: "
        f"it has {shortened(left)} as well.",
        (line_of(access_list, entry.number),),
        (device.name,),
        (access_list.name,),
        repair=Repair(f"cover every address of {device.name}", (_with_entry(access_list, mended),)),
    )
