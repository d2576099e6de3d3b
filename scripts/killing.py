"""Workers killed at random moments while they work: answers are right all the same, or there is a clear word.

python scripts/killing.py [TIMES]
"""

import os
import signal
import sys
from contextlib import suppress
from random import Random
from threading import Timer

from greyheron.core.progress import unwatched
from greyheron.demo.generator import Plan, generate
from greyheron.model.notation.requirements import read_requirement
from greyheron.working.derived import DerivedState
from greyheron.working.documents import RunningAndDraft
from greyheron.working.orders import WorkersGone
from greyheron.working.remote import RemoteState
from greyheron.working.workers import Workers

STATEMENT = read_requirement("block h1 → h2 ssh")


def work(state: DerivedState, stored: RunningAndDraft) -> object:
    """Everything that workers do, as what can be compared."""
    return (
        state.policy(stored, None, unwatched),
        state.findings(stored, None, unwatched),
        state.advice(stored, STATEMENT, None, unwatched),
    )


def kill(workers: Workers, chance: Random) -> None:
    with suppress(ProcessLookupError, IndexError):
        os.kill(chance.choice(workers.pids()), chance.choice([signal.SIGKILL, signal.SIGTERM]))


def main() -> int:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 50
    chance, workers = Random(1), Workers(2, 1 << 30)
    network = generate(Plan(routers=12, lists=12, entries=60, seed=2))
    stored = RunningAndDraft(network, network)
    expected = work(DerivedState(), stored)
    right = gone = 0
    for number in range(times):
        timer = Timer(chance.uniform(0, 2.5), kill, (workers, chance))
        timer.start()
        try:
            right += work(RemoteState(f"network {number}", workers), stored) == expected
        except WorkersGone:
            gone += 1
        timer.join()
    workers.close()
    print(f"{times} kills: {right} right, {gone} times a clear word, {times - right - gone} wrong")
    return int(right + gone != times)


if __name__ == "__main__":
    sys.exit(main())
