"""Answers to requirements: proved, violated by what, or inconclusive and why."""

from enum import StrEnum

from msgspec import Struct

from greyheron.analysis.proof.services import ServiceSet
from greyheron.core.intervals import (
    Region,
    Spans,
    size,
    span_size,
    within,
)
from greyheron.core.packet import Packet
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.flow import Flow
from greyheron.model.values import Expectation, Family

EPHEMERAL: Spans = ((1024, 65535),)


class Answer(StrEnum):
    PROVED = "proved"
    VIOLATED = "violated"
    INCONCLUSIVE = "inconclusive"


class AddressParty(Struct, frozen=True):
    """Some addresses of one device, or of the hosts that could be on a segment.

    every:  whether these are all that it has
    translated:  whether another device has them, and it is reached by them
    itself:  whether they are a router's or firewall's own, where hosts are spoken of
    """

    device: str
    region: Region
    drawn: bool
    every: bool
    translated: bool = False
    itself: bool = False


class ServicePorts(Struct, frozen=True):
    """Services, and the source ports they are asked from; those are empty where there are none."""

    service: ServiceSet
    source_ports: Spans


class Box(Struct, frozen=True):
    """Conversations of one family: everyone in `sources` with everyone in `destinations` about `asking`.

    A conversation of an address with itself is none.
    """

    family: Family
    sources: tuple[AddressParty, ...]
    destinations: tuple[AddressParty, ...]
    asking: tuple[ServicePorts, ...]

    def holds(self, packet: Packet) -> bool:
        """Whether the conversation that begins with a packet is among them."""
        if packet.family is not self.family or packet.source is None:
            return False
        ends = (self.sources, packet.source), (self.destinations, packet.destination)
        return all(
            any(block.holds(address) for party in side for block in party.region) for side, address in ends
        ) and any(
            each.service.holds(packet)
            and (
                packet.source_port is None
                or not each.source_ports
                or within(each.source_ports, packet.source_port)
            )
            for each in self.asking
        )

    @property
    def size(self) -> int:
        """How many conversations, those of an address with itself among them."""
        sides = [sum(size(party.region) for party in side) for side in (self.sources, self.destinations)]
        asked = (each.service.count * max(span_size(each.source_ports), 1) for each in self.asking)
        return sides[0] * sides[1] * sum(asked)


class Counterexample(Struct, frozen=True):
    """One conversation that violates: as a test flow, what was expected of it, and what becomes of it."""

    flow: Flow
    expect: Expectation
    verdict: Verdict


class Violation(Struct, frozen=True):
    """Conversations that do what they should not, by what was expected of them, and when if not always."""

    expect: Expectation
    boxes: tuple[Box, ...]
    when: str = ""


class Proof(Struct, frozen=True):
    """The answer to a requirement, and what it covers.

    classes:  so many kinds of conversations were tried, which stand for `conversations`
    paths:  over so many different ways through the network
    lists:  the lists that were met on them
    reason:  why it is inconclusive, or what else is to be said
    decided, undecided:  coarse classes that were decided for all of them, and of which only some were tried
    kinds:  so many kinds of address, and more, are in one of the latter
    crowded:  so many of them have more ways than can be followed, of which only some were
    remaining:  what devices themselves do that is not wanted of the hosts it speaks of; it holds all the same
    answers:  an unwanted conversation that arrives, and of which only the answers are stopped
    offered:  devices, and what each of them has, where any service of theirs is to be let through
    """

    answer: Answer
    classes: int
    conversations: int
    paths: int
    lists: tuple[str, ...]
    violations: tuple[Violation, ...]
    counterexample: Counterexample | None
    reason: str
    decided: int = 0
    undecided: int = 0
    kinds: int = 0
    crowded: int = 0
    remaining: tuple[Violation, ...] = ()
    answers: Counterexample | None = None
    offered: tuple[tuple[str, tuple[str, ...]], ...] = ()


Parties = tuple[AddressParty, ...]
