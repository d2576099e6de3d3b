"""Packet headers in arrays, as access lists see them."""

from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from greyheron.core.packet import Packet
from greyheron.model.values import Family

Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
Words = NDArray[np.uint64]

NONE = -1
"""Stands in arrays for no index at all."""
NO_PORT = -1
_HALF = (1 << 64) - 1
_FEW = 1 << 24
"""Up to so many numbers are marked in an array; beyond, they are sorted."""


class Addresses:
    """Addresses of one family, each once; an array of indices in it stands for an array of addresses.

    values:  the addresses as integers, in the order in which they were first seen
    """

    def __init__(self, family: Family, values: Iterable[int] = ()) -> None:
        self.family = family
        self.values: list[int] = []
        self._index: dict[int, int] = {}
        self._halves: tuple[Words, Words] | None = None
        for value in values:
            self.index(value)

    def __len__(self) -> int:
        return len(self.values)

    def index(self, address: int) -> int:
        """Where `address` stands; it is added when it is new."""
        found = self._index.get(address)
        if found is None:
            found = self._index[address] = len(self.values)
            self.values.append(address)
            self._halves = None
        return found

    def halves(self) -> tuple[Words, Words]:
        """The high and the low 64 bits of every address."""
        if self._halves is None:
            self._halves = split(self.values)
        return self._halves


def split(numbers: list[int]) -> tuple[Words, Words]:
    """128-bit numbers as two arrays: their high and their low 64 bits."""
    high = np.array([number >> 64 for number in numbers], dtype=np.uint64)
    low = np.array([number & _HALF for number in numbers], dtype=np.uint64)
    return high, low


class Headers(Struct, frozen=True):
    """Many packets of one family; all arrays have one length.

    source, destination:  indices in `addresses`
    kind:  indices in `kinds`, packets between nobody (see `kind_of`): what else a header holds
    source_port, destination_port:  0 to 65535, or NO_PORT
    """

    addresses: Addresses
    kinds: tuple[Packet, ...]
    source: Ints
    destination: Ints
    kind: Ints
    source_port: Ints
    destination_port: Ints

    def __len__(self) -> int:
        return len(self.source)

    def take(self, indices: Ints) -> "Headers":
        return Headers(
            self.addresses,
            self.kinds,
            self.source[indices],
            self.destination[indices],
            self.kind[indices],
            self.source_port[indices],
            self.destination_port[indices],
        )


def joined_headers(parts: Sequence[Headers]) -> Headers:
    """All packets of `parts`, which share their addresses and kinds."""
    arrays = ("source", "destination", "kind", "source_port", "destination_port")
    return Headers(
        parts[0].addresses,
        parts[0].kinds,
        *(np.concatenate([getattr(part, name) for part in parts]) for name in arrays),
    )


def within_spans(begins: Ints, lengths: Ints) -> tuple[Ints, Ints]:
    """Everything in spans of numbers, one span after another: which span it is in, and the number."""
    span = np.repeat(np.arange(len(lengths)), lengths)
    return span, np.repeat(begins - np.cumsum(lengths) + lengths, lengths) + np.arange(len(span))


def first_of_each(sorted_values: Ints) -> Bools:
    """Whether each of `sorted_values` is the first of its kind."""
    fresh = np.ones(len(sorted_values), dtype=np.bool_)
    fresh[1:] = sorted_values[1:] != sorted_values[:-1]
    return fresh


def distinct(values: Ints) -> Ints:
    """Each of `values` once, rising. Sorting is much faster here than NumPy's own way by hashes."""
    ordered = np.sort(values)
    return ordered[first_of_each(ordered)]


def grouped(values: Ints) -> Iterator[tuple[int, Ints]]:
    """Each of `values` once, rising, and the indices where it stands, rising."""
    order = np.argsort(values, kind="stable")
    starts = np.flatnonzero(first_of_each(values[order]))
    for start, end in pairwise([*starts.tolist(), len(values)]):
        yield int(values[order[start]]), order[start:end]


def occurring(codes: Ints, space: int) -> tuple[Ints, Ints]:
    """The numbers below `space` that occur in `codes`, rising, and the index of each code among them."""
    if space > _FEW:
        found, index = np.unique(codes, return_inverse=True)
        return found, index
    seen = np.zeros(space, dtype=np.bool_)
    seen[codes] = True
    found = np.flatnonzero(seen)
    number = np.empty(space, dtype=np.int64)
    number[found] = np.arange(len(found))
    return found, number[codes]


def rank_within(sorted_values: Ints) -> Ints:
    """How many equal values stand before each of `sorted_values`."""
    every = np.arange(len(sorted_values))
    return every - np.maximum.accumulate(np.where(first_of_each(sorted_values), every, 0))
