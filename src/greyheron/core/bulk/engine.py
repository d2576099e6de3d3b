"""Very many conversations at once: verdict, deciding place and entry, exactly as the walk says (§8).

Conversations that no list, service or line can tell apart are tried once. Their paths come from `traced`,
or from `recorded` where packets are rewritten; then every list is asked once about all that it meets.
"""

from dataclasses import replace

import numpy as np

from greyheron.core.addresses import is_link_local
from greyheron.core.bulk.conversations import Asked, Conversations, Exchanges, Rows, Verdicts, joined
from greyheron.core.bulk.forwarding import Forwarding
from greyheron.core.bulk.headers import NO_PORT, Addresses, Ints
from greyheron.core.bulk.points import NONE, Points, first_of_each
from greyheron.core.bulk.recorded import Recorder
from greyheron.core.bulk.tables import occurring, port_spans
from greyheron.core.bulk.traced import TracedExchanges
from greyheron.core.bulk.tracing import OUTCOMES
from greyheron.core.conversation import VERDICTS, Verdict
from greyheron.core.world import World
from greyheron.model.values import Family

VERDICT_ORDER = tuple(Verdict)
_PASSES, _MIXED = VERDICT_ORDER.index(Verdict.PASSES), VERDICT_ORDER.index(Verdict.MIXED)
_VERDICT_OF = np.array([VERDICT_ORDER.index(VERDICTS[outcome]) for outcome in OUTCOMES])
_AT_ONCE = 1 << 16
"""So many different conversations are traced at once: it bounds the memory that their paths take."""


class BulkEngine:
    """One world made ready for very many conversations; what it works out is kept for the next ones."""

    def __init__(self, world: World) -> None:
        self._world = world
        self._families: dict[Family, _FamilyEngine] = {}

    def verdicts(self, conversations: Conversations) -> Verdicts:
        """What becomes of every one of `conversations`."""
        family = conversations.family
        if family not in self._families:
            self._families[family] = _FamilyEngine(self._world, family)
        return self._families[family].verdicts(conversations)


class _FamilyEngine:
    def __init__(self, world: World, family: Family) -> None:
        self._world, self._family = world, family
        self._points = Points(world, family)
        self._net = Forwarding(world, family, self._points)
        self._recorder = Recorder(world, self._net, self._points)
        self._own_sources: dict[tuple[str, int], int | None] = {}
        self._port_cuts = self._source_port_cuts()

    def _source_port_cuts(self) -> Ints:
        """Where source ports fall into another class: the borders of all ports in lists and translations.

        Both sides of a list count: a source port is a reply's destination port.
        """
        placed = (found for (_, family), found in self._world.lists.items() if family is self._family)
        terms = (
            each
            for found in placed
            for rule in found.rules
            for each in (rule.source_ports, rule.destination_ports)
        )
        cuts = {0} | {
            edge for each in terms for low, high in port_spans(each or ()) for edge in (low, high + 1)
        }
        cuts |= {edge for port in self._recorder.ports for edge in (port, port + 1)}
        return np.array(sorted(cuts), dtype=np.int64)

    def verdicts(self, asked: Conversations) -> Verdicts:
        rows, row_of = self._different(asked)
        found = self._combined(self._exchanges(rows), len(rows))
        return found.take(row_of)

    def _different(self, asked: Conversations) -> tuple[Rows, Ints]:
        """The conversations that can be told apart, and which of them each asked one is."""
        with_ports = np.array([request.port is not None for request in asked.requests], dtype=np.bool_)
        port_class: Ints = np.searchsorted(self._port_cuts, asked.source_port, side="right")
        port_class = np.where(with_ports[asked.request], port_class, 0)
        widths = len(asked.destinations), len(asked.requests), len(self._port_cuts) + 1
        code = asked.sender
        for width, part in zip(widths, (asked.destination, asked.request, port_class), strict=True):
            code = code * width + part
        space = len(asked.senders) * widths[0] * widths[1] * widths[2]
        codes, row_of = occurring(code, space)
        codes, port_class = np.divmod(codes, widths[2])
        codes, request = np.divmod(codes, widths[1])
        sender, destination = np.divmod(codes, widths[0])
        addresses = Addresses(self._family)
        place = np.array([addresses.place(address) for address in asked.destinations], dtype=np.int64)
        device = np.array([self._net.number[device] for device, _ in asked.senders], dtype=np.int64)
        rows = Rows(
            addresses,
            [Asked.of(request, self._family) for request in asked.requests],
            device[sender],
            self._sources(asked, addresses, sender, place[destination]),
            place[destination],
            request,
            np.where(port_class > 0, self._port_cuts[port_class - 1], NO_PORT),
        )
        return rows, row_of

    def _sources(self, asked: Conversations, addresses: Addresses, sender: Ints, destination: Ints) -> Ints:
        """The source of each row, as its sender would choose it; NONE where that depends on its path."""
        given = [NONE if address is None else addresses.place(address) for _, address in asked.senders]
        source = np.array(given, dtype=np.int64)[sender]
        left = np.flatnonzero(source == NONE)
        width = len(addresses)
        codes, place = np.unique(sender[left] * width + destination[left], return_inverse=True)
        chosen = []
        for code in codes.tolist():
            one, to = divmod(code, width)
            key = asked.senders[one][0], addresses.values[to]
            if key not in self._own_sources:
                self._own_sources[key] = self._net.own_source(*key)
            own = self._own_sources[key]
            chosen.append(NONE if own is None else addresses.place(own))
        source[left] = np.array(chosen, dtype=np.int64)[place]
        return source

    def _exchanges(self, rows: Rows) -> Exchanges:
        local = [is_link_local(self._family, address) for address in rows.addresses.values]
        is_local = np.array(local, dtype=np.bool_)
        special = (rows.source == NONE) | is_local[rows.source] | is_local[rows.destination]
        plain = np.flatnonzero(~special)
        found, others = [], [np.flatnonzero(special)]
        for first in range(0, len(plain), _AT_ONCE):
            some = plain[first : first + _AT_ONCE]
            traced, untraced = TracedExchanges(self._net, self._points, rows.take(some)).find()
            found.append(replace(traced, row=some[traced.row]))
            others.append(some[untraced])
        return joined([*found, self._recorder.find(rows, np.sort(np.concatenate(others)))])

    def _combined(self, exchanges: Exchanges, count: int) -> Verdicts:
        """One verdict for each row; where its exchanges differ, the first that does not pass explains it."""
        verdict = _VERDICT_OF[exchanges.outcome]
        low, high = np.full(count, len(VERDICT_ORDER)), np.full(count, NONE)
        np.minimum.at(low, exchanges.row, verdict)
        np.maximum.at(high, exchanges.row, verdict)
        deciding = np.flatnonzero(first_of_each(exchanges.row))
        failing = np.flatnonzero(verdict != _PASSES)
        failing = failing[first_of_each(exchanges.row[failing])]
        deciding[exchanges.row[failing]] = failing
        return Verdicts(
            self._points.points,
            self._points.list_names,
            self._net.devices,
            np.where(low == high, low, _MIXED),
            exchanges.outcome[deciding],
            exchanges.point[deciding],
            exchanges.entry[deciding],
            exchanges.end[deciding],
        )
