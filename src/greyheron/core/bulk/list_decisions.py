"""The lists of one world at the points of its forwarding, and what they make of very many packets."""

from collections.abc import Sequence
from itertools import pairwise
from weakref import WeakKeyDictionary

import numpy as np
from msgspec import Struct

from greyheron.core.bulk.forwarding import ForwardingIndex, Solicitation
from greyheron.core.bulk.tables import DecisionTable
from greyheron.core.bulk.tracer import DENIED, FRAME_DENIED, NO_DISCOVERY
from greyheron.core.headers import NONE, Bools, Headers, Ints, first_of_each, grouped, joined_headers
from greyheron.core.lists.fields.ports import port_spans
from greyheron.core.lists.layer2_paths import denied_in
from greyheron.core.lists.met import Filtered
from greyheron.core.lists.resolved import FrameList, ListsKey, ResolvedList, key_of_lists
from greyheron.core.packet import Packet
from greyheron.core.routing.discovery import unfound
from greyheron.core.world import World
from greyheron.model.values import Action, Family

_Stop = tuple[int, int, int]
"""What stops a solicitation or the packet behind it: point and entry, or NONE, and an outcome."""
_StopKey = tuple[Solicitation, ListsKey]
_MOST_STOPS = 20_000
_NOTHING: _Stop = (NONE, NONE, DENIED)
_BY_ASKER = -2
"""Stands for the point of a solicitation that lists may stop or not, depending on who asks."""


class Denials(Struct, frozen=True):
    """The first denial on each of many paths, in arrays of one length.

    point:  where, or NONE where nothing on the path denies
    entry:  the entry's number, or NONE for the implicit end of the list
    outcome:  DENIED, NO_DISCOVERY or FRAME_DENIED, as an index in OUTCOMES
    """

    point: Ints
    entry: Ints
    outcome: Ints

    def between(self, begin: int, end: int) -> "Denials":
        """Those of some of the paths."""
        return Denials(self.point[begin:end], self.entry[begin:end], self.outcome[begin:end])


class Meetings(Struct, frozen=True):
    """All that packets come to at codes that act, in arrays of one length, those of one path in their order.

    paths:  the numbers in `path` are below it
    """

    path: Ints
    code: Ints
    headers: Headers
    paths: int


class ListTables:
    """What is known of lists that several worlds share: tables, where they cut ports, what they stop."""

    def __init__(self) -> None:
        self._stops: WeakKeyDictionary[ForwardingIndex, dict[_StopKey, _Stop]] = WeakKeyDictionary()
        self._found: WeakKeyDictionary[ResolvedList, DecisionTable] = WeakKeyDictionary()
        self._cuts: WeakKeyDictionary[ResolvedList, frozenset[int]] = WeakKeyDictionary()

    def of(self, resolved: ResolvedList) -> DecisionTable:
        if resolved not in self._found:
            self._found[resolved] = DecisionTable(resolved)
        return self._found[resolved]

    def stops(self, forwarding: ForwardingIndex) -> dict[_StopKey, _Stop]:
        """What stops its solicitations, by the lists on their way; the caller adds what it finds."""
        found = self._stops.setdefault(forwarding, {})
        if len(found) > _MOST_STOPS:
            found.clear()
        return found

    def port_cuts(self, resolved: ResolvedList) -> frozenset[int]:
        """Where ports of either side fall into another class for the list."""
        if resolved not in self._cuts:
            rules = resolved.rules
            terms = {side for rule in rules for side in (rule.source_ports, rule.destination_ports) if side}
            self._cuts[resolved] = frozenset(
                edge for term in terms for low, high in port_spans(term) for edge in (low, high + 1)
            )
        return self._cuts[resolved]


class PlacedLists:
    """What stands at each point.

    lists:  the list at each point, or None;  names:  what the lists there are called, those of frames too
    """

    def __init__(self, world: World, forwarding: ForwardingIndex, tables: ListTables) -> None:
        self._world, self._forwarding, self._tables = world, forwarding, tables
        self.lists: list[ResolvedList | None] = [None] * len(forwarding.points)
        for (point, family), resolved in world.lists.items():
            if family is forwarding.family:
                self.lists[forwarding.point[point]] = resolved
        self.distinct = list(dict.fromkeys(found for found in self.lists if found is not None))
        number = {found: index for index, found in enumerate(self.distinct)}
        self._list_at = np.array(
            [NONE if found is None else number[found] for found in self.lists], dtype=np.int64
        )
        self.names = [None if found is None else found.name for found in self.lists]
        for point, framed in world.in_force.wires.lists.items():
            self.names[forwarding.frame_point[point]] = framed.name
        self._stops: list[_Stop] = []

    def acts(self) -> Bools:
        """For each code, points first and then solicitations, whether anything there can deny."""
        return np.append(self._list_at != NONE, self._stopping()[:, 0] != NONE)

    def tells_later_packets(self) -> Bools:
        """For each code whether a list there tells later packets out from the first of the same header."""
        return self._where([found.tells_later_packets for found in self.distinct])

    def tells_later_replies(self) -> Bools:
        """The same for later packets home."""
        return self._where([found.tells_later_replies for found in self.distinct])

    def _where(self, marked: Sequence[bool]) -> Bools:
        """Whether each code is a point where a list stands that is `marked`."""
        points = np.append(np.array(marked, dtype=np.bool_), False)[self._list_at]
        return np.append(points, np.zeros(len(self._forwarding.solicitations), dtype=np.bool_))

    def changed_from(self, before: "PlacedLists") -> Bools:
        """For each code whether it may decide otherwise than in `before`, which has the same forwarding.

        Over IPv6 wherever other lists see a solicitation: one stands for all who are alike to routes, and
        lists may tell those apart.
        """
        points = np.array([now is not then for now, then in zip(self.lists, before.lists, strict=True)])
        stopping, stopped = self._stopping(), before._stopping()
        differs = (stopping != stopped).any(axis=1)
        if self._forwarding.family is Family.IPV6:
            differs |= points[self._forwarding.solicited_at()].any(axis=1)
        for index in np.flatnonzero((stopping[:, 0] == _BY_ASKER) & ~differs).tolist():
            solicitation = self._forwarding.solicitations[index]
            differs[index] = self._frames(solicitation) != before._frames(solicitation)
        return np.append(points, differs)

    def only_denies_more(self, before: "PlacedLists") -> bool:
        """Whether whatever `before` denies is denied here too, as far as that is easily seen.

        Both have the same forwarding.
        """
        frames = self._world.in_force.wires.lists == before._world.in_force.wires.lists
        pairs = zip(self.lists, before.lists, strict=True)
        return frames and all(now is then or _denies_more(now, then) for now, then in pairs)

    def decides_otherwise(self, before: "PlacedLists", code: Ints, headers: Headers) -> Bools:
        """For each packet at a code that has `changed_from` `before`, whether something else may deny it."""
        found = code >= len(self.lists)
        points = np.flatnonzero(~found)
        width = len(before.distinct) + 1
        pairs = (self._list_at[code[points]] + 1) * width + before._list_at[code[points]] + 1
        for pair, places in grouped(pairs):
            indices = points[places]
            now, then = divmod(pair, width)
            some = headers.take(indices)
            found[indices] = self._denying(now - 1, some) != before._denying(then - 1, some)
        return found

    def _denying(self, number: int, headers: Headers) -> Ints:
        """For each packet the number of the entry that denies it, 0 for the end of the list, or NONE."""
        if number == NONE:
            return np.full(len(headers), NONE, dtype=np.int64)
        table = self._tables.of(self.distinct[number])
        decider = table.first_match(headers)
        entries = np.where(table.entries[decider] == NONE, 0, table.entries[decider])
        return np.where(table.denies[decider], entries, NONE)

    def lists_at(self, codes: Ints) -> tuple[Ints, Ints]:
        """The lists that may have a say at `codes`: indices in `codes`, and in `distinct`.

        At an IPv6 solicitation those of both its ends, each way; ARP shows lists none (§14).
        """
        points = codes < len(self.lists)
        index, asked = np.flatnonzero(points), codes[points]
        if self._forwarding.family is Family.IPV6:
            at = np.flatnonzero(~points)
            ends = self._forwarding.solicited_at()[codes[at] - len(self.lists)]
            index, asked = np.append(index, np.repeat(at, 4)), np.append(asked, ends.ravel())
        listed = self._list_at[asked]
        return index[listed != NONE], listed[listed != NONE]

    def first_denials_of_each(self, asked: Sequence[Meetings]) -> list[Denials]:
        """The first denials of each of `asked`; every list is asked once about all of them.

        The headers share their addresses and kinds.
        """
        ends = np.cumsum([0, *(each.paths for each in asked)]).tolist()
        path = np.concatenate([each.path + begin for each, begin in zip(asked, ends[:-1], strict=True)])
        code = np.concatenate([each.code for each in asked])
        headers = joined_headers([each.headers for each in asked])
        found = self.first_denials(Meetings(path, code, headers, ends[-1]))
        return [found.between(begin, end) for begin, end in pairwise(ends)]

    def first_denials(self, asked: Meetings) -> Denials:
        """The first denial on each path."""
        path, code, headers, paths = asked.path, asked.code, asked.headers, asked.paths
        points = len(self.lists)
        solicits = code >= points
        point = code.copy()
        entry = np.full(len(code), NONE, dtype=np.int64)
        outcome = np.full(len(code), DENIED, dtype=np.int64)
        point[solicits], entry[solicits], outcome[solicits] = self._stopping()[code[solicits] - points].T
        for index in np.flatnonzero(point == _BY_ASKER).tolist():
            asking, answering, target, _ = self._forwarding.solicitations[code[index] - points]
            asker = headers.addresses.values[headers.source[index]]
            point[index], entry[index], outcome[index] = self._stop((asking, answering, target, asker))
        denied = solicits & (point != NONE)
        list_at = np.full(len(code), NONE, dtype=np.int64)
        list_at[~solicits] = self._list_at[code[~solicits]]
        for number, indices in grouped(list_at):
            if number != NONE:
                table = self._tables.of(self.distinct[number])
                decider = table.first_match(headers.take(indices))
                denied[indices] = table.denies[decider]
                entry[indices] = table.entries[decider]
        first = np.flatnonzero(denied)
        first = first[first_of_each(path[first])]
        found = Denials(
            np.full(paths, NONE, dtype=np.int64),
            np.full(paths, NONE, dtype=np.int64),
            np.full(paths, DENIED, dtype=np.int64),
        )
        found.point[path[first]] = point[first]
        found.entry[path[first]] = entry[first]
        found.outcome[path[first]] = outcome[first]
        return found

    def _stopping(self) -> Ints:
        """For each solicitation what stops it; _BY_ASKER as the point: it depends."""
        self._stops += [self._stop(each) for each in self._forwarding.solicitations[len(self._stops) :]]
        return np.array(self._stops, dtype=np.int64).reshape(-1, 3)

    def _stop(self, solicitation: Solicitation) -> _Stop:
        lists = tuple(self.lists[point] for point in self._forwarding.ends(solicitation))
        frames = self._frames(solicitation)
        if not any((*lists, *frames)):
            return _NOTHING
        if solicitation[3] is None:
            return _BY_ASKER, NONE, DENIED
        known = self._tables.stops(self._forwarding)
        key = solicitation, key_of_lists((*lists, *frames))
        if key not in known:
            known[key] = self._stopped(solicitation)
        return known[key]

    def _frames(self, solicitation: Solicitation) -> tuple[FrameList | None, ...]:
        """The frame lists on the way of a solicitation, of its answer, and of the packet behind it."""
        return self._world.in_force.wires.lists_between(*solicitation[:2])

    def _stopped(self, solicitation: Solicitation) -> _Stop:
        asking, answering, target, asker = solicitation
        assert asker is not None
        family = self._forwarding.family
        stopped = unfound(self._world.discovery, family, asking, answering, target, asker)
        outcome = NO_DISCOVERY
        if stopped is None:
            unicast = Packet(family, asker, 0, 0)
            stopped = denied_in(self._world.in_force.wires.carrying(asking, answering, unicast))
            outcome = FRAME_DENIED
        if stopped is None:
            return _NOTHING
        entry = stopped.decision.entry
        return point_of(self._forwarding, stopped), NONE if entry is None else entry, outcome


def point_of(forwarding: ForwardingIndex, denial: Filtered) -> int:
    """The code of the point at which a list denies."""
    return (forwarding.point if denial.frame is None else forwarding.frame_point)[denial.point]


def _denies_more(now: ResolvedList | None, then: ResolvedList | None) -> bool:
    """Whether a list stands where none did, or only entries that deny were put into it."""
    if then is None or now is None:
        return then is None
    left = iter(then.rules)
    waiting = next(left, None)
    for rule in now.rules:
        if rule == waiting:
            waiting = next(left, None)
        elif rule.entry.action is not Action.DENY:
            return False
    return waiting is None
