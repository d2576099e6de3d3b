"""Routes that are written down and cannot be used: inspector, findings and trace say one thing of them."""

from greyheron.analysis.network.facts import facts_of
from greyheron.core.walk.conversation import converse
from greyheron.core.world import build_world
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.read import read_network
from tests.unit.test_findings import findings, hut

LOST = {"to": "198.51.100.0/24", "via": "203.0.113.7"}
WORDS = "198.51.100.0/24, static, by 203.0.113.7"


def test_a_route_whose_next_hop_cannot_be_reached_is_not_in_use_and_is_found() -> None:
    data = hut()
    data["devices"][0]["routes"] = [LOST]
    network = read_network(data)
    world = build_world(network)
    known = facts_of(world, "west")
    assert not [each for each in known.routes if each.startswith(WORDS)]
    (unused,) = [each for each in known.unused if each.startswith(WORDS)]
    assert unused.endswith("its next hop cannot be reached")
    (found,) = [each for each in findings(network) if each.kind == "route that cannot be used"]
    assert found.text.startswith(f"west never uses the route {WORDS}")
    sender = next(device.name for device in network.devices if device.kind == "host")
    exchange = converse(world, read_bare_flow(f"{sender} → 198.51.100.7 tcp/80")).exchanges[0]
    assert exchange.decider.path.last.device == "west"


def test_a_route_is_found_while_its_interface_is_disabled_and_not_while_it_leads_somewhere() -> None:
    data = hut()
    data["devices"][0]["interfaces"].append(
        {"name": "eth9", "addresses": ["203.0.113.1/28"], "enabled": False}
    )
    data["devices"][0]["routes"] = [LOST | {"interface": "eth9"}]
    (found,) = [each for each in findings(read_network(data)) if each.kind == "route that cannot be used"]
    assert found.text.endswith("its interface is disabled.")
    data["devices"][0]["interfaces"][-1]["enabled"] = True
    assert not [each for each in findings(read_network(data)) if each.kind == "route that cannot be used"]


def test_a_route_that_a_better_one_replaces_is_not_in_use() -> None:
    data = hut()
    data["devices"][0]["routes"] = [{"to": "172.20.1.0/24", "via": "172.20.9.2"}]
    known = facts_of(build_world(read_network(data)), "west")
    assert [each for each in known.unused if "preferred" in each]
