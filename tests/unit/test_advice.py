"""Advice: against trying every attachment point for real, conversation by conversation."""

from random import Random

import pytest

from greyheron.analysis.advice.advisor import Advisor, statement_of
from greyheron.analysis.advice.choices import Advice
from greyheron.analysis.advice.proposal import Measure
from greyheron.analysis.proof import header_space, services
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.reach.axis import axis_of
from greyheron.analysis.reach.question import ReachQuestion, flows_between
from greyheron.core.bulk.engines import engines
from greyheron.core.packet import Packet
from greyheron.core.walk.conversation import converse, converse_from
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import World, build_world
from greyheron.demo.networks import saltmarsh
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, apply
from greyheron.model.document import Network
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import read_bare_flow, read_expected_flow
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.services import OWN_SERVICES
from greyheron.model.values import DeviceKind, Direction, Family
from tests.advised import advised_otherwise
from tests.brute import ALLOW_PORTS, BLOCK_PORTS, FEW_DSCP, tiny_network, violating
from tests.sites import site


def advice(network: Network, text: str) -> Advice:
    shared, world = engines(), build_world(network)
    return Advisor(Prover(shared), shared, world, network).advise(read_requirement(text))


def tried(crowd: Network, packet: Packet, device: str) -> tuple[bool, bool]:
    verdicts = {each.verdict for each in converse_from(build_world(crowd), packet, device).exchanges}
    return verdicts == {Verdict.PASSES}, bool(verdicts & {Verdict.PASSES, Verdict.REFUSED})


def bare(seed: int) -> Network:
    """A small network without lists."""
    return tiny_network(seed).model_copy(update={"lists": (), "placements": ()})


def every_point(network: Network) -> list[AttachmentPoint]:
    return [
        AttachmentPoint(device.name, at, way)
        for device in network.devices
        if device.kind in (DeviceKind.ROUTER, DeviceKind.FIREWALL, DeviceKind.HOST)
        for at, ways in (
            *((each.name, (Direction.IN, Direction.OUT)) for each in device.interfaces),
            *((line.name, (Direction.IN,)) for line in device.lines),
        )
        for way in ways
    ]


def with_list_at(network: Network, point: AttachmentPoint, entries: str) -> Network:
    listed = {"name": "tried", "family": "ipv4", "kind": "extended", "entries": entries}
    placed = {"list": "tried", "device": point.device, "at": point.at, "direction": point.direction.value}
    key = f"{point.device}:{point.at}:{point.direction}:tried"
    return apply(
        network,
        [
            Change(collection="lists", key="tried", item=listed),
            Change(collection="placements", key=key, item=placed),
        ],
    )


def matrix(world: World, network: Network) -> dict[str, Verdict]:
    """Every conversation that hosts and outside networks begin, and what becomes of it."""
    question = ReachQuestion((OWN_SERVICES, "ping"), Family.IPV4)
    axis = axis_of(world, network, question)
    asking = [
        name
        for name in axis.devices
        if world.topology.devices[name].kind in (DeviceKind.HOST, DeviceKind.OUTSIDE)
    ]
    flows = (
        flow
        for source in asking
        for goal in axis.devices
        if source != goal
        for flow in flows_between(world, source, goal, question)
    )
    return {flow: converse(world, read_bare_flow(flow)).verdict for flow in flows}


REQUIREMENTS = (
    "block h1 → h2 tcp/80 ipv4",
    "block h1 → g2 tcp/22 ipv4",
    "block 172.20.1.0/29 → h2 udp/53 ipv4",
)


@pytest.mark.parametrize("seed", [0, 6, 7, 9, 10, 11, 12, 13, 14, 18])
def test_the_places_that_are_enough_are_those_that_trying_finds(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(header_space, "ALL_PORTS", BLOCK_PORTS)
    monkeypatch.setattr(header_space, "EPHEMERAL", ALLOW_PORTS)
    network = bare(seed)
    text = Random(seed).choice(REQUIREMENTS)
    found = advice(network, text)
    extended = [each for each in found.choices if each.kind == "extended" and len(each.points) == 1]
    source, goal = text.split()[1], text.split()[3]
    protocol, port = text.split()[4].split("/")
    sided = source if "/" in source else f"@{source}"
    entries = f"deny {protocol} from {sided} to @{goal} port {port}\npermit any from any to any"
    before = matrix(build_world(network), network)
    for point in every_point(network):
        at_line = point.at in ("remote", "console")
        written = entries.replace(f"to @{goal}", "to any") if at_line else entries
        other = with_list_at(network, point, written)
        bad = violating(other, text.removesuffix(" ipv4"), tried)["block"]
        enough = not {each for each in bad if each[0] == 4}
        choice = next((each for each in extended if each.points == (point,)), None)
        assert enough == (choice is not None and choice.holds), point
        if choice is not None:
            after = matrix(build_world(other), network)
            spoken = {flow for flow in before if is_spoken(flow, source, goal, protocol, port, network)}
            changed = {flow for flow in before if before[flow] is not after[flow]} - spoken
            assert choice.collateral.conversations == len(changed), (point, changed)


def is_spoken(flow: str, source: str, goal: str, protocol: str, port: str, network: Network) -> bool:
    read: Flow = read_bare_flow(flow)
    devices = {device.name: device for device in network.devices}
    asked = {
        f"{service.protocol}/{service.port}" for service in devices[read.destination.device or ""].services
    } | {"tcp/22"}
    sends = read.source.device == source or ("/" in source and read.source.device == "h1")
    word = f"{protocol}/{port}"
    return sends and read.destination.device == goal and read.service == word and word in asked


def test_what_is_taken_does_what_was_promised() -> None:
    network = saltmarsh()
    found = advice(network, "block visitors → ledger telnet")
    assert found.choices[0].holds
    assert found.choices[0].collateral.conversations == 0
    for choice in found.choices[:4]:
        after = apply(network, choice.changes)
        proof = (
            Prover(engines())
            .prove(read_requirement("block visitors → ledger telnet"), build_world(after), after)
            .proof
        )
        assert (proof.answer == "proved") is choice.holds


def test_several_places_where_one_is_not_enough() -> None:
    network = saltmarsh().model_copy(update={"lists": (), "placements": ()})
    found = advice(network, "block hosts → sluice,jetty telnet ipv4")
    best = found.choices[0]
    assert best.holds
    assert [(point.device, point.at) for point in best.points] == [("jetty", "remote"), ("sluice", "remote")]
    assert not any(choice.holds for choice in found.choices if len(choice.points) == 1)


@pytest.mark.long
def test_only_permits_before_it_denies() -> None:
    network = saltmarsh()
    found = advice(network, "only wardens-desk → jetty ssh ipv4")
    best = found.choices[0]
    assert [str(point.at) for point in best.points] == ["remote"]
    assert best.entries[0].startswith("permit")
    assert best.holds


def test_a_flow_that_should_pass_is_permitted_where_it_is_denied() -> None:
    network, shared = saltmarsh(), engines()
    world = build_world(network)
    statement = statement_of(read_expected_flow("ringing-desk → camhub web pass"))
    found = Advisor(Prover(shared), shared, world, network).advise(statement)
    (choice,) = found.choices
    assert choice.entries == ("permit tcp from @camhub port 443 to @ringing-desk established",)
    assert choice.holds
    after = build_world(apply(network, choice.changes))
    assert converse(after, read_bare_flow("ringing-desk → camhub web")).verdict is Verdict.PASSES


def test_what_holds_or_proves_nothing_needs_no_place() -> None:
    assert "holds already" in advice(saltmarsh(), "block beyond → inner any").text
    assert "No list would change that" in advice(LOST, "block pc → far ping").text


def placed(network: Network, entries: str, at: AttachmentPoint | None, kind: str = "extended") -> Network:
    item = {"name": "guard", "family": "ipv4", "kind": kind, "entries": entries}
    changes = [Change(collection="lists", key="guard", item=item)]
    if at is not None:
        placement = {"list": "guard", "device": at.device, "at": at.at, "direction": at.direction.value}
        key = f"{at.device}:{at.at}:{at.direction}:guard"
        changes.append(Change(collection="placements", key=key, item=placement))
    return apply(network, changes)


LOST = site("router r1 a=172.20.1.1/24 b=172.20.2.1/24", "host pc 172.20.1.10/24", "host far 172.20.9.9/24")
BARE = saltmarsh().model_copy(update={"lists": (), "placements": ()})
TELNET = "block visitors → ledger telnet ipv4"
GUARD = "deny tcp from @visitors to @ledger port telnet\npermit any from any to any"


def test_the_networks_own_devices_come_before_filters_on_hosts() -> None:
    kinds = {device.name: device.kind for device in BARE.devices}
    on_hosts = [
        kinds[choice.points[0].device] is DeviceKind.HOST
        for choice in advice(BARE, TELNET).choices
        if choice.holds and choice.collateral.conversations == 0
    ]
    assert True in on_hosts
    assert on_hosts == sorted(on_hosts)


def test_a_list_that_stands_there_is_extended_rather_than_a_new_one_placed() -> None:
    near = AttachmentPoint("centre-gw", "eth1", Direction.IN)
    network = placed(BARE, "deny udp from any to any port tftp\npermit any from any to any", near)
    best = advice(network, TELNET).choices[0]
    assert (best.measure, best.points) == (Measure.EXTENDED, (near,))
    assert best.text == (
        "Entering centre-gw by eth1: stops them where they enter, with 1 more entry in guard, which stands "
        "there, earlier than leaving centre-gw by wan0; nothing else changes; centre-gw itself (172.20.16.1) "
        "gets through all the same."
    )


@pytest.mark.parametrize("at", [AttachmentPoint("lagoon", "console", Direction.IN), None])
def test_a_list_that_stands_elsewhere_or_nowhere_may_be_moved(at: AttachmentPoint | None) -> None:
    network = placed(BARE, GUARD, at)
    moved = [choice for choice in advice(network, TELNET).choices if choice.measure is Measure.MOVED]
    assert moved
    assert "by moving guard there" in moved[0].text
    after = apply(network, moved[0].changes)
    assert len(after.placements) == 1
    assert converse(build_world(after), read_bare_flow("kiosk → ledger telnet")).verdict is Verdict.BLOCKED


def test_the_sentence_says_how_early() -> None:
    found = advice(BARE, "block kiosk → ledger telnet ipv4").choices
    text = {choice.points: choice.text for choice in found if choice.kind == "extended"}
    first = text[(AttachmentPoint("centre-gw", "eth1", Direction.IN),)]
    assert first.startswith("Entering centre-gw by eth1: stops them where they enter, earlier than leaving ")
    further = text[(AttachmentPoint("sluice", "wan2", Direction.OUT),)]
    assert further.startswith(
        "Leaving sluice by wan2: stops them at sluice, 1 router further on, one router earlier than lagoon; "
    )


@pytest.mark.parametrize("seed", range(12))
def test_every_choice_does_what_it_says(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(header_space, "ALL_PORTS", BLOCK_PORTS)
    monkeypatch.setattr(header_space, "EPHEMERAL", ALLOW_PORTS)
    monkeypatch.setattr(services, "ALL_DSCP", FEW_DSCP)
    assert list(advised_otherwise(seed)) == []
