"""What every field of an entry must be able to say, so that nothing else needs to know it by name."""

from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence
from operator import attrgetter
from typing import Any, ClassVar, TypeAlias

import numpy as np
from numpy.typing import NDArray

from greyheron.core.headers import Headers, Ints, Words
from greyheron.core.intervals import Spans
from greyheron.core.lists.fields.services import HeaderPart, Tag
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.notation.clauses import Clause
from greyheron.model.values import Family

Says: TypeAlias = "attrgetter[Any]"
NamedValues = frozenset[object]
"""What some rules say of a field."""


class Field(ABC):
    """One thing that an entry can match, in every form that the engine needs.

    label:  what it is called where it differs
    clause:  how it is written and read, and what could stand there (§11)
    says:  what a rule says of it, the same where rules mean the same; None or False: every packet
    """

    label: ClassVar[str]
    clause: ClassVar[Clause]
    says: ClassVar[Says]

    @abstractmethod
    def matches(self, rule: Rule, packet: Packet) -> bool:
        """Whether `packet` is such as the entry wants, as far as this field goes (§3)."""

    @abstractmethod
    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        """The services of `tag` (see `Tag`) whose packets that way it lets the entry match."""

    @abstractmethod
    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        """The first and the last number that the entry matches; (1, 0) where it matches none."""


class KindField(Field):
    """A field of few values, which belong to the kind of a packet (see `Headers.kinds`)."""

    @abstractmethod
    def header_spans(self, rule: Rule, part: HeaderPart) -> Spans | None:
        """The numbers of that part of a header which let the entry match; None: it does not look at it."""

    @abstractmethod
    def variants(self, kind: Packet, named: NamedValues) -> Iterable[Packet]:
        """`kind` with every value that entries which name these tell apart, and one that none names."""

    @abstractmethod
    def variant_words(self, kind: Packet, named: NamedValues) -> str:
        """What that is among the variants, as a reader would say it; "" where there is nothing to tell."""


class TableRows(ABC):
    """One ranged field of a list's entries: values in classes that no entry tells apart."""

    @abstractmethod
    def rows(self, headers: Headers) -> tuple[Words, Ints]:
        """Bits as (words, classes), a bit for each entry that matches, and the class of each packet."""


class RangedField(Field):
    """A field of very many values, looked up in classes.

    attribute:  where a packet has it
    """

    attribute: ClassVar[str]

    @abstractmethod
    def table(self, rules: Sequence[Rule | None], family: Family) -> TableRows:
        """The decision table of this field; None stands for an entry that says nothing of it."""

    @abstractmethod
    def stretch(self, rule: Rule) -> tuple[int, int] | None:
        """The first and the last number where an entry matches just those between; None where it does not."""

    @abstractmethod
    def parts(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        """Values that the entry matches, one of each kind that others tell apart. Raises TooManyParts."""

    @abstractmethod
    def classes(self, said: Sequence[Any], within: Sequence[Any], family: Family) -> "list[ValueClass]":
        """Values in classes that rules which say such do not tell apart, each with those that match it.

        said:  what rules say, never None;  within:  values that none of these speaks of are left out, unless
        one of them is None. Raises TooManyParts.
        """

    @abstractmethod
    def joined(self, some: "Sequence[FieldValues]", family: Family) -> "FieldValues | None":
        """The values of disjoint classes in one; None where those are all that there are."""

    @abstractmethod
    def borders(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        """Values that the entry matches, next to where others begin and end."""

    @abstractmethod
    def sender_ports(self, rule: Rule, way: Way) -> Spans | None:
        """The ports of a conversation's sender that it tells apart in packets that way; None: it does not."""


FieldValues = tuple[Any, ...]
"""Addresses as a region, or ports as spans."""
ValueClass = tuple[FieldValues, int]
"""Values that are alike, and by the bits of a number which of what is said matches them."""
WORD = 64


def span_rows(spans: Iterable[tuple[int, int, int]], count: int, size: int) -> Words:
    """Bits as (words, rows) where entry `index` holds rows `first` to `last`, for (index, first, last).

    The spans of one entry are disjoint: each turns its bit on at `first` and off behind `last`.
    """
    turns = np.zeros((-(-size // WORD), count + 1), dtype=np.uint64)
    index, first, last = np.array(list(spans), dtype=np.int64).reshape(-1, 3).T
    word, bit = index // WORD, np.left_shift(np.uint64(1), (index % WORD).astype(np.uint64))
    np.bitwise_xor.at(turns, (word, first), bit)
    np.bitwise_xor.at(turns, (word, last + 1), bit)
    rows: Words = np.bitwise_xor.accumulate(turns, axis=1)[:, :count]
    return rows


def packed(bits: Sequence[bool]) -> Words:
    """Bits in words of 64, the first one lowest."""
    padded: NDArray[np.bool_] = np.zeros(-(-len(bits) // WORD) * WORD, dtype=np.bool_)
    padded[: len(bits)] = bits
    return np.packbits(padded, bitorder="little").view("<u8").astype(np.uint64)
