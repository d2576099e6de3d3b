"""The same decisions in as few entries as can be found: what has no effect goes, what can be one becomes one.

Each step is made only where all packets that it could touch, class by class and at every time, are decided as
before: by action, log and silence. Nothing is sampled.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from msgspec.structs import replace

from greyheron.analysis.entries.frames import hiding
from greyheron.analysis.entries.ineffective import Ineffective, ineffective_entries
from greyheron.analysis.entries.joining import Join, Sets, joins_of
from greyheron.analysis.entries.packet_classes import classes_of, first_match, ranked
from greyheron.core.headers import Ints
from greyheron.core.lists.fields import FIELDS
from greyheron.core.lists.matching import AT_THE_END, implicit_rules
from greyheron.core.lists.periods import spans_of
from greyheron.core.lists.resolved import Names, ResolvedList, rule_of
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.core.progress import Progress, unwatched
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import Entry, ListBody
from greyheron.model.values import Action, Family

_ROUNDS = 40
_NAMED = 3
_Does = tuple[Action, bool, bool]
"""What is done with a packet: action, whether it is logged, whether a denial is not answered."""
_IMPLICITLY: _Does = (Action.DENY, False, False)


@dataclass(frozen=True, slots=True)
class TidyStep:
    """What became of entries, by the numbers they had.

    into:  the number of the entry that stands for them; None: they are gone
    doubtful:  it never matched what it was written for: perhaps its place is wrong, not the entry
    """

    of: tuple[int, ...]
    into: int | None
    why: str
    doubtful: bool = False


@dataclass(frozen=True, slots=True)
class Tidied:
    """A list that decides as before, and what was done to it."""

    body: ListBody
    steps: tuple[TidyStep, ...]


def tidy(access_list: AccessList, network: Network, progress: Progress = unwatched) -> Tidied:
    """The entries of a list of `network` in as few as can be found. Raises Cancelled."""
    if len(access_list.body.entries) < 2:
        return Tidied(access_list.body, ())
    if access_list.family is None:
        return _frames_tidied(access_list)
    return _Tidying(access_list, network, access_list.family, progress).tidied()


class _Tidying:
    """The entries of a list while they are made fewer, by their places in the list as it was."""

    def __init__(self, access_list: AccessList, network: Network, family: Family, progress: Progress) -> None:
        self._list, self._family, self._progress = access_list, family, progress
        self._names, self._sets = Names(network), Sets(network, family)
        self._entries = dict(enumerate(access_list.body.entries))
        periods = access_list.body.periods
        self._times = sorted({span.active & periods for span in spans_of(network)}, key=sorted)
        self._rules = {index: rule_of(entry, family, self._names) for index, entry in self._entries.items()}
        self._hulls = _Hulls(list(self._rules.values()), family)
        self._end = implicit_rules(family)
        last = Entry(AT_THE_END, Action.DENY)
        self._last = (*self._end, Rule(last, None, None, None, None))
        self._steps: list[TidyStep] = []
        self._turn = 0

    def tidied(self) -> Tidied:
        for turn in range(_ROUNDS):
            self._turn, count = turn, len(self._entries)
            self._take_out_idle(self._idle())
            if turn and len(self._entries) == count:
                break
            self._join()
        entries = [self._entries[index] for index in sorted(self._entries)]
        return Tidied(self._list.body.with_entries(entries), tuple(self._steps))

    def _on(self, done: float) -> None:
        """Tell how far it is: each turn has half of what is left, as nobody knows how many there are."""
        left: float = 0.5**self._turn
        self._progress(1 - left + left * done / 2)

    def _join(self) -> None:
        """Make entries one until no more of them can be."""
        for _ in range(_ROUNDS):
            self._on(0.5)
            places = [self._try_join(join) for join in list(joins_of(self._entries, self._sets))]
            joined = {place for place in places if place is not None and place in self._entries}
            if not joined:
                break
            # What nobody could do without before, an entry that stands for several may do now.
            inside = {index for place in joined for index in self._hulls.inside(place, self._entries)}
            self._take_out_idle(dict.fromkeys(inside, ("others do the same", False)))

    def _take_out_idle(self, idle: Mapping[int, tuple[str, bool]]) -> None:
        """Take out those of some entries that change nothing, from the last upwards.

        idle:  why each may change nothing, and whether that is doubtful
        """
        steps: list[TidyStep] = []
        for index, (why, doubtful) in sorted(idle.items(), reverse=True):
            self._on(0.5)
            entry = self._entries[index]
            if not entry.maybe and self._unneeded(index):
                self._take_out(index)
                steps.append(TidyStep((entry.number,), None, why, doubtful))
        self._steps += reversed(steps)

    def _idle(self) -> dict[int, tuple[str, bool]]:
        """Entries that match something and may change nothing: a needed one among them stays."""
        matching = [index for index in self._entries if self._hulls.matches(index)]
        if self._list.body.periods:
            return dict.fromkeys(matching, ("others do the same", False))
        numbered = {entry.number: index for index, entry in self._entries.items()}
        rules = [replace(self._rules[index], entry=entry) for index, entry in sorted(self._entries.items())]
        with_end = ResolvedList(self._list.name, self._family, self._list.kind, (*rules, *self._last))
        return {
            numbered[each.number]: (_why(each), each.opposite)
            for each in ineffective_entries(with_end, lambda done: self._on(done / 2))
            if each.number in numbered
        }

    def _unneeded(self, index: int) -> bool:
        near = self._hulls.near((index,), self._entries)
        return self._alike(self._rules[index], [*near, index], {index: None})

    def _try_join(self, join: Join) -> int | None:
        """Put one entry in the place of some where that changes nothing: the first's, the last's, or None."""
        if not all(index in self._entries for index in join.indices):
            return None
        entries = [self._entries[index] for index in join.indices]
        if any(entry.maybe for entry in entries) or join.of != tuple(entries):  # another join changed them
            return None
        rule = rule_of(join.entry, self._family, self._names)
        near = self._hulls.near(join.indices, self._entries)
        between = [each for each in near if join.indices[0] < each < join.indices[-1]]
        own = _does(join.entry)
        plain = all(_does(self._entries[each]) == own for each in between)
        for place in (join.indices[0], join.indices[-1]):
            into: dict[int, Rule | None] = dict.fromkeys(join.indices)
            into[place] = rule
            if plain or self._alike(rule, [*near, *join.indices], into):
                self._put(join, place, rule)
                return place
        return None

    def _put(self, join: Join, place: int, rule: Rule) -> None:
        number = self._entries[place].number
        numbers = tuple(self._entries[index].number for index in join.indices)
        for index in join.indices:
            if index != place:
                self._take_out(index)
        self._entries[place] = replace(join.entry, number=number)
        self._rules[place] = rule
        self._hulls.widen(place, join.indices)
        self._steps.append(TidyStep(numbers, number, f"can be one: {join.said}"))

    def _take_out(self, index: int) -> None:
        del self._entries[index], self._rules[index]

    def _alike(self, touched: Rule, near: Sequence[int], into: dict[int, Rule | None]) -> bool:
        """Whether the packets of `touched` are decided as before; False where that is not found out.

        near:  the entries that may match some of them;  into:  what stands in the place of some, or None
        """
        order = sorted(near)
        for there in {self._there(order, active) for active in self._times}:
            before = [self._rules[index] for index in there]
            after = [rule for index in there if (rule := into.get(index, self._rules[index])) is not None]
            others = [*before, *self._end]
            packets = classes_of(touched, others, self._family)
            if packets is None:
                return False
            if any(self._done(before, packet) != self._done(after, packet) for packet in packets):
                return False
        return True

    def _there(self, indices: Sequence[int], active: frozenset[str]) -> tuple[int, ...]:
        return tuple(index for index in indices if self._entries[index].there(active))

    def _done(self, rules: Sequence[Rule], packet: Packet) -> _Does:
        rule = first_match([*rules, *self._end], packet)
        return _IMPLICITLY if rule is None else _does(rule.entry)


def _does(entry: Entry) -> _Does:
    return entry.action, entry.log, entry.silent


def _why(each: Ineffective) -> str:
    by = [number for number in each.by if number < AT_THE_END]
    if not by:
        return "the end of the list does the same"
    who = f"entr{'ies' if len(by) > 1 else 'y'} {', '.join(map(str, by[:_NAMED]))}"
    more = f" and {len(by) - _NAMED} more" if len(by) > _NAMED else ""
    if each.matched:
        return f"{who}{more} would do the same"
    opposite = ", and does the opposite: perhaps it should stand above" if each.opposite else ""
    return f"{who}{more} takes all of its packets first{opposite}"


def _frames_tidied(access_list: AccessList) -> Tidied:
    """A frame list without entries that never match, and without denials that its end makes anyway."""
    entries = list(access_list.body.entries)
    steps: list[TidyStep] = []
    for entry in access_list.body.entries:
        by = hiding(entry, entries)
        if by is not None and not entry.maybe:
            entries.remove(entry)
            opposite = by.action is not entry.action
            steps.append(
                TidyStep((entry.number,), None, f"never matches: {by.number} is before it", opposite)
            )
    while entries and _does(entries[-1]) == _IMPLICITLY and not entries[-1].maybe:
        steps.append(TidyStep((entries.pop().number,), None, "the end of the list does the same"))
    return (
        Tidied(access_list.body.with_entries(entries), tuple(steps))
        if entries
        else Tidied(access_list.body, ())
    )


class _Hulls:
    """The ends of what each entry matches in every field, as ranks: who can have packets in common."""

    def __init__(self, rules: Sequence[Rule], family: Family) -> None:
        low: list[list[int]] = []
        high: list[list[int]] = []
        for field in FIELDS:
            pairs = ranked([field.hull(rule, family) for rule in rules])
            low.append([first for first, _ in pairs])
            high.append([last for _, last in pairs])
        self._low: Ints = np.array(low, dtype=np.int64)
        self._high: Ints = np.array(high, dtype=np.int64)

    def matches(self, index: int) -> bool:
        """Whether it matches anything."""
        return bool((self._low[:, index] <= self._high[:, index]).all())

    def near(self, indices: Sequence[int], among: Mapping[int, Entry]) -> list[int]:
        """Other entries that may match what some of these match, rising."""
        low, high = self._around(indices)
        touch = ((self._low <= high[:, None]) & (low[:, None] <= self._high)).all(axis=0)
        own = set(indices)
        return [index for index in np.flatnonzero(touch).tolist() if index in among and index not in own]

    def inside(self, place: int, among: Mapping[int, Entry]) -> list[int]:
        """Other entries that match nothing beyond the ends of what the one at `place` does, rising."""
        low, high = self._around((place,))
        held = ((low[:, None] <= self._low) & (self._high <= high[:, None])).all(axis=0)
        return [index for index in np.flatnonzero(held).tolist() if index in among and index != place]

    def widen(self, place: int, indices: Sequence[int]) -> None:
        """The entry at `place` stands for all of these now."""
        self._low[:, place], self._high[:, place] = self._around(indices)

    def _around(self, indices: Sequence[int]) -> tuple[Ints, Ints]:
        some = list(indices)
        return self._low[:, some].min(axis=1), self._high[:, some].max(axis=1)
