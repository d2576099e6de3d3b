"""The long runs of what the tests hold to each other, by seed.

python scripts/agree.py walks FIRST COUNT   the walk, the bulk engine and the naive reference
python scripts/agree.py kernel FIRST COUNT  the prediction, and real packets in a real kernel
python scripts/agree.py proofs FIRST COUNT  proofs, and every conversation tried by the naive reference
python scripts/agree.py edits FIRST COUNT   what is kept from edit to edit, and what is worked out afresh
"""

import sys
from contextlib import ExitStack
from unittest.mock import patch

from tests.brute import ALLOW_PORTS, BLOCK_PORTS, FEW_DSCP, random_requirement, tiny_network
from tests.edits import disagreeing
from tests.random_networks import random_flows, random_network
from tests.unit.test_proof import agrees, violating_in_time
from tests.unit.test_reference import at_some_time, by_name, disagreements

from greyheron.analysis.proof import grounds, services
from greyheron.model.document import TestFlow
from greyheron.model.flow import ExpectedFlow
from greyheron.model.values import Expectation
from greyheron.rehearsal.runner import run_rehearsal

FLOWS = 40
EDITS = 8


def walks(seed: int) -> tuple[int, list[str]]:
    network = random_network(seed)
    world, reference = at_some_time(network, seed)
    tried, found = disagreements(world, reference, seed, FLOWS)
    named, other = by_name(world, reference, seed, FLOWS // 4)
    return tried + named, [*found, *other]


def proofs(seed: int) -> tuple[int, list[str]]:
    network, text = tiny_network(seed), random_requirement(seed)
    return 1, agrees(network, text, violating_in_time(network, text))


def edits(seed: int) -> tuple[int, list[str]]:
    return EDITS, list(disagreeing(seed, EDITS))


def kernel(seed: int) -> tuple[int, list[str]]:
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
    run = {"walks": walks, "proofs": proofs, "kernel": kernel, "edits": edits}[sys.argv[1]]
    first, count = int(sys.argv[2]), int(sys.argv[3])
    asked = differing = 0
    few = (
        (grounds, "ALL_PORTS", BLOCK_PORTS),
        (grounds, "EPHEMERAL", ALLOW_PORTS),
        (services, "ALL_DSCP", FEW_DSCP),
    )
    with ExitStack() as patched:
        for module, name, value in few:
            patched.enter_context(patch.object(module, name, value))
        for seed in range(first, first + count):
            tried, found = run(seed)
            asked += tried
            differing += len(found)
            for line in found:
                print(f"seed {seed}: {line}")
    print(f"{count} networks, {asked} {run.__name__}, {differing} differ")
    return bool(differing)


if __name__ == "__main__":
    sys.exit(main())
