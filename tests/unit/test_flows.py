"""Test flows asked about in bulk: what trying each of them says, also in worlds with other lists."""

import pytest

from greyheron.analysis.testing.bulk_verdicts import Flows
from greyheron.core.bulk.engines import engines
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.world import World, build_world
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.document import Network
from greyheron.model.flow import Flow
from greyheron.model.notation.flows import read_bare_flow

MORE = (
    "172.20.16.99/24 → ledger telnet",
    "kiosk → ledger telnet source-port 2000",
    "kiosk → ledger telnet source-port 3000",
    "kiosk → nobody telnet",
    "kiosk → lagoon ssh",
    "ringing-desk → ledger https ipv6",
)


def tried(world: World, flows: list[Flow]) -> dict[Flow, str]:
    found = {}
    for flow in flows:
        try:
            found[flow] = converse(world, flow).verdict.value
        except FlowError:
            continue
    return found


@pytest.mark.parametrize("network", [saltmarsh(), storm()], ids=["saltmarsh", "storm"])
def test_in_bulk_as_one_by_one(network: Network) -> None:
    world = build_world(network)
    flows = [test.flow.flow for test in network.tests] + [read_bare_flow(text) for text in MORE]
    asked = Flows(world, engines(), flows)
    for placements in (network.placements, network.placements[1:], network.placements[:3], ()):
        other = build_world(network.model_copy(update={"placements": placements}), world)
        found = {flow: verdict.value for flow, verdict in asked.verdicts(other).items()}
        assert found == tried(other, flows)
        assert len(found) == len(set(flows)) - 1  # all but the one to nobody
