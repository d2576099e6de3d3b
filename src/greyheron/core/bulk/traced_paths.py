"""Where conversations go, whatever lists say."""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from greyheron.core.bulk.conversations import Rows
from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.bulk.list_decisions import PlacedLists
from greyheron.core.bulk.spread import SpreadPaths
from greyheron.core.bulk.traced_classes import TracedClassPaths
from greyheron.core.bulk.walked_classes import WalkedClassPaths
from greyheron.core.headers import (
    Bools,
    Ints,
)

_PATH_BYTES = 3000
"""About how many bytes the path of one conversation takes."""


class TracedPaths(Struct, frozen=True):
    """Where conversations go, whatever lists say: what `BulkEngine.verdicts` can be asked about again.

    row_of:  which row each conversation is
    traced, spread:  the parts that were followed by paths and by ways, each with its rows
    """

    forwarding: ForwardingIndex
    rows: Rows
    row_of: Ints
    traced: tuple[tuple[Ints, TracedClassPaths], ...]
    spread: tuple[tuple[Ints, SpreadPaths], ...]
    recorded: WalkedClassPaths

    @property
    def nbytes(self) -> int:
        """About how much memory they take."""
        return _PATH_BYTES * len(self.rows) + sum(part.nbytes for _, part in self.spread)

    @property
    def crowded(self) -> Ints:
        """Rows of which only some ways were followed: what is said of the others is not known."""
        return self.recorded.crowded

    def _parts(self) -> Iterator[tuple[Ints, TracedClassPaths | SpreadPaths]]:
        yield from self.traced
        yield from self.spread

    def passing(self, codes: Bools) -> Bools:
        """Whether each row has a packet that comes to a point or solicitation marked in `codes`."""
        found = self.recorded.rows_passing(codes)
        found[self.crowded] = True
        for indices, part in self._parts():
            found[indices] |= part.rows_passing(codes)
        return found

    def decided_otherwise(self, placed: PlacedLists, before: PlacedLists) -> Bools:
        """Whether each row may end otherwise in `placed`: whether what denies some packet is not the same."""
        found = self.recorded.decided_otherwise(placed, before)
        found[self.crowded] = True
        for indices, part in self._parts():
            found[indices] |= part.decided_otherwise(placed, before)
        return found

    def meetings(self) -> tuple[Ints, Ints]:
        """Every row with every point or solicitation that a packet of it comes to, each pair once."""
        found = [self.recorded.meetings()]
        for indices, part in self._parts():
            row, code = part.meetings()
            found.append((indices[row], code))
        rows, codes = (np.concatenate(each) for each in zip(*found, strict=True))
        return rows, codes

    def paths(self) -> int:
        """How many different ways through the network, as far as points tell them apart."""
        return self.recorded.paths() + sum(part.paths() for _, part in self._parts())
