"""Reach: who can talk to whom about which services, for every pair of devices at once."""

from collections.abc import Callable, Iterator
from copy import copy

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from greyheron.analysis.reach.axis import Axis
from greyheron.analysis.reach.question import ReachQuestion, requests_to, talking_addresses
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.traced_paths import TracedPaths
from greyheron.core.headers import NONE, Ints, first_of_each
from greyheron.core.progress import Progress, unwatched
from greyheron.core.shares import WHOLE, Share
from greyheron.core.walk.addressing import USUAL_SOURCE_PORT
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World
from greyheron.model.names import TCP
from greyheron.model.services import Request

MOST_ASKED = 60_000
"""Conversations that are looked at where only hosts ask."""
_AT_ONCE = 120_000
"""So many conversations are asked about between two looks at whether to go on."""


Cells = NDArray[np.uint8]
"""(devices, devices) from row to column: a bit for each verdict that occurs, in VERDICT_ORDER; 0: none."""


class _MatrixPart(Struct, frozen=True):
    """Some of the conversations behind a matrix: their paths, and for each row its cell and its verdict."""

    traced_paths: TracedPaths
    sender: Ints
    column: Ints
    verdict: Ints


class Changed(Struct, frozen=True):
    """A conversation of a matrix that ends otherwise: who, to which address, about what.

    address:  the sender's, or None where that depends on the path
    before, after:  indices in VERDICT_ORDER
    """

    source: str
    address: int | None
    destination: int
    request: Request
    before: int
    after: int


class Alike(Struct, frozen=True):
    """Conversations of a matrix that end alike, at one place, by one entry: the first, and how many."""

    source: str
    owner: str
    destination: int
    request: Request
    count: int


class Reach:
    """What of a question gets from every device to every address of every other, in one world.

    share:  of who asks; the cells of all others are 0
    """

    def __init__(
        self,
        world: World,
        engine: BulkEngine,
        axis: Axis,
        question: ReachQuestion,
        progress: Progress = unwatched,
        share: Share = WHOLE,
    ) -> None:
        """Raises Cancelled."""
        self.axis, self.question, self._share = axis, question, share
        self._engine = engine
        self._parts = tuple(self._find(world, progress))

    @property
    def nbytes(self) -> int:
        """About how much memory it takes."""
        return sum(part.traced_paths.nbytes for part in self._parts)

    def _find(self, world: World, progress: Progress) -> Iterator[_MatrixPart]:
        destinations, requests, column, to, about = _goals(world, self.axis, self.question)
        step = max(1, _AT_ONCE // max(len(to), 1))
        asking = [
            index
            for index, name in enumerate(self.axis.devices)
            if not (self.question.from_hosts and world.topology.devices[name].traits.forwards)
        ]
        if self.question.from_hosts:
            most = max(1, MOST_ASKED // max(len(to), 1))
            asking = asking[:: -(-len(asking) // most)] if len(asking) > most else asking
        asking = [index for index in asking if self._share.has(self.axis.segments[index])]
        for first in range(0, len(asking), step):
            progress(first / len(asking))
            senders = np.array(asking[first : first + step], dtype=np.int64)
            sender, goal = np.repeat(senders, len(to)), np.tile(np.arange(len(to)), len(senders))
            apart = sender != column[goal]
            sender, goal = sender[apart], goal[apart]
            asked = Conversations(
                self.question.family,
                [(device, None) for device in self.axis.devices],
                destinations,
                requests,
                sender,
                to[goal],
                about[goal],
                np.full(len(sender), USUAL_SOURCE_PORT),
            )
            traced_paths = self._engine.traced_paths(asked)
            # Every row is one conversation here: all differ in sender, address or request.
            index = np.empty(len(sender), dtype=np.int64)
            index[traced_paths.row_of] = np.arange(len(sender))
            verdict = self._engine.row_verdicts(traced_paths).verdict
            yield _MatrixPart(traced_paths, sender[index], column[goal][index], verdict)

    def cells(self) -> Cells:
        count = len(self.axis.devices)
        cells = np.zeros((count, count), dtype=np.uint8)
        for part in self._parts:
            bits = np.left_shift(1, part.verdict).astype(np.uint8)
            np.bitwise_or.at(cells, (part.sender, part.column), bits)
        return cells

    def fits(self, engine: BulkEngine) -> bool:
        """Whether `cells_in` can tell what `engine` makes of it."""
        return all(engine.fits(part.traced_paths) for part in self._parts)

    def cells_in(self, engine: BulkEngine) -> Cells:
        """The cells in another world, which `fits`: only what its lists may change is looked at again."""
        return self._again(engine).cells()

    def again(self, world: World, engine: BulkEngine) -> "Reach":
        """The same matrix in another world of the same devices."""
        if self.fits(engine):
            return self._again(engine)
        return Reach(world, engine, self.axis, self.question, share=self._share)

    def _again(self, engine: BulkEngine) -> "Reach":
        found = copy(self)
        parts = []
        for part in self._parts:
            rows, changed = engine.changed_rows(part.traced_paths, self._engine)
            verdict = part.verdict.copy()
            verdict[rows] = changed.verdict
            parts.append(replace(part, verdict=verdict))
        found._engine, found._parts = engine, tuple(parts)
        return found

    def changes_to(self, other: "Reach") -> Iterator[Changed]:
        """The conversations that end otherwise in `other`, which is the same matrix."""
        for part, after in zip(self._parts, other._parts, strict=True):
            rows, values = part.traced_paths.rows, part.traced_paths.rows.addresses.values
            for row in np.flatnonzero(part.verdict != after.verdict).tolist():
                yield Changed(
                    part.traced_paths.forwarding.devices[rows.device[row]],
                    None if rows.source[row] == NONE else values[rows.source[row]],
                    values[rows.destination[row]],
                    rows.asked[rows.request[row]].request,
                    int(part.verdict[row]),
                    int(after.verdict[row]),
                )

    def decided(self, verdict: Verdict, most: int) -> Iterator[Alike]:
        """One conversation of each group with `verdict`, at most `most` of a part of the matrix."""
        for part in self._parts:
            indices = np.flatnonzero(part.verdict == VERDICT_ORDER.index(verdict))
            found = self._engine.row_verdicts(part.traced_paths, indices)
            ways = [found.outcome, found.point, found.entry, found.device]
            order = np.lexsort(ways[::-1])  # equal ones in their order, so that the first of each comes first
            fresh = np.zeros(len(order), dtype=np.bool_)
            for way in ways:
                fresh |= first_of_each(way[order])
            counts = np.diff(np.append(np.flatnonzero(fresh), len(order)))
            yield from self._alike(part, indices[order[fresh]][:most], counts)

    def each(self, verdict: Verdict, wanted: Callable[[Request], bool]) -> Iterator[Alike]:
        """Every conversation with `verdict` about what is `wanted`."""
        for part in self._parts:
            rows = part.traced_paths.rows
            about = np.array([wanted(asked.request) for asked in rows.asked], dtype=np.bool_)
            indices = np.flatnonzero((part.verdict == VERDICT_ORDER.index(verdict)) & about[rows.request])
            yield from self._alike(part, indices, np.ones(len(indices), dtype=np.int64))

    def _alike(self, part: _MatrixPart, indices: Ints, counts: Ints) -> Iterator[Alike]:
        rows, values = part.traced_paths.rows, part.traced_paths.rows.addresses.values
        for row, count in zip(indices.tolist(), counts.tolist(), strict=False):
            yield Alike(
                part.traced_paths.forwarding.devices[rows.device[row]],
                self.axis.devices[part.column[row]],
                values[rows.destination[row]],
                rows.asked[rows.request[row]].request,
                count,
            )

    def locked(self, world: World) -> set[str]:
        """The devices with a management line that nobody else can log in to."""
        passes = VERDICT_ORDER.index(Verdict.PASSES)
        ports = [
            {port for line in world.topology.devices[name].lines for port in line.ports}
            for name in self.axis.devices
        ]
        opened = np.array([not port for port in ports], dtype=np.bool_)
        for part in self._parts:
            asked = [name.request for name in part.traced_paths.rows.asked]
            logins = np.array(
                [[name.protocol == TCP and name.port in own for name in asked] for own in ports],
                dtype=np.bool_,
            )
            found = (part.verdict == passes) & logins[part.column, part.traced_paths.rows.request]
            opened[part.column[found]] = True
        return {name for name, is_open in zip(self.axis.devices, opened.tolist(), strict=True) if not is_open}


def _goals(
    world: World, axis: Axis, question: ReachQuestion
) -> tuple[list[int], list[Request], Ints, Ints, Ints]:
    """What to ask for: addresses, requests, and of each goal its column and its indices in them."""
    destinations: dict[int, int] = {}
    requests: dict[Request, int] = {}
    goals: list[tuple[int, int, int]] = []
    for column, device in enumerate(axis.devices):
        asked = requests_to(world, device, question)
        for address in talking_addresses(world, device, question.family):
            to = destinations.setdefault(address, len(destinations))
            goals += [(column, to, requests.setdefault(request, len(requests))) for _, request in asked]
    columns = np.array(goals, dtype=np.int64).reshape(-1, 3).T
    return list(destinations), list(requests), columns[0], columns[1], columns[2]


def rows_of(cells: Cells) -> list[str]:
    """Each row as a string, a character for each cell: its bits as an offset from "0"."""
    return ["".join(chr(48 + bits) for bits in row) for row in cells.tolist()]
