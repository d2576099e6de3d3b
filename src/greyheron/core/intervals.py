"""Sets of addresses and of numbers, cut where something tells their members apart.

A region is a tuple of disjoint blocks of one family; spans are disjoint ranges of numbers, rising.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

from greyheron.model.entry import AddressBlock
from greyheron.model.values import Family

Region = tuple[AddressBlock, ...]
Spans = tuple[tuple[int, int], ...]
_FEW = 8
_MOST_BORDERS = 64
MOST_BLOCKS = 1 << 12
"""A region, or all parts of one, may be so many blocks: scattered wildcards that are unlike double them."""


MOST_COMPARED = 1 << 19
"""So many pairs of blocks are compared for one difference: about a second."""


class Blocks(tuple[AddressBlock, ...]):
    """What an entry wants of an address: one block, or an address set, one object for all who name it.

    Looked up by halves, and hashed once: a set may have many thousands of members.
    """

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        return self is other or tuple.__eq__(self, other) is True

    def __ne__(self, other: object) -> bool:
        return not self == other

    def holds(self, address: int) -> bool:
        """Whether some block holds `address`."""
        if len(self) <= _FEW:
            return any(block.holds(address) for block in self)
        return within(self.spans, address) or any(block.holds(address) for block in self.scattered)

    @cached_property
    def spans(self) -> Spans:
        """What its prefixes hold."""
        return span_union((block.first, block.last) for block in self if block.length is not None)

    @cached_property
    def scattered(self) -> Region:
        """Its blocks that are no prefixes."""
        return tuple(block for block in self if block.length is None)

    @cached_property
    def hull(self) -> tuple[int, int]:
        """The least and the greatest address that it holds; the first above the second for none at all."""
        first = min((block.first for block in self), default=1)
        return first, max((block.last for block in self), default=0)

    def borders(self, low: int, high: int) -> Iterator[int]:
        """Addresses that it does not hold beside some that it does, near those from `low` to `high`.

        Of very many some, evenly.
        """
        near = spans_near(self.spans, low, high)
        for span in near[:: 1 + len(near) // _MOST_BORDERS]:
            yield from (span[0] - 1, span[1] + 1)
        for block in self.scattered:
            yield from (block.first - 1, block.last + 1)

    @cached_property
    def _hash(self) -> int:
        return tuple.__hash__(self)


class Sorted:
    """Numbers by size: where those of a range stand among them as they were given."""

    def __init__(self, numbers: Sequence[int]) -> None:
        self._order = sorted(range(len(numbers)), key=numbers.__getitem__)
        self._rising = [numbers[index] for index in self._order]

    def within(self, low: int, high: int) -> list[int]:
        """The indices of those from `low` to `high`, rising."""
        first, end = bisect_left(self._rising, low), bisect_right(self._rising, high)
        return sorted(self._order[first:end])


class TooManyParts(Exception):
    """A region falls into more parts than can be looked at; `count` were found when it was given up."""

    def __init__(self, count: int) -> None:
        super().__init__(f"{count} parts and more")
        self.count = count


def meet(one: AddressBlock, other: AddressBlock) -> AddressBlock | None:
    """The addresses that both blocks hold."""
    if (one.value ^ other.value) & one.mask & other.mask:
        return None
    return AddressBlock(one.family, one.value | other.value, one.mask | other.mask)


def without(block: AddressBlock, other: AddressBlock) -> Region:
    """The addresses of `block` that `other` does not hold: the largest pieces first."""
    if meet(block, other) is None:
        return (block,)
    pieces: list[AddressBlock] = []
    value, mask = block.value, block.mask
    left = other.mask & ~mask
    while left:
        bit = 1 << (left.bit_length() - 1)
        pieces.append(AddressBlock(block.family, value | (~other.value & bit), mask | bit))
        value, mask, left = value | (other.value & bit), mask | bit, left ^ bit
    return tuple(pieces)


def common(region: Region, blocks: Iterable[AddressBlock]) -> Region:
    """The addresses of `region` that some of `blocks` hold."""
    return minus(region, minus(region, blocks))


def minus(region: Region, blocks: Iterable[AddressBlock]) -> Region:
    """The addresses of `region` that none of `blocks` holds. Raises TooManyParts."""
    blocks = tuple(blocks)
    if len(blocks) > _FEW:
        own, others = ranges_of(region), ranges_of(blocks)
        if own is not None and others is not None:
            return prefixes_of(blocks[0].family, span_minus(own, others))
    if len(region) * len(blocks) > MOST_COMPARED:
        raise TooManyParts(max(len(region), len(blocks)))
    for block in blocks:
        region = tuple(piece for each in region for piece in without(each, block))
        if len(region) > MOST_BLOCKS:
            raise TooManyParts(len(region))
    return region


def size(region: Region) -> int:
    return sum(block.size for block in region)


def tells_apart(blocks: Sequence[AddressBlock], region: Region) -> bool:
    """Whether `blocks` hold some of `region`, and not all; true where that takes too long to say."""
    try:
        return bool(_outside(region, blocks))
    except TooManyParts:
        return True


def _outside(region: Region, blocks: Sequence[AddressBlock]) -> Region:
    """The addresses of `region` that `blocks` do not hold; empty where they hold all of them, or none."""
    if not any(meet(piece, block) for piece in region for block in blocks):
        return ()
    return minus(region, blocks)


def parts_by(region: Region, sets: Iterable[Sequence[AddressBlock]]) -> list[Region]:
    """`region` in parts that none of `sets` tells apart. Raises TooManyParts."""
    return [part for part, _ in classes_by(region, sets)]


def classes_by(region: Region, sets: Iterable[Sequence[AddressBlock]]) -> list[tuple[Region, int]]:
    """`region` in parts that none of `sets` tells apart, each with the sets that hold it.

    Sets by the bits of a number, the first one lowest. Raises TooManyParts.
    """
    own = ranges_of(region) or None
    swept: list[tuple[int, Spans]] = []
    scattered: list[tuple[int, Sequence[AddressBlock]]] = []
    for number, blocks in enumerate(sets):
        ranges = None if own is None else ranges_of(blocks)
        if own is None or ranges is None:
            scattered.append((number, blocks))
        else:
            near = ranges if len(ranges) <= _FEW else spans_near(ranges, own[0][0], own[-1][1])
            swept.append((number, near))
    parts = [(region, 0)]
    if own is not None and swept:
        classes = span_classes(own, swept)
        parts = [(prefixes_of(region[0].family, spans), inside) for inside, spans in classes.items()]
    for number, blocks in scattered:
        parts = _split(parts, blocks, 1 << number)
    return parts


def _split(
    parts: Sequence[tuple[Region, int]], blocks: Sequence[AddressBlock], bit: int
) -> list[tuple[Region, int]]:
    """Each of `parts` as what `blocks` hold of it, with `bit`, and what not. Raises TooManyParts."""
    found: list[tuple[Region, int]] = []
    size = 0
    for region, inside in parts:
        if not any(meet(piece, block) for piece in region for block in blocks):
            pieces = [(region, inside)]
        else:
            outside = minus(region, blocks)
            held = minus(region, outside) if outside else region
            pieces = [(held, inside | bit)] + ([(outside, inside)] if outside else [])
        size += sum(len(region) for region, _ in pieces)
        if size > MOST_BLOCKS:
            raise TooManyParts(len(found) + len(pieces))
        found += pieces
    return found


def span_parts(whole: Spans, sets: Iterable[Spans]) -> list[Spans]:
    """`whole` in parts that none of `sets` tells apart."""
    return list(span_classes(whole, enumerate(sets)).values())


def span_classes(whole: Spans, sets: Iterable[tuple[int, Spans]]) -> dict[int, Spans]:
    """`whole` in parts that none of `sets`, each with its number, tells apart: one sweep over all borders.

    By the sets that hold a part, as the bits of a number.
    """
    turns: dict[int, int] = {}
    for number, spans in sets:
        for low, high in spans:
            for edge in (low, high + 1):
                turns[edge] = turns.get(edge, 0) ^ 1 << number
    edges = sorted(turns)
    inside, at = 0, 0
    parts: dict[int, list[tuple[int, int]]] = {}
    for low, high in whole:
        while at < len(edges) and edges[at] <= low:
            inside ^= turns[edges[at]]
            at += 1
        first = low
        while at < len(edges) and edges[at] <= high:
            parts.setdefault(inside, []).append((first, edges[at] - 1))
            first = edges[at]
            inside ^= turns[first]
            at += 1
        parts.setdefault(inside, []).append((first, high))
    return {inside: span_union(spans) for inside, spans in parts.items()}


def spans_near(spans: Spans, low: int, high: int) -> Spans:
    """Those of `spans` that hold some number from `low` to `high`, and perhaps one on either side."""
    first, end = (bisect_left(spans, (edge,)) for edge in (low, high + 1))
    return spans[max(first - 1, 0) : end + 1]


def within(spans: Spans, number: int) -> bool:
    """Whether `number` is in one of `spans`."""
    at = bisect_right(spans, (number, number)) if spans else 0
    return (at < len(spans) and spans[at][0] == number) or (at > 0 and number <= spans[at - 1][1])


def span_meet(one: Spans, other: Spans) -> Spans:
    return tuple(
        (max(low, first), min(high, last))
        for low, high in one
        for first, last in other
        if max(low, first) <= min(high, last)
    )


def spans_touch(one: Spans, other: Spans) -> bool:
    """Whether some number is in both."""
    return any(low <= last and first <= high for low, high in one for first, last in other)


def span_minus(one: Spans, other: Spans) -> Spans:
    left: list[tuple[int, int]] = []
    place = 0
    for low, high in one:
        while place < len(other) and other[place][1] < low:
            place += 1
        at = place
        while low <= high and at < len(other) and other[at][0] <= high:
            if low < other[at][0]:
                left.append((low, other[at][0] - 1))
            low = other[at][1] + 1
            at += 1
        if low <= high:
            left.append((low, high))
    return tuple(left)


def span_union(parts: Iterable[tuple[int, int]]) -> Spans:
    """Ranges that may touch or overlap, joined."""
    found: list[tuple[int, int]] = []
    for low, high in sorted(parts):
        if found and low <= found[-1][1] + 1:
            found[-1] = found[-1][0], max(high, found[-1][1])
        else:
            found.append((low, high))
    return tuple(found)


def span_size(spans: Spans) -> int:
    return sum(high - low + 1 for low, high in spans)


def disjoint(sets: Iterable[Sequence[AddressBlock]]) -> Region:
    """All addresses that some of `sets` hold, once. Raises TooManyParts."""
    blocks = [block for each in sets for block in each]
    region = tidied(tuple(block for block in blocks if block.length is not None))
    for block in blocks:
        if block.length is None:
            region = (*region, *minus((block,), region))
    return region


def tidied(region: Region) -> Region:
    """The same addresses in as few prefixes as can be, scattered blocks behind them."""
    if not region:
        return ()
    scattered = [block for block in region if block.length is None]
    spans = span_union((block.first, block.last) for block in region if block.length is not None)
    return (
        *prefixes_of(region[0].family, spans),
        *sorted(scattered, key=lambda block: (block.value, block.mask)),
    )


def ranges_of(blocks: Sequence[AddressBlock]) -> Spans | None:
    """The addresses of prefixes as ranges, rising; None where some blocks are no prefixes."""
    if isinstance(blocks, Blocks) and len(blocks) > _FEW:
        return None if blocks.scattered else blocks.spans
    if len(blocks) == 1:  # by far the most are one prefix
        return None if blocks[0].length is None else ((blocks[0].first, blocks[0].last),)
    if any(block.length is None for block in blocks):
        return None
    return span_union((block.first, block.last) for block in blocks)


def prefixes_of(family: Family, spans: Spans) -> Region:
    """The fewest prefixes that hold exactly the addresses in `spans`."""
    found: list[AddressBlock] = []
    for low, last in spans:
        first = low
        while first <= last:
            most = (first & -first).bit_length() - 1 if first else family.bits
            bits = min(most, (last - first + 1).bit_length() - 1)
            found.append(AddressBlock.prefix(family, first, family.bits - bits))
            first += 1 << bits
    return tuple(found)
