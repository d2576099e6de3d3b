"""Proofs by a general decision-diagram library, to compare ours with: `make bench`.

A header's bits are the variables; a list is the set of headers it permits. What gets through along one
combination of paths is the intersection of what its lists permit of each packet, those of replies swapped.
"""

from collections.abc import Iterable, Iterator, Sequence

from dd.cudd import BDD, Function

from greyheron.analysis.entries.difference import PacketBox
from greyheron.core.lists.met import Filtered, Unfiltered
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.core.walk.conversation import converse_from
from greyheron.core.walk.verdicts import PacketTrace
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.entry import AddressBlock, Entry, NotPort, PortSpan
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP
from greyheron.model.values import Action, Family

ADDRESS, PORT = 32, 16


class Diagrams:
    """IPv4 TCP headers as diagrams: source, destination and both ports; flags are told apart by packet."""

    def __init__(self) -> None:
        self._bdd = BDD()
        self._names = {
            field: [f"{field}{bit}" for bit in range(width)]
            for field, width in (("s", ADDRESS), ("d", ADDRESS), ("p", PORT), ("q", PORT))
        }
        self._bdd.declare(*(name for names in self._names.values() for name in names))
        self._permits: dict[tuple[int, bool, bool], Function] = {}
        self._kept: list[ResolvedList] = []

    def block(self, field: str, block: AddressBlock) -> Function:
        bits = self._names[field]
        cube = {
            bits[bit]: bool(block.value >> (ADDRESS - 1 - bit) & 1)
            for bit in range(ADDRESS)
            if block.mask >> (ADDRESS - 1 - bit) & 1
        }
        return self._bdd.cube(cube) if cube else self._bdd.true

    def blocks(self, field: str, blocks: Sequence[AddressBlock]) -> Function:
        found = self._bdd.false
        for block in blocks:
            found |= self.block(field, block)
        return found

    def span(self, field: str, low: int, high: int) -> Function:
        """Numbers from `low` to `high`: as few cubes as aligned runs."""
        found, bits = self._bdd.false, self._names[field]
        while low <= high:
            size = min((low & -low) or 1 << PORT, 1 << ((high - low + 1).bit_length() - 1))
            fixed = PORT - (size.bit_length() - 1)
            cube = {bits[bit]: bool(low >> (PORT - 1 - bit) & 1) for bit in range(fixed)}
            found |= self._bdd.cube(cube) if cube else self._bdd.true
            low += size
        return found

    def _ports(self, field: str, terms: Sequence[PortSpan | NotPort]) -> Function:
        found = self._bdd.false
        for term in terms:
            if isinstance(term, PortSpan):
                found |= self.span(field, term.low, term.high)
            else:
                found |= ~self.span(field, term.port, term.port)
        return found

    def _rule(self, rule: Rule, swapped: bool, answers: bool) -> Function:
        entry = rule.entry
        if entry.protocol not in (None, TCP) or entry.icmp is not None or (entry.established and not answers):
            return self._bdd.false
        source, goal, from_, to = ("d", "s", "q", "p") if swapped else ("s", "d", "p", "q")
        found = self._bdd.true
        for field, blocks in ((source, rule.sources), (goal, rule.destinations)):
            if blocks is not None:
                found &= self.blocks(field, blocks)
        for field, terms in ((from_, rule.source_ports), (to, rule.destination_ports)):
            if terms is not None:
                found &= self._ports(field, terms)
        return found

    def permits(self, found: ResolvedList, swapped: bool, answers: bool) -> Function:
        """What a list permits; `swapped`: of replies, by the header of what they answer."""
        key = id(found), swapped, answers
        if key not in self._permits:
            self._kept.append(found)
            permitted, left = self._bdd.false, self._bdd.true
            for rule in found.rules:
                matched = self._rule(rule, swapped, answers) & left
                if rule.entry.action is Action.PERMIT:
                    permitted |= matched
                left &= ~matched
            self._permits[key] = permitted
        return self._permits[key]

    def boxes(self, boxes: Sequence[PacketBox]) -> Function:
        """All headers of some boxes."""
        found = self._bdd.false
        for box in boxes:
            each = self._bdd.true
            for field, region in (("s", box.sources), ("d", box.destinations)):
                each &= self._bdd.true if region is None else self.blocks(field, region)
            for field, spans in (("p", box.source_ports), ("q", box.destination_ports)):
                if spans is not None:
                    each &= self._ports(field, [PortSpan(low, high) for low, high in spans])
            found |= each
        return found

    def count(self, found: Function) -> int:
        return int(self._bdd.count(found, 2 * ADDRESS + 2 * PORT))

    def passing(self, world: World, device: str, asked: Function, packet: Packet) -> Function:
        """Which of the conversations in `asked`, which go where `packet` of `device` goes, get through."""
        through = self._bdd.false
        for exchange in converse_from(world.permissive, packet, device).exchanges:
            if exchange.verdict != "passes":
                continue
            passed = asked
            for leg in exchange.legs:
                answers, swapped = leg.name != "SYN", leg.way == "home"
                for point in _points(leg):
                    placed = world.lists.get((point, Family.IPV4))
                    if placed is not None:
                        passed &= self.permits(placed, swapped, answers)
            through |= passed
        return through


def sayable(entries: Iterable[Entry]) -> bool:
    """Whether diagrams have bits for all that entries say: none are for flags, code points and fragments."""
    return not any(entry.flags or entry.dscp or entry.fragment for entry in entries)


def _points(leg: PacketTrace) -> Iterator[AttachmentPoint]:
    for hop in leg.path.hops:
        for step in hop.steps:
            if isinstance(step, Filtered | Unfiltered):
                yield step.point


def first_packet(source: int, destination: int, port: int) -> Packet:
    return Packet(Family.IPV4, source, destination, TCP, 49152, port, TcpFlags.SYN)
