"""The verdicts of many test flows at once, and again in worlds with other lists."""

from collections import defaultdict
from collections.abc import Iterable

import numpy as np

from greyheron.analysis.testing.book import Tries
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.engines import Engines
from greyheron.core.headers import Ints
from greyheron.core.packet import Packet
from greyheron.core.walk.addressing import (
    USUAL_SOURCE_PORT,
    FlowError,
    first_packet,
    request_of,
    sender_of,
    world_of,
)
from greyheron.core.walk.dns import is_name
from greyheron.core.walk.verdicts import Result, Verdict
from greyheron.core.world import World
from greyheron.model.flow import Flow
from greyheron.model.services import Request
from greyheron.model.values import Family

_FlowRows = list[tuple[Flow, str, Packet]]
"""Flows with their senders and first packets."""


class Flows:
    """Test flows made ready to be asked about in bulk; those that cannot be tried are left out."""

    def __init__(self, world: World, engines: Engines, flows: Iterable[Flow]) -> None:
        """world:  one from which those asked about later differ in little"""
        self._engines = engines
        flows = tuple(dict.fromkeys(flows))
        self._tries = Tries()
        self._named = [flow for flow in flows if is_name(world.topology, flow.destination)]
        groups: defaultdict[tuple[Family, bool, int | None], _FlowRows] = defaultdict(list)
        for flow in flows:
            try:
                packet = first_packet(world, flow)
            except FlowError:
                continue
            # Lists may cut source ports anew: those of one group have the same, so that paths can be kept.
            key = packet.family, world_of(world, flow).topology.has_possible_hosts, flow.source_port
            groups[key].append((flow, sender_of(flow), packet))
        self._groups = [
            _FlowGroup(
                asked,
                _conversations(family, asked),
                self._engine(world, with_possible_hosts),
                with_possible_hosts,
            )
            for (family, with_possible_hosts, _), asked in groups.items()
        ]

    def _engine(self, world: World, with_possible_hosts: bool) -> BulkEngine:
        return self._engines(world.with_possible_hosts if with_possible_hosts else world)

    def verdicts(self, world: World) -> dict[Flow, Verdict]:
        """What becomes of each flow in `world`; only what may have changed is looked at again."""
        found: dict[Flow, Verdict] = {}
        for group in self._groups:
            verdicts = group.verdicts(self._engine(world, group.with_possible_hosts))
            found |= zip(group.flows, (VERDICT_ORDER[each] for each in verdicts.tolist()), strict=True)
        for flow in self._named:  # what is asked for first decides where they go
            tried = self._tries.of(world, flow)
            if isinstance(tried, Result):
                found[flow] = tried.verdict
        return found


class _FlowGroup:
    """Flows that are asked about together.

    with_possible_hosts:  whether that is in the world with everyone who could be there
    """

    def __init__(
        self, asked: _FlowRows, conversations: Conversations, engine: BulkEngine, with_possible_hosts: bool
    ) -> None:
        self.flows, self.with_possible_hosts = [flow for flow, _, _ in asked], with_possible_hosts
        self._conversations, self._engine = conversations, engine
        self._courses = engine.traced_paths(conversations)
        self._verdict = engine.row_verdicts(self._courses).verdict

    def verdicts(self, engine: BulkEngine) -> Ints:
        """For each flow its index in VERDICT_ORDER."""
        if not engine.fits(self._courses):
            return engine.verdicts(self._conversations).verdict
        rows, changed = engine.changed_rows(self._courses, self._engine)
        verdict = self._verdict.copy()
        verdict[rows] = changed.verdict
        return verdict[self._courses.row_of]


def _conversations(family: Family, asked: _FlowRows) -> Conversations:
    senders: dict[tuple[str, int | None], int] = {}
    destinations: dict[int, int] = {}
    requests: dict[Request, int] = {}
    rows = [
        (
            senders.setdefault((device, packet.source), len(senders)),
            destinations.setdefault(packet.destination, len(destinations)),
            requests.setdefault(request_of(packet), len(requests)),
            USUAL_SOURCE_PORT if packet.source_port is None else packet.source_port,
        )
        for _, device, packet in asked
    ]
    columns = np.array(rows, dtype=np.int64).reshape(-1, 4).T
    return Conversations(family, list(senders), list(destinations), list(requests), *columns)
