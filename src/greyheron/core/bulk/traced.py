"""The exchanges of conversations whose packets stay as they are, by tracing all of them at once."""

import numpy as np

from greyheron.core.bulk.conversations import Exchanges, Rows
from greyheron.core.bulk.forwarding import Forwarding, protocol_place
from greyheron.core.bulk.headers import NO_PORT, Headers, Ints, Kind
from greyheron.core.bulk.points import NONE, Denials, Points, first_of_each
from greyheron.core.bulk.tracing import (
    ARRIVED,
    DENIED,
    NO_SESSION,
    REFUSED,
    SPECIAL,
    Leg,
    Paths,
    rank_within,
    trace,
)
from greyheron.core.conversation import reply_to
from greyheron.core.sessions import can_open
from greyheron.core.walk import MOST_PATHS
from greyheron.model.names import TCP

OUT, HOME, OUT_AGAIN, HOME_AGAIN = range(4)
"""A conversation's packets, as in `Asked.kinds`."""


class TracedExchanges:
    """Traces `rows`, none of which has a link-local end or an open source."""

    def __init__(self, net: Forwarding, points: Points, rows: Rows) -> None:
        self._net, self._points, self._rows = net, points, rows
        asked = rows.asked
        self._class = net.classes(rows.addresses)
        self._protocol = np.array([protocol_place(net.family, each.request.protocol) for each in asked])
        self._opens = np.array([can_open(each.opener) for each in asked])
        self._replies = np.array([each.replies for each in asked])
        self._reply_opens = np.array([each.replies and can_open(reply_to(each.opener)) for each in asked])
        self._is_tcp = np.array([each.request.protocol == TCP for each in asked])
        self._port = np.array([NO_PORT if each.request.port is None else each.request.port for each in asked])
        kinds: dict[Kind, int] = {}
        width = HOME_AGAIN + 1
        numbered = [[kinds.setdefault(kind, len(kinds)) for kind in each.kinds] for each in asked]
        self._kind = np.array([[*each, *[0] * (width - len(each))] for each in numbered]).reshape(-1, width)
        self._kinds = tuple(kinds)

    def find(self) -> tuple[Exchanges, Ints]:
        """The exchanges, and the rows that cannot be traced, which have none."""
        rows = self._rows
        out = self._there()
        going = np.flatnonzero((out.outcome == ARRIVED) & self._replies[rows.request[out.row]])
        home = self._back(out, going)
        untraced = np.zeros(len(rows), dtype=np.bool_)
        untraced[out.row[out.outcome == SPECIAL]] = True
        untraced[out.row[going[home.row[home.outcome == SPECIAL]]]] = True
        ended = np.ones(len(out.row), dtype=np.bool_)
        ended[going] = False
        there = np.concatenate([np.flatnonzero(ended), going[home.row]])
        back = np.concatenate([np.full(int(ended.sum()), NONE), np.arange(len(home.row))])
        order = np.argsort(there, kind="stable")
        there, back = there[order], back[order]
        kept = ~untraced[out.row[there]]
        return self._decided(out, home, going, there[kept], back[kept]), np.flatnonzero(untraced)

    def _there(self) -> Paths:
        rows = self._rows
        request = rows.request
        leg = Leg(
            rows.device,
            rows.source,
            rows.destination,
            self._class[rows.destination],
            self._protocol[request],
            self._opens[request],
            (),
        )

        def deliver(places: Ints, devices: Ints) -> tuple[Ints, Ints]:
            asked = len(rows.asked)
            pairs, place = np.unique(devices * asked + request[places], return_inverse=True)
            found = []
            for pair in pairs.tolist():
                device, number = divmod(pair, asked)
                protocol = rows.asked[number].request.protocol
                found.append(self._net.delivers(device, protocol, int(self._port[number])))
            listens = np.array([each[0] for each in found], dtype=np.bool_)[place]
            lines = np.array([each[1] for each in found], dtype=np.int64)[place]
            return np.where(listens, ARRIVED, REFUSED), lines

        return trace(self._net, leg, rows.addresses, deliver)

    def _back(self, out: Paths, going: Ints) -> Paths:
        """The replies to those packets of `out` that are answered."""
        row = out.row[going]
        rows = self._rows.take(row)
        leg = Leg(
            out.end[going],
            rows.destination,
            rows.source,
            self._class[rows.source],
            self._protocol[rows.request],
            self._reply_opens[rows.request],
            tuple(column[going] for column in out.admitted),
        )

        def deliver(places: Ints, devices: Ints) -> tuple[Ints, Ints]:
            awaited = devices == rows.device[places]
            return np.where(awaited, ARRIVED, NO_SESSION), np.full(len(places), NONE)

        return trace(self._net, leg, rows.addresses, deliver)

    def _decided(self, out: Paths, home: Paths, going: Ints, there: Ints, back: Ints) -> Exchanges:
        """The exchanges along paths `there` and `back` (NONE: no reply), once the lists are asked."""
        home_row = out.row[going[home.row]]
        answered = np.zeros(len(out.row), dtype=np.bool_)
        answered[there[back != NONE]] = True
        tcp_out = answered & self._is_tcp[self._rows.request[out.row]]
        tcp_home = self._is_tcp[self._rows.request[home_row]] & (home.outcome == ARRIVED)
        replied = back != NONE
        acknowledged = replied.copy()
        acknowledged[replied] = tcp_home[back[replied]]
        outcome, end = out.outcome[there], out.end[there]
        point, entry = out.stopped[there], out.entry[there]
        outcome[replied], end[replied] = home.outcome[back[replied]], home.end[back[replied]]
        point[replied], entry[replied] = home.stopped[back[replied]], home.entry[back[replied]]
        later_out, later_home = (
            self._untracked(out, out.row, tcp_out),
            self._untracked(home, home_row, tcp_home),
        )
        first = self._ask(out.row, out.met, OUT)
        # The last that is written stands: a conversation ends with the first denial.
        for denials, path, where in (
            (self._ask(home_row, later_home, HOME_AGAIN), back, acknowledged),
            (self._ask(out.row, later_out, OUT_AGAIN), there, acknowledged),
            (self._ask(home_row, home.met, HOME), back, replied),
            (first, there, np.ones(len(there), dtype=np.bool_)),
        ):
            denied = np.flatnonzero(where)
            denied = denied[denials.point[path[denied]] != NONE]
            point[denied], entry[denied] = denials.point[path[denied]], denials.entry[path[denied]]
            outcome[denied] = DENIED
            end[denied] = self._net.point_device[point[denied]]
        # Where the first packet is denied nothing comes back, whatever ways home there would be.
        no_reply = (first.point[there] != NONE) & ~first_of_each(there)
        found = Exchanges(out.row[there], outcome, end, point, entry).take(np.flatnonzero(~no_reply))
        return found.take(np.flatnonzero(rank_within(found.row) < MOST_PATHS))

    def _untracked(self, paths: Paths, row: Ints, which: np.ndarray) -> Ints:
        """What later packets meet on the same way: no line, and nothing where the session is known."""
        if paths.met.shape[1] == 0:
            return paths.met
        tracks = self._net.tracks[paths.at, self._protocol[self._rows.request[row]][:, None]]
        skipped = tracks | self._points.is_line[paths.met] | ~which[:, None]
        return np.where(skipped, NONE, paths.met)

    def _ask(self, row: Ints, met: Ints, packet: int) -> Denials:
        """The first denial on each path, of the conversation's `packet`."""
        path, step = np.nonzero(met != NONE)
        rows = self._rows.take(row[path])
        ports = rows.source_port, self._port[rows.request]
        ends = rows.source, rows.destination
        if packet in (HOME, HOME_AGAIN):
            ports, ends = ports[::-1], ends[::-1]
        kind = self._kind[rows.request, packet]
        headers = Headers(rows.addresses, self._kinds, *ends, kind, *ports)
        return self._points.first_denials(path, met[path, step], headers, len(row))
