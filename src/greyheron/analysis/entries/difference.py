"""Exactly which packets one list decides otherwise than another: in few boxes, over all headers.

A packet that matches no entry in which the lists differ is decided alike. For the others the fields are gone
through in turn: each is cut into values that no entry tells apart, and only what is left to match goes on.
"""

from collections.abc import Iterable, Iterator, Sequence
from difflib import SequenceMatcher
from math import prod
from typing import Any

from msgspec import Struct

from greyheron.analysis.entries.packet_classes import has_ports, kinds_of, named_values
from greyheron.core.intervals import Region, Spans, TooManyParts, size, span_size
from greyheron.core.lists.fields import ADDRESS_FIELDS, FIELDS, KIND_FIELDS, PORT_FIELDS, RANGED_FIELDS
from greyheron.core.lists.fields.field import FieldValues, KindField
from greyheron.core.lists.matching import implicit_rules
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.core.progress import Progress, unwatched
from greyheron.model.values import Action, Family

MOST_STATES = 1 << 17
"""So many states of two lists are looked at before it is given up."""
_MOST_BOXES = 20_000
_MOST_MATCHED = 2000
"""Where more entries differ they are not matched with each other: all of them count as changed."""
_LEVELS = len(RANGED_FIELDS)


class PacketBox(Struct, frozen=True):
    """Packets that are decided otherwise now, all alike.

    permitted:  whether they are permitted that were denied before, or the other way round
    kinds:  what they are, in words: “tcp”, “icmp echo-request”;  examples:  a packet of each, with no ends
    sources, destinations, source_ports, destination_ports:  None for all
    """

    permitted: bool
    kinds: tuple[str, ...]
    examples: frozenset[Packet]
    sources: Region | None
    destinations: Region | None
    source_ports: Spans | None
    destination_ports: Spans | None

    @property
    def values(self) -> tuple[FieldValues | None, ...]:
        """What is said of each ranged field, in their order."""
        return self.sources, self.destinations, self.source_ports, self.destination_ports

    def headers(self, family: Family) -> int:
        """How many combinations of addresses and ports there are in it, of each kind that has ports."""
        addresses = [1 << family.bits if each is None else size(each) for each in self.values[:2]]
        return prod([*addresses, *(1 << 16 if each is None else span_size(each) for each in self.values[2:])])


def changed_packets(
    before: ResolvedList, after: ResolvedList, progress: Progress = unwatched
) -> tuple[PacketBox, ...]:
    """What `after` decides otherwise than `before`, of the same family: the largest boxes first.

    Raises TooManyParts where that is too much to be told, and Cancelled.
    """
    return _SideBySide(before, after, progress).boxes()


class _SideBySide:
    """Two lists, side by side; entries of each by the bits of a number, the first one lowest.

    A state is what is left to match of both. What becomes of a state has a number: 0 nothing, 1 and 2 that
    it is permitted or denied now, and above them what becomes of the parts of a field.
    """

    def __init__(self, before: ResolvedList, after: ResolvedList, progress: Progress) -> None:
        self._family, self._progress = before.family, progress
        end = implicit_rules(before.family)
        lists = [(*before.rules, *end), (*after.rules, *end)]
        self._lists, self._changed = _near_changed(lists, before.family)
        self._permits = [_bits(rule.entry.action is Action.PERMIT for rule in rules) for rules in self._lists]
        self._says = [
            [[field.says(rule) for rule in rules] for rules in self._lists] for field in RANGED_FIELDS
        ]
        self._ported = [
            _bits(any(field in rule.constraints for field in PORT_FIELDS) for rule in rules)
            for rules in self._lists
        ]
        self._sure = [
            [
                _bits(all(each is None for each in said) for said in zip(*fields, strict=True))
                for fields in zip(*self._says[level:], strict=True)
            ]
            for level in range(_LEVELS)
        ] + [[-1, -1]]
        self._done = 0.0
        self._known: dict[tuple[int, int, int], int] = {}
        self._numbers: dict[tuple[tuple[FieldValues | None, int], ...], int] = {}
        self._nodes: list[tuple[tuple[FieldValues | None, int], ...]] = [(), (), ()]

    def boxes(self) -> tuple[PacketBox, ...]:
        if not any(self._changed):
            return ()
        rules = [rule for rules in self._lists for rule in rules]
        named = named_values(rules)
        kinds = kinds_of(self._family, named)
        told = {
            kind: tuple(
                field.variant_words(kind, says) for field, says in zip(KIND_FIELDS, named, strict=True)
            )
            for kind in kinds
        }
        alike: dict[tuple[bool, tuple[FieldValues | None, ...]], list[Packet]] = {}
        matching = [_KindMatches(rules) for rules in self._lists]
        for number, kind in enumerate(kinds):
            self._done = number / len(kinds)
            left = [each.of(kind) for each in matching]
            if not has_ports(kind):
                left = [each & ~ported for each, ported in zip(left, self._ported, strict=True)]
            for permitted, values in self._enumerated(self._becomes(0, left[0], left[1])):
                alike.setdefault((permitted, values), []).append(kind)
                if len(alike) > _MOST_BOXES:
                    raise TooManyParts(len(alike))
        boxes: list[PacketBox] = []
        for permitted in (True, False):
            some = [(frozenset(of), values) for (side, values), of in alike.items() if side is permitted]
            for of, values in joined_boxes(some, self._family):
                ported = any(each is not None for each in values[len(ADDRESS_FIELDS) :])
                boxes.append(PacketBox(permitted, _kind_words(of, told, ported), of, *values))
        return tuple(sorted(boxes, key=lambda box: (not box.permitted, -box.headers(self._family))))

    def _becomes(self, level: int, before: int, after: int) -> int:
        """What becomes of a state from a field on. Raises TooManyParts."""
        before, after = (
            _until_sure(left, sure) for left, sure in zip((before, after), self._sure[level], strict=True)
        )
        if not (before & self._changed[0] or after & self._changed[1]):
            return 0
        can = [self._can(level, side, left) for side, left in enumerate((before, after))]
        if can[0] == can[1] and len(can[0]) == 1:
            return 0
        if level == _LEVELS:
            return 1 if can[1] == {Action.PERMIT} else 2
        key = level, before, after
        if key not in self._known:
            if len(self._known) > MOST_STATES:
                raise TooManyParts(len(self._known))
            self._progress(self._done)
            self._known[key] = self._node(level, before, after)
        return self._known[key]

    def _can(self, level: int, side: int, left: int) -> set[Action]:
        """What may be decided by those that are left."""
        permits = self._permits[side]
        found = {Action.PERMIT} if left & permits else set()
        if left & ~permits or not left & self._sure[level][side]:
            found.add(Action.DENY)
        return found

    def _node(self, level: int, before: int, after: int) -> int:
        field = RANGED_FIELDS[level]
        holders: dict[Any, list[int]] = {}
        changed: set[Any] = set()
        free = [0, 0]
        for side, left in enumerate((before, after)):
            for index in _indices(left):
                said = self._says[level][side][index]
                if self._changed[side] >> index & 1:
                    changed.add(said)
                if said is None:
                    free[side] |= 1 << index
                else:
                    holders.setdefault(said, [0, 0])[side] |= 1 << index
        if not holders:
            return self._numbered([(None, self._becomes(level + 1, free[0], free[1]))])
        masks = list(holders.values())
        parts: dict[int, list[FieldValues]] = {}
        for values, inside in field.classes(list(holders), list(changed), self._family):
            there = list(free)
            for which in _indices(inside):
                there = [held | more for held, more in zip(there, masks[which], strict=True)]
            became = self._becomes(level + 1, there[0], there[1])
            if became and values:
                parts.setdefault(became, []).append(values)
        return self._numbered([(field.joined(some, self._family), became) for became, some in parts.items()])

    def _numbered(self, parts: Sequence[tuple[FieldValues | None, int]]) -> int:
        node = tuple(part for part in parts if part[1])
        if not node:
            return 0
        if node not in self._numbers:
            self._numbers[node] = len(self._nodes)
            self._nodes.append(node)
        return self._numbers[node]

    def _enumerated(
        self, number: int, level: int = 0
    ) -> Iterator[tuple[bool, tuple[FieldValues | None, ...]]]:
        if level == _LEVELS:
            if number:
                yield number == 1, ()
            return
        for values, became in self._nodes[number]:
            for permitted, behind in self._enumerated(became, level + 1):
                yield permitted, (values, *behind)


class _KindMatches:
    """Which entries match a kind of packets, as far as its kind goes."""

    def __init__(self, rules: Sequence[Rule]) -> None:
        self._sides: list[tuple[KindField, list[tuple[Rule, int]]]] = []
        for field in KIND_FIELDS:
            of: dict[Any, tuple[Rule, int]] = {}
            for index, rule in enumerate(rules):
                first, bits = of.get(field.says(rule), (rule, 0))
                of[field.says(rule)] = first, bits | 1 << index
            self._sides.append((field, list(of.values())))
        self._all = (1 << len(rules)) - 1

    def of(self, kind: Packet) -> int:
        found = self._all
        for field, sides in self._sides:
            found &= sum(bits for rule, bits in sides if field.matches(rule, kind))
        return found


def _meaning(rule: Rule) -> tuple[Any, ...]:
    return rule.entry.action, *(field.says(rule) for field in FIELDS)


def _changed(lists: Sequence[Sequence[tuple[Any, ...]]]) -> tuple[int, int]:
    """The entries of both that the other has not, or not in that order."""
    before, after = lists
    least = min(len(before), len(after))
    first = next((at for at in range(least) if before[at] != after[at]), least)
    most = least - first
    last = next((at for at in range(most) if before[-1 - at] != after[-1 - at]), most)
    one, other = before[first : len(before) - last], after[first : len(after) - last]
    if max(len(one), len(other)) > _MOST_MATCHED:
        return _bits([1] * len(one)) << first, _bits([1] * len(other)) << first
    found = [0, 0]
    for tag, low, high, start, end in SequenceMatcher(None, one, other, autojunk=False).get_opcodes():
        if tag != "equal":
            for side, ends in enumerate(((low, high), (start, end))):
                for at in range(*ends):
                    found[side] |= 1 << first + at
    return found[0], found[1]


def _near_changed(lists: Sequence[Sequence[Rule]], family: Family) -> tuple[list[list[Rule]], list[int]]:
    """Of both lists the entries that may match what an entry matches that differs; and which those are."""
    changed = _changed([[_meaning(rule) for rule in rules] for rules in lists])
    differing = [lists[side][index] for side in (0, 1) for index in _indices(changed[side])]
    near = [list(range(len(rules))) for rules in lists]
    for field in FIELDS if differing else ():
        hulls = [field.hull(rule, family) for rule in differing]
        low, high = min(first for first, _ in hulls), max(last for _, last in hulls)
        if any(field.says(rule) in (None, False) for rule in differing):
            continue
        for side, some in enumerate(near):
            ends = ((index, field.hull(lists[side][index], family)) for index in some)
            near[side] = [index for index, (first, last) in ends if first <= high and low <= last]
    return (
        [[lists[side][index] for index in some] for side, some in enumerate(near)],
        [_bits(changed[side] >> index & 1 for index in some) for side, some in enumerate(near)],
    )


def _bits(some: Iterable[object]) -> int:
    """A number with a bit for each that is true, the first one lowest."""
    return int("".join("1" if each else "0" for each in some)[::-1] or "0", 2)


def _indices(bits: int) -> Iterator[int]:
    while bits:
        lowest = bits & -bits
        yield lowest.bit_length() - 1
        bits ^= lowest


def _until_sure(left: int, sure: int) -> int:
    """Those that are left, up to the first one that matches whatever is still to be looked at."""
    first = left & sure & -(left & sure)
    return left & (2 * first - 1) if first else left


KindsAndValues = tuple[frozenset[Packet], tuple[FieldValues | None, ...]]
"""Kinds of packets, and values of each ranged field."""


def joined_boxes(some: Sequence[KindsAndValues], family: Family) -> list[KindsAndValues]:
    """Boxes that are alike in all but one thing in one, until there are none."""
    found = list(some)
    while True:
        count = len(found)
        by_kind: dict[tuple[FieldValues | None, ...], frozenset[Packet]] = {}
        for kinds, values in found:
            by_kind[values] = by_kind.get(values, frozenset()) | kinds
        found = [(kinds, values) for values, kinds in by_kind.items()]
        for at, field in enumerate(RANGED_FIELDS):
            parts: dict[tuple[Any, ...], list[FieldValues | None]] = {}
            for kinds, values in found:
                parts.setdefault((kinds, values[:at], values[at + 1 :]), []).append(values[at])
            found = []
            for (kinds, before, behind), own in parts.items():
                told = [each for each in own if each is not None]
                joined = None if len(told) < len(own) else field.joined(told, family)
                found.append((kinds, (*before, joined, *behind)))
        if len(found) == count:
            return found


_FieldWords = dict[Packet, tuple[str, ...]]


def _kind_words(some: frozenset[Packet], told: _FieldWords, ported: bool) -> tuple[str, ...]:
    """Kinds in words.

    told:  what each field says of every kind there is;  ported:  kinds without ports are not meant anyway
    """
    every = {kind: words for kind, words in told.items() if not ported or has_ports(kind)}
    found: list[str] = []
    for protocol in dict.fromkeys(words[0] for words in every.values()):
        # Whether it is a fragment goes first: those lack what other fields look at.
        own = {kind: (words[-1], *words[1:-1]) for kind, words in every.items() if words[0] == protocol}
        lacking = [
            not any(words) for words in zip(*(own[kind] for kind in own if kind.fragment), strict=True)
        ]
        for fragment, *rest in _phrases(some & own.keys(), own):
            implied = any(word and lacks for word, lacks in zip(rest, lacking[1:], strict=False))
            words = [protocol, "" if implied else fragment, *rest]
            found.append(" ".join(filter(None, words)))
    return ("every protocol",) if some >= told.keys() else tuple(found)


def _phrases(some: frozenset[Packet], every: _FieldWords, at: int = 0) -> list[tuple[str, ...]]:
    """What tells some kinds from the others in `every`: a word for each field from `at` on, "" for none."""
    if not some:
        return []
    width = len(next(iter(every.values()))) - at
    if some == every.keys():
        return [("",) * width]
    by_word: dict[str, _FieldWords] = {}
    for kind, words in every.items():
        by_word.setdefault(words[at], {})[kind] = words
    alike: dict[tuple[tuple[str, ...], ...], list[str]] = {}
    for word, own in by_word.items():
        if some & own.keys():
            alike.setdefault(tuple(_phrases(some & own.keys(), own, at + 1)), []).append(word)
    found: list[tuple[str, ...]] = []
    for behind, alternatives in alike.items():
        said = "" if len(alternatives) == len(by_word) else " or ".join(filter(None, alternatives))
        found += [(said, *phrase) for phrase in behind]
    return found
