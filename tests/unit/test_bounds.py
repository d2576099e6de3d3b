"""Bounds: what is too much to decide exactly ends with what is certain, not with the machine's memory."""

import json
from collections.abc import Callable
from cProfile import Profile
from functools import partial
from pathlib import Path
from random import Random
from unittest.mock import patch

import pytest

from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.proof import fine_classes
from greyheron.analysis.proof.answers import Answer, Proof
from greyheron.analysis.proof.policy import proof_report
from greyheron.analysis.proof.prover import Prover
from greyheron.core import intervals
from greyheron.core.bulk import walked_classes
from greyheron.core.bulk.engines import engines
from greyheron.core.intervals import TooManyParts, minus, parts_by
from greyheron.core.progress import Cancelled, unwatched, within
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse, converse_from
from greyheron.core.world import build_world
from greyheron.demo.networks import saltmarsh
from greyheron.formats.bundle import Bundle
from greyheron.formats.machines import Machines
from greyheron.model.changes import Change
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.read import edited
from greyheron.model.values import Family


def scattered(chance: Random) -> str:
    return f"172.20.16.{chance.randrange(256)}~0.0.0.{chance.randrange(256)}"


def with_unlike_wildcards(action: str, count: int = 40) -> Network:
    """The demo with a list of wildcards that have little in common at the visitors' gateway."""
    chance = Random(3)
    lines = [f"{action} tcp from {scattered(chance)} to @ledger port https" for _ in range(count)]
    item = {
        "name": "wild",
        "family": "ipv4",
        "kind": "extended",
        "entries": "\n".join([*lines, "permit any"]),
    }
    placed = {"list": "wild", "device": "centre-gw", "at": "eth1", "direction": "in"}
    changes = [
        Change(collection="lists", key="wild", item=item),
        Change(collection="placements", key="centre-gw:eth1:in:wild", item=placed),
    ]
    return edited(saltmarsh(), changes)


def proved(network: Network, text: str) -> Proof:
    return Prover(engines()).prove(read_requirement(text), build_world(network), network).proof


def test_a_region_that_falls_into_too_many_parts_is_given_up() -> None:
    everyone = (AddressBlock(Family.IPV4, 0, 0),)
    chance = Random(1)
    unlike = [
        (AddressBlock(Family.IPV4, value & mask, mask),)
        for value, mask in ((chance.getrandbits(32), chance.getrandbits(32)) for _ in range(40))
    ]
    with pytest.raises(TooManyParts):
        parts_by(everyone, unlike)
    with pytest.raises(TooManyParts):
        minus(everyone, [blocks[0] for blocks in unlike])


def test_too_much_to_decide_is_inconclusive_and_says_what_is_certain() -> None:
    network = with_unlike_wildcards("permit")
    with patch.object(intervals, "MOST_BLOCKS", 130):
        found = proved(network, "allow visitors → ledger https")
    assert found.answer is Answer.INCONCLUSIVE
    assert found.undecided > 0
    text = proof_report(found).text
    assert "too many kinds of address to decide exactly" in text
    assert "This much is certain" in text


def test_what_is_found_all_the_same_is_certain() -> None:
    network = with_unlike_wildcards("deny", 60)
    with patch.object(intervals, "MOST_BLOCKS", 130), patch.object(fine_classes, "MOST_OF_ONE", 64):
        found = proved(network, "allow visitors → ledger https")
    assert found.answer is Answer.VIOLATED
    assert found.counterexample is not None
    tried = converse(build_world(network), found.counterexample.flow)
    assert tried.verdict is found.counterexample.verdict
    assert "too many kinds of address to list all" in proof_report(found).text


def test_classes_are_tried_in_pieces_that_stay_within_their_bound() -> None:
    network = with_unlike_wildcards("deny")
    whole = proved(network, "block visitors → ledger telnet")
    with (
        patch("greyheron.core.bulk.engine._LEAST_AT_ONCE", 8),
        patch("greyheron.core.bulk.engine._AT_ONCE", 8),
    ):
        pieces = proved(network, "block visitors → ledger telnet")
    assert (pieces.answer, pieces.classes, pieces.conversations) == (
        whole.answer,
        whole.classes,
        whole.conversations,
    )
    assert pieces.violations == whole.violations


def test_a_search_is_cancelled_in_the_middle_of_a_step() -> None:
    network, seen = saltmarsh(), 0

    def some(_done: float) -> None:
        nonlocal seen
        seen += 1
        if seen > 9:
            raise Cancelled

    timeline = Timeline.build(network)
    with pytest.raises(Cancelled):
        find_in_time(timeline, engines(), KeptFindings(), some)
    assert seen == 10


def calls_of(work: Callable[[], object]) -> int:
    """How many functions are called: what takes time, whatever else the machine does."""
    watched = Profile()
    watched.runcall(work)
    return sum(int(each.callcount) for each in watched.getstats())


def machine_with_routes(count: int) -> Bundle:
    machine = json.loads(Path("tests/machines/gate.json").read_text())
    for number in range(count):
        gateway = f"172.20.16.{2 + number % 200}"
        route = {
            "dst": f"172.22.{number // 256}.{number % 256}",
            "gateway": gateway,
            "dev": "lan",
            "flags": [],
        }
        machine["route"].append(route)
    return Bundle("gate", {"gate.json": json.dumps(machine).encode()})


@pytest.mark.long
def test_reading_a_machine_takes_as_long_as_it_has_routes() -> None:
    few, many = (
        calls_of(partial(Machines().read, machine_with_routes(count), unwatched)) for count in (400, 1600)
    )
    assert many < 6 * few


def test_reading_a_machine_can_be_ended_at_any_of_its_routes() -> None:
    asked = 0

    def progress(_done: float) -> None:
        nonlocal asked
        asked += 1

    Machines().read(machine_with_routes(300), progress)
    assert asked > 300


def with_overlapping_port_ranges(count: int) -> Network:
    """The demo with a list of ranges at the visitors' gateway."""
    chance = Random(5)
    firsts = [chance.randrange(1, 60_000) for _ in range(count)]
    lines = [
        f"{chance.choice(('permit', 'deny'))} tcp to any port {first}-{first + 4000}" for first in firsts
    ]
    item = {"name": "ranges", "family": "ipv4", "kind": "extended", "entries": "\n".join(lines)}
    placed = {"list": "ranges", "device": "centre-gw", "at": "eth1", "direction": "in"}
    changes = [
        Change(collection="lists", key="ranges", item=item),
        Change(collection="placements", key="centre-gw:eth1:in:ranges", item=placed),
    ]
    return edited(saltmarsh(), changes)


def test_findings_about_port_ranges_can_be_ended_at_any_entry() -> None:
    asked = 0

    def progress(_done: float) -> None:
        nonlocal asked
        asked += 1

    timeline = Timeline.build(with_overlapping_port_ranges(150))
    find_in_time(timeline, engines(), KeptFindings(), progress)
    assert asked > 150


def test_conversations_that_differ_in_ports_nobody_names_are_walked_once() -> None:
    """Behind a translation: else findings on many port ranges take longer than anybody waits."""
    network = with_overlapping_port_ranges(60)
    with patch.object(walked_classes, "converse_from", side_effect=converse_from) as walked:
        found = Prover(engines()).prove(
            read_requirement("allow visitors → any tcp"), build_world(network), network
        )
    assert found.proof.classes > 20 * walked.call_count


def test_work_within_a_time_ends_with_it() -> None:
    watched = within(3600)
    watched(0.5)
    ended = within(-1)
    with pytest.raises(Cancelled):
        ended(0.5)
