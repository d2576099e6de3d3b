"""The packets that an entry matches, in classes that no other entry of its list tells apart."""

from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import product
from math import prod

import numpy as np

from greyheron.core.headers import Ints
from greyheron.core.intervals import TooManyParts
from greyheron.core.lists.fields import ADDRESS_FIELDS, FIELDS, KIND_FIELDS, PORT_FIELDS, RANGED_FIELDS
from greyheron.core.lists.fields.field import NamedValues
from greyheron.core.lists.matching import first_mismatch
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, between
from greyheron.model.names import WITH_PORTS
from greyheron.model.values import Family

MOST_CLASSES = 4096
"""Entries whose packets fall into more classes are not judged."""
_PORTS = frozenset(PORT_FIELDS)
_MOST_SETS = 32
_AT_ONCE = 256
"""So many entries are compared with all of a list at once."""


def first_match(rules: Sequence[Rule], packet: Packet) -> Rule | None:
    return next((each for each in rules if first_mismatch(each, packet) is None), None)


def classes_of(rule: Rule, others: Sequence[Rule], family: Family) -> list[Packet] | None:
    """One packet of each class of what `rule` matches; None when there are too many."""
    if any(len({field.says(each) for each in others}) > _MOST_SETS for field in RANGED_FIELDS):
        return None
    kinds = own_kinds(rule, others, family)
    try:
        parts = [field.parts(rule, others, family) for field in RANGED_FIELDS]
    except TooManyParts:
        return None
    if len(kinds) * prod(map(len, parts)) > MOST_CLASSES:
        return None
    return [packet_of(kind, values) for kind in kinds for values in product(*parts)]


def own_kinds(rule: Rule, others: Sequence[Rule], family: Family) -> list[Packet]:
    """The kinds of packets that `rule` matches, as far as it and `others` tell them apart."""
    return matching_kinds(family, named_values([rule, *others]), SaysOfKinds(rule), asks_for_ports(rule))


def named_values(rules: Sequence[Rule]) -> tuple[NamedValues, ...]:
    """What rules say of each field that makes kinds."""
    return tuple(frozenset(map(field.says, rules)) for field in KIND_FIELDS)


def asks_for_ports(rule: Rule) -> bool:
    return any(field in _PORTS for field in rule.constraints)


class SaysOfKinds:
    """What a rule says of the kinds of packets: equal for rules that say the same."""

    def __init__(self, rule: Rule) -> None:
        self.rule = rule
        self._says = tuple(field.says(rule) for field in KIND_FIELDS)

    def __hash__(self) -> int:
        return hash(self._says)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, SaysOfKinds) and self._says == other._says


@lru_cache(maxsize=4096)
def matching_kinds(
    family: Family, named: tuple[NamedValues, ...], said: SaysOfKinds, with_ports: bool
) -> list[Packet]:
    return [
        kind
        for kind in kinds_of(family, named)
        if (not with_ports or has_ports(kind))
        and all(field.matches(said.rule, kind) for field in KIND_FIELDS)
    ]


@lru_cache(maxsize=4096)
def kinds_taken_of(family: Family, other: SaysOfKinds, said: SaysOfKinds, with_ports: bool) -> bool | None:
    kinds = matching_kinds(family, named_values([said.rule, other.rule]), said, with_ports)
    taken = [all(field.matches(other.rule, kind) for field in KIND_FIELDS) for kind in kinds]
    return all(taken) if any(taken) else None


@lru_cache(maxsize=1024)
def kinds_of(family: Family, named: tuple[NamedValues, ...]) -> list[Packet]:
    """The kinds that entries which name those values tell apart, and some that none of them names."""
    kinds = [Packet(family, 0, 0, 0)]
    for field, values in zip(KIND_FIELDS, named, strict=True):
        kinds = list(dict.fromkeys(variant for kind in kinds for variant in field.variants(kind, values)))
    return kinds


def packet_of(kind: Packet, values: Sequence[int]) -> Packet:
    """A packet of a kind, with a value for each ranged field; ports only where the kind has them."""
    return between(kind, *(values if has_ports(kind) else values[: len(ADDRESS_FIELDS)]))


def has_ports(kind: Packet) -> bool:
    return kind.protocol in WITH_PORTS and not kind.fragment


def overlapping(rules: Sequence[Rule], family: Family) -> Iterator[tuple[int, list[int]]]:
    """For each entry that matches something those that may match some of it, by the ends of what they match.

    Entries by their indices, which rise.
    """
    spans: list[tuple[Ints, Ints]] = []
    matches = np.ones(len(rules), dtype=np.bool_)
    spoken_of = {field for rule in rules for field in rule.constraints}
    for field in FIELDS:
        pairs = [field.hull(rule, family) for rule in rules] if field in spoken_of else []
        if pairs:
            low, high = np.array(ranked(pairs), dtype=np.int64).T
            matches &= low <= high
            if len(set(pairs)) > 1:  # of a field that all say the same of, nothing else is to be seen
                spans.append((low, high))
    numbers = np.flatnonzero(matches)
    for first in range(0, len(numbers), _AT_ONCE):
        some = numbers[first : first + _AT_ONCE]
        alike = np.ones((len(some), len(rules)), dtype=np.bool_)
        for low, high in spans:
            alike &= (low[some, None] <= high) & (low <= high[some, None])
        alike[np.arange(len(some)), some] = False
        row, other = np.nonzero(alike)
        ends = np.searchsorted(row, np.arange(len(some) + 1)).tolist()
        others = other.tolist()
        for index, begin, end in zip(some.tolist(), ends[:-1], ends[1:], strict=True):
            yield index, others[begin:end]


def ranked(pairs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Large numbers as their ranks among each other."""
    rank = {number: order for order, number in enumerate(sorted({end for pair in pairs for end in pair}))}
    return [(rank[low], rank[high]) for low, high in pairs]
