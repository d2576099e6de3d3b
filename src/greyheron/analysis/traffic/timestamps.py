"""When traffic was there, by the network's own clock (§12)."""

from collections.abc import Sequence
from datetime import UTC, datetime, tzinfo
from zoneinfo import ZoneInfo

import numpy as np

from greyheron.analysis.traffic.folding import SeenTraffic
from greyheron.analysis.traffic.records import NO_TIME
from greyheron.core.headers import Ints
from greyheron.core.timeline import Timeline
from greyheron.core.world import World
from greyheron.model.period import Moment

_MINUTE = 60_000_000_000
Times = Sequence[tuple[tuple[World, ...], Ints]]
"""Conversations that were there while the same entries were, with the world of each state then."""


def whenever(seen: SeenTraffic, *worlds: World) -> Times:
    """All conversations in the same worlds."""
    return [(worlds, np.arange(len(seen)))]


def times_of(seen: SeenTraffic, timelines: Sequence[Timeline]) -> Times:
    """Each conversation at the moment at which it was first seen; without a time, at the first one shown.

    Where a timeline shows one moment only, that is meant for all.
    """
    firsts = tuple(timeline.first for timeline in timelines)
    if not (len(seen) and any(timeline.varies for timeline in timelines)):
        return whenever(seen, *firsts)
    zone = _zone(timelines[0].network.time_zone)
    minutes, of = np.unique(seen.first // _MINUTE, return_inverse=True)
    together: dict[tuple[int, ...], tuple[tuple[World, ...], list[int]]] = {}
    for at, minute in enumerate(minutes.tolist()):
        then = firsts
        if minute != NO_TIME:
            moment = Moment.at(datetime.fromtimestamp(minute * 60, zone))
            then = tuple(_world(timeline, moment) for timeline in timelines)
        together.setdefault(tuple(map(id, then)), (then, []))[1].append(at)
    return [(worlds, np.flatnonzero(np.isin(of, some))) for worlds, some in together.values()]


def _world(timeline: Timeline, moment: Moment) -> World:
    return timeline.world(timeline.span(moment)) if timeline.varies else timeline.first


def _zone(name: str) -> tzinfo:
    """Where the system does not know the network's zone, the times of the records are taken as they are."""
    try:
        return ZoneInfo(name)
    except (OSError, ValueError, KeyError):
        return UTC
