"""The reach matrix: the same answers as the walk, folded into groups, and only what changes after an edit."""

from collections.abc import Sequence

import pytest

from greyheron.analysis.reach.axis import Axis, axis_of
from greyheron.analysis.reach.change import change_of
from greyheron.analysis.reach.matrix import Reach, rows_of
from greyheron.analysis.reach.question import ReachError, ReachQuestion, flows_between, require_services
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.indexes import ForwardingIndexes
from greyheron.core.progress import Cancelled
from greyheron.core.walk.conversation import converse
from greyheron.core.world import World, build_world
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.changes import Change
from greyheron.model.document import Network
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.read import edited
from greyheron.model.services import OWN_SERVICES
from greyheron.model.values import Family


def asked(*services: str, family: Family = Family.IPV4) -> ReachQuestion:
    return ReachQuestion(services, family)


def matrix(network: Network, question: ReachQuestion) -> tuple[World, Reach]:
    world = build_world(network)
    return world, Reach(world, BulkEngine(world), axis_of(world, network, question), question)


@pytest.mark.parametrize("network", [saltmarsh(), storm()], ids=["saltmarsh", "storm"])
@pytest.mark.parametrize("family", Family)
def test_every_cell_holds_what_the_walk_says_of_its_conversations(network: Network, family: Family) -> None:
    question = asked("ssh", "ping", family=family)
    world, reach = matrix(network, question)
    cells, devices = reach.cells(), reach.axis.devices
    for row, source in enumerate(devices):
        for column, destination in enumerate(devices):
            bits = 0
            for flow in flows_between(world, source, destination, question) if row != column else ():
                bits |= 1 << VERDICT_ORDER.index(converse(world, read_bare_flow(flow)).verdict)
            assert cells[row, column] == bits, (source, destination)


def members(axis: Axis, name: str) -> Sequence[str]:
    group = next(group for group in axis.groups if group.name == name)
    return [axis.devices[place] for place in group.members]


def test_devices_fold_into_segments_sets_and_zones() -> None:
    _, reach = matrix(saltmarsh(), asked("ping"))
    assert members(reach.axis, "172.20.16.0/24") == ["kiosk", "till", "guest"]
    assert members(reach.axis, "@cameras") == ["heron-cam", "bittern-cam"]
    assert members(reach.axis, "weir yard") == ["sightings"]
    segments = [
        place for group in reach.axis.groups if group.kind in ("segment", "kind") for place in group.members
    ]
    assert sorted(segments) == list(range(len(reach.axis.devices)))


def test_each_destination_is_asked_for_what_it_listens_on() -> None:
    world = build_world(saltmarsh())
    assert flows_between(world, "kiosk", "camhub", asked(OWN_SERVICES)) == [
        "kiosk → camhub:172.20.48.5 tcp/443",
        "kiosk → camhub:172.20.48.5 tcp/554",
    ]


def test_an_edit_is_looked_at_only_where_it_can_matter() -> None:
    network, question = saltmarsh(), asked("web", "telnet")
    world, fabrics = build_world(network), ForwardingIndexes()
    engine = BulkEngine(world, fabrics)
    reach = Reach(world, engine, axis_of(world, network, question), question)
    item = {
        "name": "new",
        "family": "ipv4",
        "kind": "extended",
        "entries": "deny tcp to @ledger port telnet\npermit any",
    }
    placed = {"list": "new", "device": "centre-gw", "at": "eth1", "direction": "in"}
    after = edited(
        network,
        [
            Change(collection="lists", key="new", item=item),
            Change(collection="placements", key="centre-gw:eth1:in:new", item=placed),
        ],
    )
    later = build_world(after, world)
    assert later.routes.routing(Family.IPV4) is world.routes.routing(Family.IPV4)
    other = BulkEngine(later, fabrics)
    assert reach.fits(other)
    cells = reach.cells_in(other)
    assert cells.tolist() == matrix(after, question)[1].cells().tolist()
    change = change_of(question, reach.cells(), cells)
    assert (change.changed, change.lose, change.gain) == (3, 3, 0)
    row, column = (reach.axis.devices.index(name) for name in ("kiosk", "ledger"))
    assert rows_of(reach.cells())[row][column] == "1"
    assert rows_of(cells)[row][column] == "3"


def test_a_list_that_parts_neighbours_fits_no_longer() -> None:
    network, question = saltmarsh(), asked("ping")
    world, fabrics = build_world(network), ForwardingIndexes()
    reach = Reach(world, BulkEngine(world, fabrics), axis_of(world, network, question), question)
    placed = {"list": "from-beyond", "device": "sluice", "at": "wan1", "direction": "in"}
    change = Change(collection="placements", key="sluice:wan1:in:from-beyond", item=placed)
    later = build_world(edited(network, [change]), world)
    assert later.routes.cut_neighbours() != []
    assert not reach.fits(BulkEngine(later, fabrics))


def nobody_waits(_done: float) -> None:
    raise Cancelled


def test_work_that_nobody_waits_for_ends() -> None:
    world = build_world(saltmarsh())
    question = asked("ping")
    with pytest.raises(Cancelled):
        Reach(world, BulkEngine(world), axis_of(world, saltmarsh(), question), question, nobody_waits)


@pytest.mark.parametrize("services", [(), ("gopher-hole",), ("ping",) * 13])
def test_a_question_that_cannot_be_asked(services: tuple[str, ...]) -> None:
    with pytest.raises(ReachError):
        require_services(build_world(saltmarsh()), asked(*services))
