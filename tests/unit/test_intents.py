"""What is wanted of a draft, and the changes that it takes."""

from typing import Any

import pytest
from pydantic import TypeAdapter

from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import ChangeError
from greyheron.model.document import Network, to_data
from greyheron.model.intents import AnyIntent, Intent
from greyheron.model.joining import would_do
from greyheron.model.parts import read_new_device
from greyheron.model.problems import DocumentError
from greyheron.model.read import edited

READ: TypeAdapter[Intent] = TypeAdapter(AnyIntent)
NOWHERE = {"device": "lagoon", "at": "eth1", "direction": "out"}


def intent(do: str, **said: Any) -> Intent:
    return READ.validate_python({"do": do, **said})


def after(network: Network, wanted: Intent) -> Network:
    return edited(network, wanted.changes(network))


def free_point(network: Network) -> dict[str, str]:
    """An interface of a router where no list stands outbound."""
    taken = {(each.device, each.at) for each in network.placements if each.direction == "out"}
    return next(
        {"device": device.name, "at": interface.name, "direction": "out"}
        for device in network.devices
        if device.kind == "router"
        for interface in device.interfaces
        if (device.name, interface.name) not in taken
    )


def test_a_device_goes_with_its_links_placements_and_position() -> None:
    network = saltmarsh()
    device = network.placements[0].device
    left = after(network, intent("remove", collection="devices", key=device)) if not spoken(device) else None
    changes = intent("remove", collection="devices", key=device).changes(network)
    gone = {(change.collection, change.key) for change in changes}
    assert ("devices", device) in gone
    assert {key for collection, key in gone if collection == "placements"} == {
        f"{each.device}:{each.at}:{each.direction}:{each.list}"
        for each in network.placements
        if each.device == device
    }
    assert {key for collection, key in gone if collection == "links"} == {
        " ".join(link.ends) for link in network.links if any(end.split(":")[0] == device for end in link.ends)
    }
    assert left is None or all(each.name != device for each in left.devices)


def spoken(device: str) -> bool:
    """Whether a test flow or requirement names the device: then it cannot go."""
    network = saltmarsh()
    words = [to_data(each) for each in (*network.tests, *network.requirements)]
    return any(device in str(each) for each in words)


def test_a_list_goes_with_its_placements() -> None:
    network = saltmarsh()
    name = network.placements[0].list
    left = after(network, intent("remove", collection="lists", key=name))
    assert all(each.name != name for each in left.lists)
    assert all(each.list != name for each in left.placements)


def test_a_link_takes_free_interfaces_and_makes_what_is_missing() -> None:
    network = saltmarsh()
    hosts = [device.name for device in network.devices if device.kind == "host"][:2]
    left = after(network, intent("link", one=hosts[0], other=hosts[1]))
    link = left.links[-1]
    assert [end.split(":")[0] for end in link.ends] == hosts
    taken = {end for each in network.links for end in each.ends}
    assert not taken & set(link.ends)
    for end in link.ends:
        device, _, interface = end.partition(":")
        own = next(each for each in left.devices if each.name == device)
        assert interface in {each.name for each in own.interfaces}


def test_a_switch_is_given_a_port() -> None:
    network = saltmarsh()
    switch = next(device for device in network.devices if device.kind == "switch")
    host = next(device.name for device in network.devices if device.kind == "host")
    left = after(network, intent("link", one=host, other=switch.name))
    ports = {end for link in left.links for end in link.ends if end.startswith(f"{switch.name}:")}
    assert len(ports) == 1 + sum(
        end.startswith(f"{switch.name}:") for link in network.links for end in link.ends
    )


def small(*lines: str) -> Network:
    """Devices by their lines, joined by nothing."""
    devices = tuple(read_new_device(line).device for line in lines)
    return Network(name="small", devices=devices)


def test_a_link_takes_the_interfaces_whose_prefixes_fit() -> None:
    network = small(
        "router ash 172.21.1.1/24 172.21.9.1/30",
        "router elm 172.21.2.1/24 172.21.9.2/30",
        "switch floor",
        "host kiosk 172.21.2.9/24",
    )
    network = after(network, intent("link", one="ash", other="elm"))
    assert network.links[-1].ends == ("ash:eth1", "elm:eth1")
    network = after(network, intent("link", one="kiosk", other="floor"))
    network = after(network, intent("link", one="floor", other="elm"))
    assert network.links[-1].ends == ("floor:p2", "elm:eth0")
    kiosk = next(device for device in network.devices if device.name == "kiosk")
    assert str(kiosk.gateway) == "172.21.2.1"


def test_an_empty_switch_hangs_on_what_has_room_for_hosts() -> None:
    network = small("router gate 203.0.113.2/30 172.21.1.1/24", "switch hall")
    assert after(network, intent("link", one="hall", other="gate")).links[-1].ends == ("hall:p1", "gate:eth1")


def test_a_link_takes_the_interface_that_is_named() -> None:
    network = small(
        "router ash 172.21.1.1/24 172.21.9.1/30", "router elm 172.21.1.2/24", "host kiosk 172.21.1.9/24"
    )
    linked = after(network, intent("link", one="ash:eth1", other="elm"))
    assert linked.links[-1].ends == ("ash:eth1", "elm:eth0")
    with pytest.raises(ChangeError, match="ash has no interface “eth7”: there are eth0, eth1"):
        after(network, intent("link", one="ash:eth7", other="elm"))


def test_which_interfaces_would_do_is_known_before() -> None:
    network = small(
        "router ash 172.21.1.1/24 172.21.9.1/30",
        "router elm 172.21.2.1/24 172.21.9.2/30",
        "router oak 172.21.5.1/24",
        "switch floor",
        "host kiosk",
    )
    assert would_do(network, "ash", "elm") == (("eth1",), ("eth1",))
    assert would_do(network, "ash", "oak") == (("eth0", "eth1"), ("eth0",))
    assert would_do(network, "ash:eth1", "oak") == (("eth1",), ("eth0",))
    assert would_do(network, "floor", "ash") == ((), ("eth0",))
    assert would_do(network, "kiosk", "oak") == ((), ("eth0",))


def test_a_host_that_has_a_gateway_or_finds_two_is_left_alone() -> None:
    told = small("router ash 172.21.1.1/24", "host kiosk 172.21.1.9/24 gateway 172.21.1.2")
    told = after(told, intent("link", one="ash", other="kiosk"))
    assert str(told.devices[-1].gateway) == "172.21.1.2"
    two = small(
        "switch floor", "router ash 172.21.1.1/24", "router elm 172.21.1.2/24", "host kiosk 172.21.1.9/24"
    )
    for name in ("ash", "elm", "kiosk"):
        two = after(two, intent("link", one="floor", other=name))
    assert next(device for device in two.devices if device.name == "kiosk").gateway is None


def test_a_list_is_placed_moved_and_taken_off() -> None:
    network = saltmarsh()
    name, to = network.lists[0].name, free_point(network)
    placing = intent("place", list=name, to=to)
    placed = after(network, placing)
    assert len(placed.placements) == len(network.placements) + 1
    assert placing.called(network) == f"place {name} leaving {to['device']} by {to['at']}"
    taken_off = after(placed, intent("take-off", list=name, off=to))
    assert taken_off.placements == network.placements
    old = next(each for each in network.placements if each.list == name)
    moved_from = {"device": old.device, "at": old.at, "direction": old.direction}
    moved = after(network, intent("place", list=name, to=to, moved_from=moved_from))
    assert len(moved.placements) == len(network.placements)
    assert old not in moved.placements


def test_a_list_takes_the_place_of_another_only_when_that_is_wanted() -> None:
    network = saltmarsh()
    old = network.placements[0]
    family = next(each.family for each in network.lists if each.name == old.list)
    other = next(each.name for each in network.lists if each.family is family and each.name != old.list)
    to = {"device": old.device, "at": old.at, "direction": old.direction}
    with pytest.raises(DocumentError, match="placed there already"):
        after(network, intent("place", list=other, to=to))
    instead = intent("place", list=other, to=to, instead=True)
    left = after(network, instead)
    assert old not in left.placements
    assert instead.called(network) == f"replace {old.list} by {other}"


def test_what_is_new_gets_ids_and_names_that_are_free() -> None:
    network = saltmarsh()
    flow = "ringing-desk → camhub web pass"
    left = after(network, intent("new-tests", flows=[flow, flow], group="Both"))
    ids = [test.id for test in left.tests]
    assert len(set(ids)) == len(ids) == len(network.tests) + 2
    assert {test.group for test in left.tests[-2:]} == {"Both"}
    left = after(left, intent("require", statement="block any → camhub telnet"))
    assert left.requirements[-1].id not in {each.id for each in network.requirements}
    for number in range(2):
        left = after(left, intent("new-list", family="ipv4", kind="extended"))
        assert left.lists[-1].name == f"list{len(network.lists) + 1 + number}"
    with pytest.raises(ChangeError, match="already"):
        intent("new-list", name=network.lists[0].name, family="ipv4", kind="extended").changes(network)


def test_a_finding_is_accepted_and_no_longer() -> None:
    network = saltmarsh()
    said = {"finding": "kind: subject", "kind": "kind", "evidence": "0123456789abcdef"}
    accepted = after(network, intent("accept", **said, reason="as it should be"))
    assert accepted.accepted[-1].reason == "as it should be"
    assert after(accepted, intent("accept", **said)).accepted == network.accepted


def test_several_in_one_edit_see_what_those_before_did() -> None:
    network = saltmarsh()
    item = {"name": "buoy", "kind": "host"}
    left = after(
        network,
        intent(
            "together",
            intents=[
                {"do": "put", "collection": "devices", "item": item},
                {"do": "link", "one": "buoy", "other": network.devices[0].name},
                {"do": "arrange", "moved": "buoy", "positions": [{"device": "buoy", "x": 1, "y": 2}]},
            ],
        ),
    )
    assert left.links[-1].ends[0] == "buoy:eth0"
    assert left.positions[-1].device == "buoy"


@pytest.mark.parametrize(
    "wanted",
    [
        intent("remove", collection="devices", key="nobody"),
        intent("take-off", list="no-list", off=NOWHERE),
        intent("link", one="nobody", other="nobody-else"),
        intent("place", list="no-list", to=NOWHERE, moved_from=NOWHERE),
    ],
    ids=lambda wanted: wanted.do,
)
def test_what_is_not_there_any_more_is_said(wanted: Intent) -> None:
    with pytest.raises(ChangeError, match="any more"):
        wanted.changes(saltmarsh())
