"""Forwarding indexes and list tables that the engines of several worlds share."""

from collections.abc import Hashable
from threading import RLock
from weakref import WeakValueDictionary

from cachetools import LRUCache

from greyheron.core.bulk.forwarding import ForwardingIndex, forwarding_key
from greyheron.core.bulk.list_decisions import ListTables
from greyheron.core.bulk.walked_classes import Recorder
from greyheron.core.world import World
from greyheron.model.values import Family

MOST_INDEXES, LEAST_INDEXES = 24, 8
INDEX_BYTES = 512 << 20
"""At most so many indexes, and so many bytes of them and their worlds, are kept beside those that paths
rest on: one for each family, with possible hosts and without, with lists and without; edits make more.
"""
MOST_GROWN = 192 << 20
"""An index that knows so many bytes about what it was asked about is made anew: it grows as it is used."""


class ForwardingIndexes:
    """Forwarding indexes and list tables that worlds which differ in little share; the least used go.

    An index that paths rest on stays the one of its key: only who has it can be asked about them.
    """

    def __init__(self, solicits: bool = True) -> None:
        """solicits:  see `ForwardingIndex`"""
        self._solicits = solicits
        self._held: WeakValueDictionary[Hashable, ForwardingIndex] = WeakValueDictionary()
        self._recorders: LRUCache[ForwardingIndex, Recorder] = LRUCache(MOST_INDEXES)
        self.tables = ListTables()
        self.lock = RLock()  # engines that share what they find may be asked from several threads

    def of(self, world: World, family: Family) -> tuple[ForwardingIndex, Recorder]:
        key = family, forwarding_key(world, family)
        index = self._held.get(key)
        if index is None or index.nbytes > MOST_GROWN:
            index = self._held[key] = ForwardingIndex(world, family, self._solicits)
            self._let_go(world)
        recorder = self._recorders.get(index)
        if recorder is None:
            recorder = self._recorders[index] = Recorder(world, index)
        return index, recorder

    def _let_go(self, world: World) -> None:
        """Of large networks only some are kept; all worlds of one take about the same."""
        while len(self._recorders) > LEAST_INDEXES:
            if sum(world.nbytes + index.nbytes for index in self._recorders) <= INDEX_BYTES:
                break
            self._recorders.popitem()
