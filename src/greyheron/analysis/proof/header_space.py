"""What proofs rest on: who talks to whom, cut by what routes, owners and services tell apart."""

from collections.abc import Iterable

import numpy as np
from msgspec import Struct

from greyheron.analysis.proof.answers import EPHEMERAL, AddressParty
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.analysis.proof.refinement import Borders, Cutter, groups_of_frames
from greyheron.analysis.proof.services import ServiceSet, by_delivery, meant
from greyheron.core.bulk.engine import BulkEngine
from greyheron.core.intervals import Blocks, Region, Spans, common, parts_by, size, span_parts, span_size
from greyheron.core.lists.fields.services import ALL_PORTS
from greyheron.core.lists.resolved import Names
from greyheron.core.world import World
from greyheron.model.document import Network
from greyheron.model.requirement import RequestedServices
from greyheron.model.values import Expectation, Family


class RequirementHalf(Struct, frozen=True):
    """One part of a requirement: what is expected of everyone in `sources` towards `destinations`.

    pass: every conversation must get through; block: none may
    """

    expect: Expectation
    sources: tuple[Endpoint, ...]
    destinations: tuple[Endpoint, ...]
    asks: RequestedServices


class EndpointPart(Struct, frozen=True):
    """Addresses of an endpoint that routes and owners do not tell apart."""

    device: str
    region: Region
    drawn: bool
    translated: bool = False
    itself: bool = False

    def party(self, region: Region) -> AddressParty:
        return AddressParty(self.device, region, self.drawn, False, self.translated, self.itself)


class ProofSpace:
    """What proofs of one family in one world rest on: its endpoints, borders and cuts."""

    def __init__(self, world: World, network: Network, family: Family, engine: BulkEngine) -> None:
        """world, engine:  with everyone in it who could be there"""
        self.world, self.family, self.engine = world, family, engine
        self.endpoints = Endpoints(world, network, family)
        self.cutter = Cutter(family, network.devices)
        self.names = Names(network)
        self.forwarding = engine.forwarding(family)
        groups = groups_of_frames(network.lists) if family is Family.IPV6 else ()
        self._borders = Borders((*(Blocks((block,)) for block in self.forwarding.known), *groups))
        self.translated_ports = frozenset(
            port
            for device in network.devices
            for rule in device.translations
            for port in (rule.port, rule.to_port)
            if port is not None
        )
        self._services: dict[tuple[str, RequestedServices, Expectation], list[ServiceSet]] = {}

    def pieces(self, endpoints: Iterable[Endpoint]) -> list[EndpointPart]:
        found: list[EndpointPart] = []
        for endpoint in endpoints:
            parts = [endpoint.region]
            if size(endpoint.region) > 1:
                low = min(block.first for block in endpoint.region)
                high = max(block.last for block in endpoint.region)
                parts = parts_by(endpoint.region, self._borders.between(low, high))
            found += [
                EndpointPart(endpoint.device, part, endpoint.drawn, endpoint.translated, endpoint.itself)
                for part in parts
            ]
        return found

    def services(self, device: str, asks: RequestedServices, expect: Expectation) -> list[ServiceSet]:
        """What is asked of a device, in parts that are delivered alike."""
        key = device, asks, expect
        if key not in self._services:
            goal = self.world.topology.devices[device]
            self._services[key] = [
                part
                for service in meant(asks, goal, self.names, self.family, expect)
                for part in by_delivery(service, goal, self.forwarding, self.translated_ports)
            ]
        return self._services[key]

    def source_ports(self, service: ServiceSet, expect: Expectation) -> list[Spans]:
        """All that the semantics ask for (§8), in parts that translations treat alike."""
        if not service.tag.with_ports:
            return [()]
        whole = ALL_PORTS if expect is Expectation.BLOCK else EPHEMERAL
        return span_parts(whole, [((port, port),) for port in self.translated_ports])


class CoarseClasses:
    """The coarse classes of one half: who, to whom, about what, and from which ports."""

    def __init__(self, grounds: ProofSpace, half: RequirementHalf) -> None:
        self.grounds, self.half = grounds, half
        self.sources = grounds.pieces(half.sources)
        self.destinations = grounds.pieces(half.destinations)
        self.services: dict[ServiceSet, int] = {}
        self.ports: dict[Spans, int] = {}
        goals: list[tuple[int, int, int]] = []
        for number, piece in enumerate(self.destinations):
            for service in grounds.services(piece.device, half.asks, half.expect):
                asked = self.services.setdefault(service, len(self.services))
                for ports in grounds.source_ports(service, half.expect):
                    goals.append((number, asked, self.ports.setdefault(ports, len(self.ports))))
        self.goals = np.array(goals, dtype=np.int64).reshape(-1, 3)
        devices = {name: number for number, name in enumerate(grounds.world.topology.devices)}
        self.source_device = np.array([devices[piece.device] for piece in self.sources], dtype=np.int64)
        self.goal_device = np.array(
            [devices[self.destinations[number].device] for number in self.goals[:, 0].tolist()],
            dtype=np.int64,
        )
        self.source_itself = np.array([piece.itself for piece in self.sources], dtype=np.bool_)
        self.goal_itself = np.array(
            [self.destinations[number].itself for number in self.goals[:, 0].tolist()], dtype=np.bool_
        )
        # Hosts that could be on one segment talk to each other; what is drawn, or outside, not to itself.
        self.alone = np.array([piece.drawn for piece in self.sources], dtype=np.bool_)
        self._service_list, self._port_list = list(self.services), list(self.ports)

    def conversations(self) -> int:
        """How many conversations there are in all, source ports told apart."""
        widths = [
            self._service_list[service].count * max(span_size(self._port_list[ports]), 1)
            for _, service, ports in self.goals.tolist()
        ]
        to: dict[str, int] = {}
        into: dict[str, list[tuple[Region, int]]] = {}
        for (number, _, _), width in zip(self.goals.tolist(), widths, strict=True):
            piece = self.destinations[number]
            to[piece.device] = to.get(piece.device, 0) + size(piece.region) * width
            into.setdefault(piece.device, []).append((piece.region, width))
        every = sum(to.values())
        total = 0
        for piece in self.sources:
            total += size(piece.region) * (every - to.get(piece.device, 0))
            if not piece.drawn:
                for region, width in into.get(piece.device, ()):
                    both = size(piece.region) * size(region) - size(common(piece.region, region))
                    total += both * width
        return total
