"""One conversation tried: by the walk, and on all ways together where there are more than it walks (§8)."""

import numpy as np
from msgspec.structs import replace

from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.headers import NONE
from greyheron.core.walk.addressing import first_packet, request_of, sender_of, world_of
from greyheron.core.walk.conversation import converse, resolved_flow
from greyheron.core.walk.verdicts import Result, Unwalked
from greyheron.core.world import World
from greyheron.model.flow import Flow


def try_flow(world: World, flow: Flow) -> Result:
    """Try `flow` in `world`. Raises FlowError.

    Where not all its ways are walked, the verdict is that of all, if those can be followed together.
    """
    result = converse(world, flow)
    asked = resolved_flow(flow, result)
    return result if asked is None or not result.more else _on_all_ways(world, asked, result)


def _on_all_ways(world: World, flow: Flow, result: Result) -> Result:
    packet, every = first_packet(world, flow), np.zeros(1, dtype=np.int64)
    engine = BulkEngine(world_of(world, flow))
    traced_paths = engine.traced_paths(
        Conversations(
            packet.family,
            [(sender_of(flow), packet.source)],
            [packet.destination],
            [request_of(packet)],
            every,
            every,
            every,
            np.array([packet.source_port or 0]),
        )
    )
    if len(traced_paths.crowded):
        return result
    found = engine.row_verdicts(traced_paths)
    verdict, point = VERDICT_ORDER[found.verdict[0]], int(found.point[0])
    entry = None if found.entry[0] == NONE else int(found.entry[0])
    unwalked = Unwalked(
        found.devices[found.device[0]],
        None if point == NONE else found.points[point],
        None if point == NONE else found.names[point],
        entry,
    )
    return replace(result, verdict=verdict, unwalked=unwalked)
