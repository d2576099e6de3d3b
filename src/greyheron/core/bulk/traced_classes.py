"""Conversations whose packets stay as they are: all traced at once, then the lists are asked."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from greyheron.core.bulk.conversations import Exchanges, Rows
from greyheron.core.bulk.forwarding import Listening
from greyheron.core.bulk.list_decisions import Denials, Meetings, PlacedLists
from greyheron.core.bulk.packet_rows import HOME, LATER, OUT, OUT_AGAIN, RETURN, RETURN_AGAIN, PacketRows
from greyheron.core.bulk.tracer import (
    ARRIVED,
    MOST_CELLS,
    NO_SESSION,
    REFUSED,
    SPECIAL,
    Paths,
    TooMuchAtOnce,
    trace,
)
from greyheron.core.headers import NONE, Bools, Headers, Ints, distinct, first_of_each

_FEW = 16
MOST_COMBINED = 64
"""Rows with more ways there and back are followed all ways together."""
_NONE = np.zeros(0, dtype=np.int64)


class Questions(Struct, frozen=True):
    """What lists are asked about conversations, each way there with one way back; arrays of one length.

    there, back:  paths; NONE where nothing comes back
    stray_step, stray_device:  where a device that saw no answer drops the ACK, or NONE
    acknowledged:  whether there is an ACK
    meetings:  of the first packets, of the replies, of the ACKs and of those that come home then
    """

    there: Ints
    back: Ints
    stray_step: Ints
    stray_device: Ints
    acknowledged: Bools
    meetings: list[Meetings]


class TracedClassPaths:
    """The paths of `rows`, none of which has a link-local end or an open source.

    untraced:  rows that cannot be traced, because packets are rewritten on their way
    wide:  rows with too many paths, or ways there and back, to look at each
    """

    def __init__(self, legs: PacketRows) -> None:
        """Raises TooMuchAtOnce."""
        self._legs, self._forwarding, self._rows = legs, legs.forwarding, legs.rows
        self._trace()

    def _trace(self) -> None:
        """Follow the packets there and back, and put the ways home behind their ways out."""
        rows = self._rows
        some, alike = self._told_apart()
        there, back, answered = self._there_and_back(some)
        number = np.full(len(there.row), NONE, dtype=np.int64)
        number[answered] = np.arange(len(answered))
        paths = np.bincount(there.row, minlength=len(some)) + np.bincount(
            there.row[answered[back.row]], minlength=len(some)
        )
        if paths[alike].sum() * max(there.cells, back.cells) > MOST_CELLS and len(rows) > 1:
            raise TooMuchAtOnce
        out, index = there.repeated(alike)
        going = np.flatnonzero(number[index] != NONE)
        returned, _ = back.repeated(number[index[going]])
        self._out, self._returned = out, returned
        self._return_row = out.row[going[returned.row]]
        untraced = np.zeros(len(rows), dtype=np.bool_)
        untraced[out.row[out.outcome == SPECIAL]] = True
        untraced[self._return_row[returned.outcome == SPECIAL]] = True
        ended = np.ones(len(out.row), dtype=np.bool_)
        ended[going] = False
        there_path = np.concatenate([np.flatnonzero(ended), going[returned.row]])
        back_path = np.concatenate([np.full(int(ended.sum()), NONE), np.arange(len(returned.row))])
        order = np.argsort(there_path, kind="stable")
        order = order[~untraced[out.row[there_path[order]]]]
        self._there_path, self._back_path = there_path[order], back_path[order]
        self.untraced, self.wide = np.flatnonzero(untraced), np.flatnonzero(out.wide)
        self._stray_step, self._stray_device = self._strays()
        # Half of what paths take is who was passed, and nothing asks for that any more.
        self._out, self._returned = (
            replace(paths, visited=(), admitted=(), since=()) for paths in (out, returned)
        )

    def _there_and_back(self, some: Rows) -> tuple[Paths, Paths, Ints]:
        """The paths of some rows, those of their replies, and which of the first each of those answers."""
        addresses = some.addresses
        leg, deliver = self._legs.there(some)
        there = trace(self._forwarding, leg, addresses, deliver)
        answered = np.flatnonzero((there.outcome == ARRIVED) & self._legs.replies[some.request[there.row]])
        known = tuple(column[answered] for column in there.admitted)
        leg, deliver = self._legs.back(some.take(there.row[answered]), there.end[answered], known)
        back = trace(self._forwarding, leg, addresses, deliver)
        both = np.bincount(there.row, minlength=len(some))
        both -= np.bincount(there.row[answered], minlength=len(some))
        both += np.bincount(there.row[answered[back.row]], minlength=len(some))
        wide = both > MOST_COMBINED
        wide[there.row[answered[back.wide]]] = True
        if not wide.any():
            return there, back, answered
        kept = ~wide[there.row]
        back = back.repeated(np.flatnonzero(kept[answered]))[0]
        answered = (np.cumsum(kept) - 1)[answered[kept[answered]]]
        return there.without(wide), back, answered

    def _strays(self) -> tuple[Ints, Ints]:
        """For each there and back the step at which a device that saw no answer drops the ACK, and where.

        NONE where there is none: each device that keeps a session since the first packet saw the reply too.
        """
        there, back = self._there_path, self._back_path
        step, device = np.full((2, len(there)), NONE, dtype=np.int64)
        row = self._out.row[there]
        open_ = np.flatnonzero((back != NONE) & self._legs.is_tcp[self._rows.request[row]])
        open_ = open_[self._returned.outcome[back[open_]] == ARRIVED]
        for column, since in zip(self._out.admitted, self._out.since, strict=True):
            tracker = column[there[open_]]
            may = (tracker != NONE) & self._forwarding.forwards[tracker]
            if not may.any():
                continue
            some, tracker = open_[may], tracker[may]
            stray = (tracker != self._out.end[there[some]]) & (tracker != self._rows.device[row[some]])
            stray &= step[some] == NONE
            for visited in self._returned.visited:
                stray &= visited[back[some]] != tracker
            step[some[stray]], device[some[stray]] = since, tracker[stray]
        return step, device

    def _told_apart(self) -> tuple[Rows, Ints]:
        """A row of each of those that may go different ways, and which of them each row goes like."""
        rows, forwarding = self._rows, self._forwarding
        request = rows.request
        _, manner = np.unique(self._legs.manners, axis=1, return_inverse=True)
        owner = forwarding.owner[self._legs.towards[rows.destination]]
        ends, end = np.unique(owner * len(rows.asked) + request, return_inverse=True)
        delivered: dict[Listening, int] = {}
        delivery = np.zeros(len(ends), dtype=np.int64)
        for number, (device, asked) in enumerate(zip(*np.divmod(ends, len(rows.asked)), strict=True)):
            if device != NONE:
                found = self._legs.delivery(int(device), int(asked))
                delivery[number] = delivered.setdefault(found, len(delivered) + 1)
        code = rows.device
        ways = (
            self._legs.towards[rows.source],
            self._legs.towards[rows.destination],
            manner.ravel()[request],
            delivery[end],
        )
        for part in ways:
            code = code * (int(part.max(initial=0)) + 1) + part
        _, first, alike = np.unique(code, return_index=True, return_inverse=True)
        return rows.take(first), alike

    def rows_passing(self, codes: Bools) -> Bools:
        """Whether each row has a packet that comes to a point or solicitation marked in `codes`."""
        found = np.zeros(len(self._rows), dtype=np.bool_)
        found[self._out.row[_coming_to(self._out.met, codes)[0]]] = True
        found[self._return_row[_coming_to(self._returned.met, codes)[0]]] = True
        return found

    def decided_otherwise(self, placed: PlacedLists, before: PlacedLists) -> Bools:
        """Whether each row has a packet that some list denies otherwise in `placed` than in `before`."""
        codes = placed.changed_from(before)
        found = np.zeros(len(self._rows), dtype=np.bool_)
        out, back = (_coming_to(paths.met, codes) for paths in (self._out, self._returned))
        for packet, (path, code) in ((OUT, out), (RETURN, back), (OUT_AGAIN, out), (RETURN_AGAIN, back)):
            row = (self._return_row if packet in HOME else self._out.row)[path]
            if packet in LATER:
                request = self._rows.request[row]
                sent = self._legs.is_tcp[request]
                sent &= self._forwarding.later_packets_met(code, self._legs.protocol[request])
                path, code, row = path[sent], code[sent], row[sent]
            differs = placed.decides_otherwise(before, code, self.headers(packet, path))
            found[row[differs]] = True
        return found

    def meetings(self) -> tuple[Ints, Ints]:
        """Every row with every code that a packet of it comes to, each pair once."""
        pairs = []
        for paths, rows in ((self._out, self._out.row), (self._returned, self._return_row)):
            index, step = np.nonzero(paths.met != NONE)
            code = paths.met[index, step].astype(np.int64)
            pairs.append(distinct(rows[index] << 32 | code))
        found = distinct(np.concatenate(pairs))
        return found >> 32, found & 0xFFFF_FFFF

    def paths(self) -> int:
        """How many of the ways out are different."""
        met = self._out.met
        digest = np.zeros(len(met), dtype=np.uint64)
        for step in range(met.shape[1]):
            digest = digest * np.uint64(1_000_003) + (met[:, step] + 1).astype(np.uint64)
        return len(np.unique(digest))

    def questions(self, placed: PlacedLists, only: Bools | None = None) -> Questions:
        """What is asked of the lists in `placed` about the packets of every row, or of those in `only`."""
        there, back = self._there_path, self._back_path
        stray_step, stray_device = self._stray_step, self._stray_device
        if only is not None:
            kept = only[self._out.row[there]]
            there, back = there[kept], back[kept]
            stray_step, stray_device = stray_step[kept], stray_device[kept]
        acts, replied = placed.acts(), back != NONE
        answers = back[replied]
        tcp = self._legs.is_tcp[self._rows.request[self._return_row]] & (self._returned.outcome == ARRIVED)
        acknowledged = replied.copy()
        acknowledged[replied] = tcp[answers]
        # Lists that do not tell them apart say of a later packet what they said of the first that way.
        meetings = self._meetings(
            (OUT, there, acts),
            (RETURN, answers, acts),
            (OUT_AGAIN, there[acknowledged], placed.tells_later_packets()),
            (RETURN_AGAIN, back[acknowledged], placed.tells_later_replies()),
        )
        return Questions(there, back, stray_step, stray_device, acknowledged, meetings)

    def decided(self, placed: PlacedLists, asked: Questions, answers: Sequence[Denials]) -> Exchanges:
        """The exchanges of the rows that were `asked` about, as the lists in `placed` leave them.

        answers:  to each of `asked.meetings`
        """
        out, returned = self._out, self._returned
        there, back, acknowledged = asked.there, asked.back, asked.acknowledged.copy()
        replied = back != NONE
        answering = back[replied]
        outcome, end = out.outcome[there], out.end[there]
        outcome[replied], end[replied] = returned.outcome[answering], returned.end[answering]
        point, entry = np.full((2, len(there)), NONE, dtype=np.int64)
        first, reply, again, home_again = answers
        dropped = acknowledged & (asked.stray_step != NONE)
        outcome[dropped], end[dropped] = NO_SESSION, asked.stray_device[dropped]
        before = self._denied_before(placed, there[dropped], asked.stray_step[dropped])
        acknowledged &= ~dropped
        # The last that is written stands: a conversation ends with the first denial.
        for denials, path, where in (
            (home_again, back, acknowledged),
            (before, np.cumsum(dropped) - 1, dropped),
            (again, there, acknowledged),
            (reply, back, replied),
            (first, there, np.ones(len(there), dtype=np.bool_)),
        ):
            denied = np.flatnonzero(where)
            denied = denied[denials.point[path[denied]] != NONE]
            by = path[denied]
            point[denied], entry[denied] = denials.point[by], denials.entry[by]
            outcome[denied] = denials.outcome[by]
            end[denied] = self._forwarding.point_device[point[denied]]
        # Where the first packet is denied nothing comes back, whatever ways home there would be.
        no_reply = (first.point[there] != NONE) & ~first_of_each(there)
        got_there = (out.outcome[there] == ARRIVED) | (out.outcome[there] == REFUSED)
        got_there &= first.point[there] == NONE
        found = Exchanges(out.row[there], outcome, end, point, entry, got_there)
        return found.take(np.flatnonzero(~no_reply))

    def _meetings(self, *asked: tuple[int, Ints, Bools]) -> list[Meetings]:
        """What is met on paths, which may be repeated, for several (packet, paths, what acts on it)."""
        found: list[Meetings] = []
        for packet, wanted, acts in asked:
            different = distinct(wanted)
            path, code = self.met(packet, different, acts)
            paths = int(different[-1]) + 1 if len(different) else 0
            found.append(Meetings(path, code, self.headers(packet, path), paths))
        return found

    def headers(self, packet: int, path: Ints) -> Headers:
        """The headers of the conversation's `packet` on paths, each as often as it stands in `path`."""
        return self._legs.headers(packet, (self._return_row if packet in HOME else self._out.row)[path])

    def _denied_before(self, placed: PlacedLists, paths: Ints, steps: Ints) -> Denials:
        """The first denial of the ACK on each of `paths`, before the step of each."""
        index, step, code = self._acting(OUT_AGAIN, paths, placed.tells_later_packets())
        early = step < steps[index]
        index, code = index[early], code[early]
        meetings = Meetings(index, code, self.headers(OUT_AGAIN, paths[index]), len(paths))
        return placed.first_denials(meetings)

    def met(self, packet: int, paths: Ints, acts: Bools) -> tuple[Ints, Ints]:
        """What acts on the conversation's `packet` along `paths`: the path and the code of each, in order."""
        index, _, code = self._acting(packet, paths, acts)
        return paths[index], code

    def _acting(self, packet: int, paths: Ints, acts: Bools) -> tuple[Ints, Ints, Ints]:
        """What acts on a packet along `paths`, in order: of each the index of the path, step and code."""
        every = (self._returned if packet in HOME else self._out).met[paths]
        index, step = np.nonzero(np.append(acts, False)[every])  # NONE is the last index
        code = every[index, step].astype(np.int64)
        if packet in LATER:
            row = (self._return_row if packet in HOME else self._out.row)[paths[index]]
            untracked = self._forwarding.later_packets_met(code, self._legs.protocol[self._rows.request[row]])
            index, step, code = index[untracked], step[untracked], code[untracked]
        return index, step, code


def _coming_to(met: NDArray[np.int32], codes: Bools) -> tuple[Ints, Ints]:
    """Every path in `met` that comes to a code marked in `codes`, as often as it does, and that code."""
    wanted = np.flatnonzero(codes)
    if len(wanted) > _FEW:
        path, step = np.nonzero(np.append(codes, False)[met])  # NONE is the last index
        return path, met[path, step].astype(np.int64)
    # To compare all with each of a few is many times as fast as to look all up.
    width = max(met.shape[1], 1)
    found = [np.flatnonzero(met.ravel() == code) // width for code in wanted.tolist()]
    return np.concatenate([_NONE, *found]), np.repeat(wanted, [len(each) for each in found])
