"""Entries that other entries leave nothing to do: never matched, or matched to no effect.

An entry's packets are cut into classes by the entries that overlap it; one packet of each class is looked up.
"""

from bisect import bisect
from collections.abc import Iterator, Sequence
from random import Random

from msgspec import Struct

from greyheron.analysis.entries.packet_classes import (
    SaysOfKinds,
    asks_for_ports,
    classes_of,
    first_match,
    kinds_taken_of,
    overlapping,
    own_kinds,
    packet_of,
)
from greyheron.core.lists.fields import RANGED_FIELDS
from greyheron.core.lists.fields.field import RangedField
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.core.progress import Progress, unwatched
from greyheron.model.values import Family

_FIRST_TRIES, _TRIES = 4, 200
_FEW = 4
"""Where no more entries than that could do the same, nothing is tried before the classes are."""


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
    for index, near in overlapping(rules, found.family):
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
        classes = classes_of(rule, earlier, family)
        if not classes:  # too many, or it matches nothing at all
            return
        deciding = [first_match(earlier, packet) for packet in classes]
        if None not in deciding:
            by = {number.entry.number: number for number in deciding if number is not None}
            opposite = any(deciders.entry.action is not rule.entry.action for deciders in by.values())
            yield Ineffective(rule.entry.number, tuple(sorted(by)), matched=False, opposite=opposite)
            return
    if not may_do_the_same or (coming is not None and not _done_the_same(rule, first_match(later, coming))):
        return
    if coming is not None and _takes_all_of(later[0], rule, family):
        yield _needless(rule, {later[0].entry.number})
        return
    classes = classes_of(rule, [*earlier, *later], family)
    if not classes:
        return
    instead: set[int] = set()
    for packet in classes:
        if first_match(earlier, packet) is not None:
            continue
        other = first_match(later, packet)
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
    return kinds_taken_of(family, SaysOfKinds(other), SaysOfKinds(rule), asks_for_ports(rule))


def _coming_to(rule: Rule, earlier: Sequence[Rule], family: Family) -> Packet | None:
    """A packet that no earlier entry takes, where one is quickly found.

    First of what the entry itself tells apart, then at the borders of what earlier ones take.
    """
    chance = Random(rule.entry.number)
    for others, tries in (((), _FIRST_TRIES), (earlier, _TRIES if earlier else 0)):
        kinds = own_kinds(rule, others, family)
        borders = [field.borders(rule, others, family) for field in RANGED_FIELDS]
        if not kinds or not all(borders):
            return None
        for _ in range(tries):
            packet = packet_of(chance.choice(kinds), [chance.choice(each) for each in borders])
            if first_match(earlier, packet) is None:
                return packet
    return None
