"""What it costs to decide, to trace and to run a book: ratios within one run (docs/performance.md)."""

import random
import time
from collections.abc import Callable

from rich.console import Console
from rich.table import Table

from greyheron.analysis.book import States, Tries, mark_tests
from greyheron.core.conversation import converse
from greyheron.core.lists import Names, resolve
from greyheron.core.matching import decide
from greyheron.core.packet import Packet, TcpFlags
from greyheron.core.world import build_world
from greyheron.demo.generator import Plan, generate
from greyheron.demo.networks import saltmarsh
from greyheron.model.document import AccessList
from greyheron.model.names import TCP
from greyheron.model.values import Family

SEED = 8470
LENGTHS = (100, 1_000, 10_000)
ENOUGH = 0.4


def seconds(work: Callable[[], object]) -> float:
    """Mean time of `work`, run again and again for about `ENOUGH` seconds."""
    work()
    start, runs = time.perf_counter(), 0
    while time.perf_counter() - start < ENOUGH:
        work()
        runs += 1
    return (time.perf_counter() - start) / runs


def long_list(length: int) -> AccessList:
    """`length` entries that pass the test packet over, each on its destination."""
    chance = random.Random(SEED)
    lines = [
        f"permit tcp from 172.20.0.0/14 to 172.2{chance.randint(1, 3)}.{chance.randint(0, 255)}.0/24 port 443"
        for _ in range(length)
    ]
    item = {"name": "long", "family": "ipv4", "kind": "extended", "entries": "\n".join(lines)}
    return AccessList.model_validate(item)


def main() -> None:
    network = saltmarsh()
    world = build_world(network)
    table = Table("what", "ms", "against one decision at 100 entries")
    packet = Packet(Family.IPV4, 0xAC141015, 0xAC14280A, TCP, 49152, 443, TcpFlags.SYN)
    unit = None
    for length in LENGTHS:
        resolved = resolve(long_list(length), Names(network))
        taken = seconds(lambda resolved=resolved: decide(resolved, packet))  # type: ignore[misc]
        unit = unit or taken
        table.add_row(f"one decision, {length:,} entries", f"{taken * 1000:.3f}", f"{taken / unit:.1f}")
    assert unit is not None
    flow = network.tests[0].flow.flow
    large = generate(Plan(routers=50, lists=20, entries=200, seed=SEED))
    large_world = build_world(large)
    large_flow = large.tests[0].flow.flow
    rows: list[tuple[str, Callable[[], object]]] = [
        ("one conversation, demo", lambda: converse(world, flow)),
        ("the demo's book, three states", lambda: mark_tests(network.tests, States.of(world), Tries())),
        ("one conversation, 50 routers, lists of 200", lambda: converse(large_world, large_flow)),
        ("a world of the demo", lambda: build_world(network)),
    ]
    for name, work in rows:
        taken = seconds(work)
        table.add_row(name, f"{taken * 1000:.3f}", f"{taken / unit:.1f}")
    Console().print(table)


if __name__ == "__main__":
    main()
