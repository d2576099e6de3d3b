"""Proofs: against every conversation tried one by one, and on the demo."""

from collections import Counter
from collections.abc import Callable, Iterator
from ipaddress import ip_address
from itertools import product
from random import Random

import pytest
from msgspec.structs import replace

from greyheron.analysis.proof import header_space, services
from greyheron.analysis.proof.answers import Answer, Box, Proof, ServicePorts
from greyheron.analysis.proof.over_time import prove_in_time
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.sentences import sentence
from greyheron.analysis.proof.wording import asking_words, side_words
from greyheron.analysis.testing.judge import Standing, judge
from greyheron.core.bulk.engines import MOST_ENGINES, engines
from greyheron.core.intervals import Region, Spans
from greyheron.core.lists.fields.services import Tag
from greyheron.core.lists.periods import active_at
from greyheron.core.packet import Packet
from greyheron.core.progress import Cancelled
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse, converse_from
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World, build_world
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change, apply
from greyheron.model.document import Network, Placement
from greyheron.model.entry import Entry
from greyheron.model.notation.flows import read_bare_flow, write_flow
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.period import Moment
from greyheron.model.values import Action, Direction, Family, ListKind
from tests.brute import (
    ALLOW_PORTS,
    BLOCK_PORTS,
    FEW_DSCP,
    WRONG,
    Conversation,
    Tried,
    random_requirement,
    tiny_network,
    violating,
)
from tests.edits import edited_at_random
from tests.random_networks import random_network
from tests.reference import Reference
from tests.sites import site
from tests.unit.test_reference import as_reference


@pytest.fixture
def few_ports(monkeypatch: pytest.MonkeyPatch) -> None:
    """Source ports few enough to try them all."""
    monkeypatch.setattr(header_space, "ALL_PORTS", BLOCK_PORTS)
    monkeypatch.setattr(header_space, "EPHEMERAL", ALLOW_PORTS)
    monkeypatch.setattr(services, "ALL_DSCP", FEW_DSCP)


def described(proof: Proof) -> dict[str, set[Conversation]]:
    """Every conversation in the boxes of a proof."""
    found: dict[str, set[Conversation]] = {what: set() for what in WRONG}
    for ending, violations in (("", proof.violations), (" of devices", proof.remaining)):
        for violation in violations:
            for box in violation.boxes:
                fresh = set(conversations(box))
                what = violation.expect + ending
                if not violation.when:
                    assert not fresh & found[what], "two boxes hold the same conversation"
                found[what] |= fresh
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
                flags = [f" flags {one}" for one in _numbers(asking.service.flags)] or [""]
                words = [f"{one} dscp {dscp}" for one in flags for dscp in (0, 10, 46) if _in(dscp, asking)]
                if tag is Tag.ICMP:
                    ping = (number >> 8, number & 255) == (box.family.echo[0], 0)
                    word = "ping" if ping else f"icmp/{number >> 8}/{number & 255}"
                ports: list[int | None] = [
                    port for first, last in asking.source_ports for port in range(first, last + 1)
                ]
                for (_, source), (_, goal), port, rest in product(sources, goals, ports or [None], words):
                    if source != goal:
                        yield version, source, goal, word + rest, port


def _numbers(spans: Spans | None) -> list[int]:
    return [number for low, high in spans or () for number in range(low, high + 1)]


def _in(dscp: int, asking: ServicePorts) -> bool:
    return any(low <= dscp <= high for low, high in asking.service.dscp)


def addresses(region: Region) -> Iterator[int]:
    """Every address of a small region, whatever bits its blocks mask for."""
    for block in region:
        free = [1 << bit for bit in range(block.family.bits) if not block.mask >> bit & 1]
        for bits in product((0, 1), repeat=len(free)):
            yield block.value | sum(value for value, bit in zip(free, bits, strict=True) if bit)


def proved(network: Network, text: str) -> tuple[World, Proof]:
    timeline = Timeline.build(network)
    return timeline.first, prove_in_time(Prover(engines()), read_requirement(text), timeline)[0]


def agrees(network: Network, text: str, expected: dict[str, set[Conversation]]) -> list[str]:
    """Where the proof of a requirement differs from what trying every conversation says."""
    world, proof = proved(network, text)
    found, problems = described(proof), []
    for expect in WRONG:
        missing, added = expected[expect] - found[expect], found[expect] - expected[expect]
        problems += [f"not described: {expect} {spoken(each)}" for each in sorted(missing, key=str)[:3]]
        problems += [
            f"described, and does not violate: {expect} {spoken(each)}" for each in sorted(added, key=str)[:3]
        ]
    if (proof.answer is Answer.VIOLATED) is not bool(expected["pass"] or expected["block"]):
        problems.append(f"the answer is {proof.answer}")
    if proof.counterexample is not None:
        at = proof.counterexample.flow.at
        timeline = Timeline.build(network)
        result = converse(
            world if at is None else timeline.world(timeline.span(at)), proof.counterexample.flow
        )
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
    network, text = tiny_network(seed), random_requirement(seed)
    assert agrees(network, text, violating_in_time(network, text, by_walking)) == []


@pytest.mark.parametrize("seed", range(1000, 1006))
@pytest.mark.usefixtures("few_ports")
def test_a_proof_says_what_the_naive_reference_says(seed: int) -> None:
    network, text = tiny_network(seed), random_requirement(seed)
    assert agrees(network, text, violating_in_time(network, text)) == []


def by_walking(moment: Moment) -> Tried:
    worlds: dict[int, World] = {}

    def tried(crowd: Network, packet: Packet, device: str) -> tuple[bool, bool]:
        if id(crowd) not in worlds:
            worlds[id(crowd)] = build_world(crowd, active=active_at(crowd, moment))
        verdicts = {each.verdict for each in converse_from(worlds[id(crowd)], packet, device).exchanges}
        return verdicts == {Verdict.PASSES}, bool(verdicts & {Verdict.PASSES, Verdict.REFUSED})

    return tried


def by_reference(moment: Moment) -> Tried:
    references: dict[int, Reference] = {}

    def tried(crowd: Network, packet: Packet, device: str) -> tuple[bool, bool]:
        reference = references.setdefault(id(crowd), Reference(crowd, at=str(moment)))
        _, ends = reference.converse(as_reference(packet), device)
        verdicts = {verdict for verdict, _ in ends}
        return verdicts == {"passes"}, bool(verdicts & {"passes", "refused"})

    return tried


def violating_in_time(
    network: Network, text: str, tried_at: Callable[[Moment], Tried] = by_reference
) -> dict[str, set[Conversation]]:
    """All that violates at some time, tried at one moment of each span."""
    expected: dict[str, set[Conversation]] = {what: set() for what in WRONG}
    plain = text.replace(" during a", "").replace(" during !a", "")
    for span in Timeline.build(network).for_statement(read_requirement(text)):
        for expect, found in violating(network, plain, tried_at(span.moment)).items():
            expected[expect] |= found
    return expected


@pytest.mark.parametrize("seed", range(2000, 2030))
def test_after_an_edit_the_answer_is_that_of_a_fresh_proof(seed: int) -> None:
    """Lists of one network are put in place of those of another; what is known of the first is taken over."""
    network = tiny_network(seed)
    other = tiny_network(seed + 5000)
    names = {each.name for each in network.devices}
    points = {(each.name, item.name) for each in network.devices for item in each.interfaces}
    changed = network.model_copy(
        update={
            "lists": other.lists,
            "placements": tuple(
                each for each in other.placements if each.device in names and (each.device, each.at) in points
            ),
        }
    )
    statement = read_requirement(random_requirement(seed))
    prover_, world = Prover(engines()), build_world(network)
    known = prover_.prove(statement, world, network)
    again = prover_.prove(statement, build_world(changed, world), changed, known).proof
    fresh = Prover(engines()).prove(statement, build_world(changed), changed).proof
    assert again == fresh


def more_denied(network: Network, chance: Random) -> Network:
    """An entry that denies is put into a list, or a list put where none stands."""
    routed = [each for each in network.devices if not each.traits.bridges]
    ports = [(each.name, item.name) for each in routed for item in each.interfaces]
    family = {each.name: each.family for each in network.lists}
    taken = {(each.device, each.at, each.direction, family[each.list]) for each in network.placements}
    found = chance.choice(network.lists)
    place = *chance.choice(ports), chance.choice(list(Direction))
    if chance.random() < 0.6 and found.family is not None and (*place, found.family) not in taken:
        device, at, direction = place
        placed = Placement(list=found.name, device=device, at=at, direction=direction)
        return network.model_copy(update={"placements": (*network.placements, placed)})
    entries = list(found.body.entries)
    if not entries:
        return network
    plain = found.kind is ListKind.EXTENDED and chance.random() < 0.5
    denied = Entry(1, Action.DENY) if plain else replace(chance.choice(entries), action=Action.DENY)
    entries.insert(0, denied)
    numbered = tuple(replace(each, number=number) for number, each in enumerate(entries, 1))
    changed = found.model_copy(update={"body": found.body.with_entries(numbered)})
    lists = tuple(changed if each.name == found.name else each for each in network.lists)
    return network.model_copy(update={"lists": lists})


@pytest.mark.long
@pytest.mark.parametrize("change", [edited_at_random, more_denied])
def test_whether_something_holds_still_is_told_as_a_proof_would(
    change: Callable[[Network, Random], Network],
) -> None:
    outcomes: Counter[bool] = Counter()
    for seed in range(3000, 3040):
        network, chance = tiny_network(seed), Random(seed)
        world, prover_ = build_world(network), Prover(engines())
        statements = [read_requirement(random_requirement(seed + 100_000 * each)) for each in range(8)]
        known = [prover_.prove(statement, world, network) for statement in statements]
        for _ in range(3 if network.lists else 0):
            changed = change(network, chance)
            after, fresh_world, fresh_prover = (
                build_world(changed, world),
                build_world(changed),
                Prover(engines()),
            )
            for before in known:
                fresh = fresh_prover.prove(before.statement, fresh_world, changed)
                assert prover_.left(before, after, changed)[0] == fresh.violating
                if before.proof.answer is Answer.PROVED:
                    holds = fresh.proof.answer is Answer.PROVED
                    assert prover_.holds_still(before, after, changed) is holds, (seed, before.statement)
                    outcomes[holds] += 1
    assert outcomes[True] >= 10, outcomes
    assert outcomes[False] >= 2, outcomes


def test_the_demo_is_proved_and_its_hole_described() -> None:
    network = saltmarsh()
    _, proof = proved(network, "only wardens-desk → sluice,lagoon,hide-gw,centre-gw ssh ipv4")
    assert proof.answer is Answer.PROVED
    assert proof.lists == ("from-beyond", "hides-in", "wardens-only")
    _, proof = proved(network, "block visitors → ledger telnet")
    (violation,) = proof.violations
    (box,) = violation.boxes
    assert side_words(box.sources) == [
        "any other host on 172.20.16.0/24",
        "guest",
        "kiosk",
        "till",
    ]
    assert side_words(box.destinations) == ["ledger"]
    assert [asking_words(each, box.family) for each in box.asking] == ["tcp/23 (telnet)"]
    assert box.size == 253 * 65536
    ((remaining,),) = (violation.boxes for violation in proof.remaining)
    assert side_words(remaining.sources) == ["centre-gw itself (172.20.16.1)"]
    assert remaining.size == 65536


def test_what_nobody_listens_for_arrives_all_the_same() -> None:
    world, proof = proved(saltmarsh(), "block kiosk → ledger tcp/9")
    assert proof.answer is Answer.VIOLATED
    assert sentence(proof).endswith("tcp/9 reaches ledger, where nobody listens today, and should not.")
    assert converse(world, read_bare_flow("kiosk → ledger tcp/9")).verdict is Verdict.REFUSED


TWO_ROUTERS = (
    "router r1 a=172.20.1.1/24 w=172.21.0.1/30",
    "router r2 w=172.21.0.2/30 b=172.20.2.1/24",
    "host pc 172.20.1.10/24",
    "host server 172.20.2.10/24 tcp/80,udp/53",
)
GUARDED = (*TWO_ROUTERS, "list guard at r1:a:in deny tcp from any to @server; permit any from any to any")
ANSWERS = (*TWO_ROUTERS, "list back at r2:b:in deny tcp from any to any; permit any from any to any")


@pytest.mark.parametrize(
    ("network", "text", "answer", "says"),
    [
        (
            GUARDED,
            "block segment:r1:a → server tcp/80",
            "proved",
            "Proved for every host; r1 itself (172.20.1.1)",
        ),
        (GUARDED, "block segment:r1:a+devices → server tcp/80", "violated", "r1:172.20.1.1 → server"),
        (GUARDED, "block 172.20.1.0/24 → server tcp/80", "proved", "r1 itself (172.20.1.1) gets through."),
        (GUARDED, "block any → server tcp/80", "violated", "gets through, and should not"),
        (GUARDED, "block r1 → server tcp/80", "violated", "r1:"),
        (GUARDED, "block r1:a → server tcp/80", "violated", "r1:172.20.1.1"),
        (GUARDED, "block 172.20.1.1 → server tcp/80", "violated", "r1:172.20.1.1"),
        (GUARDED, "block 172.21.0.0/30 → server tcp/80", "violated", "r1:172.21.0.1"),
        (GUARDED, "only server → 172.20.1.0/24 ssh", "violated", "does not get through"),
        (GUARDED, "block pc → 172.20.2.0/24 tcp/80", "violated", "172.20.2.128/24 tcp/80"),
        (GUARDED, "allow segment:r1:a → server tcp/80", "violated", "does not get through"),
        (TWO_ROUTERS, "block pc → server telnet", "violated", "reaches server, where nobody listens today"),
        (TWO_ROUTERS, "block pc → 172.20.9.9/32 telnet", "inconclusive", "It speaks of no conversation"),
        (ANSWERS, "block pc → server tcp/80", "proved", "only the answer is stopped"),
        (
            TWO_ROUTERS,
            "allow pc → server any",
            "proved",
            "server has tcp/80 (http), udp/53 (domain) and ping",
        ),
        (TWO_ROUTERS, "allow pc → server tcp", "proved", "server has tcp/80 (http)."),
        (
            TWO_ROUTERS,
            "only 172.20.1.0/24,172.20.2.0/24,r2 → server any",
            "violated",
            "gets through, and should not",
        ),
        (GUARDED, "allow pc → server any", "violated", "does not get through"),
        (GUARDED, "allow pc → server udp", "proved", "server has udp/53 (domain)."),
    ],
)
def test_hosts_and_devices_themselves_and_what_arrives(
    network: tuple[str, ...], text: str, answer: str, says: str
) -> None:
    _, proof = proved(site(*network), text)
    assert (proof.answer, says in sentence(proof)) == (Answer(answer), True), sentence(proof)


def test_a_source_port_that_a_list_forgets_is_found() -> None:
    """Every source port counts for `block`: one that happens to be let through is a hole."""
    network = saltmarsh()
    entries = "permit tcp from any port 20 to any\ndeny tcp from any to @ledger port telnet\npermit any"
    network = apply(
        network,
        [
            Change(
                collection="lists",
                key="leaky",
                item={"name": "leaky", "family": "ipv4", "kind": "extended", "entries": entries},
            ),
            Change(
                collection="placements",
                key="lagoon:eth2:out:leaky",
                item={"list": "leaky", "device": "lagoon", "at": "eth2", "direction": "out"},
            ),
        ],
    )
    world, proof = proved(network, "block kiosk → ledger telnet")
    assert proof.counterexample is not None
    assert write_flow(proof.counterexample.flow).endswith("tcp/23 source-port 20")
    assert converse(world, proof.counterexample.flow).verdict is Verdict.PASSES


def nobody_waits(_done: float) -> None:
    raise Cancelled


def test_a_long_proof_can_be_cancelled() -> None:
    network = saltmarsh()
    with pytest.raises(Cancelled):
        Prover(engines()).prove(
            read_requirement("block any → any any"),
            build_world(network),
            network,
            progress=nobody_waits,
        )


def test_a_host_that_could_be_there_is_an_end_of_a_test_flow() -> None:
    world = build_world(saltmarsh())
    assert converse(world, read_bare_flow("172.20.16.99/24 → ledger telnet")).verdict is Verdict.PASSES
    assert converse(world, read_bare_flow("kiosk → 172.20.40.99/24 tcp/9999")).verdict is Verdict.PASSES
    for flow, why in (
        ("172.20.16.21/24 → ledger telnet", "a device has it"),
        ("172.20.16.255/24 → ledger telnet", "no host could have"),
        ("172.20.99.9/24 → ledger telnet", "no segment has that prefix"),
    ):
        with pytest.raises(FlowError, match=why):
            converse(world, read_bare_flow(flow))


def test_a_counterexample_does_not_depend_on_what_was_proved_before() -> None:
    """Whichever violates first in the order of classes is told, not whichever violated first in time."""
    found, demo = Prover(engines()), saltmarsh()
    statement = read_requirement("only wardens-desk → sluice,lagoon,hide-gw,centre-gw ssh ipv4")

    def without(*devices: str) -> Network:
        placed = (
            each for each in demo.placements if each.list != "wardens-only" or each.device not in devices
        )
        return demo.model_copy(update={"placements": tuple(placed)})

    one, both = without("centre-gw"), without("centre-gw", "sluice")
    world = build_world(one)
    known = found.prove(statement, world, one)
    again = found.prove(statement, build_world(both, world), both, known).proof
    fresh = Prover(engines()).prove(statement, build_world(both), both).proof
    assert known.proof.counterexample != fresh.counterexample
    assert again == fresh


def test_a_proof_is_the_same_when_engines_were_let_go_meanwhile() -> None:
    """What proofs in a world rest on is kept longer than the engine of that world may be."""
    found, network = engines(), random_network(17)
    world, prover_ = build_world(network), Prover(found)
    prover_.prove(read_requirement("block any → any ssh ipv6"), world, network)
    for seed in range(MOST_ENGINES + 1):
        other = found(build_world(random_network(seed)).with_possible_hosts)
        for family in Family:
            other.forwarding(family)
    for text in ("block any → any telnet ipv6", "block any → hosts ping ipv6"):
        fresh = Prover(engines()).prove(read_requirement(text), world, network)
        assert prover_.prove(read_requirement(text), world, network).proof == fresh.proof


@pytest.mark.parametrize(
    ("text", "answer"),
    [
        ("allow beyond → 203.0.113.10 https", "proved"),
        ("allow beyond → 203.0.113.10 telnet", "violated"),
        ("allow beyond → 203.0.113.8/29 telnet", "inconclusive"),
    ],
)
def test_what_is_published_may_be_asked_for_by_the_address_it_is_published_under(
    text: str, answer: str
) -> None:
    """203.0.113.10 leads to sightings; a prefix that it lies in names nobody."""
    _, proof = proved(saltmarsh(), text)
    assert proof.answer == answer
