"""The long runs of what the tests hold to each other, by seed.

python scripts/agree.py walks FIRST COUNT   the walk, the bulk engine and the naive reference
python scripts/agree.py kernel FIRST COUNT  the prediction, and real packets in a real kernel
python scripts/agree.py machines FIRST COUNT  random machines, collected, and real conversations between them
python scripts/agree.py proofs FIRST COUNT  proofs, and every conversation tried by the naive reference
python scripts/agree.py advice FIRST COUNT  every choice of advice, made for real
python scripts/agree.py together FIRST COUNT  all requirements at once, and every set of places tried by hand
python scripts/agree.py edits FIRST COUNT [EDITS]   what is kept from edit to edit, and worked out afresh
python scripts/agree.py elsewhere FIRST COUNT [EDITS]   this process, two workers, two of a scheduler
"""

import sys
from contextlib import ExitStack
from functools import cache
from unittest.mock import patch

from tests.advised import advised_otherwise
from tests.brute import ALLOW_PORTS, BLOCK_PORTS, FEW_DSCP, random_requirement, tiny_network
from tests.dask import machines
from tests.edits import answered_otherwise, disagreeing
from tests.kernel.held import held, in_namespaces
from tests.random_networks import random_flows, random_network
from tests.together import small, unlike
from tests.unit.test_proof import agrees, violating_in_time
from tests.unit.test_reference import at_some_time, by_name, disagreements

from greyheron.analysis.proof import header_space, services
from greyheron.compute import pooled
from greyheron.compute.cluster import Cluster
from greyheron.compute.tasks import WorkerPool
from greyheron.compute.workers import Workers
from greyheron.model.document import TestFlow
from greyheron.model.flow import ExpectedFlow
from greyheron.model.values import Expectation
from greyheron.rehearsal.runner import run_rehearsal

running = ExitStack()
"""Whatever is ended when all has been tried."""
FLOWS = 40
EDITS = 8
"""Of each network, where nothing else is asked for."""


def walks(seed: int, _edits: int) -> tuple[int, list[str]]:
    network = random_network(seed)
    world, reference = at_some_time(network, seed)
    tried, found = disagreements(world, reference, seed, FLOWS)
    named, other = by_name(world, reference, seed, FLOWS // 4)
    return tried + named, [*found, *other]


def proofs(seed: int, _edits: int) -> tuple[int, list[str]]:
    network, text = tiny_network(seed), random_requirement(seed)
    return 1, agrees(network, text, violating_in_time(network, text))


def machines_held(seed: int, _edits: int) -> tuple[int, list[str]]:
    """One random set of machines; how much is not known of it is printed."""
    ((_, found),) = in_namespaces("tests.kernel.small", str(seed), "1").items()
    if found is None:
        return 0, []
    each = held(found)
    print(f"seed {seed}: {each.seen} conversations, {each.not_known} not known")
    return each.seen, list(each.unlike)


def advice(seed: int, _edits: int) -> tuple[int, list[str]]:
    return 1, list(advised_otherwise(seed))


def together(seed: int, _edits: int) -> tuple[int, list[str]]:
    return 1, list(unlike(small(seed)))


def edits(seed: int, edits: int) -> tuple[int, list[str]]:
    return edits, list(disagreeing(seed, edits))


@cache
def crews() -> dict[str, WorkerPool]:
    """Two processes of ours and two of the engine, each with a share of every network, however small."""
    running.enter_context(patch.object(pooled, "SMALL", 0))
    address = running.enter_context(machines(2)).address
    found: dict[str, WorkerPool] = {"workers": Workers(2, 1 << 30), "a scheduler": Cluster(address)}
    for each in found.values():
        running.callback(each.close)
    return found


def elsewhere(seed: int, edits: int) -> tuple[int, list[str]]:
    there = {name: pooled.RemoteState(f"random {seed}", pool) for name, pool in crews().items()}
    return edits, list(answered_otherwise(seed, edits, there))


def kernel(seed: int, _edits: int) -> tuple[int, list[str]]:
    """Rehearsed: what the kernel decides otherwise. What could not be built or tried is printed."""
    network = random_network(seed)
    flows = [
        each
        for each in random_flows(network, seed, FLOWS // 2)
        if each.source.device != each.destination.device
    ]
    tests = [
        TestFlow(id=f"t{number}", flow=ExpectedFlow(flow, Expectation.PASS))
        for number, flow in enumerate(flows)
    ]
    report = run_rehearsal(network.model_copy(update={"tests": tuple(tests)}), lambda _stage, _done: None)
    for each in report.left_out:
        print(f"seed {seed}: left out: {each}")
    differing = [f"{each.flow} {each.when}: {each.differences} {each.packets}" for each in report.differing]
    return len(report.tried), differing


def main() -> int:
    known = {
        "walks": walks,
        "proofs": proofs,
        "machines": machines_held,
        "advice": advice,
        "kernel": kernel,
        "edits": edits,
        "elsewhere": elsewhere,
        "together": together,
    }
    run = known[sys.argv[1]]
    first, count = int(sys.argv[2]), int(sys.argv[3])
    edited = int(sys.argv[4]) if len(sys.argv) > 4 else EDITS
    asked = differing = 0
    few = (
        (header_space, "ALL_PORTS", BLOCK_PORTS),
        (header_space, "EPHEMERAL", ALLOW_PORTS),
        (services, "ALL_DSCP", FEW_DSCP),
    )
    with running:
        for module, name, value in few if run in (walks, proofs, advice, kernel, edits) else ():
            running.enter_context(patch.object(module, name, value))
        for seed in range(first, first + count):
            tried, found = run(seed, edited)
            asked += tried
            differing += len(found)
            for line in found:
                print(f"seed {seed}: {line}")
    print(f"{count} networks, {asked} {run.__name__}, {differing} differ")
    return bool(differing)


if __name__ == "__main__":
    sys.exit(main())
