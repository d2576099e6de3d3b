"""Where very many packets go at once, and which points they pass on the way (§4).

No list decides anything here: the paths are those of a network whose lists permit all. What a packet meets
before the first list that denies it is the same in both, so the lists can be asked afterwards, and asked
again when they have changed.
"""

from collections.abc import Callable

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.headers import NONE, Addresses, Bools, Ints, rank_within, within_spans
from greyheron.core.packet import FIRST_HOP_LIMIT
from greyheron.core.walk.steps import Outcome

OUTCOMES = tuple(Outcome)
_CODE = {outcome: number for number, outcome in enumerate(OUTCOMES)}
ARRIVED, REFUSED = _CODE[Outcome.ARRIVED], _CODE[Outcome.REFUSED]
DENIED, NO_SESSION = _CODE[Outcome.DENIED], _CODE[Outcome.NO_SESSION]
NO_DISCOVERY, FRAME_DENIED = _CODE[Outcome.NO_DISCOVERY], _CODE[Outcome.FRAME_DENIED]
LOOP, LOST, HOP_LIMIT = _CODE[Outcome.LOOP], _CODE[Outcome.LOST], _CODE[Outcome.HOP_LIMIT]
NO_ROUTE, NO_NEIGHBOUR, ZONE = (
    _CODE[each] for each in (Outcome.NO_ROUTE, Outcome.NO_NEIGHBOUR, Outcome.ZONE)
)
ON_ITS_WAY = -1
MOST_PATHS = 16
"""Rows with more are followed all ways together (see `ways`), which is quicker then."""
MOST_CELLS = 1 << 24
"""Paths that are followed together, or kept, are made of so many numbers, some 8 bytes each."""
SPECIAL = -3
"""The packet came to a device that translates, or to one that has several lines for such a login."""


class Batch(Struct, frozen=True):
    """One packet for each row; all arrays have one length.

    device:  where it is made;  source, destination:  indices in the table of addresses
    towards:  the destination's class
    protocol:  as sessions tell them;  opens:  whether it can begin a session
    fragment:  whether it is one that is not the first
    known:  arrays of devices, or NONE, that have a session of the conversation
    """

    device: Ints
    source: Ints
    destination: Ints
    towards: Ints
    protocol: Ints
    opens: Bools
    fragment: Bools
    known: tuple[Ints, ...]


class Paths(Struct, frozen=True):
    """The paths of a leg, sorted by row and then as the walk finds them.

    wide:  for each row of the leg whether it has more than MOST_PATHS; it has none here then
    row:  the leg's row;  outcome:  index in OUTCOMES, or SPECIAL;  end:  the last device
    met:  (paths, steps) codes of points and solicitations in order (see `ForwardingIndex`), or NONE
    visited:  the device at each hop, or NONE
    admitted:  devices that keep a session since this packet, or NONE
    since:  for each of those the step at which the packet came there
    """

    wide: Bools
    row: Ints
    outcome: Ints
    end: Ints
    met: NDArray[np.int32]
    visited: tuple[Ints, ...]
    admitted: tuple[Ints, ...]
    since: tuple[int, ...]

    def repeated(self, rows: Ints) -> tuple["Paths", Ints]:
        """The paths of each of `rows`, which become the rows 0, 1 and so on; and which path each one is."""
        starts, ends = (np.searchsorted(self.row, rows, side=side) for side in ("left", "right"))
        row, path = within_spans(starts, ends - starts)
        visited, admitted = (tuple(each[path] for each in of) for of in (self.visited, self.admitted))
        met = self.met[path]
        found = self.outcome[path], self.end[path], met, visited, admitted, self.since
        return Paths(self.wide[rows], row, *found), path

    def without(self, rows: Bools) -> "Paths":
        """All but the paths of the rows that are marked, which are wide."""
        path = np.flatnonzero(~rows[self.row])
        visited, admitted = (tuple(each[path] for each in of) for of in (self.visited, self.admitted))
        found = self.outcome[path], self.end[path], self.met[path], visited, admitted, self.since
        return Paths(self.wide | rows, self.row[path], *found)

    @property
    def cells(self) -> int:
        """How many numbers they are made of, for each path."""
        return int(self.met.shape[1]) + 2 * (len(self.visited) + len(self.admitted))


class TooMuchAtOnce(Exception):
    """So many rows have too many paths to follow at once: fewer have to be asked about."""


Deliver = Callable[[Ints, Ints], tuple[Ints, Ints]]
"""From rows of the leg and the devices they came to: outcomes, and the points of lines that are asked."""


def trace(forwarding: ForwardingIndex, leg: Batch, addresses: Addresses, deliver: Deliver) -> Paths:
    """Follow every row of `leg` along all its paths. Raises TooMuchAtOnce."""
    return _Tracer(forwarding, leg, addresses, deliver).run()


class _Tracer:
    """The packets of a leg on their way, moved one device at a time. Arrays have one index for each path."""

    def __init__(
        self, forwarding: ForwardingIndex, leg: Batch, addresses: Addresses, deliver: Deliver
    ) -> None:
        self._net, self._leg, self._addresses, self._deliver = forwarding, leg, addresses, deliver
        count = len(leg.device)
        self.row = np.arange(count)
        self.wide = np.zeros(count, dtype=np.bool_)
        self.device = leg.device.copy()
        self.port = np.full(count, NONE, dtype=np.int64)
        self.outcome = np.full(count, ON_ITS_WAY, dtype=np.int64)
        self.tracked = np.zeros(count, dtype=np.bool_)
        self.came_by: list[Ints] = []
        self.visited: list[Ints] = []
        self.taken: list[Ints] = []
        self.admitted: list[Ints] = []
        self.since: list[int] = []
        self.came_at = 0
        self.met: list[NDArray[np.int32]] = []

    def run(self) -> Paths:
        self._make()
        for hops in range(FIRST_HOP_LIMIT):
            active = self._active()
            if len(active) == 0:
                break
            self._arrive(active, hops)
            self._depart(self._active())
        empty = np.zeros((len(self.row), 0), dtype=np.int32)
        return Paths(
            self.wide,
            self.row,
            self.outcome,
            self.device,
            np.stack(self.met, axis=1) if self.met else empty,
            tuple(self.visited),
            tuple(self.admitted),
            tuple(self.since),
        )

    def _active(self) -> Ints:
        return np.flatnonzero(self.outcome == ON_ITS_WAY)

    def _end(self, paths: Ints, which: Bools, outcome: int) -> Ints:
        """End those of `paths` that are marked, and return the others: mostly all, and nothing is copied."""
        if not which.any():
            return paths
        self.outcome[paths[which]] = outcome
        return paths[~which]

    def _meet(self, paths: Ints, codes: Ints) -> None:
        """Put down which points and solicitations `paths` come to at this step."""
        column = np.full(len(self.row), NONE, dtype=np.int32)
        column[paths] = codes
        self.met.append(column)

    def _admit(self, paths: Ints) -> None:
        """The devices of `paths` that track the packet, and did not know it, keep its session now."""
        device, row = self.device[paths], self.row[paths]
        new = self._net.tracks[device, self._leg.protocol[row]]
        if not new.any():
            return
        new &= ~self.tracked[paths] & self._leg.opens[row]
        if new.any():
            column = np.full(len(self.row), NONE, dtype=np.int64)
            column[paths[new]] = device[new]
            self.admitted.append(column)
            self.since.append(self.came_at)

    def _knows(self, paths: Ints) -> tuple[Bools, Bools]:
        """Whether the device of each path tracks the packet's protocol, and whether it knows the session."""
        device, row = self.device[paths], self.row[paths]
        tracks = self._net.tracks[device, self._leg.protocol[row]]
        known = np.zeros(len(paths), dtype=np.bool_)
        if tracks.any():
            for column in self._leg.known:
                known |= column[row] == device
        return tracks, tracks & known

    def _make(self) -> None:
        net, leg = self._net, self._leg
        paths = self._active()
        own = net.owner[leg.towards] == leg.device
        self._come_home(paths[own])
        paths = paths[~own]
        steps = net.made_steps(leg.device[paths], leg.towards[paths], leg.source[paths], self._addresses)
        self.tracked[paths] = self._knows(paths)[1]
        self._leave(paths, steps, made=True)

    def _arrive(self, paths: Ints, hops: int) -> None:
        """Steps 1 to 4 of the semantics, for packets that have just come in."""
        net, leg = self._net, self._leg
        self.came_at = len(self.met)
        port = self.port[paths]
        again = np.zeros(len(paths), dtype=np.bool_)
        for column in self.came_by:
            again |= column[paths] == port
        paths = self._end(paths, again, LOOP)
        paths = self._end(paths, net.translates[self.device[paths]], SPECIAL)
        tracks, known = self._knows(paths)
        row = self.row[paths]
        waits = tracks & leg.fragment[row] & (net.owner[leg.towards[row]] == self.device[paths])
        self.tracked[paths] = known | waits
        paths = self._end(paths, tracks & ~known & ~leg.opens[row] & ~waits, NO_SESSION)
        self._meet(paths, np.where(self.tracked[paths], NONE, 2 * self.port[paths]))
        device = self.device[paths]
        own = net.owner[leg.towards[self.row[paths]]] == device
        self._come_home(paths[own])
        paths, device = paths[~own], device[~own]
        paths = self._end(paths, ~net.forwards[device], LOST)
        if hops >= FIRST_HOP_LIMIT - 1:
            self.outcome[paths] = HOP_LIMIT

    def _come_home(self, paths: Ints) -> None:
        """The packets are for the devices they are at."""
        if len(paths) == 0:
            return
        self.outcome[paths], lines = self._deliver(self.row[paths], self.device[paths])
        self._meet(paths, lines)
        self._admit(paths[np.isin(self.outcome[paths], (ARRIVED, REFUSED))])

    def _depart(self, paths: Ints) -> None:
        if len(paths):
            towards = self._leg.towards[self.row[paths]]
            self._leave(paths, self._net.steps(self.device[paths], towards), made=False)

    def _leave(self, paths: Ints, steps: Ints, made: bool) -> None:
        """Steps 5 to 8: by each equal next hop, past zones and the outbound list, to the neighbour."""
        net = self._net
        spans, branches = net.spans, net.branches
        first, counts = spans[steps].T
        some = self._end(paths, counts == 0, NO_ROUTE)
        if some is not paths:
            paths, first, counts = some, first[counts > 0], counts[counts > 0]
        paths, branch = self._split(paths, first, counts)
        if len(paths) == 0:
            return
        egress, ingress, solicitation = branches[branch].T
        device, tracked = self.device[paths], self.tracked[paths]
        if made:
            listed = np.where(net.own_filtered[device] & ~tracked, 2 * egress + 1, NONE)
        else:
            ends = self._denied_by_zone(paths, egress)
            self._end(paths, ends, ZONE)
            listed = np.where(ends | tracked, NONE, 2 * egress + 1)
        self._meet(paths, listed)
        self._admit(paths)
        on = self.outcome[paths] == ON_ITS_WAY
        if not on.all():
            paths, ingress, solicitation = paths[on], ingress[on], solicitation[on]
        found = self._end(paths, ingress == NONE, NO_NEIGHBOUR)
        if net.solicits:
            self._meet(paths, solicitation)
        if found is not paths:
            ingress = ingress[ingress != NONE]
        self.port[found] = ingress
        self.device[found] = net.of_port[ingress]

    def _denied_by_zone(self, paths: Ints, egress: Ints) -> Bools:
        net, device, ingress = self._net, self.device[paths], self.port[paths]
        asked: Bools = net.firewall[device]
        if not asked.any():
            return asked
        asked &= ~self.tracked[paths] & ~net.passes_zones(device, ingress, egress)
        return asked

    def _split(self, paths: Ints, first: Ints, counts: Ints) -> tuple[Ints, Ints]:
        """Make one path for each next hop of `paths`; returns where they are now, and their branches.

        A device that the packet was at before sends it the same way again.
        """
        number = np.zeros(len(self.row), dtype=np.int64)
        equal = paths[counts > 1]
        if len(equal) == 0:
            self._go_on(paths, number)
            return paths, first
        copies = np.ones(len(self.row), dtype=np.int64)
        copies[paths] = counts
        for visited, taken in zip(self.visited, self.taken, strict=True):
            again = equal[visited[equal] == self.device[equal]]
            copies[again], number[again] = 1, taken[again]
        start = np.zeros(len(self.row), dtype=np.int64)
        start[paths] = first
        moving = np.zeros(len(self.row), dtype=np.bool_)
        moving[paths] = True
        if (copies > 1).any():
            origin = np.repeat(np.arange(len(self.row)), copies)
            copy = np.arange(len(origin)) - np.repeat(np.cumsum(copies) - copies, copies)
            self.wide[self.row[origin[rank_within(self.row[origin]) >= MOST_PATHS]]] = True
            followed = ~self.wide[self.row[origin]]
            origin, copy = origin[followed], copy[followed]
            self._bound(len(origin))
            self._take(origin)
            start, moving, number = start[origin], moving[origin], number[origin] + copy
        found = np.flatnonzero(moving)
        self._go_on(found, number)
        return found, start[found] + number[found]

    def _bound(self, paths: int) -> None:
        columns = len(self.met) + 3 * len(self.visited) + len(self.admitted)
        if paths * columns > MOST_CELLS and len(self.wide) > 1:
            raise TooMuchAtOnce

    def _go_on(self, paths: Ints, taken: Ints) -> None:
        """Put down where `paths` leave from, how they came there, and which of equal next hops is taken."""
        for columns, of in ((self.visited, self.device), (self.came_by, self.port)):
            column = np.full(len(self.row), NONE, dtype=np.int64)
            column[paths] = of[paths]
            columns.append(column)
        self.taken.append(taken)

    def _take(self, indices: Ints) -> None:
        for name in ("row", "device", "port", "outcome", "tracked"):
            setattr(self, name, getattr(self, name)[indices])
        for name in ("visited", "came_by", "taken", "admitted", "met"):
            setattr(self, name, [column[indices] for column in getattr(self, name)])
