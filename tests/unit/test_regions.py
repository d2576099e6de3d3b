"""Regions and spans: held to plain sets; and entries with nothing to do: held to removing them."""

from itertools import product
from random import Random

import pytest

from greyheron.analysis.entries.ineffective import ineffective_entries
from greyheron.core.intervals import (
    Blocks,
    Region,
    Spans,
    common,
    minus,
    parts_by,
    size,
    span_meet,
    span_minus,
    span_parts,
    span_union,
    tidied,
)
from greyheron.core.lists.matching import decide
from greyheron.core.lists.resolved import Names, ResolvedList, resolve
from greyheron.core.packet import Packet
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import AddressBlock
from greyheron.model.header import TcpFlags
from greyheron.model.read import read_network
from greyheron.model.values import Action, Family

BASE = 0xAC140000
WHOLE = AddressBlock.prefix(Family.IPV4, BASE, 24)


def members(region: Region) -> set[int]:
    return {number for number in range(256) if any(block.holds(BASE | number) for block in region)}


def some_block(chance: Random) -> AddressBlock:
    """A prefix or a scattered wildcard among 256 addresses."""
    address = BASE | chance.randrange(256)
    if chance.random() < 0.6:
        return AddressBlock.prefix(Family.IPV4, address, chance.randint(24, 32))
    mask = 0xFFFFFF00 | chance.randrange(256)
    return AddressBlock(Family.IPV4, address & mask, mask)


@pytest.mark.parametrize("seed", range(150))
def test_regions_are_sets(seed: int) -> None:
    chance = Random(seed)
    region = minus((WHOLE,), [some_block(chance) for _ in range(chance.randint(0, 12))])
    blocks = [some_block(chance) for _ in range(chance.randint(1, 12))]
    inside, outside = common(region, blocks), minus(region, blocks)
    assert members(inside) == members(region) & members(tuple(blocks))
    assert members(outside) == members(region) - members(tuple(blocks))
    assert size(region) == len(members(region))
    assert members(tidied(region)) == members(region)
    if region:
        sets = [tuple(some_block(chance) for _ in range(chance.randint(1, 4))) for _ in range(4)]
        found = [members(part) for part in parts_by(region, sets)]
        assert sorted(map(sorted, found)) == told_apart(members(region), [members(each) for each in sets])


@pytest.mark.parametrize("seed", range(150))
def test_an_address_set_holds_what_its_members_hold(seed: int) -> None:
    chance = Random(seed)
    plain = tuple(some_block(chance) for _ in range(chance.randint(0, 40)))
    found = Blocks(plain)
    inside = {number for number in range(256) if found.holds(BASE | number)}
    assert inside == members(plain)
    assert (found, hash(found)) == (plain, hash(plain))
    low, high = found.hull
    assert all(low <= BASE | number <= high for number in inside)
    prefixes = {number for number in range(256) if any(a <= BASE | number <= b for a, b in found.spans)}
    wanted = {edge for number in prefixes for edge in (number - 1, number + 1)} - prefixes
    assert wanted <= {edge - BASE for edge in found.borders(BASE, BASE | 255)}


def test_of_a_very_large_set_some_borders_are_enough() -> None:
    many = Blocks(AddressBlock.prefix(Family.IPV4, BASE + 2 * number, 32) for number in range(30_000))
    found = set(many.borders(BASE, BASE + 60_000))
    assert 32 < len(found) < 200
    assert not any(many.holds(edge) for edge in found)


def told_apart(whole: set[int], sets: list[set[int]]) -> list[list[int]]:
    """The members of `whole` by which of `sets` they are in."""
    found: dict[tuple[bool, ...], list[int]] = {}
    for number in sorted(whole):
        found.setdefault(tuple(number in each for each in sets), []).append(number)
    return sorted(found.values())


def some_spans(chance: Random) -> Spans:
    return span_union((low, low + chance.randrange(20)) for low in (chance.randrange(200) for _ in range(5)))


def numbers(spans: Spans) -> set[int]:
    return {number for low, high in spans for number in range(low, high + 1)}


@pytest.mark.parametrize("seed", range(100))
def test_spans_are_sets(seed: int) -> None:
    chance = Random(seed)
    one, other = some_spans(chance), some_spans(chance)
    assert numbers(span_meet(one, other)) == numbers(one) & numbers(other)
    assert numbers(span_minus(one, other)) == numbers(one) - numbers(other)
    sets = [other, *(some_spans(chance) for _ in range(3))]
    parts = [sorted(numbers(part)) for part in span_parts(one, sets)]
    assert sorted(parts) == told_apart(numbers(one), [numbers(each) for each in sets])


def some_entry(chance: Random) -> str:
    address = ["any", "172.20.0.0/30", "172.20.0.0/31", "172.20.0.1", "172.20.0.0~0.0.0.2"]
    protocol = chance.choice(["any", "tcp", "tcp", "udp"])
    port = (
        f" port {chance.choice(['1', '1-2', '2-3', '!=2'])}"
        if protocol != "any" and chance.random() < 0.6
        else ""
    )
    header = "" if port or protocol == "any" else chance.choice(["", "", " fragment"])
    if protocol == "tcp" and not header and chance.random() < 0.2:
        header = " established"
    source, goal = chance.choice(address), chance.choice(address)
    return f"{chance.choice(['permit', 'deny'])} {protocol} from {source} to {goal}{port}{header}"


def every_packet() -> list[Packet]:
    """All that entries like those above can tell apart, and more."""
    found = []
    for source, goal, port in product(range(5), range(5), range(1, 5)):
        ends = (0xAC140000 + source, 0xAC140000 + goal)
        found += [
            Packet(Family.IPV4, *ends, 6, 9, port, TcpFlags.SYN),
            Packet(Family.IPV4, *ends, 6, 9, port, TcpFlags.ACK),
            Packet(Family.IPV4, *ends, 17, 9, port),
        ]
    for one, two in product(range(5), repeat=2):
        ends = 0xAC140000 + one, 0xAC140000 + two
        found += [Packet(Family.IPV4, *ends, protocol, fragment=True) for protocol in (6, 17)]
        found.append(Packet(Family.IPV4, *ends, 47))
    return found


PACKETS = every_packet()


def resolved(entries: list[str]) -> ResolvedList:
    text = "\n".join(f"{10 * number} {entry}" for number, entry in enumerate(entries, 1))
    data = {"name": "tried", "family": "ipv4", "kind": "extended", "entries": text}
    return resolve(AccessList.model_validate(data), Names(Network(name="none")))


def test_an_entry_that_matches_nobody_is_not_judged() -> None:
    """It names a device that has no address of the family."""
    bare = {"name": "bare", "kind": "host", "interfaces": [{"name": "eth0"}]}
    network = read_network({"format": "grey-heron/1", "name": "one", "devices": [bare]})
    text = "10 permit tcp from any to any fragment\n20 permit tcp to @bare\n30 permit any"
    data = {"name": "tried", "family": "ipv4", "kind": "extended", "entries": text}
    found = resolve(AccessList.model_validate(data), Names(network))
    assert {each.number: each.by for each in ineffective_entries(found)} == {10: (30,)}


@pytest.mark.parametrize("seed", range(120))
def test_ineffective_entries_are_those_that_no_packet_misses(seed: int) -> None:
    chance = Random(seed)
    entries = [some_entry(chance) for _ in range(chance.randint(2, 7))]
    found = resolved(entries)
    ineffective = {each.number: each for each in ineffective_entries(found)}
    deciding = [decide(found, packet) for packet in PACKETS]
    for place, entry in enumerate(entries):
        number = 10 * (place + 1)
        matched = any(each.entry == number for each in deciding)
        assert (number in ineffective and not ineffective[number].matched) is not matched, entry
        if matched:
            without = resolved([*entries[:place], *entries[place + 1 :]])
            instead = [
                (decide(without, packet), each)
                for packet, each in zip(PACKETS, deciding, strict=True)
                if each.entry == number
            ]
            missed = any(now.action is not each.action or now.entry is None for now, each in instead)
            if number in ineffective:
                assert not missed, entry
                by = {now.entry if now.entry < number else now.entry + 10 for now, _ in instead if now.entry}
                assert set(ineffective[number].by) == by, entry
            elif not missed:
                denied = all(each.action is Action.DENY for each in deciding if each.entry == number)
                assert denied, entry  # what the implicit deny would do as well is left as it is written
