"""What somebody waits for, at three sizes: seconds, how they grow, and the memory they take.

python bench/goals.py [SIZE ...]   each measure in a process of its own; sizes are numbers of routers
"""

import gc
import json
import math
import os
import platform
import random
import resource
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from rich.console import Console
from rich.table import Table

from greyheron.analysis.advice.advisor import Advisor
from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.reach.matrix_cache import KeptReaches
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.pooled import RemoteState
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.policy import PolicyQuestion
from greyheron.compute.questions.reach import MatrixQuestion
from greyheron.compute.workers import Workers
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.core.world import build_world
from greyheron.demo.generator import Plan, generate
from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.document import Network
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.requirement import Statement
from greyheron.model.values import Family

SEED = 7
ENTRIES = 200
DEMO = 0
"""Stands for the demo among the sizes."""
GOALS = {
    "100 requirements after an edit": "– / 0.03 / 0.1",
    "advice for one requirement": "0.1 / 0.5 / 3",
    "its first choice": "a tenth of it",
    "all findings, first": "– / – / 8",
    "all findings after an edit": "– / – / 0.3",
    "reach of every host, first": "– / – / 5",
    "reach after an edit": "– / – / 0.3",
    "and made ready for packets": "with reading 3",
    "a key in a list: read and tried": "0.03 / – / 0.1",
    "findings and proofs, 2 workers": "one by two: 1.8",
    "--help": "0.3",
    "check": "0.8",
}
"""Seconds that are wanted for the demo, 50 and 500 routers, on a quiet machine."""
Measured = dict[str, float]


def network_of(size: int) -> Network:
    return saltmarsh() if size == DEMO else generate(Plan(size, size, ENTRIES, SEED))


def without_an_entry(network: Network, number: int) -> Network:
    """The network with one entry less in one of its lists."""
    found = network.lists[number]
    shorter = found.model_copy(update={"body": found.body.with_entries(found.body.entries[1:])})
    return network.model_copy(
        update={"lists": (*network.lists[:number], shorter, *network.lists[number + 1 :])}
    )


def statements(network: Network, size: int, many: int) -> list[Statement]:
    if size == DEMO:
        return [each.statement for each in network.requirements][:many]
    chance = random.Random(SEED)
    pairs = (chance.sample(range(size), 2) for _ in range(many))
    return [read_requirement(f"block segment:r{one}:eth0 → h{other} tcp/443") for one, other in pairs]


def timed(work: Callable[[], Any]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def requirements(size: int) -> Measured:
    network, found = network_of(size), engines()
    world, prover = build_world(network), Prover(found)
    asked = statements(network, size, 100)
    known = [prover.prove(each, world, network) for each in asked]

    def again() -> None:
        edited = without_an_entry(network, 0)
        after = build_world(edited, world)
        for statement, before in zip(asked, known, strict=True):
            prover.prove(statement, after, edited, before)

    again()
    return {"100 requirements after an edit": timed(again)}


def advice(size: int) -> Measured:
    """For somebody who has the requirements before them: what is known of those is known."""
    network, found, reaches = network_of(size), engines(), KeptReaches()
    world, prover = build_world(network), Prover(found)
    known = {each.id: prover.prove(each.statement, world, network) for each in network.requirements}
    if size == DEMO:
        texts = "block visitors → ledger telnet", "block visitors → ledger web"
        asked = [read_requirement(text) for text in texts]
    else:
        asked = statements(network, size, 2)
    Advisor(prover, found, world, network, known, reaches).advise(asked[0])
    advisor = Advisor(prover, found, world, network, known, reaches)
    start, first = time.perf_counter(), list[float]()
    advisor.advise(asked[1], told=lambda _: first.append(time.perf_counter() - start))
    return {
        "advice for one requirement": time.perf_counter() - start,
        "its first choice": min(first, default=math.nan),
    }


def findings(size: int) -> Measured:
    network, found, kept = network_of(size), engines(), KeptFindings()
    world = build_world(network)
    first = timed(lambda: find_in_time(Timeline.still(world), found, kept))

    def again() -> None:
        after = build_world(without_an_entry(network, 0), world)
        find_in_time(Timeline.still(after), found, kept)

    return {"all findings, first": first, "all findings after an edit": timed(again)}


def reach(size: int) -> Measured:
    network, found, kept = network_of(size), engines(), KeptReaches()
    world = build_world(network)
    question = ReachQuestion(("services", "ping"), Family.IPV4, hosts_only=True)
    first = timed(lambda: kept.of(world, network, found, question).cells())

    def again() -> None:
        edited = without_an_entry(network, 0)
        kept.of(build_world(edited, world), edited, found, question).cells()

    return {"reach of every host, first": first, "reach after an edit": timed(again)}


def reading(size: int) -> Measured:
    text = write_workspace(network_of(size)).encode()
    network: list[Network] = []
    read = timed(lambda: network.append(read_workspace(text)))
    compiled = timed(lambda: build_world(network[0]))
    return {"a file read": read, "and made ready for packets": compiled}


def editing(size: int) -> Measured:
    """What a key in a list costs on the server: the list read, and the book tried on what it would be."""
    from fastapi.testclient import TestClient

    from greyheron.model.document import to_data
    from greyheron.server.access import Access
    from greyheron.server.app import make_app
    from greyheron.store.database import open_database

    with TemporaryDirectory() as folder:
        app = make_app(open_database(Path(folder) / "bench.db"), Access(), None)
        stored = app.state.store.create(network_of(size))
        with TestClient(app, base_url="http://127.0.0.1:8470") as client:
            path = f"/api/networks/{stored.id}"
            found = to_data(stored.draft.lists[0])
            client.get(f"{path}/book").raise_for_status()

            def key(skipped: int) -> None:
                text = "\n".join(found["entries"].splitlines()[skipped:])
                item = {**found, "entries": text}
                read = {"name": found["name"], "kind": found["kind"], "entries": text}
                client.post(f"{path}/lists/read", json={**read, "family": found["family"]}).raise_for_status()
                change = {"collection": "lists", "key": found["name"], "item": item}
                client.post(f"{path}/preview", json={"changes": [change]}).raise_for_status()

            key(1)
            keys = [timed(partial(key, number)) for number in (2, 3, 4)]
            change = {"collection": "lists", "key": found["name"], "item": {**found, "note": "edited"}}
            edit = {"label": "bench", "changes": [change]}
            headers = {"If-Match": f'"{stored.version}"', "Prefer": "return=minimal"}
            saved = timed(
                lambda: client.post(f"{path}/draft/edits", json=edit, headers=headers).raise_for_status()
            )
    return {"a key in a list: read and tried": min(keys), "an edit saved and answered": saved}


def workers(size: int) -> Measured:
    """Findings, proofs and reach by worker processes, each told the network first."""
    network, taken = network_of(size), {}
    question = ReachQuestion(("services", "ping"), Family.IPV4, hosts_only=True)
    for many in (1, 2):
        pool = Workers(many, 1 << 30)
        there = RemoteState("bench", pool)
        there.ask(PolicyQuestion(), RunningAndDraft(saltmarsh(), saltmarsh()))
        both = RunningAndDraft(network, network)

        def work(there: RemoteState = there, both: RunningAndDraft = both) -> None:
            there.ask(FindingsQuestion(), both)
            there.ask(PolicyQuestion(), both)

        words = f"{many} worker{'s' * (many > 1)}"
        taken[f"findings and proofs, {words}"] = timed(work)
        taken[f"reach, {words}"] = timed(partial(there.ask, MatrixQuestion(asked=question), both))
        pool.close()
    return taken


def commands(size: int) -> Measured:
    """Seconds of processor for commands that begin cold, but compiled, as they are once installed."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "network.yaml"
        path.write_text(write_workspace(network_of(size)), encoding="utf-8")
        program = [sys.executable, "-m", "greyheron"]
        installed = os.environ | {"PYTHONDONTWRITEBYTECODE": "", "PYTHONPYCACHEPREFIX": folder}

        def cost(*words: str) -> float:
            before = resource.getrusage(resource.RUSAGE_CHILDREN)
            subprocess.run([*program, *words], capture_output=True, check=False, env=installed)
            after = resource.getrusage(resource.RUSAGE_CHILDREN)
            return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime

        return {
            "--help": min(cost("--help") for _ in range(3)),
            "check": min(cost("check", str(path)) for _ in range(3)),
        }


MEASURES: dict[str, tuple[Callable[[int], Measured], bool, bool]] = {
    "requirements": (requirements, True, True),
    "advice": (advice, True, True),
    "findings": (findings, True, True),
    "reach": (reach, False, True),
    "reading": (reading, True, True),
    "editing": (editing, True, True),
    "workers": (workers, False, False),
    "commands": (commands, True, False),
}
"""Each with whether the demo is measured, and whether it is at all sizes, or at the largest only."""


def measured(name: str, size: int) -> tuple[Measured, int]:
    """One measure in a process of its own, and the most memory it took in MiB."""
    command = [sys.executable, __file__, "--one", name, str(size)]
    found = subprocess.run(command, capture_output=True, text=True, check=True)
    taken, memory = json.loads(found.stdout)
    return taken, memory


def rows(sizes: list[int]) -> Iterator[tuple[str, dict[int, float], dict[int, int]]]:
    for name, (_, demo, every) in MEASURES.items():
        asked = [*([DEMO] if demo else []), *(sizes if every else sizes[-1:] * (name != "commands"))]
        found = {size: measured(name, size) for size in asked}
        for what in next(iter(found.values()))[0]:
            yield (
                what,
                {size: taken[what] for size, (taken, _) in found.items()},
                {size: memory for size, (_, memory) in found.items()},
            )


def growth(taken: dict[int, float]) -> str:
    """The exponent with which seconds grow with routers, from the smallest to the largest size."""
    sizes = [size for size in taken if size != DEMO]
    if len(sizes) < 3:
        return ""
    low, high = sizes[0], sizes[-1]
    return f"{math.log(taken[high] / taken[low]) / math.log(high / low):.1f}"


def _loop() -> None:
    total = 0
    for number in range(2_000_000):
        total += number


def _loops(_: int) -> float:
    """Seconds that a loop takes in this process, in the middle of many."""
    return sorted(timed(_loop) for _ in range(15))[7]


def machine() -> str:
    """What this ran on, and how fast it is, alone and with both cores at work: seconds say little without."""
    with ProcessPoolExecutor(2) as pool:
        alone = next(pool.map(_loops, range(1)))
        both = max(pool.map(_loops, range(2)))
    what = f"{os.cpu_count()} cores, {platform.machine()}, Python {platform.python_version()}"
    return (
        f"{what}; two million additions in a loop take {alone:.2f} s, and {both:.2f} s in each of two "
        f"processes at once: two cores are {2 * alone / both:.1f} times one"
    )


def main() -> None:
    if sys.argv[1:2] == ["--one"]:
        gc.set_threshold(50_000, 50, 100)
        name, size = sys.argv[2], int(sys.argv[3])
        taken = MEASURES[name][0](size)
        print(json.dumps([taken, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024]))
        return
    sizes = [int(each) for each in sys.argv[1:]] or [50, 150, 500]
    columns = (*(f"{size} routers" for size in sizes), "grows with", "most memory", "wanted")
    before, table = machine(), Table("what", "demo", *columns)
    for what, seconds, memory in rows(sizes):
        shown = [f"{seconds[size]:.3f} s" if size in seconds else "" for size in (DEMO, *sizes)]
        most = f"{max(memory.values()):,} MiB"
        table.add_row(what, *shown, growth(seconds), most, GOALS.get(what, ""))
    table.caption = f"Before: {before}. After: {machine()}."
    Console(width=160).print(table)


if __name__ == "__main__":
    main()
