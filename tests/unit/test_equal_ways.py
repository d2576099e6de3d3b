"""Very many equal ways: what is said holds on all of them, in bounded memory (§8, §10)."""

import tracemalloc
from collections.abc import Callable, Iterator
from functools import partial

import numpy as np
import pytest

from greyheron.analysis.presentation.report import report
from greyheron.analysis.proof.answers import Answer, Proof
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.testing.book import Tries
from greyheron.analysis.testing.judge import Standing, judge
from greyheron.core.bulk.conversations import Rows
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.engines import engines
from greyheron.core.bulk.traced_classes import TracedClassPaths
from greyheron.core.bulk.tracer import Paths
from greyheron.core.bulk.trying import try_flow
from greyheron.core.headers import Ints
from greyheron.core.packet import Packet
from greyheron.core.walk import conversation
from greyheron.core.walk.conversation import converse_from
from greyheron.core.walk.verdicts import ARRIVING, Verdict
from greyheron.core.walk.walk import walk
from greyheron.core.world import World, build_world
from greyheron.model.document import Network
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP, UDP
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.values import Expectation, Family, State
from tests.bulk import conversations_of
from tests.equal_ways import Shape, chain, grid, ladder, layers, mesh, random_equal_ways

MIB = 1 << 20
DENY_WEB = "deny tcp from any to any port 443\npermit any from any to any"
EVERY_WAY = 1 << 14
SEEDS = range(60, 120)


@pytest.fixture
def every_path_walked(monkeypatch: pytest.MonkeyPatch) -> None:
    """The walk gives up at no number of paths."""
    monkeypatch.setattr(conversation, "MOST_PATHS", EVERY_WAY)

    monkeypatch.setattr(conversation, "walk", partial(walk, most=EVERY_WAY))


def openers(network: Network) -> Iterator[tuple[Packet, str]]:
    """What each host may ask of each other one."""
    hosts = {
        each.name: int(each.interfaces[0].addresses[0].ip) for each in network.devices if each.kind == "host"
    }
    requests = ((TCP, 22), (TCP, 443), (TCP, 99), (UDP, 53), (UDP, 99))
    for sender, source in hosts.items():
        for other, destination in hosts.items():
            for protocol, port in requests if other != sender else ():
                flags = TcpFlags.SYN if protocol == TCP else TcpFlags.NONE
                yield Packet(Family.IPV4, source, destination, protocol, 49152, port, flags), sender


def followed_all_together(
    follow: Callable[[TracedClassPaths, Rows], tuple[Paths, Paths, Ints]],
    traced_paths: TracedClassPaths,
    some: Rows,
) -> tuple[Paths, Paths, Ints]:
    """As if every row had too many paths to look at each."""
    there, back, _ = follow(traced_paths, some)
    nothing = np.zeros(0, dtype=np.int64)
    return there.without(np.ones(len(there.wide), dtype=np.bool_)), back.repeated(nothing)[0], nothing


@pytest.mark.usefixtures("every_path_walked")
@pytest.mark.parametrize("seed", SEEDS)
@pytest.mark.parametrize("together", [False, True])
def test_all_ways_together_are_what_every_path_comes_to(
    seed: int, together: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    network = random_equal_ways(seed)
    world, asked = build_world(network), [*openers(network)]
    if together:
        follow = TracedClassPaths._there_and_back
        monkeypatch.setattr(
            TracedClassPaths,
            "_there_and_back",
            lambda traced_paths, some: followed_all_together(follow, traced_paths, some),
        )
    found = BulkEngine(world).verdicts(conversations_of(Family.IPV4, asked))
    for number, (packet, sender) in enumerate(asked):
        walked = converse_from(world, packet, sender)
        assert not walked.more
        arrives = any(each.verdict in ARRIVING for each in walked.exchanges)
        reached = any(each.reached for each in walked.exchanges)
        assert (
            VERDICT_ORDER[found.verdict[number]],
            bool(found.arrives[number]),
            bool(found.reached[number]),
        ) == (walked.verdict, arrives, reached), (seed, number)


def test_random_networks_hold_conversations_with_more_paths_than_are_looked_at() -> None:
    """Else the test above would test less than it says."""
    many = 0
    for seed in SEEDS:
        network = random_equal_ways(seed)
        world = build_world(network)
        many += sum(converse_from(world, *each).more for each in openers(network))
    assert many > 20


def placed(shape: Shape, device: str, port: str, entries: str = DENY_WEB) -> Network:
    """With a list inbound at one of the ports."""
    return shape.network(
        lists=[{"name": "stop", "family": "ipv4", "kind": "extended", "entries": entries}],
        placements=[{"list": "stop", "device": device, "at": port, "direction": "in"}],
    )


def proof_of(network: Network, text: str) -> Proof:
    return Prover(engines()).prove(read_requirement(text), build_world(network), network).proof


@pytest.mark.parametrize("length", [4, 8, 12])
@pytest.mark.parametrize("port", ["p0", "p1"])
def test_a_list_on_one_of_very_many_ways_is_never_missed(length: int, port: str) -> None:
    network = placed(chain(length), "r1", port)
    assert proof_of(network, "allow h0 → h1 tcp/443").answer is Answer.VIOLATED
    assert proof_of(network, "block h0 → h1 tcp/443").answer is Answer.VIOLATED
    assert proof_of(network, "allow h0 → h1 tcp/80").answer is Answer.PROVED


def test_a_list_on_every_way_blocks() -> None:
    shape = chain(10)
    ports = [each["name"] for each in shape.devices["r4"]["interfaces"]]
    network = shape.network(
        lists=[{"name": "stop", "family": "ipv4", "kind": "extended", "entries": DENY_WEB}],
        placements=[
            {"list": "stop", "device": "r4", "at": port, "direction": way}
            for port, way in zip(ports, ("in", "in", "out", "out"), strict=True)
        ],
    )
    assert proof_of(network, "block h0 → h1 tcp/443").answer is Answer.PROVED


def test_proofs_after_an_edit_are_what_they_would_be_anew() -> None:
    shape, prover = chain(9), Prover(engines())
    before, after = shape.network(), placed(shape, "r5", "p1")
    statement = read_requirement("allow h0 → h1 tcp/443")
    known = prover.prove(statement, build_world(before), before)
    found = prover.prove(statement, build_world(after, known.world), after, known)
    assert (known.proof.answer, found.proof.answer) == (Answer.PROVED, Answer.VIOLATED)


SHAPES: dict[str, Callable[[], Shape]] = {
    "25 in a chain by two links": partial(chain, 25),
    "6 in a chain by sixteen links": partial(chain, 6, 16),
    "ladder of 20": partial(ladder, 20),
    "grid of 6 by 6": partial(grid, 6),
    "mesh of 16": partial(mesh, 16),
    "4 rows of 6": partial(layers, 6, 4),
}


@pytest.mark.parametrize("name", SHAPES)
def test_shapes_are_proved_in_bounded_memory(name: str) -> None:
    network = SHAPES[name]().network()
    tracemalloc.start()
    try:
        found = proof_of(network, "allow hosts → hosts tcp/443")
        _, peak = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    assert found.answer is Answer.PROVED
    assert peak < 200 * MIB, f"{peak / MIB:.0f} MiB"


def wide(**more: object) -> World:
    """Routers r0 to r9 in a row, each pair joined by two links."""
    return build_world(placed(chain(10), "r1", "p1", **more))  # type: ignore[arg-type]


def test_a_trace_says_what_becomes_of_it_on_the_ways_that_it_does_not_show() -> None:
    world = wide()
    result = try_flow(world, read_bare_flow("h0 → h1 tcp/443"))
    assert {each.verdict for each in result.exchanges} == {Verdict.PASSES}
    assert (result.verdict, result.more) == (Verdict.MIXED, True)
    said = report(result, world.topology, "", State.DRAFT).text
    assert said == (
        "mixed: on 64 equal paths it passes; "
        "on others of very many equal paths list stop denies it, r1 p1 in, by entry 10"
    )
    passing = try_flow(world, read_bare_flow("h0 → h1 tcp/80"))
    assert passing.verdict is Verdict.PASSES
    assert report(passing, world.topology, "", State.DRAFT).text.endswith(
        "so do all others of very many equal paths"
    )


def test_where_not_all_ways_can_be_followed_nothing_is_certain() -> None:
    """Each packet is rewritten on its way, so that the ways have to be walked one by one."""
    shape = chain(10)
    shape.devices["r0"]["translations"] = [
        {"kind": "dynamic", "inside": ["p2"], "outside": "p0", "source": "172.20.0.0/24"}
    ]
    network = shape.network()
    found = proof_of(network, "allow h0 → h1 tcp/443")
    assert found.answer is Answer.INCONCLUSIVE
    assert found.crowded
    assert "more equal ways than can be followed" in found.reason
    flow = read_bare_flow("h0 → h1 tcp/443")
    tried = Tries().of(build_world(network), flow)
    assert not isinstance(tried, str)
    assert not tried.whole
    judged = judge(Expectation.PASS, tried.verdict, Verdict.PASSES, tried.whole)
    assert judged.standing is Standing.INCONCLUSIVE
