"""The long run of walk, bulk engine and reference, by seed: `python scripts/agree.py FIRST COUNT`."""

import sys

from tests.random_networks import random_network
from tests.reference import Reference
from tests.unit.test_reference import disagreements

from greyheron.core.world import build_world

FLOWS = 40


def main() -> int:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    conversations = differing = 0
    for seed in range(first, first + count):
        network = random_network(seed)
        tried, found = disagreements(build_world(network), Reference(network), seed, FLOWS)
        conversations += tried
        differing += len(found)
        for line in found:
            print(f"seed {seed}: {line}")
    print(f"{count} networks, {conversations} conversations, {differing} differ")
    return bool(differing)


if __name__ == "__main__":
    sys.exit(main())
