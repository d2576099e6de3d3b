"""Entries that other entries leave nothing to do: never matched, or matched to no effect.

An entry's packets are cut into classes by the entries that overlap it; one packet of each class is looked up.
"""

from bisect import bisect
from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import product
from math import prod
from random import Random

import numpy as np
from msgspec import Struct

from greyheron.core.headers import Ints
from greyheron.core.intervals import TooManyParts
from greyheron.core.lists.fields import ADDRESS_FIELDS, FIELDS, KIND_FIELDS, PORT_FIELDS, RANGED_FIELDS
from greyheron.core.lists.fields.field import NamedValues, RangedField
from greyheron.core.lists.matching import first_mismatch
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, between
from greyheron.core.progress import Progress, unwatched
from greyheron.model.names import WITH_PORTS
from greyheron.model.values import Family

MOST_CLASSES = 4096
"""Entries whose packets fall into more classes are not judged; some are tried first at random."""
_FIRST_TRIES, _TRIES = 4, 200
_FEW = 4
"""Where no more entries than that could do the same, nothing is tried before the classes are."""
_PORTS = frozenset(PORT_FIELDS)
_MOST_SETS = 32
_AT_ONCE = 256
"""So many entries are compared with all of a list at once."""


class Ineffective(Struct, frozen=True):
    """An entry that has nothing to do.

    number:  its own;  by:  the entries that leave it nothing, or that would do the same
    matched:  whether packets come to it at all;  opposite:  whether those entries do the opposite
    """

    number: int
    by: tuple[int, ...]
    matched: bool
    opposite: bool


def ineffective_entries(found: ResolvedList, progress: Progress = unwatched) -> tuple[Ineffective, ...]:
    """The entries of a list that have nothing to do. Raises Cancelled."""
    rules = found.rules
    judged: list[Ineffective] = []
    for index, near in _overlapping(rules, found.family):
        progress(index / len(rules))
        behind = bisect(near, index)
        earlier, later = ([rules[other] for other in some] for some in (near[:behind], near[behind:]))
        judged += _judged(rules[index], earlier, later, found.family)
    return tuple(judged)


def _judged(
    rule: Rule, earlier: Sequence[Rule], later: Sequence[Rule], family: Family
) -> Iterator[Ineffective]:
    """What is to be said of a rule that matches something, with those that may match some of it."""
    may_do_the_same = not rule.entry.log and any(
        each.entry.action is rule.entry.action and not each.entry.log for each in later
    )
    if not earlier and not may_do_the_same:
        return
    if not earlier and _kinds_taken(rule, rule, family) is not None:
        taking = _taking_at_once(rule, later, family)
        if taking is not None:
            if all(_done_the_same(rule, other) for other in taking):
                yield _needless(rule, {other.entry.number for other in taking if other is not None})
            return
    coming = _coming_to(rule, earlier, family) if earlier or len(later) > _FEW else None
    if coming is None and earlier:
        classes = _classes(rule, earlier, family)
        if not classes:  # too many, or it matches nothing at all
            return
        deciding = [_first(earlier, packet) for packet in classes]
        if None not in deciding:
            by = {number.entry.number: number for number in deciding if number is not None}
            opposite = any(deciders.entry.action is not rule.entry.action for deciders in by.values())
            yield Ineffective(rule.entry.number, tuple(sorted(by)), matched=False, opposite=opposite)
            return
    if not may_do_the_same or (coming is not None and not _done_the_same(rule, _first(later, coming))):
        return
    if coming is not None and _takes_all_of(later[0], rule, family):
        yield _needless(rule, {later[0].entry.number})
        return
    classes = _classes(rule, [*earlier, *later], family)
    if not classes:
        return
    instead: set[int] = set()
    for packet in classes:
        if _first(earlier, packet) is not None:
            continue
        other = _first(later, packet)
        if other is None or not _done_the_same(rule, other):
            return
        instead.add(other.entry.number)
    yield _needless(rule, instead)


def _needless(rule: Rule, instead: set[int]) -> Ineffective:
    """What is said of an entry when others below would do the same with all that comes to it."""
    return Ineffective(rule.entry.number, tuple(sorted(instead)), matched=True, opposite=False)


def _done_the_same(rule: Rule, other: Rule | None) -> bool:
    """Whether a later entry, or the end of the list, does with a packet what `rule` does."""
    return other is not None and other.entry.action is rule.entry.action and not other.entry.log


def _taking_at_once(rule: Rule, later: Sequence[Rule], family: Family) -> Sequence[Rule | None] | None:
    """Who takes what comes to a rule, each some of it; None in it is the end of the list.

    later:  entries that may match some of it, in order.  None where that is not seen at once.
    """
    first_takes_all = _takes_all_of(later[0], rule, family)
    if first_takes_all is None:
        return None
    if first_takes_all:
        return later[:1]
    if len(later) == 1:
        return later[0], None
    return later[:2] if _takes_all_of(later[1], rule, family) else None


def _takes_all_of(other: Rule, rule: Rule, family: Family) -> bool | None:
    """Whether `other` matches all that `rule` does, or only some; None where that is not seen at once.

    What they match overlaps in every ranged field.
    """
    takes_all, kinds_differ = True, False
    for field in other.constraints:
        if field.says(other) == field.says(rule):
            continue
        if not isinstance(field, RangedField):
            kinds_differ = True
            continue
        own, its = field.stretch(rule), field.stretch(other)
        if own is None or its is None:
            return None
        takes_all &= its[0] <= own[0] and own[1] <= its[1]
    if not kinds_differ:
        return takes_all
    return _kinds_taken(other, rule, family) and takes_all


def _kinds_taken(other: Rule, rule: Rule, family: Family) -> bool | None:
    """Whether `other` takes all kinds of packets that `rule` matches, or only some; None: it takes none."""
    return _taken(family, _SaysOfKinds(other), _SaysOfKinds(rule), _asks_for_ports(rule))


def _first(rules: Sequence[Rule], packet: Packet) -> Rule | None:
    return next((each for each in rules if first_mismatch(each, packet) is None), None)


def _coming_to(rule: Rule, earlier: Sequence[Rule], family: Family) -> Packet | None:
    """A packet that no earlier entry takes, where one is quickly found.

    First of what the entry itself tells apart, then at the borders of what earlier ones take.
    """
    chance = Random(rule.entry.number)
    for others, tries in (((), _FIRST_TRIES), (earlier, _TRIES if earlier else 0)):
        kinds = _own_kinds(rule, others, family)
        borders = [field.borders(rule, others, family) for field in RANGED_FIELDS]
        if not kinds or not all(borders):
            return None
        for _ in range(tries):
            packet = _packet(chance.choice(kinds), [chance.choice(each) for each in borders])
            if _first(earlier, packet) is None:
                return packet
    return None


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
    return _matching_kinds(family, _named([rule, *others]), _SaysOfKinds(rule), _asks_for_ports(rule))


def _named(rules: Sequence[Rule]) -> tuple[NamedValues, ...]:
    """What rules say of each field that makes kinds."""
    return tuple(frozenset(map(field.says, rules)) for field in KIND_FIELDS)


def _asks_for_ports(rule: Rule) -> bool:
    return any(field in _PORTS for field in rule.constraints)


class _SaysOfKinds:
    """What a rule says of the kinds of packets: equal for rules that say the same."""

    def __init__(self, rule: Rule) -> None:
        self.rule = rule
        self._says = tuple(field.says(rule) for field in KIND_FIELDS)

    def __hash__(self) -> int:
        return hash(self._says)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _SaysOfKinds) and self._says == other._says


@lru_cache(maxsize=4096)
def _matching_kinds(
    family: Family, named: tuple[NamedValues, ...], said: _SaysOfKinds, with_ports: bool
) -> list[Packet]:
    return [
        kind
        for kind in _kinds(family, named)
        if (not with_ports or _has_ports(kind))
        and all(field.matches(said.rule, kind) for field in KIND_FIELDS)
    ]


@lru_cache(maxsize=4096)
def _taken(family: Family, other: _SaysOfKinds, said: _SaysOfKinds, with_ports: bool) -> bool | None:
    kinds = _matching_kinds(family, _named([said.rule, other.rule]), said, with_ports)
    taken = [all(field.matches(other.rule, kind) for field in KIND_FIELDS) for kind in kinds]
    return all(taken) if any(taken) else None


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


def _overlapping(rules: Sequence[Rule], family: Family) -> Iterator[tuple[int, list[int]]]:
    """For each entry that matches something those that may match some of it, by the ends of what they match.

    Entries by their indices, which rise.
    """
    spans: list[tuple[Ints, Ints]] = []
    matches = np.ones(len(rules), dtype=np.bool_)
    spoken_of = {field for rule in rules for field in rule.constraints}
    for field in FIELDS:
        pairs = [field.hull(rule, family) for rule in rules] if field in spoken_of else []
        if pairs:
            low, high = np.array(_ranked(pairs), dtype=np.int64).T
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


def _ranked(pairs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Large numbers as their ranks among each other."""
    rank = {number: order for order, number in enumerate(sorted({end for pair in pairs for end in pair}))}
    return [(rank[low], rank[high]) for low, high in pairs]
