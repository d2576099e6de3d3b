"""Openings: entries that let through what is wanted, above what denies it, and lists that overrule zones."""

from collections.abc import Iterator

from msgspec import Struct

from greyheron.analysis.advice.entries import (
    entry_lines,
    placed_anew,
    rewritten,
    service_terms,
    side_terms,
    with_entries,
)
from greyheron.analysis.advice.proposal import Measure, Proposal, free_name
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.endpoints import Endpoints
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.core.packet import Way
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.steps import Outcome, Path
from greyheron.core.walk.zones import lets_through
from greyheron.core.world import World, build_world
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, apply, putting
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock
from greyheron.model.requirement import Statement
from greyheron.model.values import Action, Direction, Expectation, Family, ListKind

_ROUNDS = 6
"""So many denials of what is wanted are opened, one after another."""


class _Opening(Struct, frozen=True):
    """What lets wanted conversations through one denial."""

    point: AttachmentPoint
    list: str
    entries: str
    changes: tuple[Change, ...]
    overrules: bool = False


class Opener:
    """What could be opened in one draft."""

    def __init__(self, prover: Prover, world: World, network: Network) -> None:
        self._prover, self._world, self._network = prover, world, network

    def openings(
        self, statement: Statement, proven: Proven, family: Family, endpoints: Endpoints
    ) -> Iterator[Proposal]:
        """One proposal: wherever what is wanted is denied, found one after another."""
        network, world, now = self._network, self._world, proven
        found: list[_Opening] = []
        for _ in range(_ROUNDS):
            opening = self._next(now, world, network, family, endpoints)
            if opening is None:
                break
            found.append(opening)
            network = apply(network, opening.changes)
            world = build_world(network, world)
            now = self._prover.prove(statement, world, network, now)
            if now.proof.answer is Answer.PROVED:
                break
        if not found:
            return
        lists = {each.name: each for each in network.lists}
        names = dict.fromkeys(opening.list for opening in found)
        placed = [change for each in found for change in each.changes if change.collection == "placements"]
        yield Proposal(
            tuple(dict.fromkeys(opening.point for opening in found)),
            ", ".join(names),
            lists[found[0].list].kind,
            family,
            Measure.OPENED if any(opening.overrules for opening in found) else Measure.EXTENDED,
            tuple(opening.entries for opening in found),
            (*(putting("lists", lists[name]) for name in names), *placed),
        )

    def _next(
        self, proven: Proven, world: World, network: Network, family: Family, endpoints: Endpoints
    ) -> _Opening | None:
        """What opens the first denial of something wanted."""
        wanted = (
            flow
            for half in proven.halves
            if half.classes.half.expect is Expectation.PASS and half.classes.grounds.family is family
            for part in half.parts
            for flow in part.flows(3)
        )
        for flow in wanted:
            for exchange in converse(world, flow).exchanges:
                path, returning = exchange.decider.path, exchange.decider.way is Way.RETURN
                if path.outcome is Outcome.ZONE:
                    lines = self.permits(proven.statement, ListKind.EXTENDED, returning, family, endpoints)
                    return self._overruling(proven.statement, path, lines, world, network, family)
                denial = path.denial
                if denial is None or denial.frame is not None:
                    continue  # frames are known by other things than what is wanted
                there = next(each for each in network.lists if each.name == denial.list_name)
                lines = self.permits(proven.statement, there.kind, returning, family, endpoints)
                text = with_entries(there, lines, denial.decision.entry)
                return _Opening(denial.point, there.name, "\n".join(lines), (rewritten(there, text),))
        return None

    def permits(
        self,
        statement: Statement,
        kind: ListKind,
        returning: bool,
        family: Family,
        endpoints: Endpoints,
    ) -> list[str]:
        """Entries that let through what a statement speaks of, or the answers to it."""
        sources = endpoints.of(statement.sources)
        goals = tuple(endpoint for endpoint in endpoints.of(statement.destinations) if endpoint.drawn)
        from_ = side_terms(statement.sources, sources, self._network, endpoints)
        to = side_terms(statement.destinations, goals, self._network, endpoints)
        if returning:
            from_, to = to, from_
        if kind is ListKind.STANDARD:
            return entry_lines(Action.PERMIT, kind, from_, to, [])
        services = service_terms(
            statement.asks, goals, self._world.with_possible_hosts, self._network, family
        )
        if not returning:
            return entry_lines(Action.PERMIT, kind, from_, to, services, statement.header)
        lines = []
        for protocol, ports in services:
            what = protocol.replace("echo-request", "echo-reply")
            back = " established" if protocol == "tcp" else ""
            lines += [f"permit {what} from {one}{ports} to {other}{back}" for one in from_ for other in to]
        return lines

    def _overruling(
        self,
        statement: Statement,
        path: Path,
        lines: list[str],
        world: World,
        network: Network,
        family: Family,
    ) -> _Opening:
        """A list where a packet entered a firewall whose zones deny it; all else stays as zones have it."""
        device, ingress = world.topology.devices[path.last.device], path.last.ingress
        assert ingress is not None  # zones concern transit
        point = AttachmentPoint(device.name, ingress, Direction.IN)
        interface = next(each for each in device.interfaces if each.name == ingress)
        entries = [*lines]
        if world.topology.addresses(device.name, family):
            entries.append(f"permit any from any to @{device.name}")
        if interface.ospf is not None:
            entries.append("permit ospf from any to any")
        entries += _zones_as_entries(device, ingress, world, family)
        text = "\n".join(entries)
        name = free_name(statement, network)
        return _Opening(
            point,
            name,
            text,
            placed_anew(name, family, ListKind.EXTENDED, text, [point]),
            overrules=True,
        )


def _zones_as_entries(device: Device, ingress: str, world: World, family: Family) -> list[str]:
    """What the zones let through from an interface, by where the firewall's routes lead (§6).

    The longest prefix decides about a destination, so it comes first; what agrees with the next shorter one
    is left out. No entry denies everything: the implicit deny does, and lets neighbour discovery through.
    """
    allowed: dict[AddressBlock, bool] = {}
    table = world.table(device.name, family)
    for prefix in dict.fromkeys(route.prefix for route in table.routes):
        hops = table.lookup(prefix.first).hops
        if hops:
            allowed[prefix] = all(lets_through(device, ingress, hop.interface) for hop in hops)
    found: dict[AddressBlock, bool] = {}
    for prefix in sorted(allowed, key=lambda each: each.mask.bit_count()):
        covering = [each for each in found if each.holds(prefix.value) and each.mask & ~prefix.mask == 0]
        before = found[max(covering, key=lambda each: each.mask.bit_count())] if covering else False
        if allowed[prefix] is not before:
            found[prefix] = allowed[prefix]
    ordered = sorted(found, key=lambda each: (-each.mask.bit_count(), each.value))
    return [
        f"{'permit' if found[each] else 'deny'} any from any to {each if each.mask else 'any'}"
        for each in ordered
    ]
