"""What a network would make of traffic that was there: verdicts for all of it at once (§8)."""

from collections.abc import Iterable, Sequence
from enum import StrEnum
from itertools import product

import numpy as np
from msgspec import Struct

from greyheron.analysis.traffic.folding import SeenTraffic
from greyheron.analysis.traffic.timestamps import Times
from greyheron.core.bulk.conversations import Conversations, Verdicts
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.engines import Engines
from greyheron.core.headers import NONE, Bools, Ints
from greyheron.core.progress import Progress, unwatched
from greyheron.core.walk.addressing import USUAL_SOURCE_PORT
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.names import TCP, UDP
from greyheron.model.services import Request
from greyheron.model.values import Family

_NO_VERDICT = -1


class Impossibility(StrEnum):
    """Why a conversation that was there cannot be, as the network is drawn."""

    NOBODY_SENDS = "nobody here has the source"
    NOBODY_THERE = "nobody here has the destination"
    NO_UNICAST = "the destination is a group or everybody"
    ANSWERED = "it was answered, and would not get through"


class Judged(Struct, frozen=True):
    """What becomes of each conversation in one state of the network, in arrays as long as `SeenTraffic`.

    verdict:  index in VERDICT_ORDER, or -1 where it cannot be tried
    point:  index in `points` and `names` of the list that decided, or NONE;  entry:  its number, or NONE
    """

    verdict: Ints
    points: Sequence[AttachmentPoint]
    names: Sequence[str | None]
    point: Ints
    entry: Ints

    def passes(self) -> Bools:
        found: Bools = self.verdict == VERDICT_ORDER.index(Verdict.PASSES)
        return found

    @classmethod
    def of_parts(cls, count: int, parts: Iterable[tuple[Ints, "Judged"]]) -> "Judged":
        """Together what was judged in parts, each with the rows that it is about."""
        whole = _Judging(count)
        for rows, part in parts:
            whole.take(rows, part)
        return whole.judged()


class Between(Struct, frozen=True):
    """Who each conversation is between: devices, or None; `group`: whether there is no single receiver."""

    source: tuple[str | None, ...]
    destination: tuple[str | None, ...]
    group: tuple[bool, ...]


def parties_of(seen: SeenTraffic, world: World) -> Between:
    """world:  one of the network, whatever its lists"""
    topology = world.with_possible_hosts.topology
    owners: list[str | None] = []
    groups: list[bool] = []
    for six, value in seen.addresses:
        family = Family.IPV6 if six else Family.IPV4
        group = value >> 120 == 0xFF if six else value >> 28 == 0xE or value == family.every_bit
        groups.append(group)
        owners.append(None if group else topology.owner(family, value))
    return Between(
        tuple(owners[at] for at in seen.source.tolist()),
        tuple(owners[at] for at in seen.destination.tolist()),
        tuple(groups[at] for at in seen.destination.tolist()),
    )


def judge(
    seen: SeenTraffic, parties: Between, times: Times, engines: Engines, progress: Progress = unwatched
) -> list[Judged]:
    """What becomes of everything that was seen, in each state; ways are found once for states alike."""
    found = [_Judging(len(seen)) for _ in times[0][0]]
    known = np.array([each is not None for each in parties.source], dtype=np.bool_)
    known &= ~np.array(parties.group, dtype=np.bool_)
    six = np.array([each for each, _ in seen.addresses], dtype=np.bool_)[seen.source]
    done = 0
    for (worlds, then), family in product(times, Family):
        rows = then[known[then] & (six[then] == (family is Family.IPV6))]
        every = [engines(world.with_possible_hosts) for world in worlds]
        for first in range(0, len(rows), every[0].at_once):
            progress(done / max(1, len(seen)))
            some = rows[first : first + every[0].at_once]
            asked = _asked(seen, parties, family, some)
            traced_paths = every[0].traced_paths(asked)
            known_by: dict[BulkEngine, Verdicts] = {}
            for engine, judging in zip(every, found, strict=True):
                if engine not in known_by:
                    fits = engine.fits(traced_paths)
                    known_by[engine] = (
                        engine.row_verdicts(traced_paths).take(traced_paths.row_of)
                        if fits
                        else engine.verdicts(asked)
                    )
                judging.take(some, known_by[engine])
            done += len(some)
    return [each.judged() for each in found]


class _Judging:
    """The verdicts of one world as they come."""

    def __init__(self, count: int) -> None:
        self._verdict = np.full(count, _NO_VERDICT, dtype=np.int64)
        self._point, self._entry = self._verdict.copy(), self._verdict.copy()
        self._points: list[AttachmentPoint] = []
        self._names: list[str | None] = []

    def take(self, rows: Ints, found: "Verdicts | Judged") -> None:
        self._verdict[rows] = found.verdict
        self._point[rows] = np.where(found.point == NONE, NONE, found.point + len(self._points))
        self._entry[rows] = found.entry
        self._points += found.points
        self._names += found.names

    def judged(self) -> Judged:
        return Judged(self._verdict, self._points, self._names, self._point, self._entry)


def _asked(seen: SeenTraffic, parties: Between, family: Family, rows: Ints) -> Conversations:
    senders: dict[tuple[str, int | None], int] = {}
    destinations: dict[int, int] = {}
    requests: dict[Request, int] = {}
    columns = np.empty((4, len(rows)), dtype=np.int64)
    for at, row in enumerate(rows.tolist()):
        device = parties.source[row]
        assert device is not None
        sender = device, seen.addresses[seen.source[row]][1]
        request = request_of_seen(seen, row)
        own = int(seen.source_port[row])
        columns[:, at] = (
            senders.setdefault(sender, len(senders)),
            destinations.setdefault(seen.addresses[seen.destination[row]][1], len(destinations)),
            requests.setdefault(request, len(requests)),
            own if own >= 0 else USUAL_SOURCE_PORT,
        )
    return Conversations(family, list(senders), list(destinations), list(requests), *columns)


def request_of_seen(seen: SeenTraffic, at: int) -> Request:
    """What a conversation asks for."""
    protocol, port = int(seen.protocol[at]), int(seen.port[at])
    if protocol in (TCP, UDP):
        return Request(protocol, max(port, 0))
    family = Family.IPV6 if seen.addresses[seen.source[at]][0] else Family.IPV4
    if protocol == family.icmp:
        return Request(protocol, icmp_type=max(port, 0), icmp_code=0)
    return Request(protocol)


def odd(seen: SeenTraffic, parties: Between, running: Judged) -> list[Impossibility | None]:
    """For each conversation why it cannot be, as the network is drawn and running; None: it can."""
    passes = running.passes()
    found: list[Impossibility | None] = []
    for row in range(len(seen)):
        if parties.source[row] is None:
            found.append(Impossibility.NOBODY_SENDS)
        elif parties.group[row]:
            found.append(Impossibility.NO_UNICAST)
        elif parties.destination[row] is None:
            found.append(Impossibility.NOBODY_THERE)
        elif seen.answered[row] and not passes[row]:
            found.append(Impossibility.ANSWERED)
        else:
            found.append(None)
    return found
