"""Workers, ours and a scheduler's, killed at random moments: answers are right, or there is a clear word.

python scripts/killing.py [TIMES]
"""

import os
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from random import Random
from threading import Timer

from tests.dask import machines

from greyheron.compute.cluster import Cluster
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.pooled import RemoteState
from greyheron.compute.questions.advice import AdviceQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.policy import PolicyQuestion
from greyheron.compute.tasks import WorkerPool, WorkersGone
from greyheron.compute.workers import Workers
from greyheron.demo.generator import Plan, generate
from greyheron.model.notation.requirements import read_requirement

STATEMENT = read_requirement("block h1 → h2 ssh")


def work(state: DerivedState, stored: RunningAndDraft) -> object:
    """Everything that workers do, as what can be compared."""
    return (
        state.ask(PolicyQuestion(), stored),
        state.ask(FindingsQuestion(), stored),
        state.ask(AdviceQuestion(statement=STATEMENT), stored),
    )


def kill(workers: Workers, chance: Random) -> None:
    with suppress(ProcessLookupError, IndexError):
        os.kill(chance.choice(workers.pids()), chance.choice([signal.SIGKILL, signal.SIGTERM]))


def of_our_own(times: int, chance: Random) -> Iterator[tuple[WorkerPool, Callable[[], None]]]:
    """Two worker processes, and how one of them is killed."""
    workers = Workers(2, 1 << 30)
    for _ in range(times):
        yield workers, lambda: kill(workers, chance)
    workers.close()


def of_a_scheduler(times: int, chance: Random) -> Iterator[tuple[WorkerPool, Callable[[], None]]]:
    """Two workers of a scheduler; one of the three is killed, and started again before the next time."""
    with machines(2) as started:
        cluster = Cluster(started.address)
        for _ in range(times):
            victim = chance.randrange(3)
            yield cluster, started.processes[victim].kill
            started.again(victim)
        cluster.close()


def main() -> int:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 50
    chance = Random(1)
    network = generate(Plan(routers=12, lists=12, entries=60, seed=2))
    stored = RunningAndDraft.same(network)
    expected = work(DerivedState(), stored)
    wrong = 0
    for crews in (of_our_own, of_a_scheduler):
        right = gone = 0
        for number, (pool, killing) in enumerate(crews(times, chance)):
            timer = Timer(chance.uniform(0, 2.5), killing)
            timer.start()
            try:
                right += work(RemoteState(f"network {number}", pool), stored) == expected
            except WorkersGone:
                gone += 1
            timer.join()
        wrong += times - right - gone
        words = crews.__name__.replace("_", " ")
        print(
            f"{times} kills, {words}: {right} right, {gone} times a clear word, {times - right - gone} wrong"
        )
    return int(wrong > 0)


if __name__ == "__main__":
    sys.exit(main())
