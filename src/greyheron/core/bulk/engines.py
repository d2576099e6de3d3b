"""Engines of worlds that differ in little, and what they share."""

from collections.abc import Callable

from cachetools import LRUCache

from greyheron.core.bulk.engine import BulkEngine
from greyheron.core.bulk.indexes import ForwardingIndexes
from greyheron.core.world import World

Engines = Callable[[World], BulkEngine]
MOST_ENGINES, LEAST_ENGINES = 16, 6
ENGINE_BYTES = 256 << 20
"""At most so many engines, and so many bytes of the worlds they hold on to; some however large they are."""


def engines() -> Engines:
    """The engines of worlds, which share what they find, each made when asked for; the least used go."""
    indexes = ForwardingIndexes()
    made: LRUCache[World, BulkEngine] = LRUCache(
        ENGINE_BYTES,
        getsizeof=lambda engine: min(
            max(engine.nbytes, ENGINE_BYTES // MOST_ENGINES), ENGINE_BYTES // LEAST_ENGINES
        ),
    )

    def engine(world: World) -> BulkEngine:
        with indexes.lock:
            known = made.get(world)
            if known is None:
                known = made[world] = BulkEngine(world, indexes)
            return known

    return engine
