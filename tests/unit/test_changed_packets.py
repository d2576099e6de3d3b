"""Exactly which packets are decided otherwise: held to the walk's own decision on packets at all borders."""

from itertools import pairwise
from random import Random

import pytest
from msgspec.structs import replace

from greyheron.analysis.entries.difference import PacketBox, changed_packets
from greyheron.analysis.entries.packet_classes import has_ports, kinds_of, named_values, packet_of
from greyheron.analysis.network.changed_lists import ChangedList, ChangedPlace
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.questions.packets import PacketChanges, PacketsQuestion
from greyheron.core.intervals import TooManyParts, within
from greyheron.core.lists.fields import RANGED_FIELDS
from greyheron.core.lists.fields.field import FieldValues
from greyheron.core.lists.matching import decide, first_mismatch, implicit_rules
from greyheron.core.lists.resolved import Names, ResolvedList, resolve
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change
from greyheron.model.document import AccessList, Network, to_data
from greyheron.model.entry import AddressBlock, Entry
from greyheron.model.read import edited, read_network
from greyheron.model.values import Action
from tests.random_networks import random_network

PACKETS = 400


def otherwise(chance: Random, access_list: AccessList, others: list[Entry]) -> AccessList:
    """A list with entries out, swapped, turned to the opposite or new."""
    entries = list(access_list.body.entries)
    for _ in range(chance.randrange(1, 4)):
        draw, at = chance.random(), chance.randrange(len(entries) or 1)
        if draw < 0.25 and entries:
            entries.pop(at)
        elif draw < 0.5 and at + 1 < len(entries):
            entries[at : at + 2] = entries[at + 1], entries[at]
        elif draw < 0.75 and entries:
            opposite = Action.DENY if entries[at].action is Action.PERMIT else Action.PERMIT
            entries[at] = replace(entries[at], action=opposite, silent=False)
        elif others:
            entries.insert(at, chance.choice(others))
    numbered = [replace(each, number=10 * number) for number, each in enumerate(entries, 1)]
    return access_list.model_copy(update={"body": access_list.body.with_entries(numbered)})


def holds(box: PacketBox, packet: Packet, rules: list[Rule]) -> bool:
    """Whether it has the packet: one of its kinds, with the same ends, is matched by the same entries."""
    ends = [getattr(packet, field.attribute) for field in RANGED_FIELDS]

    def matched(each: Packet) -> list[bool]:
        return [first_mismatch(rule, each) is None for rule in rules]

    alike = (
        matched(packet_of(kind, ends)) == matched(packet)
        for kind in box.examples
        if has_ports(kind) == has_ports(packet)
    )
    return any(alike) and all(
        values is None or (number is not None and is_in(values, number))
        for values, number in zip(box.values, ends, strict=True)
    )


def is_in(values: FieldValues, number: int) -> bool:
    if isinstance(values[0], AddressBlock):
        return any(block.holds(number) for block in values)
    return within(values, number)


@pytest.mark.parametrize("seed", range(910_000, 910_040))
def test_the_boxes_hold_the_packets_that_are_decided_otherwise_and_no_others(seed: int) -> None:
    network, chance = random_network(seed), Random(seed)
    names = Names(network)
    for each in network.lists:
        if each.family is None:
            continue
        own = [
            entry for other in network.lists if other.family is each.family for entry in other.body.entries
        ]
        before, after = resolve(each, names), resolve(otherwise(chance, each, own), names)
        boxes = changed_packets(before, after)
        rules = [*before.rules, *after.rules, *implicit_rules(each.family)]
        if not rules:
            continue
        kinds = kinds_of(each.family, named_values(rules))
        ends = [
            sorted({end for rule in rules for end in field.borders(rule, rules, each.family)})
            for field in RANGED_FIELDS
        ]
        for _ in range(PACKETS):
            packet = packet_of(chance.choice(kinds), [chance.choice(some or [0]) for some in ends])
            old, new = (decide(found, packet).action for found in (before, after))
            holding = [box for box in boxes if holds(box, packet, rules)]
            if old is new:
                assert holding == [], (seed, each.name, packet)
            else:
                assert {box.permitted for box in holding} == {new is Action.PERMIT}, (seed, each.name, packet)


def network_with(entries: str, family: str = "ipv4", kind: str = "extended") -> Network:
    own = {"name": "own", "family": family, "kind": kind, "entries": entries}
    sets = {
        "address_sets": [{"name": "hides", "members": ["172.20.17.0/24", "2001:db8:7::/64"]}],
        "periods": [{"name": "by-day", "windows": ["mon-fri 08:00-18:00"]}],
    }
    return read_network({"format": "grey-heron/1", "name": "small", "devices": [], "lists": [own], **sets})


def asked(before: Network, after: Network) -> PacketChanges:
    return DerivedState().ask(PacketsQuestion(), RunningAndDraft(before, after))


def told(before: str, after: str, family: str = "ipv4", kind: str = "extended") -> list[str]:
    """What is said of a list that changes, each with its time."""
    (changed,) = asked(network_with(before, family, kind), network_with(after, family, kind)).lists
    assert changed.left == ""
    return [f"{each.when}: {text}".removeprefix(": ") for each in changed.changed for text in each.packets]


@pytest.mark.parametrize(
    ("before", "after", "said"),
    [
        (
            "deny any from any to any",
            "permit tcp from 172.20.16.0/24 to 172.20.40.10 port 1-1023\ndeny any from any to any",
            ["permits 256 × 1 × 1,023 more: tcp from 172.20.16.0/24 to 172.20.40.10, ports 1–1023"],
        ),
        (
            "permit any from any to any",
            "deny udp from @hides to any port 53\npermit any from any to any",
            ["denies 256 × 1 more: udp from hides to any, port 53 (domain)"],
        ),
        (
            "permit any from any to any",
            "permit any from @hides to any",
            ["denies about 2^32 more: every protocol from any but hides to any"],
        ),
        (
            "permit tcp from any to any",
            "permit tcp from any to any established",
            ["denies more: tcp not established, tcp fragments from any to any"],
        ),
        (
            "permit icmp from any to any\npermit udp from any to any",
            "permit icmp echo-request from any to any\npermit udp from any to any dscp 46",
            [
                "denies more: icmp any other type, icmp fragments, udp dscp 0-45,47-63 from any to any",
            ],
        ),
        (
            "permit tcp from 172.20.16.0/25 to any\npermit tcp from 172.20.16.128/25 to any",
            "permit tcp from 172.20.16.0/24 to any",
            [],
        ),
        (
            "permit tcp from any to any port 80",
            "permit tcp from any port 1024-65535 to any port 80",
            ["denies 1,024 × 1 more: tcp from any to any, from ports 0–1023, port 80 (http)"],
        ),
        (
            "permit tcp from any to any port 80",
            "permit tcp from any to any port 80 during by-day",
            ["outside by-day: denies 1 more: tcp from any to any, port 80 (http)"],
        ),
    ],
)
def test_what_is_said(before: str, after: str, said: list[str]) -> None:
    assert told(before, after) == said


def test_ipv6_keeps_neighbour_discovery_at_its_unseen_end() -> None:
    assert told("permit icmp from any to any", "permit tcp from any to any", "ipv6") == [
        "permits more: tcp from any to any",
        "denies more: icmp any other type, icmp fragments from any to any",
    ]


def test_too_much_is_said_to_be_too_much(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("greyheron.analysis.entries.difference.MOST_STATES", 0)
    network = network_with("permit tcp from 172.20.16.0/24 to any")
    after = network_with("permit tcp from 172.20.17.0/24 to any")
    (changed,) = asked(network, after).lists
    assert changed.left == "it changes too much to be told in parts"
    with pytest.raises(TooManyParts):
        changed_packets(resolve(network.lists[0], Names(network)), resolve(after.lists[0], Names(after)))


def put(network: Network, collection: str, key: str, item: dict[str, object] | None) -> Network:
    return edited(network, [Change(collection=collection, key=key, item=item)])


def data_of(network: Network, name: str) -> dict[str, object]:
    return to_data(next(each for each in network.lists if each.name == name))


def hides_in(network: Network, more: str) -> Network:
    item = data_of(network, "hides-in")
    return put(network, "lists", "hides-in", {**item, "entries": f"{more}\n{item['entries']}"})


def one_list(before: Network, after: Network) -> ChangedList:
    found = asked(before, after)
    assert found.places == ()
    (changed,) = found.lists
    return changed


def test_what_really_comes_where_it_stands() -> None:
    before = saltmarsh()
    everyone = one_list(before, hides_in(before, "5 permit tcp from any to @ledger port 80"))
    (place,) = everyone.places
    assert everyone.changed[0].packets[0].endswith("tcp from any to ledger, port 80 (http)")
    assert (place.device, place.at, place.direction) == ("hide-gw", "eth1", "in")
    assert "172.20.48.0/24" in place.changed[0].packets[0]
    nobody = one_list(before, hides_in(before, "5 permit tcp from 198.51.100.9 to 198.51.100.10"))
    assert nobody.changed != ()
    assert nobody.places[0].changed == ()


def places(before: Network, after: Network) -> dict[tuple[str, str], ChangedPlace]:
    found = asked(before, after)
    assert found.lists == ()
    return {(each.device, each.at): each for each in found.places}


def test_a_list_placed_or_taken_away_is_told_where_it_stands() -> None:
    network = saltmarsh()
    placed = next(each for each in network.placements if each.list == "hides-in")
    gone = put(network, "placements", f"{placed.device}:{placed.at}:{placed.direction}:hides-in", None)
    there, back = places(network, gone), places(gone, network)
    assert there.keys() == back.keys() == {("hide-gw", "eth1")}
    taken, put_back = there["hide-gw", "eth1"], back["hide-gw", "eth1"]
    assert (taken.before, taken.after) == (put_back.after, put_back.before) == ("hides-in", None)
    for one, other in zip(taken.changed, put_back.changed, strict=True):
        assert [each.replace("permits", "denies") for each in one.packets] == list(other.packets)


def test_a_management_line_meets_whoever_comes() -> None:
    network = saltmarsh()
    gone = put(network, "placements", "lagoon:remote:in:wardens-only", None)
    place = places(network, gone)["lagoon", "remote"]
    assert place.where == "at lagoon’s remote line"
    assert place.changed[0].packets == (
        "permits about 2^32 more: every protocol from any but wardens-desk to any",
    )


def test_a_changed_set_changes_the_lists_that_name_it() -> None:
    before = network_with("permit tcp from @hides to any")
    after = put(before, "address_sets", "hides", {"name": "hides", "members": ["172.20.17.0/25"]})
    (changed,) = asked(before, after).lists
    assert changed.changed[0].packets == ("denies 128 more: tcp from 172.20.17.128/25 to any",)


def test_frames_are_said_not_to_be_counted() -> None:
    network = saltmarsh()
    item = data_of(network, "cam-ports")
    after = put(network, "lists", "cam-ports", {**item, "entries": "10 permit ipv4\n"})
    (changed,) = asked(network, after).lists
    assert (changed.name, changed.left) == ("cam-ports", "frames are not counted")


def test_boxes_are_told_largest_first() -> None:
    network = random_network(910_003)
    names = Names(network)
    for each in network.lists:
        if each.family is not None:
            found = changed_packets(resolve(each, names), replace_rules(resolve(each, names)))
            for one, other in pairwise([box for box in found if box.permitted]):
                assert one.headers(each.family) >= other.headers(each.family)


def replace_rules(found: ResolvedList) -> ResolvedList:
    return ResolvedList(found.name, found.family, found.kind, ())


def test_where_zones_decide_without_a_list_that_is_said() -> None:
    network = saltmarsh()
    gone = put(network, "placements", "weir:wan0:in:from-beyond", None)
    place = places(network, gone)["weir", "wan0"]
    assert (place.changed, place.left) == ((), "where no list stands its zones decide")


def test_another_list_that_decides_alike_changes_nothing() -> None:
    network = saltmarsh()
    alike = put(network, "lists", "same", {**data_of(network, "hides-in"), "name": "same"})
    item: dict[str, object] = {"list": "same", "device": "hide-gw", "at": "eth1", "direction": "in"}
    gone = put(alike, "placements", "hide-gw:eth1:in:hides-in", None)
    other = put(gone, "placements", "hide-gw:eth1:in:same", item)
    assert asked(alike, other) == PacketChanges((), ())
    assert [each.changed != () for each in asked(alike, gone).places] == [True]


def test_too_many_boxes_are_not_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("greyheron.analysis.entries.difference._MOST_BOXES", 0)
    before, after = (
        resolve(each.lists[0], Names(each))
        for each in (network_with("permit any from any to any"), network_with("deny any from @hides to any"))
    )
    with pytest.raises(TooManyParts):
        changed_packets(before, after)
