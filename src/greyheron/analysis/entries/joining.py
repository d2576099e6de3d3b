"""Entries that say the same but for one field, and the one entry that says it for all of them."""

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import pairwise
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.intervals import span_union, tidied
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock, Entry, NamedAddresses, NamedPorts, PortSpan, PortTerm
from greyheron.model.values import Family

_ADDRESSES = ("source", "destination")
_PORTS = ("source_ports", "destination_ports")


class Join(Struct, frozen=True):
    """Entries that one entry could stand for, by their indices and as they are.

    said:  what it says of the field that they differ in
    """

    indices: tuple[int, ...]
    of: tuple[Entry, ...]
    entry: Entry
    said: str


class Sets:
    """The sets of a network by what they hold, for entries that could name them instead."""

    def __init__(self, network: Network, family: Family) -> None:
        self.addresses: dict[str, frozenset[AddressBlock]] = {}
        for group in network.address_sets:
            blocks = frozenset(tidied(group.blocks(family)))
            if len(blocks) > 1:
                self.addresses[group.name] = blocks
        self.ports: dict[frozenset[PortTerm], str] = {}
        for ports in network.port_sets:
            if not any(isinstance(term, NamedPorts) for term in ports.terms):
                self.ports.setdefault(frozenset(_united(ports.terms)), ports.name)


def joins_of(entries: Mapping[int, Entry], sets: Sets) -> Iterator[Join]:
    """Joins that can be tried, the most useful ones first: sets, prefixes beside each other, ports.

    Where one is made, those behind it that speak of the same entries do not hold any more.
    """
    for field in _ADDRESSES:
        groups = list(_alike(entries, field, None))
        for group in groups:
            yield from _as_sets(entries, group, field, sets)
        for group in groups:
            yield from _siblings(entries, group, field)
    for field in _PORTS:
        for group in _alike(entries, field, ()):
            yield _with_ports(entries, group, field, sets)
            for pair in pairwise(group):  # where something between keeps them from being all one
                yield _with_ports(entries, pair, field, sets)


def _alike(entries: Mapping[int, Entry], field: str, blank: Any) -> Iterator[list[int]]:
    """Indices of entries that say the same but for `field`, of which all say something."""
    groups: defaultdict[Entry, list[int]] = defaultdict(list)
    bare = _blanked(field, blank)
    for index, entry in entries.items():
        if getattr(entry, field) not in (None, ()):
            groups[bare(entry)].append(index)
    return (group for group in groups.values() if len(group) > 1)


def _blanked(field: str, blank: Any) -> Callable[[Entry], Entry]:
    unsaid = {"number": 0, "note": None, "remarks": (), field: blank}
    return lambda entry: replace(entry, **unsaid)


def _as_sets(entries: Mapping[int, Entry], group: Sequence[int], field: str, sets: Sets) -> Iterator[Join]:
    """Entries that speak of just the members of a set, one each."""
    of = _by_block(entries, group, field)
    for name, blocks in sets.addresses.items():
        if blocks <= of.keys():
            yield _joined(entries, [of[block] for block in blocks], {field: NamedAddresses(name)}, f"@{name}")


def _siblings(entries: Mapping[int, Entry], group: Sequence[int], field: str) -> Iterator[Join]:
    """Two halves of a prefix, or of a wildcard; the smallest ones first."""
    of = _by_block(entries, group, field)
    for block in sorted(of, key=lambda each: (-each.mask.bit_count(), each.value)):
        for bit in _halving(block):
            other = AddressBlock(block.family, block.value ^ bit, block.mask)
            if block.value & bit or other not in of:
                continue
            whole = AddressBlock(block.family, block.value & ~bit, block.mask & ~bit)
            yield _joined(entries, [of[block], of[other]], {field: whole if whole.mask else None}, str(whole))


def _halving(block: AddressBlock) -> Iterator[int]:
    """The bits without which it is the whole of what it is a half of: of a prefix the last, else any."""
    if block.length is not None:
        if block.length:
            yield 1 << (block.family.bits - block.length)
        return
    for place in range(block.family.bits):
        if block.mask >> place & 1:
            yield 1 << place


def _by_block(entries: Mapping[int, Entry], group: Sequence[int], field: str) -> dict[AddressBlock, int]:
    found: dict[AddressBlock, int] = {}
    for index in group:
        term = getattr(entries[index], field)
        if isinstance(term, AddressBlock):
            found.setdefault(term, index)
    return found


def _with_ports(entries: Mapping[int, Entry], group: Sequence[int], field: str, sets: Sets) -> Join:
    """All ports that any of them speaks of, by the name of a set that holds just those."""
    terms = _united(term for index in group for term in getattr(entries[index], field))
    name = sets.ports.get(frozenset(terms))
    said: tuple[PortTerm, ...] = terms if name is None else (NamedPorts(name),)
    return _joined(entries, group, {field: said}, ",".join(map(str, said)))


def _united(terms: Any) -> tuple[PortTerm, ...]:
    """Alternatives with those that touch in one; a port that stands alone keeps its name."""
    terms = tuple(dict.fromkeys(terms))
    spans = [term for term in terms if isinstance(term, PortSpan)]
    words = {(span.low, span.high): span for span in spans}
    joined = (
        words.get((low, high), PortSpan(low, high))
        for low, high in span_union((span.low, span.high) for span in spans)
    )
    return (*joined, *(term for term in terms if not isinstance(term, PortSpan)))


def _joined(entries: Mapping[int, Entry], indices: Sequence[int], says: Mapping[str, Any], said: str) -> Join:
    """The entry that stands for some, with the notes of all of them."""
    rising = tuple(sorted(indices))
    notes = dict.fromkeys(note for index in rising if (note := entries[index].note))
    remarks = dict.fromkeys(remark for index in rising for remark in entries[index].remarks)
    entry = replace(
        entries[rising[0]], **says, note="; ".join(notes) if notes else None, remarks=tuple(remarks)
    )
    return Join(rising, tuple(entries[index] for index in rising), entry, said)
