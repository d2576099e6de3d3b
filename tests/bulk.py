"""Asking the bulk engine about single conversations, to compare it with the walk and the reference."""

from collections.abc import Sequence

import numpy as np

from greyheron.core.bulk.conversations import Conversations, Verdicts
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.headers import NONE
from greyheron.core.packet import Packet
from greyheron.core.walk.addressing import request_of
from greyheron.core.world import World
from greyheron.model.values import Family


def in_bulk(world: World, openers: Sequence[tuple[Packet, str]]) -> list[tuple[str, object]]:
    """Verdict and decider of each conversation that a packet of a device opens, in their order."""
    engine = BulkEngine(world)
    found: dict[int, tuple[str, object]] = {}
    for family in Family:
        indices = [index for index, (packet, _) in enumerate(openers) if packet.family is family]
        if indices:
            verdicts = engine.verdicts(conversations_of(family, [openers[index] for index in indices]))
            found |= {index: _decider(verdicts, number) for number, index in enumerate(indices)}
    return [found[index] for index in range(len(openers))]


def conversations_of(family: Family, openers: Sequence[tuple[Packet, str]]) -> Conversations:
    every = np.arange(len(openers))
    return Conversations(
        family,
        [(device, packet.source) for packet, device in openers],
        [packet.destination for packet, _ in openers],
        [request_of(packet) for packet, _ in openers],
        every,
        every,
        every,
        np.array([packet.source_port or 0 for packet, _ in openers]),
    )


def _decider(verdicts: Verdicts, number: int) -> tuple[str, object]:
    verdict = VERDICT_ORDER[verdicts.verdict[number]].value
    index = int(verdicts.point[number])
    if index == NONE:
        return verdict, None
    point, entry, name = verdicts.points[index], int(verdicts.entry[number]), verdicts.names[index]
    return verdict, (
        point.device,
        point.at,
        point.direction.value,
        name,
        None if entry == NONE else entry,
    )
