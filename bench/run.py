"""What things cost, as ratios within one run: `make bench` prints a table and writes bench/results.json.

docs/performance.md explains the rows. Each ratio is between two ways to the same answers, which are compared.
"""

import json
import random
import sys
import time
import tracemalloc
from collections.abc import Callable
from dataclasses import asdict, dataclass
from math import inf
from pathlib import Path
from typing import TypeVar

import numpy as np
from rich.console import Console
from rich.table import Table

from bench.diagrams import Diagrams, first_packet
from greyheron.analysis.advice.advisor import Advisor
from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.proof.header_space import ProofSpace
from greyheron.analysis.proof.prover import Proven, Prover
from greyheron.analysis.reach.matrix_cache import KeptReaches
from greyheron.analysis.testing.book import States, Tries, mark_tests
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.engines import engines
from greyheron.core.bulk.indexes import ForwardingIndexes
from greyheron.core.bulk.tables import DecisionTable
from greyheron.core.headers import Addresses, Headers
from greyheron.core.lists.matching import first_mismatch
from greyheron.core.lists.resolved import Names, ResolvedList, resolve
from greyheron.core.packet import Packet
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse, converse_from
from greyheron.core.world import World, build_world
from greyheron.demo.generator import Plan, generate
from greyheron.demo.networks import saltmarsh
from greyheron.model.document import Network
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP, UDP
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.requirement import Statement
from greyheron.model.services import Request
from greyheron.model.values import Family

T = TypeVar("T")
SEED = 8470
FABRICS = ForwardingIndexes()
ENOUGH = 0.4
RESULTS = Path(__file__).parent / "results.json"
REQUESTS = [Request(TCP, port) for port in (443, 80, 22, 53, 25, 23, 161, 389, 514, 587, 993, 8080)]
REQUESTS += [Request(UDP, port) for port in (53, 161, 514, 1812)]


@dataclass(frozen=True, slots=True)
class Row:
    """One measurement: `fast` and `slow` in microseconds for one item, where there are two."""

    what: str
    fast: float
    slow: float | None = None
    note: str = ""

    @property
    def ratio(self) -> float | None:
        return None if self.slow is None else self.slow / self.fast


def microseconds(work: Callable[[], object], items: int = 1) -> float:
    """Mean time for one of `items`, of `work` done again and again for about `ENOUGH` seconds."""
    work()
    start, runs = time.perf_counter(), 0
    while time.perf_counter() - start < ENOUGH:
        work()
        runs += 1
    return (time.perf_counter() - start) / runs / items * 1e6


def plain_loop(resolved: ResolvedList, packet: Packet) -> int:
    """The index of the first entry that matches, found by looking at one after another."""
    for index, rule in enumerate(resolved.rules):
        if first_mismatch(rule, packet) is None:
            return index
    return len(resolved.rules)


def classification(entries: int) -> Row:
    """A decision table against the plain loop, for random packets between the sites of a network."""
    network = generate(Plan(routers=50, lists=1, entries=entries, seed=SEED))
    resolved = resolve(network.lists[0], Names(network))
    table, chance, count = DecisionTable(resolved), np.random.default_rng(SEED), 100_000
    addresses = Addresses(Family.IPV4)
    sites = [(172 << 24) | (20 << 16) | (site << 8) | host for site in range(50) for host in range(1, 255)]
    known = np.array([addresses.index(address) for address in sites])
    ports = np.array([request.port for request in REQUESTS if request.protocol == TCP])
    headers = Headers(
        addresses,
        (Packet(Family.IPV4, 0, 0, TCP), Packet(Family.IPV4, 0, 0, UDP)),
        chance.choice(known, count),
        chance.choice(known, count),
        chance.integers(0, 2, count),
        chance.integers(1024, 65536, count),
        chance.choice(ports, count),
    )
    found = table.first_match(headers)
    few = max(20, 100_000 // entries)
    packets = [
        Packet(
            Family.IPV4,
            addresses.values[headers.source[number]],
            addresses.values[headers.destination[number]],
            headers.kinds[headers.kind[number]].protocol,
            int(headers.source_port[number]),
            int(headers.destination_port[number]),
            TcpFlags.SYN,
        )
        for number in range(few)
    ]
    assert [plain_loop(resolved, packet) for packet in packets] == found[:few].tolist()
    fast = microseconds(lambda: table.first_match(headers), count)
    slow = microseconds(lambda: [plain_loop(resolved, packet) for packet in packets], few)
    return Row(
        f"one decision, {entries:,} entries: table against loop",
        fast,
        slow,
        f"mean first match at entry {found.mean():,.0f}",
    )


def random_conversations(world: World, hosts: list[str], count: int) -> Conversations:
    chance = np.random.default_rng(SEED)
    return Conversations(
        Family.IPV4,
        [(host, None) for host in hosts],
        [world.topology.addresses(host, Family.IPV4)[0] for host in hosts],
        REQUESTS,
        chance.integers(0, len(hosts), count),
        chance.integers(0, len(hosts), count),
        chance.integers(0, len(REQUESTS), count),
        chance.integers(1024, 65536, count),
    )


def opener(asked: Conversations, number: int) -> tuple[Packet, str]:
    request = asked.requests[asked.request[number]]
    packet = Packet(
        asked.family,
        None,
        asked.destinations[asked.destination[number]],
        request.protocol,
        int(asked.source_port[number]),
        request.port,
        TcpFlags.SYN if request.protocol == TCP else TcpFlags.NONE,
    )
    return packet, asked.senders[asked.sender[number]][0]


def conversations(routers: int, count: int) -> list[Row]:
    """Random conversations between hosts, in bulk (from nothing, and again) against the walk."""
    network = generate(Plan(routers=routers, lists=routers, entries=200, seed=SEED))
    world = build_world(network)
    asked = random_conversations(world, [f"h{number}" for number in range(routers)], count)
    engine = BulkEngine(world)
    start = time.perf_counter()
    found = engine.verdicts(asked)
    first = (time.perf_counter() - start) / count * 1e6
    again = microseconds(lambda: engine.verdicts(asked), count)
    chosen = random.Random(SEED).sample(range(count), 100)
    openers = [opener(asked, number) for number in chosen]
    walked = [converse_from(world, *each).verdict for each in openers]
    assert walked == [VERDICT_ORDER[found.verdict[number]] for number in chosen]
    slow = microseconds(lambda: [converse_from(world, *each) for each in openers], len(openers))
    name = f"{count:,} conversations, {routers} routers, lists of 200: bulk against walk"
    return [
        Row(f"{name}, the first time", first, slow, f"{1e6 / first:,.0f} a second"),
        Row(f"{name}, again", again, slow, f"{1e6 / again:,.0f} a second"),
    ]


def compiling(routers: int, lists: int, entries: int) -> Row:
    """World, routes and decision tables from a document, as 1,000 conversations need them; peak memory."""
    network = generate(Plan(routers=routers, lists=lists, entries=entries, seed=SEED))
    hosts = [f"h{number}" for number in range(min(routers, 50))]

    def compiled() -> None:
        world = build_world(network)
        BulkEngine(world).verdicts(random_conversations(world, hosts, 1000))

    start = time.perf_counter()
    compiled()
    taken = time.perf_counter() - start
    tracemalloc.start()
    compiled()
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    interfaces = sum(len(device.interfaces) for device in network.devices)
    name = f"compiling {routers} routers, {interfaces:,} interfaces, {lists * entries:,} entries"
    return Row(name, taken * 1e6, None, f"peak {peak / 2**20:,.0f} MiB")


def everyday() -> list[Row]:
    """What a person waits for at the demo network."""
    network = saltmarsh()
    world = build_world(network)
    flow = network.tests[0].flow.flow
    return [
        Row("one traced conversation, demo", microseconds(lambda: converse(world, flow))),
        Row(
            f"the demo's book, {len(network.tests)} tests in three states",
            microseconds(lambda: mark_tests(network.tests, States.of(Timeline.still(world)), Tries())),
        ),
        Row("a world of the demo", microseconds(lambda: build_world(network))),
    ]


def proofs() -> list[Row]:
    """Requirements on 50 routers with lists of 200: ours, the diagram library's, and again after an edit."""
    network = generate(Plan(50, 50, 200, SEED))
    world = build_world(network)
    chance = random.Random(SEED)
    pairs = [chance.sample(range(50), 2) for _ in range(20)]
    statements = [read_requirement(f"block segment:r{one}:eth0 → hosts tcp/443 ipv4") for one, other in pairs]

    def ours() -> list[int]:
        prover = Prover(engines())
        return [violating(prover.prove(each, world, network)) for each in statements]

    def diagrams() -> list[int]:
        library = Diagrams()
        return [in_diagrams(library, world, network, each) for each in statements]

    fast = slow = inf
    for _ in range(3):  # in turns, the best of each: whatever else the machine does hits both
        (found, taken), (expected, other) = timed(ours), timed(diagrams)
        if found != expected:
            raise AssertionError(f"the proofs differ: {found} and {expected}")
        fast, slow = min(fast, taken), min(slow, other)
    first = network.lists[0]
    shorter = first.model_copy(update={"body": first.body.with_entries(first.body.entries[1:])})
    edited = network.model_copy(update={"lists": (shorter, *network.lists[1:])})
    after, prover = build_world(edited, world), Prover(engines())
    known = [prover.prove(each, world, network) for each in statements]
    _, again = timed(
        lambda: [
            prover.prove(each, after, edited, before) for each, before in zip(statements, known, strict=True)
        ]
    )
    many = 1e6 / len(statements)
    return [
        Row("a proof on 50 routers: ours against a decision-diagram library", fast * many, slow * many),
        Row("the same proof again, after an entry was removed, against afresh", again * many, fast * many),
        *answers(network, world, after, edited),
    ]


def answers(network: Network, world: World, after: World, edited: Network) -> list[Row]:
    """What a person waits for when a policy is worked on, 50 routers with lists of 200."""
    chance = random.Random(SEED)
    pairs = [chance.sample(range(50), 2) for _ in range(100)]
    statements = [read_requirement(f"block segment:r{one}:eth0 → h{other} tcp/443") for one, other in pairs]
    _, single = timed(lambda: Prover(engines()).prove(statements[0], world, network))
    found = engines()
    prover = Prover(found)
    known = [prover.prove(each, world, network) for each in statements]
    _, again = timed(
        lambda: [
            prover.prove(each, after, edited, before) for each, before in zip(statements, known, strict=True)
        ]
    )
    matrices = KeptReaches()  # as the server keeps them from one question to the next
    Advisor(prover, found, world, network, None, matrices).advise(statements[0])
    advice, advised = timed(
        lambda: Advisor(prover, found, world, network, None, matrices).advise(statements[1])
    )
    return [
        Row("one requirement, 50 routers, nothing known before", single * 1e6),
        Row("100 requirements again, after an entry was removed", again * 1e6),
        Row(
            "advice for one requirement, both families", advised * 1e6, None, f"{len(advice.choices)} choices"
        ),
    ]


def findings(routers: int) -> Row:
    network = generate(Plan(routers, routers, 200, SEED))
    world = build_world(network)
    found, taken = timed(lambda: find_in_time(Timeline.still(world), engines(), KeptFindings()))
    what = f"all findings, {routers} routers, {routers * 200:,} entries"
    return Row(what, taken * 1e6, None, f"{len(found)} found")


def timed(work: Callable[[], T]) -> tuple[T, float]:
    """The result of `work`, and the seconds it took."""
    start = time.perf_counter()
    found = work()
    return found, time.perf_counter() - start


def violating(proven: Proven) -> int:
    """How many conversations violate."""
    return sum(box.size for violation in proven.proof.violations for box in violation.boxes)


def in_diagrams(library: Diagrams, world: World, network: Network, statement: Statement) -> int:
    """The same number, by diagrams: for each that sends, all that gets through to the goal."""
    with_possible_hosts = world.with_possible_hosts
    grounds = ProofSpace(with_possible_hosts, network, Family.IPV4, BulkEngine(with_possible_hosts, FABRICS))
    total = 0
    for index in grounds.pieces(grounds.endpoints.of(statement.sources)):
        for goal in grounds.pieces(grounds.endpoints.of(statement.destinations)):
            sends, goes = index.region[0].first, goal.region[0].first
            if index.device == goal.device:
                continue
            asked = library.blocks("s", index.region) & library.blocks("d", goal.region)
            asked &= library.span("q", 443, 443)
            packet = first_packet(sends, goes, 443)
            total += library.count(library.passing(with_possible_hosts, index.device, asked, packet))
    return total


def main() -> None:
    large = "--quick" not in sys.argv
    rows = [classification(entries) for entries in (100, 1_000, 10_000)]
    for routers, count in ((10, 200_000), (50, 1_000_000), *(((500, 1_000_000),) if large else ())):
        rows += conversations(routers, count)
    rows += everyday()
    for routers, lists in ((50, 50), (200, 200), *(((500, 500),) if large else ())):
        rows.append(compiling(routers, lists, 200))
    rows += proofs()
    rows.append(findings(500 if large else 50))
    table = Table("what", "µs for one", "ratio", "note")
    for row in rows:
        table.add_row(
            row.what, f"{row.fast:,.2f}", "" if row.ratio is None else f"{row.ratio:,.0f}", row.note
        )
    Console(width=150).print(table)
    RESULTS.write_text(json.dumps([{**asdict(row), "ratio": row.ratio} for row in rows], indent=1) + "\n")


if __name__ == "__main__":
    main()
