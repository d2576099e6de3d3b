"""The source and the destination address of a packet: prefixes, and any wildcard mask."""

from abc import abstractmethod
from collections.abc import Sequence
from enum import StrEnum
from operator import attrgetter
from typing import ClassVar

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from greyheron.core.headers import Headers, Ints, Words, occurring, split
from greyheron.core.intervals import Blocks, Spans, classes_by, disjoint, parts_by, tidied
from greyheron.core.lists.fields.field import FieldValues, RangedField, Says, TableRows, ValueClass, span_rows
from greyheron.core.lists.fields.services import Tag
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.entry import AddressBlock
from greyheron.model.notation.clauses import DESTINATION, SOURCE, Clause
from greyheron.model.values import Family


class Role(StrEnum):
    """An end of a conversation: who asks, and who is asked."""

    SOURCE = "source"
    DESTINATION = "destination"


class AddressField(RangedField):
    def blocks(self, rule: Rule) -> Blocks | None:
        """The addresses that the entry wants; None for any, empty for none at all."""
        blocks: Blocks | None = self.says(rule)
        return blocks

    @abstractmethod
    def shows(self, way: Way) -> Role:
        """Whose address it is in packets that way."""

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        return tag.numbers

    def table(self, rules: Sequence[Rule | None], family: Family) -> TableRows:
        blocks = [None if rule is None else self.blocks(rule) for rule in rules]
        return _AddressRows(self.attribute, blocks, family)

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        return self._region(rule, family).hull

    def stretch(self, rule: Rule) -> tuple[int, int] | None:
        blocks = self.blocks(rule)
        if blocks is None or len(blocks) != 1 or blocks[0].length is None:
            return None
        return blocks[0].first, blocks[0].last

    def parts(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        sets = {blocks for each in others if (blocks := self.blocks(each)) is not None}
        return [part[0].first for part in parts_by(self._region(rule, family), sets) if part]

    def classes(
        self, said: Sequence[Blocks], within: Sequence[Blocks | None], family: Family
    ) -> list[ValueClass]:
        among = [blocks for blocks in within if blocks is not None]
        whole = _EVERYONE[family] if len(among) < len(within) else disjoint(among)
        return [*classes_by(whole, said)] if whole else []

    def joined(self, some: Sequence[FieldValues], family: Family) -> FieldValues | None:
        region = tidied(tuple(block for each in some for block in each))
        return None if region == _EVERYONE[family] else region

    def borders(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        own = self._region(rule, family)
        ends = [address for block in own for address in (block.first, block.last)]
        named = dict.fromkeys(blocks for other in others if (blocks := self.blocks(other)) is not None)
        near = (address for blocks in named for address in blocks.borders(*own.hull))
        return ends + [each for each in near if 0 <= each <= family.every_bit and own.holds(each)]

    def sender_ports(self, rule: Rule, way: Way) -> Spans | None:
        return None

    def _region(self, rule: Rule, family: Family) -> Blocks:
        blocks = self.blocks(rule)
        return _EVERYONE[family] if blocks is None else blocks


_EVERYONE = {family: Blocks((AddressBlock(family, 0, 0),)) for family in Family}


class SourceField(AddressField):
    label: ClassVar[str] = "source"
    clause: ClassVar[Clause] = SOURCE
    says: ClassVar[Says] = attrgetter("sources")
    attribute: ClassVar[str] = "source"

    def shows(self, way: Way) -> Role:
        return Role.SOURCE if way is Way.OUT else Role.DESTINATION

    def matches(self, rule: Rule, packet: Packet) -> bool:
        blocks, address = rule.sources, packet.source
        if blocks is None:
            return True
        return address is not None and blocks.holds(address)


class DestinationField(AddressField):
    label: ClassVar[str] = "destination"
    clause: ClassVar[Clause] = DESTINATION
    says: ClassVar[Says] = attrgetter("destinations")
    attribute: ClassVar[str] = "destination"

    def shows(self, way: Way) -> Role:
        return Role.DESTINATION if way is Way.OUT else Role.SOURCE

    def matches(self, rule: Rule, packet: Packet) -> bool:
        blocks, address = rule.destinations, packet.destination
        return blocks is None or blocks.holds(address)


Sortable = NDArray[np.uint64] | NDArray[np.bytes_]


class _Masked(Struct, frozen=True):
    """Blocks of one scattered mask: sorted `values`, a row of bits for each, then none."""

    mask: tuple[np.uint64, np.uint64]
    values: Sortable
    rows: Words


class _AddressRows(TableRows):
    """Addresses cut by the prefixes of a list, and by its wildcards where bits are scattered."""

    def __init__(self, attribute: str, rules: Sequence[Blocks | None], family: Family) -> None:
        size = len(rules)
        ranges: list[tuple[int, int, int]] = []
        scattered: set[tuple[int, AddressBlock]] = set()
        for index, own in enumerate(rules):
            blocks = _EVERYONE[family] if own is None else own
            if len(blocks) == 1 and blocks[0].length is not None:  # by far the most
                ranges.append((index, blocks[0].first, blocks[0].last + 1))
            else:
                ranges += [(index, low, high + 1) for low, high in blocks.spans]
                scattered.update((index, each) for each in blocks.scattered)
        cuts = sorted({0, *(low for _, low, _ in ranges), *(end for _, _, end in ranges)})
        if cuts[-1] > family.every_bit:
            cuts.pop()
        row = {cut: number for number, cut in enumerate(cuts)}
        spans = ((index, row[low], row.get(end, len(cuts)) - 1) for index, low, end in ranges)
        self._attribute, self._family = attribute, family
        self._cuts = _sortable(family, *split(cuts))
        self._rows = span_rows(spans, len(cuts), size)
        self._masked: list[_Masked] = []
        for mask in sorted({block.mask for _, block in scattered}):
            same = [(index, block.value) for index, block in scattered if block.mask == mask]
            values = sorted({value for _, value in same})
            number = {value: row for row, value in enumerate(values)}
            rows = span_rows(
                ((index, number[value], number[value]) for index, value in same), len(values) + 1, size
            )
            high, low = split([mask])
            self._masked.append(_Masked((high[0], low[0]), _sortable(family, *split(values)), rows))

    def rows(self, headers: Headers) -> tuple[Words, Ints]:
        indices: Ints = getattr(headers, self._attribute)
        used, index_of = occurring(indices, len(headers.addresses))
        high, low = headers.addresses.halves()
        high, low = high[used], low[used]
        row: Ints = np.searchsorted(self._cuts, _sortable(self._family, high, low), side="right") - 1
        rows = self._rows
        for masked in self._masked:
            key = _sortable(self._family, high & masked.mask[0], low & masked.mask[1])
            near = np.minimum(np.searchsorted(masked.values, key), len(masked.values) - 1)
            other = np.where(masked.values[near] == key, near, len(masked.values))
            width = len(masked.values) + 1
            pairs, row = occurring(row * width + other, rows.shape[1] * width)
            rows = rows[:, pairs // width] | masked.rows[:, pairs % width]
        return rows, row[index_of]


def _sortable(family: Family, high: Words, low: Words) -> Sortable:
    """Addresses as an array that sorts as they do: IPv6 ones as byte strings."""
    if family is Family.IPV4:
        return low
    return np.stack([high, low], axis=1).astype(">u8").view("S16").ravel()
