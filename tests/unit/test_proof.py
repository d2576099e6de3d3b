"""Proofs: against every conversation tried one by one, and on the demo."""

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address, ip_address
from itertools import product

import pytest

from greyheron.analysis.judge import Standing, judge
from greyheron.analysis.proof import prover
from greyheron.analysis.proof.answers import Answer, Box, Proof
from greyheron.analysis.proof.proving import Prover, engines
from greyheron.analysis.proof.regions import Region
from greyheron.analysis.proof.services import Tag
from greyheron.core.conversation import Verdict, converse, converse_from
from greyheron.core.packet import Packet
from greyheron.core.world import World, build_world
from greyheron.model.document import Network
from greyheron.model.notation.flows import write_flow
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.values import Family
from tests.brute import (
    ALLOW_PORTS,
    BLOCK_PORTS,
    Conversation,
    Tried,
    random_requirement,
    tiny_network,
    violating,
)
from tests.reference import P, Reference


@pytest.fixture
def few_ports(monkeypatch: pytest.MonkeyPatch) -> None:
    """Source ports few enough to try them all."""
    monkeypatch.setattr(prover, "ALL_PORTS", BLOCK_PORTS)
    monkeypatch.setattr(prover, "EPHEMERAL", ALLOW_PORTS)


def described(proof: Proof) -> dict[str, set[Conversation]]:
    """Every conversation in the boxes of a proof."""
    found: dict[str, set[Conversation]] = {"pass": set(), "block": set()}
    for violation in proof.violations:
        for box in violation.boxes:
            fresh = set(conversations(box))
            assert not fresh & found[violation.expect], "two boxes hold the same conversation"
            found[violation.expect] |= fresh
    return found


def conversations(box: Box) -> Iterator[Conversation]:
    version = 4 if box.family is Family.IPV4 else 6
    sources, goals = (
        [(party.device, each) for party in side for each in addresses(party.region)]
        for side in (box.sources, box.destinations)
    )
    for asking in box.asking:
        tag = asking.service.tag
        for low, high in asking.service.spans:
            for number in range(low, high + 1):
                word = f"{tag}/{number}"
                if tag is Tag.ICMP:
                    ping = (number >> 8, number & 255) == (box.family.echo[0], 0)
                    word = "ping" if ping else f"icmp/{number >> 8}/{number & 255}"
                ports: list[int | None] = [
                    port for first, last in asking.source_ports for port in range(first, last + 1)
                ]
                for (_, source), (_, goal), port in product(sources, goals, ports or [None]):
                    if source != goal:
                        yield version, source, goal, word, port


def addresses(region: Region) -> Iterator[int]:
    """Every address of a small region, whatever bits its blocks care for."""
    for block in region:
        free = [1 << bit for bit in range(block.family.bits) if not block.care >> bit & 1]
        for bits in product((0, 1), repeat=len(free)):
            yield block.value | sum(value for value, bit in zip(free, bits, strict=True) if bit)


def proved(network: Network, text: str) -> tuple[World, Proof]:
    world = build_world(network)
    return world, Prover(engines()).prove(read_requirement(text), world, network).proof


def agrees(network: Network, text: str, expected: dict[str, set[Conversation]]) -> list[str]:
    """Where the proof of a requirement differs from what trying every conversation says."""
    world, proof = proved(network, text)
    found, problems = described(proof), []
    for expect in ("pass", "block"):
        missing, added = expected[expect] - found[expect], found[expect] - expected[expect]
        problems += [f"not described: {expect} {spoken(each)}" for each in sorted(missing, key=str)[:3]]
        problems += [
            f"described, and does not violate: {expect} {spoken(each)}" for each in sorted(added, key=str)[:3]
        ]
    if (proof.answer is Answer.VIOLATED) is not any(expected.values()):
        problems.append(f"the answer is {proof.answer}")
    if proof.counterexample is not None:
        result = converse(world, proof.counterexample.flow)
        standing = judge(proof.counterexample.expect, result.verdict, Verdict.PASSES).standing
        if result.verdict is not proof.counterexample.verdict or standing is not Standing.FAILS:
            flow = write_flow(proof.counterexample.flow)
            problems.append(f"the counterexample {flow} comes to {result.verdict}")
    return problems


def spoken(each: Conversation) -> str:
    version, source, goal, word, port = each
    ends = [str(ip_address(end if version == 4 else end.to_bytes(16))) for end in (source, goal)]
    return f"{ends[0]} → {ends[1]} {word} from {port}"


@pytest.mark.parametrize("seed", range(40))
@pytest.mark.usefixtures("few_ports")
def test_a_proof_says_what_walking_every_conversation_says(seed: int) -> None:
    network = tiny_network(seed)
    worlds: dict[int, World] = {}

    def tried(crowd: Network, packet: Packet, device: str) -> tuple[bool, bool]:
        world = worlds.setdefault(id(crowd), build_world(crowd))
        verdicts = {each.verdict for each in converse_from(world, packet, device).exchanges}
        return verdicts == {Verdict.PASSES}, Verdict.PASSES in verdicts

    text = random_requirement(seed)
    assert agrees(network, text, violating(network, text, tried)) == []


@pytest.mark.parametrize("seed", range(1000, 1006))
@pytest.mark.usefixtures("few_ports")
def test_a_proof_says_what_the_naive_reference_says(seed: int) -> None:
    network, text = tiny_network(seed), random_requirement(seed)
    assert agrees(network, text, violating(network, text, by_reference())) == []


def by_reference() -> Tried:
    references: dict[int, Reference] = {}

    def tried(crowd: Network, packet: Packet, device: str) -> tuple[bool, bool]:
        reference = references.setdefault(id(crowd), Reference(crowd))
        kind = IPv4Address if packet.family is Family.IPV4 else IPv6Address
        assert packet.source is not None
        icmp = None if packet.icmp_type is None else (packet.icmp_type, packet.icmp_code or 0)
        plain = P(
            kind(packet.source),
            kind(packet.destination),
            packet.protocol,
            packet.source_port,
            packet.destination_port,
            "S" if packet.protocol == 6 else "",
            icmp,
        )
        _, ends = reference.converse(plain, device)
        verdicts = {verdict for verdict, _ in ends}
        return verdicts == {"passes"}, "passes" in verdicts

    return tried
