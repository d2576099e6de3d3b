"""Large invented networks: the same arguments give the same network, and it works."""

import pytest

from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import build_world
from greyheron.demo.generator import Plan, generate
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.problems import DocumentError
from tests.command_line import run

PLAN = Plan(routers=24, lists=8, entries=30, seed=4)


def test_the_same_seed_gives_the_same_network() -> None:
    assert generate(PLAN) == generate(PLAN)
    assert generate(PLAN) != generate(Plan(24, 8, 30, seed=5))


def test_it_is_as_large_as_asked_and_reads_back() -> None:
    network = generate(PLAN)
    routers = [device for device in network.devices if device.kind == "router"]
    assert (len(routers), len(network.lists)) == (24, 8)
    assert {len(access_list.body.entries) for access_list in network.lists} == {30}
    assert {access_list.family for access_list in network.lists} == {"ipv4", "ipv6"}
    assert read_workspace(write_workspace(network)) == network


@pytest.mark.parametrize("meshed", [False, True])
def test_everybody_reaches_everybody_with_no_lists(meshed: bool) -> None:
    network = generate(Plan(routers=24, lists=8, entries=30, seed=4, meshed=meshed))
    world = build_world(network).baseline
    assert {converse(world, test.flow.flow).verdict for test in network.tests} == {Verdict.PASSES}


def test_of_very_many_routers_each_has_fewer_addresses() -> None:
    network = generate(Plan(routers=700, lists=4, entries=40, seed=3))
    assert len(network.devices) == 1400
    host = next(device for device in network.devices if device.name == "h600")
    assert [str(each) for each in host.interfaces[0].addresses][:1] == ["172.20.37.138/28"]
    assert read_workspace(write_workspace(network)) == network


def test_no_generated_list_cuts_routing_neighbours() -> None:
    assert build_world(generate(PLAN)).routes.cut_neighbours() == []


def test_a_plan_that_cannot_be_carried_out() -> None:
    with pytest.raises(DocumentError, match="2 to 5000"):
        generate(Plan(routers=1, lists=1, entries=1))
    with pytest.raises(DocumentError, match="fewer than no lists"):
        generate(Plan(routers=2, lists=-1, entries=1))


def test_the_command_prints_a_workspace_file() -> None:
    result = run(["generate", "--routers", "3", "--lists", "2", "--entries", "5", "--seed", "7"])
    assert result.exit_code == 0
    assert read_workspace(result.output) == generate(Plan(3, 2, 5, 7))
    assert run(["generate", "--routers", "0"]).exit_code == 2
