"""The bulk engine: decision tables against the first-match rule, many paths, and classes of conversations."""

from ipaddress import ip_address
from random import Random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.indexes import ForwardingIndexes
from greyheron.core.bulk.tables import DecisionTable
from greyheron.core.headers import NO_PORT, NONE, Addresses, Headers
from greyheron.core.lists.matching import decide
from greyheron.core.lists.resolved import Names, ResolvedList, resolve
from greyheron.core.packet import Packet
from greyheron.core.walk.conversation import converse_from
from greyheron.core.world import build_world
from greyheron.demo.networks import saltmarsh
from greyheron.model.document import AccessList, Network
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP, WITH_PORTS
from greyheron.model.services import Request
from greyheron.model.values import Family
from tests.bulk import in_bulk
from tests.lab import Lab
from tests.random_networks import random_network


def kinds_in(family: Family) -> tuple[Packet, ...]:
    """Packets between nobody, of kinds that lists tell apart, those of the other family's ICMP too."""
    return tuple(
        Packet(family, 0, 0, protocol, flags=flags, icmp_type=kind, icmp_code=code)
        for protocol, flags, kind, code in (
            (6, TcpFlags.SYN, None, None),
            (6, TcpFlags.ACK, None, None),
            (17, TcpFlags.NONE, None, None),
            (47, TcpFlags.NONE, None, None),
            (1, TcpFlags.NONE, 8, 0),
            (1, TcpFlags.NONE, 3, 1),
            (58, TcpFlags.NONE, 128, 0),
            (58, TcpFlags.NONE, 135, 0),
            (89, TcpFlags.NONE, None, None),
        )
    )


NEAR = (0, 0, 0, 1, 2, 255, 1 << 16, 1 << 64)
PORTS = (0, 21, 22, 53, 80, 81, 1023, 1024, 49152, 65535)


def random_headers(family: Family, known: list[int], chance: Random, count: int) -> Headers:
    """Headers at and near the addresses and ports that lists speak of."""
    addresses, kinds = Addresses(family), kinds_in(family)

    def drawn() -> list[int]:
        return [
            addresses.index((chance.choice(known) ^ chance.choice(NEAR)) & family.every_bit)
            for _ in range(count)
        ]

    source, destination = np.array(drawn()), np.array(drawn())
    kind = np.array([chance.randrange(len(kinds)) for _ in range(count)])
    with_ports = np.array([each.protocol in WITH_PORTS for each in kinds])[kind]
    ports = [np.where(with_ports, [chance.choice(PORTS) for _ in range(count)], NO_PORT) for _ in range(2)]
    return Headers(addresses, kinds, source, destination, kind, *ports)


def packet_of(headers: Headers, number: int) -> Packet:
    kind = headers.kinds[headers.kind[number]]

    def port(value: int) -> int | None:
        return None if value == NO_PORT else int(value)

    return Packet(
        headers.addresses.family,
        headers.addresses.values[headers.source[number]],
        headers.addresses.values[headers.destination[number]],
        kind.protocol,
        port(headers.source_port[number]),
        port(headers.destination_port[number]),
        kind.flags,
        kind.icmp_type,
        kind.icmp_code,
    )


def compare_table(resolved: ResolvedList, headers: Headers) -> None:
    table = DecisionTable(resolved)
    found = table.first_match(headers)
    for number, index in enumerate(found.tolist()):
        decision = decide(resolved, packet_of(headers, number))
        assert (table.entries[index], bool(table.denies[index])) == (
            NONE if decision.entry is None else decision.entry,
            decision.denies,
        )


@given(st.integers(0, 1_000_000))
def test_a_decision_table_says_what_the_first_match_says(seed: int) -> None:
    network, chance = random_network(seed), Random(seed)
    for access_list in (each for each in network.lists if each.family):
        resolved = resolve(access_list, Names(network))
        known = [
            block.value
            for rule in resolved.rules
            for blocks in (rule.sources, rule.destinations)
            for block in blocks or ()
        ]
        compare_table(resolved, random_headers(resolved.family, known or [0xAC14_0101], chance, 30))


def long_list(family: str, lines: list[str]) -> ResolvedList:
    item = {"name": "long", "family": family, "kind": "extended", "entries": "\n".join(lines)}
    return resolve(AccessList.model_validate(item), Names(saltmarsh()))


@pytest.mark.parametrize("count", [63, 64, 65, 200])
def test_a_table_has_as_many_words_as_its_list_needs(count: int) -> None:
    lines = [f"permit tcp from any to 172.20.{number}.0/24 port 443" for number in range(count)]
    resolved = long_list("ipv4", lines)
    headers = random_headers(
        Family.IPV4, [0xAC14_0000 + (number << 8) for number in range(count)], Random(1), 500
    )
    compare_table(resolved, headers)


def test_even_hosts_across_a_great_prefix_are_one_class_and_odd_ones_another() -> None:
    resolved = long_list(
        "ipv4", ["deny any from 172.0.0.0~0.255.255.254 to any", "permit any from 172.16.0.0/12 to any"]
    )
    addresses = Addresses(Family.IPV4, (0xAC14_0000 + number for number in range(0, 1 << 16, 7)))
    count = len(addresses)
    zeros = np.zeros(count, dtype=np.int64)
    ports = np.full(count, NO_PORT)
    found = DecisionTable(resolved).first_match(
        Headers(addresses, (Packet(Family.IPV4, 0, 0, 47),), np.arange(count), zeros, zeros, ports, ports)
    )
    assert found.tolist() == [0 if address % 2 == 0 else 1 for address in addresses.values]


def test_source_ports_are_told_apart_by_what_lists_say_of_replies() -> None:
    lab = Lab().place(
        "r2 wan1 in", "deny tcp from any port 443 to any port 40000-41000\npermit any from any to any"
    )
    world = build_world(lab.network())
    left, right = (int(ip_address(text)) for text in ("172.20.1.10", "172.20.3.10"))
    ports = (39999, 40000, 41000, 41001)
    openers = [(Packet(Family.IPV4, left, right, TCP, port, 443, TcpFlags.SYN), "left") for port in ports]
    assert [found[0] for found in in_bulk(world, openers)] == ["passes", "blocked", "blocked", "passes"]


def test_many_conversations_are_tried_once_for_each_class() -> None:
    world = build_world(saltmarsh())
    hosts = ["kiosk", "wardens-desk", "ringing-desk"]
    addresses = [world.topology.addresses(host, Family.IPV4)[0] for host in hosts]
    chance, count = np.random.default_rng(8470), 20_000
    asked = Conversations(
        Family.IPV4,
        [(host, None) for host in hosts],
        addresses,
        [Request(TCP, 80), Request(TCP, 23), Request(1, None, 8, 0)],
        chance.integers(0, 3, count),
        chance.integers(0, 3, count),
        chance.integers(0, 3, count),
        chance.integers(1024, 65536, count),
    )
    found = BulkEngine(world).verdicts(asked)
    for number in range(0, count, 500):
        request = asked.requests[asked.request[number]]
        opener = Packet(
            Family.IPV4,
            None,
            addresses[asked.destination[number]],
            request.protocol,
            None if request.port is None else int(asked.source_port[number]),
            request.port,
            TcpFlags.SYN if request.port else TcpFlags.NONE,
            request.icmp_type,
            request.icmp_code,
        )
        walked = converse_from(world, opener, hosts[asked.sender[number]]).verdict
        assert VERDICT_ORDER[found.verdict[number]] is walked


def all_pairs(network: Network, family: Family) -> Conversations:
    """Every device to every other's first address, about a few services."""
    world = build_world(network)
    ends = [(name, world.topology.addresses(name, family)) for name in world.topology.devices]
    senders = [(name, None) for name, held in ends if held]
    requests = [Request(TCP, 80), Request(17, 53), Request(family.icmp, None, family.echo[0], 0)]
    count = len(senders)
    sender, destination, request = np.indices((count, count, len(requests))).reshape(3, -1)
    addresses = [held[0] for _, held in ends if held]
    ports = np.full(len(sender), 49152)
    return Conversations(family, senders, addresses, requests, sender, destination, request, ports)


@pytest.mark.long
@given(st.integers(0, 1_000_000))
def test_an_edit_of_lists_changes_only_the_rows_that_it_can(seed: int) -> None:
    network, chance = random_network(seed), Random(seed)
    gone = [placed for placed in network.placements if chance.random() < 0.5]
    edited = network.model_copy(
        update={"placements": tuple(placed for placed in network.placements if placed not in gone)}
    )
    world, fabrics = build_world(network), ForwardingIndexes()
    before, after = BulkEngine(world, fabrics), BulkEngine(build_world(edited, world), fabrics)
    for family in Family:
        asked = all_pairs(network, family)
        traced_paths = before.traced_paths(asked)
        if not len(asked) or not after.fits(traced_paths):
            continue
        verdict = before.row_verdicts(traced_paths).verdict
        rows, changed = after.changed_rows(traced_paths, before)
        verdict[rows] = changed.verdict
        fresh = BulkEngine(build_world(edited)).verdicts(asked).verdict
        assert verdict[traced_paths.row_of].tolist() == fresh.tolist()
