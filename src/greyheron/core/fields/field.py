"""What every field of an entry must be able to say, so that nothing else needs to know it by name."""

from abc import ABC, abstractmethod
from collections.abc import Iterable, Sequence
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from greyheron.core.bulk.headers import Headers, Ints, Words
from greyheron.core.fields.services import Tag
from greyheron.core.packet import Packet, Way
from greyheron.core.regions import Spans
from greyheron.core.rules import Rule
from greyheron.model.notation.clauses import Clause
from greyheron.model.values import Family

Named = frozenset[object]
"""Values of a field that some entries name."""
Told = tuple[object, ...] | None
"""What an entry says of a field whose values are many; None for any of them."""


class Field(ABC):
    """One thing that an entry can match, in every form that the engine needs.

    label:  what it is called where it differs
    clause:  how it is written and read, and what could stand there (§11)
    """

    label: ClassVar[str]
    clause: ClassVar[Clause]

    @abstractmethod
    def constrains(self, rule: Rule) -> bool:
        """Whether the entry says anything of it; where it does not, every packet matches."""

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
    def named(self, rule: Rule) -> object:
        """The value that the entry names, whatever it is like; the same where entries do."""

    @abstractmethod
    def variants(self, kind: Packet, named: Named) -> Iterable[Packet]:
        """`kind` with every value that entries which name these tell apart, and one that none names."""


class Rows(ABC):
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
    def told(self, rule: Rule) -> Told:
        """What the entry says of it; equal for entries that say the same."""

    @abstractmethod
    def table(self, rules: Sequence[Rule | None], family: Family) -> Rows:
        """The decision table of this field; None stands for an entry that says nothing of it."""

    @abstractmethod
    def parts(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        """Values that the entry matches, one of each kind that others tell apart. Raises TooManyParts."""

    @abstractmethod
    def borders(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        """Values that the entry matches, next to where others begin and end."""

    @abstractmethod
    def sender_ports(self, rule: Rule, way: Way) -> Spans | None:
        """The ports of a conversation's sender that it tells apart in packets that way; None: it does not."""


WORD = 64


def span_rows(spans: Iterable[tuple[int, int, int]], count: int, size: int) -> Words:
    """Bits as (words, rows) where entry `index` holds rows `first` to `last`, for (index, first, last)."""
    rows = np.zeros((-(-size // WORD), count), dtype=np.uint64)
    for index, first, last in spans:
        word, bit = divmod(index, WORD)
        rows[word, first : last + 1] |= np.uint64(1 << bit)
    return rows


def packed(bits: Sequence[bool]) -> Words:
    """Bits in words of 64, the first one lowest."""
    padded: NDArray[np.bool_] = np.zeros(-(-len(bits) // WORD) * WORD, dtype=np.bool_)
    padded[: len(bits)] = bits
    return np.packbits(padded, bitorder="little").view("<u8").astype(np.uint64)
