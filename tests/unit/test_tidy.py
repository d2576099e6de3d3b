"""Shorter lists that decide alike: on random lists by every class of packets, and on cases by hand."""

from random import Random

import pytest
from msgspec.structs import replace

from greyheron.analysis.entries.packet_classes import classes_of
from greyheron.analysis.entries.tidy import Tidied, tidy
from greyheron.core.lists.matching import decide
from greyheron.core.lists.periods import spans_of
from greyheron.core.lists.resolved import Names, resolve
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import AddressBlock, Entry, ListBody, PortSpan
from greyheron.model.notation.lists import read_body, write_body
from greyheron.model.read import edited, read_network
from tests.random_networks import random_network

SETS = {
    "address_sets": [{"name": "hides", "members": ["172.20.17.0/24", "172.20.40.7", "2001:db8:7::/64"]}],
    "port_sets": [{"name": "web", "members": ["80", "443"]}],
    "periods": [{"name": "by-day", "windows": ["mon-fri 08:00-18:00"]}],
}


def network_with(entries: str, family: str = "ipv4", kind: str = "extended") -> Network:
    own = {"name": "own", "family": family, "kind": kind, "entries": entries}
    data = {"format": "grey-heron/1", "name": "small", "devices": [], "lists": [own], **SETS}
    return read_network(data)


def tidied(entries: str, family: str = "ipv4", kind: str = "extended") -> str:
    """The entries, tidied, without their numbers."""
    network = network_with(entries, family, kind)
    found = tidy(network.lists[0], network)
    assert unlike(network.lists[0], found, network) == []
    lines = write_body(found.body, network.lists[0].family, network.lists[0].kind).splitlines()
    return "\n".join(line if line.startswith("#") else line.split(" ", 1)[1].strip() for line in lines)


def unlike(access_list: AccessList, found: Tidied, network: Network) -> list[object]:
    """Packets that are decided otherwise: one of every class that any entry of either list tells apart."""
    after = access_list.model_copy(update={"body": found.body})
    family = access_list.family
    assert family is not None
    different: list[object] = []
    for span in spans_of(network):
        both = [resolve(each, Names(network), span.active) for each in (access_list, after)]
        rules = [rule for each in both for rule in each.rules]
        for rule in rules:
            for packet in classes_of(rule, rules, family) or ():
                one, other = (decide(each, packet) for each in both)
                if (one.action, one.log, one.silent) != (other.action, other.log, other.silent):
                    different.append((packet, one, other))
    return different


@pytest.mark.parametrize("seed", range(700_000, 700_040))
def test_random_lists_decide_alike_and_are_never_longer(seed: int) -> None:
    network = random_network(seed)
    for each in network.lists:
        found = tidy(each, network)
        assert len(found.body.entries) <= len(each.body.entries)
        if each.family is not None:
            assert unlike(each, found, network) == []
            text = write_body(found.body, each.family, each.kind)
            assert read_body(text, each.family, each.kind) == found.body


def halves(entry: Entry, chance: Random) -> list[Entry]:
    """An entry as two that match together what it matches, in any order; or itself."""
    ways: list[tuple[str, list[object]]] = []
    for field in ("source", "destination"):
        term = getattr(entry, field)
        if isinstance(term, AddressBlock) and term.length is not None and term.length < term.family.bits:
            bit = 1 << (term.family.bits - term.length - 1)
            both = (AddressBlock(term.family, term.value | more, term.mask | bit) for more in (0, bit))
            ways.append((field, list(both)))
    for field in ("source_ports", "destination_ports"):
        terms = getattr(entry, field)
        if len(terms) > 1:
            ways.append((field, [terms[:1], terms[1:]]))
        elif terms and isinstance(terms[0], PortSpan) and terms[0].low < terms[0].high:
            middle = chance.randrange(terms[0].low, terms[0].high)
            lower, upper = PortSpan(terms[0].low, middle), PortSpan(middle + 1, terms[0].high)
            ways.append((field, [(lower,), (upper,)]))
    if not ways:
        return [entry]
    field, says = chance.choice(ways)
    chance.shuffle(says)
    return [replace(entry, **{field: each}, note=None, remarks=()) for each in says]


def test_a_short_list_is_found_again_in_its_pieces() -> None:
    again, tried = 0, 0
    for seed in range(720_000, 720_040):
        network, chance = random_network(seed), Random(seed)
        for each in network.lists:
            short = tidy(each, network).body.entries
            entries = list(short)
            for _ in range(3 * len(short)):
                place = chance.randrange(len(entries))
                entries[place : place + 1] = halves(entries[place], chance)
            if each.family is None or len(entries) == len(short):
                continue
            numbered = (replace(entry, number=number) for number, entry in enumerate(entries, 1))
            split = each.model_copy(update={"body": ListBody(tuple(numbered))})
            tried += 1
            again += len(tidy(split, network).body.entries) <= len(short)
    assert tried > 20
    assert again >= 0.9 * tried


@pytest.mark.parametrize(
    ("entries", "expected"),
    [
        (
            "permit tcp from 172.20.16.0/24 to any port 80\npermit tcp from 172.20.17.0/24 to any port 80",
            "permit tcp from 172.20.16.0/23 to any port 80",
        ),
        (
            "permit tcp from any to any port 22\npermit tcp from any to any port 23\n"
            "deny any from any to any",
            "permit tcp from any to any port 22-23",
        ),
        (
            "permit tcp from any to any port 443\npermit tcp from any to any port 80",
            "permit tcp from any to any port @web",
        ),
        (
            "permit any from 172.20.40.7 to any\npermit any from 172.20.17.0/24 to any",
            "permit any from @hides to any",
        ),
        (  # the one between does something else with some of it
            "permit any from 172.20.16.0/24 to any\ndeny tcp from any to any port 23\n"
            "permit any from 172.20.17.0/24 to any",
            None,
        ),
        (  # the last cannot come before the denial, nor the first two behind it
            "permit tcp from any to any port 80\npermit tcp from any to any port 443\n"
            "deny tcp from 172.20.16.0/24 to any log\npermit tcp from any to any port 22",
            "permit tcp from any to any port @web\n"
            "deny tcp from 172.20.16.0/24 to any log\npermit tcp from any to any port 22",
        ),
        (  # a denial that is logged is not what the end does
            "permit any from 172.20.16.0/24 to any\ndeny any from any to any log",
            None,
        ),
        (  # at some times the second is not there
            "permit any from 172.20.16.0/24 to any during by-day\npermit any from 172.20.17.0/24 to any",
            None,
        ),
        (
            "permit any from 172.20.16.0/24 to any during by-day\npermit any from 172.20.16.0/23 to any",
            "permit any from 172.20.16.0/23 to any",
        ),
    ],
)
def test_what_can_be_one_is_one_and_nothing_else(entries: str, expected: str | None) -> None:
    assert tidied(entries) == (entries if expected is None else expected)


def test_neighbour_discovery_at_the_end_of_an_ipv6_list_is_reckoned_with() -> None:
    """A denial of everything denies neighbour discovery too: the end of the list does not do the same."""
    entries = "permit tcp from any to any port 80\ndeny any from any to any"
    assert tidied(entries, "ipv6").splitlines()[-1] == "deny any from any to any"
    assert "deny tcp" not in tidied("permit tcp from any to any port 80\ndeny tcp from any to any", "ipv6")


def test_notes_stay_with_what_they_speak_of() -> None:
    entries = (
        "# the floor\npermit any from 172.20.16.0/24 to any # kiosks\n"
        "# the bar\npermit any from 172.20.17.0/24 to any # tills"
    )
    assert tidied(entries) == "# the floor\n# the bar\npermit any from 172.20.16.0/23 to any # kiosks; tills"


def frames_tidied(entries: str) -> tuple[str, list[str]]:
    own = {"name": "own", "kind": "frame", "entries": entries}
    network = read_network({"format": "grey-heron/1", "name": "small", "devices": [], "lists": [own]})
    found = tidy(network.lists[0], network)
    return write_body(found.body, None, network.lists[0].kind), [each.why for each in found.steps]


def test_frame_lists_lose_what_never_matches_and_what_their_end_does() -> None:
    assert frames_tidied("permit arp\npermit arp from any\npermit ipv4\ndeny any\n") == (
        "10 permit arp\n30 permit ipv4\n",
        ["never matches: 10 is before it", "the end of the list does the same"],
    )
    assert frames_tidied("permit arp\ndeny any log\n") == ("10 permit arp\n20 deny any log\n", [])
    assert frames_tidied("deny arp\ndeny any\n") == ("10 deny arp\n20 deny any\n", [])


def test_an_entry_of_an_empty_set_waits_for_its_members() -> None:
    network = network_with("deny any from @hides to any\npermit any from any to any")
    empty = {"name": "hides", "members": []}
    network = edited(network, [Change(collection="address_sets", key="hides", item=empty)])
    assert tidy(network.lists[0], network).steps == ()


def test_each_step_says_what_became_of_which_entries() -> None:
    network = network_with(
        "10 permit any from 172.20.16.0/24 to any\n20 permit tcp from 172.20.16.9 to any port 80\n"
        "30 permit any from 172.20.17.0/24 to any"
    )
    steps = tidy(network.lists[0], network).steps
    assert [(each.of, each.into, each.why) for each in steps] == [
        ((20,), None, "entry 10 takes all of its packets first"),
        ((10, 30), 10, "can be one: 172.20.16.0/23"),
    ]


def test_what_never_matched_and_does_the_opposite_is_doubtful() -> None:
    network = network_with("10 deny any from any to any log\n20 permit tcp from any to any port 443")
    (step,) = tidy(network.lists[0], network).steps
    assert (step.of, step.doubtful) == ((20,), True)
    assert step.why.endswith("perhaps it should stand above")


def test_the_demo_is_as_short_as_it_can_be() -> None:
    network = saltmarsh()
    assert [each.name for each in network.lists if tidy(each, network).steps] == []
