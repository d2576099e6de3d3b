"""Very many conversations at once: verdict, deciding point and entry, exactly as the walk says (§8).

Conversations that no list, service or line can tell apart are tried once. Their paths come from `traced`,
or from `recorded` where packets are rewritten; then every list is asked once about all that it meets.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from typing import TypeVar

import numpy as np
from msgspec.structs import replace

from greyheron.core.bulk.conversations import Conversations, Exchanges, Prepared, Rows, Verdicts, joined
from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.bulk.indexes import ForwardingIndexes
from greyheron.core.bulk.list_decisions import PlacedLists
from greyheron.core.bulk.packet_rows import PacketRows
from greyheron.core.bulk.spread import SpreadPaths
from greyheron.core.bulk.tables import DecisionTable
from greyheron.core.bulk.traced_classes import TracedClassPaths
from greyheron.core.bulk.traced_paths import TracedPaths
from greyheron.core.bulk.tracer import OUTCOMES, TooMuchAtOnce
from greyheron.core.bulk.walked_classes import WalkedClassPaths, walked_exchanges
from greyheron.core.headers import (
    NO_PORT,
    NONE,
    Addresses,
    Bools,
    Ints,
    distinct,
    first_of_each,
    occurring,
)
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.network.addresses import is_link_local
from greyheron.core.walk.verdicts import ARRIVING, VERDICTS, Verdict
from greyheron.core.world import World
from greyheron.model.values import Family

Part = TypeVar("Part")


VERDICT_ORDER = tuple(Verdict)


_PASSES, _MIXED = VERDICT_ORDER.index(Verdict.PASSES), VERDICT_ORDER.index(Verdict.MIXED)


_VERDICT_OF = np.array([VERDICT_ORDER.index(VERDICTS[outcome]) for outcome in OUTCOMES])


_ARRIVES = np.array([verdict in ARRIVING for verdict in VERDICT_ORDER])


_AT_ONCE = 1 << 16
"""So many different conversations are traced at once: it bounds the memory that their paths take."""


_DECIDED_TOGETHER = 4
"""Lists are asked about so many parts at once: each question costs some of its own, all of them memory."""


_LEAST_AT_ONCE = 1 << 12


_DEVICE_CONVERSATIONS = 1 << 22
"""The larger a network, the longer each conversation takes."""


class BulkEngine:
    """One world made ready for very many conversations."""

    def __init__(self, world: World, indexes: ForwardingIndexes | None = None) -> None:
        """indexes: to share with the engines of worlds that differ in little"""
        self._world = world
        self._indexes = indexes or ForwardingIndexes()
        self._families: dict[Family, _FamilyEngine] = {}

    @property
    def nbytes(self) -> int:
        """About how much memory it takes, and holds on to."""
        return self._world.nbytes

    @property
    def at_once(self) -> int:
        """So many conversations are best asked about together: they take about a second at most."""
        return min(
            _AT_ONCE, max(_LEAST_AT_ONCE, _DEVICE_CONVERSATIONS // (1 + len(self._world.topology.devices)))
        )

    def traced_paths(self, conversations: Conversations) -> TracedPaths:
        """Where every one of `conversations` goes."""
        with self._indexes.lock:
            return self._of(conversations.family).traced_paths(conversations)

    def verdicts(self, conversations: Conversations) -> Verdicts:
        """What becomes of every one of `conversations`."""
        traced_paths = self.traced_paths(conversations)
        return self.row_verdicts(traced_paths).take(traced_paths.row_of)

    def row_verdicts(self, traced_paths: TracedPaths, only: Ints | None = None) -> Verdicts:
        """What becomes of each row of `traced_paths`, which were found in a world of the same forwarding.

        only:  the rows that are asked about, rising
        """
        with self._indexes.lock:
            return self._of(traced_paths.forwarding.family).verdicts(traced_paths, only)

    def lists_met(
        self, traced_paths: TracedPaths, codes: Bools | None = None
    ) -> tuple[Ints, Ints, Sequence[ResolvedList]]:
        """Every row with every list that may decide about a packet of it, as its index in the lists.

        A row with too many paths to look at meets them all.

        codes:  the points and solicitations that are of interest; None: all
        """
        with self._indexes.lock:
            return self._of(traced_paths.forwarding.family).lists_met(traced_paths, codes)

    def fits(self, traced_paths: TracedPaths) -> bool:
        """Whether conversations take the same paths here."""
        with self._indexes.lock:
            return self._of(traced_paths.forwarding.family).forwarding is traced_paths.forwarding

    def changed_rows(self, traced_paths: TracedPaths, before: "BulkEngine") -> tuple[Ints, Verdicts]:
        """The rows of `traced_paths` that may come to something else than with `before`, and to what.

        Both fit the paths. Each row must stand for one source port: lists may cut ports anew.
        """
        family = traced_paths.forwarding.family
        with self._indexes.lock:
            return self._of(family).changed(traced_paths, before._of(family))

    def may_differ(self, traced_paths: TracedPaths, before: "BulkEngine") -> Bools:
        """Which rows of `traced_paths`, which fit both, may have become something else than with `before`."""
        family = traced_paths.forwarding.family
        with self._indexes.lock:
            return traced_paths.passing(self._of(family).changed_codes(before._of(family)))

    def changed_codes(self, before: "BulkEngine", family: Family) -> Bools:
        """For each point and solicitation whether other lists stand there than with `before`.

        Both have the same forwarding of the family.
        """
        with self._indexes.lock:
            return self._of(family).changed_codes(before._of(family))

    def only_denies_more(self, before: "BulkEngine", family: Family) -> bool:
        """Whether whatever lists deny with `before`, which has the same forwarding, they deny here too."""
        with self._indexes.lock:
            return self._of(family).only_denies_more(before._of(family))

    def table(self, resolved: ResolvedList) -> DecisionTable:
        """The decision table of a list."""
        with self._indexes.lock:
            return self._indexes.tables.of(resolved)

    def forwarding(self, family: Family) -> ForwardingIndex:
        """What decides where packets of a family go."""
        with self._indexes.lock:
            return self._of(family).forwarding

    def _of(self, family: Family) -> "_FamilyEngine":
        if family not in self._families:
            self._families[family] = _FamilyEngine(self._world, family, self._indexes)
        return self._families[family]


class _FamilyEngine:
    def __init__(self, world: World, family: Family, indexes: ForwardingIndexes) -> None:
        self._world, self._family = world, family
        self.forwarding, self._recorder = indexes.of(world, family)
        self._tables = indexes.tables
        self._placed = PlacedLists(world, self.forwarding, self._tables)
        self._port_cuts = self._source_port_cuts()
        self._compared: tuple[PlacedLists | None, int] = None, 0
        self._changed: Bools = np.zeros(0, dtype=np.bool_)

    def _source_port_cuts(self) -> Ints:
        """Where source ports fall into another class: the borders of all ports in lists and translations.

        Both sides of a list count: a source port is a reply's destination port.
        """
        cuts = {0}.union(*(self._tables.port_cuts(found) for found in self._placed.distinct))
        cuts |= {edge for port in self._recorder.ports for edge in (port, port + 1)}
        return np.array(sorted(cuts), dtype=np.int64)

    def traced_paths(self, asked: Conversations) -> TracedPaths:
        rows, row_of = self._different(asked)
        local = [is_link_local(self._family, address) for address in rows.addresses.values]
        is_local = np.array(local, dtype=np.bool_)
        special = (rows.source == NONE) | is_local[rows.source] | is_local[rows.destination]
        every = np.flatnonzero(~special)
        begins = range(0, len(every), _AT_ONCE)
        traced, _ = self._in_parts(
            TracedClassPaths, rows, [every[begin : begin + _AT_ONCE] for begin in begins]
        )
        wide = [indices[part.wide] for indices, part in traced if len(part.wide)]
        spread, crowded = self._in_parts(SpreadPaths, rows, wide)
        untraced = [indices[part.untraced] for indices, part in traced]
        untraced += [indices[part.untraced] for indices, part in spread]
        others = np.sort(np.concatenate([np.flatnonzero(special), *untraced, *crowded]))
        recorded = WalkedClassPaths(self._recorder, self.forwarding, rows, others)
        return TracedPaths(self.forwarding, rows, row_of, tuple(traced), tuple(spread), recorded)

    def _in_parts(
        self, follow: Callable[[PacketRows], Part], rows: Rows, parts: Iterable[Ints]
    ) -> tuple[list[tuple[Ints, Part]], list[Ints]]:
        """Follow rows in parts that are small enough; and the rows that are too much even alone."""
        found: list[tuple[Ints, Part]] = []
        crowded: list[Ints] = []
        ahead = [*parts][::-1]
        while ahead:
            indices = ahead.pop()
            try:
                found.append((indices, follow(PacketRows(self.forwarding, rows.take(indices)))))
            except TooMuchAtOnce:
                half = len(indices) // 2
                if half:
                    ahead += [indices[half:], indices[:half]]
                else:
                    crowded.append(indices)
        return found, crowded

    def verdicts(self, traced_paths: TracedPaths, only: Ints | None) -> Verdicts:
        if only is None:
            return self._combined(self._exchanges(traced_paths, None), len(traced_paths.rows))
        wanted = np.zeros(len(traced_paths.rows), dtype=np.bool_)
        wanted[only] = True
        exchanges = self._exchanges(traced_paths, wanted)
        return self._combined(replace(exchanges, row=(np.cumsum(wanted) - 1)[exchanges.row]), len(only))

    def changed(self, traced_paths: TracedPaths, before: "_FamilyEngine") -> tuple[Ints, Verdicts]:
        rows = np.flatnonzero(traced_paths.decided_otherwise(self._placed, before._placed))
        return rows, self.verdicts(traced_paths, rows)

    def lists_met(
        self, traced_paths: TracedPaths, only: Bools | None
    ) -> tuple[Ints, Ints, Sequence[ResolvedList]]:
        rows, codes = traced_paths.meetings()
        if only is not None:
            rows, codes = rows[only[codes]], codes[only[codes]]
        at, listed = self._placed.lists_at(codes)
        lists = self._placed.distinct
        crowded = traced_paths.crowded
        rows = np.append(rows[at], np.repeat(crowded, len(lists)))
        listed = np.append(listed, np.tile(np.arange(len(lists)), len(crowded)))
        pairs = distinct(rows * max(len(lists), 1) + listed)
        return *np.divmod(pairs, max(len(lists), 1)), lists

    def changed_codes(self, before: "_FamilyEngine") -> Bools:
        asked = before._placed, len(self.forwarding.solicitations)
        if self._compared != asked:
            self._compared, self._changed = asked, self._placed.changed_from(before._placed)
        return self._changed

    def only_denies_more(self, before: "_FamilyEngine") -> bool:
        return self._placed.only_denies_more(before._placed)

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
        codes = codes // widths[2]
        codes, request = np.divmod(codes, widths[1])
        sender, destination = np.divmod(codes, widths[0])
        addresses = Addresses(self._family)
        index = np.array([addresses.index(address) for address in asked.destinations], dtype=np.int64)
        numbers = [self.forwarding.number[device] for device, _ in asked.senders]
        device = np.array(numbers, dtype=np.int64)[sender]
        source_port = np.zeros(len(request), dtype=np.int64)
        source_port[row_of] = np.where(with_ports[asked.request], asked.source_port, NO_PORT)
        rows = Rows(
            addresses,
            [Prepared.of(request, self._family) for request in asked.requests],
            device,
            self._sources(asked, addresses, sender, device, index[destination]),
            index[destination],
            request,
            source_port,
        )
        return rows, row_of

    def _sources(
        self, asked: Conversations, addresses: Addresses, sender: Ints, device: Ints, destination: Ints
    ) -> Ints:
        """The source of each row, as its sender would choose it; NONE where that depends on its path."""
        given = [NONE if address is None else addresses.index(address) for _, address in asked.senders]
        source = np.array(given, dtype=np.int64)[sender]
        left = np.flatnonzero(source == NONE)
        source[left] = self.forwarding.own_sources(device[left], destination[left], addresses)
        return source

    def _exchanges(self, traced_paths: TracedPaths, only: Bools | None) -> Exchanges:
        """Those of every row, or of those marked in `only`."""
        found = [traced_paths.recorded.decided(self._placed, only)]
        for first in range(0, len(traced_paths.traced), _DECIDED_TOGETHER):
            found += self._decided(traced_paths.traced[first : first + _DECIDED_TOGETHER], only)
        for indices, part in traced_paths.spread:
            exchanges = part.decided(self._placed, None if only is None else only[indices])
            found.append(replace(exchanges, row=indices[exchanges.row]))
        crowded = traced_paths.crowded
        crowded = crowded if only is None else crowded[only[crowded]]
        found.append(walked_exchanges(self._world, self.forwarding, traced_paths.rows, crowded))
        return joined(found)

    def _decided(
        self, traced: Sequence[tuple[Ints, TracedClassPaths]], only: Bools | None
    ) -> Iterator[Exchanges]:
        """The exchanges of some parts of paths; every list is asked once about all of them."""
        parts = [
            (indices, part, part.questions(self._placed, None if only is None else only[indices]))
            for indices, part in traced
            if only is None or only[indices].any()
        ]
        meetings = [each for _, _, asked in parts for each in asked.meetings]
        answers = iter(self._placed.first_denials_of_each(meetings) if meetings else ())
        for indices, part, asked in parts:
            exchanges = part.decided(self._placed, asked, [*islice(answers, len(asked.meetings))])
            yield replace(exchanges, row=indices[exchanges.row])

    def _combined(self, exchanges: Exchanges, count: int) -> Verdicts:
        """One verdict for each row; where its exchanges differ, the first that does not pass explains it."""
        verdict = _VERDICT_OF[exchanges.outcome]
        low, high = np.full(count, len(VERDICT_ORDER)), np.full(count, NONE)
        np.minimum.at(low, exchanges.row, verdict)
        np.maximum.at(high, exchanges.row, verdict)
        arrives, reached = np.zeros((2, count), dtype=np.bool_)
        arrives[exchanges.row[_ARRIVES[verdict]]] = True
        reached[exchanges.row[exchanges.reached]] = True
        deciding = np.flatnonzero(first_of_each(exchanges.row))
        failing = np.flatnonzero(verdict != _PASSES)
        failing = failing[first_of_each(exchanges.row[failing])]
        deciding[exchanges.row[failing]] = failing
        return Verdicts(
            self.forwarding.points,
            self._placed.names,
            self.forwarding.devices,
            np.where(low == high, low, _MIXED),
            arrives,
            reached,
            exchanges.outcome[deciding],
            exchanges.point[deciding],
            exchanges.entry[deciding],
            exchanges.end[deciding],
        )
