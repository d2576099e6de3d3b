"""Devices and whole sites once more: names, prefixes, links and what hangs on them."""

import pytest

from greyheron.core.bulk.trying import try_flow
from greyheron.core.world import build_world
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import ChangeError, apply
from greyheron.model.document import Network
from greyheron.model.intents import Duplicate
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.read import edited
from tests.lab import Lab


def duplicated(network: Network, *devices: str, site: str = "") -> Network:
    return edited(network, Duplicate(do="duplicate", devices=devices, site=site).changes(network))


def addresses(network: Network, name: str) -> dict[str, list[str]]:
    (device,) = (each for each in network.devices if each.name == name)
    return {each.name: list(map(str, each.addresses)) for each in device.interfaces}


def ends(network: Network, name: str) -> list[tuple[str, str]]:
    return [each.ends for each in network.links if any(end.partition(":")[0] == name for end in each.ends)]


def test_a_host_takes_the_next_address_of_its_segment_and_a_port_of_its_switch() -> None:
    network = duplicated(Lab().network(), "left")
    assert addresses(network, "left2") == {"eth0": ["172.20.1.12/24"]}  # mate has .11
    assert ends(network, "left2") == [("left2:eth0", "sw:p4")]
    verdict = try_flow(build_world(network), read_bare_flow("left2 → right web")).verdict
    assert verdict == "passes"


def test_a_router_takes_the_next_prefixes_and_its_neighbours_new_interfaces() -> None:
    network = duplicated(Lab().network(), "r4")
    assert addresses(network, "r5") == {"wan0": ["172.20.0.18/30"], "wan1": ["172.20.0.21/30"]}
    assert ends(network, "r5") == [("r1:eth1", "r5:wan0"), ("r5:wan1", "r3:eth1")]
    assert addresses(network, "r1")["eth1"] == ["172.20.0.17/30"]
    (r5,) = (each for each in network.devices if each.name == "r5")
    assert [str(route.via) for route in r5.routes] == ["172.20.0.17", "172.20.0.22"]


def test_a_site_is_linked_within_itself_and_reaches_what_it_reached() -> None:
    lab = Lab()
    for name in ("r3", "east", "right", "spare"):
        lab.device(name)["site"] = "East"
    lab.place("r3 eth0 out", "permit any")
    network = duplicated(lab.network(), site="East")
    added = {each.name: each for each in network.devices}
    assert {name for name, each in added.items() if each.site == "East 2"} == {
        "r5",
        "east2",
        "right2",
        "spare2",
    }
    assert addresses(network, "right2") == {"eth0": ["172.20.4.10/24"]}
    assert str(added["right2"].gateway) == "172.20.4.1"
    assert ("r5:eth0", "east2:p1") in [each.ends for each in network.links]
    assert [each.device for each in network.placements] == ["r3", "r5"]
    again = duplicated(network, site="East 2")
    assert {each.site for each in again.devices} == {"", "East", "East 2", "East 3"}


@pytest.mark.parametrize("name", [each.name for each in saltmarsh().devices])
def test_every_device_of_the_demo_can_be_there_twice(name: str) -> None:
    network = saltmarsh()
    after = duplicated(network, name)
    assert len(after.devices) == len(network.devices) + 1
    assert len(after.links) >= len(network.links)
    assert doubled(after) == doubled(network), "an address stands twice"


def doubled(network: Network) -> int:
    """How many addresses stand at more than one interface."""
    held = [each.ip for device in network.devices for part in device.interfaces for each in part.addresses]
    return len(held) - len(set(held))


def test_a_segment_that_is_full_refuses_another_host() -> None:
    lab = Lab()
    lab.device("left")["interfaces"][0]["addresses"] = ["172.20.1.10/29"]
    lab.device("mate")["interfaces"][0]["addresses"] = ["172.20.1.11/29"]
    lab.device("r1")["interfaces"][0]["addresses"] = ["172.20.1.9/29"]
    network = lab.network()
    for _ in range(3):
        network = duplicated(network, "left")
    with pytest.raises(ChangeError, match=r"172.20.1.8/29 has no free address left"):
        duplicated(network, "left")


def test_what_is_not_there_any_more_is_said() -> None:
    with pytest.raises(ChangeError, match="no device “heron” any more"):
        duplicated(Lab().network(), "heron")
    with pytest.raises(ChangeError, match="nothing stands at “West” any more"):
        duplicated(Lab().network(), site="West")


def test_undoing_it_takes_all_of_it_away() -> None:
    network = Lab().network()
    changes = Duplicate(do="duplicate", devices=("r4",)).changes(network)
    assert {change.collection for change in changes} == {"devices", "links"}
    assert apply(network, changes) != network
