"""Tables of devices as people have them, and sets as lines."""

import pytest

from greyheron.core.bulk.trying import try_flow
from greyheron.core.world import build_world
from greyheron.demo.networks import saltmarsh
from greyheron.model.device_table import table_changes
from greyheron.model.document import Network
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.notation.line import NotationError
from greyheron.model.read import edited, read_network
from greyheron.model.set_lines import SetCollection, read_set, write_set
from tests.lab import Lab

EMPTY = read_network({"format": "grey-heron/1", "name": "Nothing yet"})
ROWS = [
    ("device", "interface", "address", "neighbour"),
    ("reed", "eth0", "172.20.1.1/24", "floor"),
    ("reed", "eth1", "172.20.9.1/30", "sedge:eth0"),
    ("sedge", "eth0", "172.20.9.2/30", "reed:eth1"),
    ("sedge", "eth1", "172.20.2.1/24", "store"),
    ("desk", "eth0", "172.20.1.10/24", "floor"),
    ("store", "eth0", "172.20.2.10/24", "sedge"),
]
WRITTEN = {
    "tabs": "\n".join("\t".join(row) for row in ROWS),
    "commas": "\n".join(",".join(row) for row in ROWS),
    "semicolons": "\n".join("; ".join(row) for row in ROWS),
    "bars": "\n".join(f"| {' | '.join(row)} |" for row in ROWS),
    "blanks": "\n".join(" ".join(row) for row in ROWS),
    "no headings": "\n".join(",".join(row) for row in ROWS[1:]),
    "other order": "\n".join(
        "\t".join((row[2], row[0], row[3], row[1])) for row in [("name", "port", "ip", "peer"), *ROWS[1:]]
    ),
    "blank lines and Windows line ends": "\r\n\r\n".join("\t".join(row) for row in ROWS) + "\r\n",
}


def brought(text: str, network: Network = EMPTY) -> Network:
    return edited(network, table_changes(text, network))


@pytest.mark.parametrize("text", WRITTEN.values(), ids=WRITTEN)
def test_a_table_stands_there_however_it_is_written(text: str) -> None:
    network = brought(text)
    kinds = {device.name: device.kind.value for device in network.devices}
    assert kinds == {"reed": "router", "floor": "switch", "sedge": "router", "store": "host", "desk": "host"}
    pairs = {tuple(sorted(end.partition(":")[0] for end in link.ends)) for link in network.links}
    assert pairs == {("floor", "reed"), ("reed", "sedge"), ("sedge", "store"), ("desk", "floor")}
    assert len(network.links) == 4
    (desk,) = (device for device in network.devices if device.name == "desk")
    assert str(desk.gateway) == "172.20.1.1"
    assert try_flow(build_world(network), read_bare_flow("desk → reed:172.20.9.1 ping")).verdict == "passes"


def test_cells_that_are_left_empty_are_worked_out() -> None:
    network = brought(
        "reed,,172.20.1.1/24,desk\n,,172.20.2.1/24,store\ndesk,,172.20.1.10/24\nstore,,172.20.2.10/24"
    )
    (reed,) = (device for device in network.devices if device.name == "reed")
    assert [each.name for each in reed.interfaces] == ["eth0", "eth1"]
    assert {link.ends for link in network.links} == {("reed:eth0", "desk:eth0"), ("reed:eth1", "store:eth0")}


def test_kinds_can_be_said_and_neighbours_be_there_already() -> None:
    network = brought("name,kind,address,to\nwall,firewall,172.20.1.99/24,sw", Lab().network())
    (wall,) = (device for device in network.devices if device.name == "wall")
    assert wall.kind == "firewall"
    assert ("wall:eth0", "sw:p4") in [link.ends for link in network.links]


@pytest.mark.parametrize(
    ("text", "line", "says"),
    [
        ("reed,eth0,172.20.1.1", 1, "has no prefix length: write 172.20.1.1/24"),
        (
            "device,address\nreed,172.20.1.1/24\nsedge,172.20.1.x/24",
            3,
            "is no address with a prefix length",
        ),
        ("left,eth0,172.20.1.1/24", 1, "there is a device left already"),
        ("device,kind\nreed,bridge", 2, "“bridge” is no kind of device: expected router, firewall"),
        ("9lives,eth0,172.20.1.1/24", 1, "“9lives” is no name"),
        ("", 1, "no line of it names a device"),
    ],
)
def test_what_is_wrong_in_a_table_is_said_with_its_line(text: str, line: int, says: str) -> None:
    with pytest.raises(NotationError) as refused:
        table_changes(text, Lab().network())
    (wrong,) = refused.value.misreadings
    assert (wrong.line, says in wrong.message) == (line, True), wrong.message


@pytest.mark.parametrize(
    ("collection", "text"),
    [
        ("address_sets", "visitors 172.20.16.0/24 172.20.17.8 172.20.18.1~0.0.0.254 2001:db8:16::/64"),
        ("address_sets", "nobody"),
        ("port_sets", "web 80 443 8000-8080"),
        ("periods", "by-day daily 08:00-18:00, 2026-12-24 12:00 to 2026-12-27 06:00, sat"),
    ],
)
def test_a_set_is_a_line(collection: SetCollection, text: str) -> None:
    assert write_set(read_set(text, collection)) == text


def test_every_set_of_the_demo_reads_back() -> None:
    network = saltmarsh()
    for collection in ("address_sets", "port_sets", "periods"):
        for item in getattr(network, collection):
            again = read_set(write_set(item), collection)
            assert again == item.model_copy(update={"note": ""})


@pytest.mark.parametrize(
    ("collection", "text", "column", "says"),
    [
        ("address_sets", "visitors 172.20.16.0/24, 172.20.300.1", 26, "172.20.300.1"),
        ("port_sets", "web 80 http 99999", 13, "99999"),
        ("periods", "by-day daily 08:00-18:00, lunch", 27, "lunch"),
        ("address_sets", "9 172.20.16.0/24", 1, "“9” is no name"),
    ],
)
def test_a_member_that_is_none_is_named(collection: SetCollection, text: str, column: int, says: str) -> None:
    with pytest.raises(NotationError) as refused:
        read_set(text, collection)
    (wrong,) = refused.value.misreadings
    assert (wrong.column, says in wrong.message) == (column, True), (wrong.column, wrong.message)
