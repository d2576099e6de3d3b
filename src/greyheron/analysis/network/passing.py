"""Who comes by each place of a network without lists."""

from collections.abc import Callable, Sequence
from functools import partial

import numpy as np
from msgspec import Struct

from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.network.translated import translated_blocks, translated_with
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import BulkEngine
from greyheron.core.bulk.engines import Engines
from greyheron.core.bulk.indexes import ForwardingIndexes
from greyheron.core.bulk.traced_paths import TracedPaths
from greyheron.core.headers import Bools, Ints
from greyheron.core.intervals import Region
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Network
from greyheron.model.services import Request
from greyheron.model.values import Direction, Family

MOST_ENDS = 600
"""Where there are more addresses and segments, only places before segments of hosts are judged."""
ANY_PROTOCOL = 253
"""Of no protocol that an entry would name (RFC 3692)."""


class Passing(Struct, frozen=True):
    """Who sends by a place and to whom, as indices among the endpoints.

    pairs:  which source to which goal, by their indices in those two; None: each to each
    rewritten:  sources and goals as they are there, of those who come by with another address than their own
    """

    sources: Ints
    goals: Ints
    pairs: Bools | None
    rewritten: tuple[tuple[Region, Region], ...] = ()

    @property
    def nobody(self) -> bool:
        return len(self.sources) == 0 and not self.rewritten


Passers = Callable[[AttachmentPoint], Passing | None]
"""Who comes by a place in the network without lists; None where that is not known."""


def known_passers(
    kept: KeptFindings, engines: Engines, world: World, network: Network, family: Family
) -> tuple[Endpoints, Passers]:
    """Everyone, and who comes by each place: the same objects as long as they would say the same."""
    hosts = world.with_possible_hosts
    rests_on = (world.topology, world.routes.routing(family), network.devices, network.address_sets)
    everyone = kept.of(("everyone", family), rests_on, partial(Endpoints, hosts, network, family))
    forwarding = engines(hosts.baseline).forwarding(family)
    passers = kept.of(
        ("passers", family), (everyone, forwarding), partial(passers_of, world, network, everyone)
    )
    return everyone, passers


def passers_of(world: World, network: Network, everyone: Endpoints) -> Passers:
    """Who comes by each place, as indices among all endpoints, those that are translated last."""
    endpoints = (*everyone.every, *everyone.translated)
    few = len(endpoints) <= MOST_ENDS
    return _traced(world, network, everyone.family, endpoints) if few else _before_hosts(world, endpoints)


def _traced(world: World, network: Network, family: Family, endpoints: Sequence[Endpoint]) -> Passers:
    """Everyone sends to everyone else, and it is seen by which places that goes."""
    ends = [(endpoint.device, endpoint.region[0].first) for endpoint in endpoints]
    numbers = {device: number for number, (device, _) in enumerate(ends)}
    devices = np.array([numbers[device] for device, _ in ends], dtype=np.int64)
    sends = np.array([not endpoint.translated for endpoint in endpoints], dtype=np.bool_)
    source, goal = np.divmod(np.arange(len(ends) ** 2), max(len(ends), 1))
    apart = (devices[source] != devices[goal]) & sends[source]
    source, goal = source[apart], goal[apart]
    nothing = np.zeros(len(source), dtype=np.int64)
    asked = Conversations(
        family,
        ends,
        [address for _, address in ends],
        [Request(ANY_PROTOCOL)],
        source,
        goal,
        nothing,
        nothing,
    )
    engine = BulkEngine(world.with_possible_hosts.baseline, ForwardingIndexes(solicits=False))
    traced_paths = engine.traced_paths(asked)
    points = traced_paths.forwarding.point
    rows, codes = traced_paths.meetings()
    order = np.argsort(codes, kind="stable")
    codes, rows = codes[order], rows[order]
    pair = np.zeros((len(traced_paths.rows), 2), dtype=np.int64)
    pair[traced_paths.row_of] = np.stack([source, goal], axis=1)
    elsewhere = _rewritten(network, family, endpoints, traced_paths, pair)
    in_vain, at_once = traced_paths.recorded.in_vain()
    same = ~np.isin(rows << 32 | codes, np.append(elsewhere.met, in_vain << 32 | at_once))
    codes, rows = codes[same], rows[same]
    codes, pair = codes.astype(np.int32), pair[rows].astype(np.int32)

    def at(point: AttachmentPoint) -> Passing:
        code = points[point]
        first, end = np.searchsorted(codes, [code, code + 1])
        (sources, from_), (goals, to) = (np.unique(side, return_inverse=True) for side in pair[first:end].T)
        pairs = np.zeros((len(sources), len(goals)), dtype=np.bool_)
        pairs[from_, to] = True
        return Passing(sources, goals, pairs, tuple(elsewhere.at.get(code, ())))

    return at


class _Rewritten(Struct, frozen=True):
    """Who comes by with another address than their own.

    met:  row and code of each such packet;  at:  by code, the sources and goals as they are there
    """

    met: Ints
    at: dict[int, dict[tuple[Region, Region], None]]


def _rewritten(
    network: Network, family: Family, endpoints: Sequence[Endpoint], traced_paths: TracedPaths, pair: Ints
) -> _Rewritten:
    """pair:  the source and goal of each row, as indices among the endpoints"""
    rows, codes, sources, destinations = traced_paths.recorded.rewritten()
    blocks = translated_blocks(network, family)
    values = traced_paths.rows.addresses.values
    found: dict[int, dict[tuple[Region, Region], None]] = {}
    for row, code, source, goal in zip(
        *(each.tolist() for each in (rows, codes, sources, destinations)), strict=True
    ):
        ends = (
            endpoints[end].region if now == made else (translated_with(values[now], blocks),)
            for end, now, made in (
                (pair[row, 0], source, traced_paths.rows.source[row]),
                (pair[row, 1], goal, traced_paths.rows.destination[row]),
            )
        )
        from_, to = ends
        found.setdefault(code, {})[from_, to] = None
    return _Rewritten(rows << 32 | codes, found)


def _before_hosts(world: World, endpoints: Sequence[Endpoint]) -> Passers:
    """Where a segment has hosts and one router only: what enters comes from them, what leaves is for them."""
    topology, drawn = world.with_possible_hosts.topology, world.topology.devices
    own_ends: dict[str, list[int]] = {}
    for number, endpoint in enumerate(endpoints):
        own_ends.setdefault(endpoint.device, []).append(number)

    def at(point: AttachmentPoint) -> Passing | None:
        own = topology.devices[point.device]
        segment = topology.segments.of.get((point.device, point.at))
        if segment is None or own.translations:
            return None
        members = {name for name, _ in topology.segments.members[segment]} - {point.device}
        traits = [drawn[name].traits for name in members if name in drawn]
        if any(each.forwards or each.open_ended for each in traits):
            return None
        near, far = np.zeros(len(endpoints), dtype=np.bool_), np.ones(len(endpoints), dtype=np.bool_)
        near[[number for name in members for number in own_ends.get(name, [])]] = True
        far[own_ends.get(point.device, [])] = False
        far &= ~near
        if point.direction is Direction.OUT:
            return Passing(np.flatnonzero(far), np.flatnonzero(near), None)
        return Passing(np.flatnonzero(near), np.flatnonzero(~near), None)

    return at
