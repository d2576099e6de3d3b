"""The long run of walk against reference, by seed: `python scripts/agree.py FIRST COUNT`."""

import sys
from collections import Counter

from tests.random_networks import random_flows, random_network
from tests.reference import Reference
from tests.unit.test_reference import as_reference, decider

from greyheron.core.conversation import converse, first_packet
from greyheron.core.world import build_world


def main() -> int:
    first, count = int(sys.argv[1]), int(sys.argv[2])
    endings: Counter[str] = Counter()
    differing = conversations = 0
    for seed in range(first, first + count):
        network = random_network(seed)
        world, reference = build_world(network), Reference(network)
        for flow in random_flows(network, seed, 40):
            packet = first_packet(world, flow)
            assert flow.source.device is not None
            result = converse(world, flow)
            found = [decider(exchange) for exchange in result.exchanges]
            expected = reference.converse(as_reference(packet), flow.source.device)
            conversations += 1
            endings.update(exchange.decider.path.outcome.value for exchange in result.exchanges)
            if (result.verdict.value, found) != expected:
                differing += 1
                print(f"seed {seed}, {flow}: walk {result.verdict} {found}, reference {expected}")
    print(f"{count} networks, {conversations} conversations, {differing} differ; endings: {dict(endings)}")
    return bool(differing)


if __name__ == "__main__":
    sys.exit(main())
