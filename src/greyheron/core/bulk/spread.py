"""Conversations with too many paths to look at each: all their ways at once, as lists leave them (§8).

Exactly what looking at every path would say, but for which of many denials is named. A conversation goes
there and comes back by any of its ways; what later packets meet hangs together with what the first ones met,
and with which devices saw the answer (see `Knowledge`).
"""

import numpy as np

from greyheron.core.bulk.conversations import Exchanges, joined
from greyheron.core.bulk.knowledge import Knowledge, KnowledgeTable
from greyheron.core.bulk.list_decisions import Denials, Meetings, PlacedLists
from greyheron.core.bulk.packet_rows import HOME, LATER, OUT, OUT_AGAIN, RETURN, RETURN_AGAIN, PacketRows
from greyheron.core.bulk.tracer import ARRIVED, NO_SESSION, REFUSED, Batch, Deliver
from greyheron.core.bulk.ways import Ways, ways_of
from greyheron.core.headers import NONE, Bools, Ints, distinct


class SpreadPaths:
    """All ways of the rows of `legs`. Raises TooMuchAtOnce.

    untraced:  rows whose packets are rewritten on their way, or may come to a device a second time
    """

    def __init__(self, legs: PacketRows) -> None:
        self._legs, self._forwarding = legs, legs.forwarding
        self._known = KnowledgeTable()
        rows = legs.rows
        nothing = np.zeros(len(rows), dtype=np.int64)
        self._out = self._ways(*legs.there(rows), nothing)
        out = self._out
        answered = np.flatnonzero((out.outcome == ARRIVED) & legs.replies[rows.request[out.row]])
        self._answer_of = np.full(len(out.row), NONE, dtype=np.int64)
        row, device, knowledge = self._answering(answered)
        self._answer_row = row
        self._back = self._ways(*legs.back(rows.take(row), device, ()), knowledge)
        self._back_row = row[self._back.row]
        self.untraced = np.unique(
            np.concatenate([out.winding, out.special, row[self._back.winding], row[self._back.special]])
        )

    def _ways(self, leg: Batch, deliver: Deliver, knowledge: Ints) -> Ways:
        return ways_of(self._forwarding, leg, self._legs.rows.addresses, deliver, self._known, knowledge)

    def _answering(self, arrived: Ints) -> tuple[Ints, Ints, Ints]:
        """The different answers that come of packets which `arrived`: their row, device and knowledge."""
        out, senders = self._out, self._legs.rows.device
        found: dict[tuple[int, int, int], int] = {}
        for place in arrived.tolist():
            row, device = int(out.row[place]), int(out.device[place])
            known = self._known.values[out.knowledge[place]].known
            ends = {device, int(senders[row])}
            awaited = frozenset(each for each in known - ends if self._forwarding.forwards[each])
            number = self._known.number(Knowledge(known, awaited))
            self._answer_of[place] = found.setdefault((row, device, number), len(found))
        rows, devices, knowledge = np.array([*found], dtype=np.int64).reshape(-1, 3).T
        return rows, devices, knowledge

    @property
    def nbytes(self) -> int:
        """About how much memory they take."""
        return self._out.nbytes + self._back.nbytes

    def meetings(self) -> tuple[Ints, Ints]:
        """Every row with every code that a packet of it comes to, each pair once."""
        pairs = [row << 32 | code for row, code in (self._met(OUT), self._met(RETURN))]
        found = distinct(np.concatenate(pairs))
        return found >> 32, found & 0xFFFF_FFFF

    def _met(self, packet: int) -> tuple[Ints, Ints]:
        """Row and code of all that a packet comes to, each pair once."""
        ways, row = self._leg(packet)
        step, order = np.nonzero(ways.met != NONE)
        code = ways.met[step, order].astype(np.int64)
        found = distinct(row[ways.before[step]] << 32 | code)
        return found >> 32, found & 0xFFFF_FFFF

    def _leg(self, packet: int) -> tuple[Ways, Ints]:
        """The ways of a packet, and the row of each of their places."""
        return (self._back, self._back_row) if packet in HOME else (self._out, self._out.row)

    def rows_passing(self, codes: Bools) -> Bools:
        """Whether each row has a packet that comes to a point or solicitation marked in `codes`."""
        row, code = self.meetings()
        found = np.zeros(len(self._legs.rows), dtype=np.bool_)
        found[row[codes[code]]] = True
        return found

    def decided_otherwise(self, placed: PlacedLists, before: PlacedLists) -> Bools:
        """Whether each row has a packet that some list denies otherwise in `placed` than in `before`."""
        legs, codes = self._legs, placed.changed_from(before)
        found = np.zeros(len(legs.rows), dtype=np.bool_)
        for packet in (OUT, RETURN, OUT_AGAIN, RETURN_AGAIN):
            row, code = self._met(packet)
            met = codes[code]
            if packet in LATER:
                request = legs.rows.request[row]
                met &= legs.is_tcp[request]
                met &= self._forwarding.later_packets_met(code, legs.protocol[request])
            row, code = row[met], code[met]
            differs = placed.decides_otherwise(before, code, legs.headers(packet, row))
            found[row[differs]] = True
        return found

    def paths(self) -> int:
        """How many ways there are out."""
        ended = self._out.outcome >= 0
        begin = np.arange(len(self._legs.rows))
        return int(self._out.counts(begin)[ended].max(initial=0))

    def decided(self, placed: PlacedLists, only: Bools | None = None) -> Exchanges:
        """The exchanges of every row, or of those marked in `only`, as the lists in `placed` leave them.

        Exchanges that end alike stand for one another.
        """
        return _Deciding(self, placed, only).exchanges()

    def denials(self, packet: int, placed: PlacedLists, wanted: Bools) -> Denials:
        """The first denial at each step of a packet's ways; none where the row is not `wanted`."""
        ways, row = self._leg(packet)
        acts = {
            OUT_AGAIN: placed.tells_later_packets,
            RETURN_AGAIN: placed.tells_later_replies,
        }.get(packet, placed.acts)()
        met = np.append(acts, False)[ways.met] & wanted[row[ways.before]][:, np.newaxis]
        step, order = np.nonzero(met)
        code = ways.met[step, order].astype(np.int64)
        if packet in LATER:
            request = self._legs.rows.request[row[ways.before[step]]]
            untracked = self._forwarding.later_packets_met(code, self._legs.protocol[request])
            step, code = step[untracked], code[untracked]
        headers = self._legs.headers(packet, row[ways.before[step]])
        return placed.first_denials(Meetings(step, code, headers, len(ways.before)))


class _Deciding:
    """What the lists at the points leave of the ways of some rows."""

    def __init__(self, traced_paths: SpreadPaths, placed: PlacedLists, only: Bools | None) -> None:
        self._courses, self._placed = traced_paths, placed
        self._forwarding = traced_paths._forwarding
        self._wanted = np.ones(len(traced_paths._legs.rows), dtype=np.bool_) if only is None else only.copy()
        self._wanted[traced_paths.untraced] = False
        self._found: list[Exchanges] = []

    def exchanges(self) -> Exchanges:
        traced_paths, out, back = self._courses, self._courses._out, self._courses._back
        first = traced_paths.denials(OUT, self._placed, self._wanted)
        begin = np.zeros(len(out.row), dtype=np.bool_)
        begin[: len(self._wanted)] = self._wanted
        alive = out.reached(begin, first.point == NONE)
        self._denied(OUT, first, alive)
        answered = traced_paths._answer_of != NONE
        self._ended(OUT, alive & (out.outcome >= 0) & ~answered)

        begun = np.zeros(len(back.row), dtype=np.bool_)
        begun[traced_paths._answer_of[alive & answered]] = True
        reply = traced_paths.denials(RETURN, self._placed, self._wanted)
        home = back.reached(begun, reply.point == NONE)
        self._denied(RETURN, reply, home)
        tcp = traced_paths._legs.is_tcp[traced_paths._legs.rows.request[traced_paths._back_row]]
        acknowledged = home & tcp & (back.outcome == ARRIVED)
        self._ended(RETURN, home & (back.outcome >= 0) & ~acknowledged)
        if acknowledged.any():
            self._acknowledgements(first, alive, reply, self._not_dropped(acknowledged))
        return joined(self._found)

    def _not_dropped(self, acknowledged: Bools) -> Bools:
        """The answers that came home, but for those that a device missed which drops the ACK then."""
        back = self._courses._back
        stray = np.zeros(len(back.row), dtype=np.bool_)
        device = back.device.copy()
        for place in np.flatnonzero(acknowledged).tolist():
            knowledge = self._courses._known.values[back.knowledge[place]]
            missed = knowledge.awaited - knowledge.seen
            if missed:
                stray[place], device[place] = True, min(missed)
        which = np.flatnonzero(stray)
        self._add(self._courses._back_row[which], NO_SESSION, device[which], reached=True)
        return acknowledged & ~stray

    def _acknowledgements(self, first: Denials, alive: Bools, reply: Denials, known: Bools) -> None:
        """What becomes of the later packets of conversations whose first ones came through."""
        traced_paths, out, back = self._courses, self._courses._out, self._courses._back
        again = traced_paths.denials(OUT_AGAIN, self._placed, self._wanted)
        home_again = traced_paths.denials(RETURN_AGAIN, self._placed, self._wanted)
        roots = len(traced_paths._answer_row)

        heard = np.zeros(roots, dtype=np.bool_)
        heard[back.row[known]] = True
        goals = self._answered_by(heard)
        on_the_way = out.leading(goals, first.point == NONE)
        self._denied(OUT_AGAIN, again, alive, on_the_way, first)

        clean = out.reached(self._begin(), (first.point == NONE) & (again.point == NONE))
        passed = np.zeros(roots, dtype=np.bool_)
        passed[traced_paths._answer_of[clean & goals]] = True
        begun = np.zeros(len(back.row), dtype=np.bool_)
        begun[:roots] = passed
        homeward = back.reached(begun, reply.point == NONE)
        on_the_way = back.leading(known, reply.point == NONE)
        self._denied(RETURN_AGAIN, home_again, homeward, on_the_way, reply)
        clean = back.reached(begun, (reply.point == NONE) & (home_again.point == NONE))
        self._ended(RETURN, clean & known)

    def _begin(self) -> Bools:
        begin = np.zeros(len(self._courses._out.row), dtype=np.bool_)
        begin[: len(self._wanted)] = self._wanted
        return begin

    def _answered_by(self, marked: Bools) -> Bools:
        """The places at which packets arrive whose answers are marked."""
        answer = self._courses._answer_of
        found: Bools = (answer != NONE) & np.append(marked, False)[answer]
        return found

    def _denied(
        self,
        packet: int,
        denials: Denials,
        begins: Bools,
        leads: Bools | None = None,
        first: Denials | None = None,
    ) -> None:
        """A packet is denied at steps that `begins`; a later one where the `first` passed and `leads` on."""
        ways, rows = self._courses._leg(packet)
        denied = (denials.point != NONE) & begins[ways.before]
        if leads is not None and first is not None:
            denied &= (first.point == NONE) & leads[ways.after]
        step = np.flatnonzero(denied)
        row, point, entry = rows[ways.before[step]], denials.point[step], denials.entry[step]
        outcome = denials.outcome[step]
        once = _once(row, point, entry, outcome)
        point = point[once]
        self._add(
            row[once],
            outcome[once],
            self._forwarding.point_device[point],
            point,
            entry[once],
            reached=packet != OUT,
        )

    def _ended(self, packet: int, places: Bools) -> None:
        """A packet comes to its end at `places`."""
        ways, rows = self._courses._leg(packet)
        place = np.flatnonzero(places)
        place = place[_once(rows[place], ways.outcome[place], ways.device[place])]
        outcome = ways.outcome[place]
        reached = np.isin(outcome, (ARRIVED, REFUSED)) | (packet != OUT)
        self._add(rows[place], outcome, ways.device[place], reached=reached)

    def _add(
        self,
        row: Ints,
        outcome: Ints | int,
        end: Ints,
        point: Ints | None = None,
        entry: Ints | None = None,
        reached: Bools | bool = False,
    ) -> None:
        nothing = np.full(len(row), NONE, dtype=np.int64)
        self._found.append(
            Exchanges(
                row,
                np.broadcast_to(np.asarray(outcome, dtype=np.int64), row.shape),
                end,
                nothing if point is None else point,
                nothing if entry is None else entry,
                np.broadcast_to(np.asarray(reached, dtype=np.bool_), row.shape),
            )
        )


def _once(*columns: Ints) -> Ints:
    """The indices of the first of all that are alike."""
    if len(columns[0]) == 0:
        return np.zeros(0, dtype=np.int64)
    return np.sort(np.unique(np.stack(columns), axis=1, return_index=True)[1])
