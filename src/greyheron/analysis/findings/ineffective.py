"""Entries that other entries leave nothing to do: never matched, or matched to no effect.

An entry's packets are cut into classes by the entries that overlap it; one packet of each class is looked up.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import product
from math import prod
from random import Random
from weakref import WeakKeyDictionary

import numpy as np

from greyheron.core.bulk.headers import Bools
from greyheron.core.fields import ADDRESS_FIELDS, FIELDS, KIND_FIELDS, PORT_FIELDS, RANGED_FIELDS
from greyheron.core.fields.field import NamedValues
from greyheron.core.lists import ResolvedList
from greyheron.core.matching import first_mismatch
from greyheron.core.packet import Packet, between
from greyheron.core.regions import TooManyParts
from greyheron.core.rules import Rule
from greyheron.model.names import WITH_PORTS
from greyheron.model.values import Family

MOST_CLASSES = 4096
"""Entries whose packets fall into more classes are not judged; some are tried first at random."""
_TRIES = 200
_PORTS = frozenset(PORT_FIELDS)
_MOST_SETS = 32


@dataclass(frozen=True, slots=True)
class Ineffective:
    """An entry that has nothing to do.

    number:  its own;  by:  the entries that leave it nothing, or that would do the same
    matched:  whether packets come to it at all;  opposite:  whether those entries do the opposite
    """

    number: int
    by: tuple[int, ...]
    matched: bool
    opposite: bool


class IneffectiveEntries:
    """The entries of lists that have nothing to do, worked out once for each list."""

    def __init__(self) -> None:
        self._found: WeakKeyDictionary[ResolvedList, tuple[Ineffective, ...]] = WeakKeyDictionary()

    def of(self, found: ResolvedList) -> tuple[Ineffective, ...]:
        if found not in self._found:
            self._found[found] = tuple(_ineffective(found))
        return self._found[found]


def _ineffective(found: ResolvedList) -> Iterator[Ineffective]:
    rules = found.rules
    hulls = _Hulls(rules, found.family)
    for index, rule in enumerate(rules):
        near = hulls.overlapping(index)
        earlier = [rules[other] for other in near if other < index]
        later = [rules[other] for other in near if other > index]
        yield from _judged(rule, earlier, later, found.family)


def _judged(
    rule: Rule, earlier: Sequence[Rule], later: Sequence[Rule], family: Family
) -> Iterator[Ineffective]:
    if earlier and not _comes_to(rule, earlier, family):
        classes = _classes(rule, earlier, family)
        if classes is None:
            return
        deciding = [_first(earlier, packet) for packet in classes]
        if None not in deciding:
            by = {number.entry.number: number for number in deciding if number is not None}
            opposite = any(deciders.entry.action is not rule.entry.action for deciders in by.values())
            yield Ineffective(rule.entry.number, tuple(sorted(by)), matched=False, opposite=opposite)
            return
    if rule.entry.log or not later:
        return
    classes = _classes(rule, [*earlier, *later], family)
    if classes is None:
        return
    instead: set[int] = set()
    for packet in classes:
        if _first(earlier, packet) is not None:
            continue
        other = _first(later, packet)
        if other is None or other.entry.action is not rule.entry.action or other.entry.log:
            return
        instead.add(other.entry.number)
    yield Ineffective(rule.entry.number, tuple(sorted(instead)), matched=True, opposite=False)


def _first(rules: Sequence[Rule], packet: Packet) -> Rule | None:
    return next((each for each in rules if first_mismatch(each, packet) is None), None)


def _comes_to(rule: Rule, earlier: Sequence[Rule], family: Family) -> bool:
    """Whether a packet is quickly found that no earlier entry takes: at the borders of what they take."""
    chance = Random(rule.entry.number)
    kinds = _own_kinds(rule, earlier, family)
    borders = [field.borders(rule, earlier, family) for field in RANGED_FIELDS]
    if not kinds or not all(borders):
        return False
    return any(
        _first(earlier, _packet(chance.choice(kinds), [chance.choice(each) for each in borders])) is None
        for _ in range(_TRIES)
    )


def _classes(rule: Rule, others: Sequence[Rule], family: Family) -> list[Packet] | None:
    """One packet of each class of what `rule` matches; None when there are too many."""
    if any(len({field.says(each) for each in others}) > _MOST_SETS for field in RANGED_FIELDS):
        return None
    kinds = _own_kinds(rule, others, family)
    try:
        parts = [field.parts(rule, others, family) for field in RANGED_FIELDS]
    except TooManyParts:
        return None
    if len(kinds) * prod(map(len, parts)) > MOST_CLASSES:
        return None
    return [_packet(kind, values) for kind in kinds for values in product(*parts)]


def _own_kinds(rule: Rule, others: Sequence[Rule], family: Family) -> list[Packet]:
    """The kinds of packets that `rule` matches, as far as it and `others` tell them apart."""
    named = tuple(frozenset(field.says(each) for each in (rule, *others)) for field in KIND_FIELDS)
    with_ports = any(field in _PORTS for field in rule.constraints)
    return [
        kind
        for kind in _kinds(family, named)
        if (not with_ports or _has_ports(kind)) and all(field.matches(rule, kind) for field in KIND_FIELDS)
    ]


@lru_cache(maxsize=1024)
def _kinds(family: Family, named: tuple[NamedValues, ...]) -> list[Packet]:
    """The kinds that entries which name those values tell apart, and some that none of them names."""
    kinds = [Packet(family, 0, 0, 0)]
    for field, values in zip(KIND_FIELDS, named, strict=True):
        kinds = list(dict.fromkeys(variant for kind in kinds for variant in field.variants(kind, values)))
    return kinds


def _packet(kind: Packet, values: Sequence[int]) -> Packet:
    """A packet of a kind, with a value for each ranged field; ports only where the kind has them."""
    return between(kind, *(values if _has_ports(kind) else values[: len(ADDRESS_FIELDS)]))


def _has_ports(kind: Packet) -> bool:
    return kind.protocol in WITH_PORTS and not kind.fragment


class _Hulls:
    """The ends of what entries match, to see quickly which have nothing in common."""

    def __init__(self, rules: Sequence[Rule], family: Family) -> None:
        hulls = [[field.hull(rule, family) for rule in rules] for field in FIELDS]
        # Of a field that all say the same of, nothing is to be seen.
        ranked = [_ranked(pairs) for pairs in hulls if len(set(pairs)) > 1]
        ends = np.array(ranked, dtype=np.int64).reshape(len(ranked), len(rules), 2)
        self._low, self._high = ends[..., 0], ends[..., 1]

    def overlapping(self, index: int) -> list[int]:
        """The entries that may match some of what the one at `index` does."""
        low, high = self._low[:, index, None], self._high[:, index, None]
        alike: Bools = np.asarray(((self._low <= high) & (low <= self._high)).all(axis=0))
        alike[index] = False
        return [int(other) for other in np.flatnonzero(alike)]


def _ranked(pairs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Large numbers as their ranks among each other."""
    rank = {number: order for order, number in enumerate(sorted({end for pair in pairs for end in pair}))}
    return [(rank[low], rank[high]) for low, high in pairs]
