"""What a machine decides beside its filter's rules: said, or named, and then a verdict on it is not known."""

from typing import Any

import pytest

from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.formats.format import Brought
from greyheron.model.notation.flows import read_bare_flow
from tests.unit.test_machines import brought, gate, listing, machine, port

PC = machine(
    "pc",
    [port("eth0", "172.20.16.10/24")],
    route=[{"dst": "default", "gateway": "172.20.16.1", "dev": "eth0", "flags": []}],
)


def said(found: Brought, flow: str) -> set[str]:
    """The verdicts of a conversation, whatever is so of what is not known."""
    timeline = Timeline.build(found.network)
    return {str(converse(timeline.world(span), read_bare_flow(flow)).verdict) for span in timeline.shown}


def one(**more: Any) -> Brought:
    return brought(gate(listing({}), **more), PC)


@pytest.mark.parametrize(
    ("listening", "ends"),
    [
        (["0.0.0.0:22", "[::]:22"], {"172.20.16.1": {"passes"}, "172.20.0.1": {"passes"}}),
        (["*:22"], {"172.20.16.1": {"passes"}, "172.20.0.1": {"passes"}}),
        (["0.0.0.0:22"], {"172.20.16.1": {"passes"}, "172.20.0.1": {"passes"}}),
        (["172.20.16.1:22"], {"172.20.16.1": {"passes"}, "172.20.0.1": {"passes", "blocked"}}),
        (["*%lan:22"], {"172.20.16.1": {"passes"}, "172.20.0.1": {"passes"}}),
        (["*%up:22"], {"172.20.16.1": {"passes", "blocked"}, "172.20.0.1": {"passes", "blocked"}}),
        (["[::]:22"], {"172.20.16.1": {"passes", "blocked"}}),
    ],
)
def test_what_listens_at_some_addresses_only_is_not_known_elsewhere(
    listening: list[str], ends: dict[str, set[str]]
) -> None:
    found = one(listening=[f"tcp LISTEN 0 128 {each} 0.0.0.0:*" for each in listening])
    assert {end: said(found, f"pc → gate:{end} tcp/22") for end in ends} == ends


def test_a_route_that_says_with_which_address_to_send_is_not_known_where_it_is_another() -> None:
    far = "172.20.0.2"
    for source, verdicts in (("172.20.0.1", {"passes"}), ("172.20.16.1", {"passes", "blocked"})):
        route = [
            {"dst": "default", "gateway": far, "dev": "up", "prefsrc": source, "flags": []},
            {"dst": "172.20.0.0/30", "dev": "up", "protocol": "kernel", "prefsrc": "172.20.0.1"},
        ]
        found = one(route=route)
        assert said(found, "gate → 198.51.100.7 tcp/80") == verdicts
        assert said(found, "pc → 198.51.100.7 tcp/80") == {"passes"}


def test_a_table_that_was_named_and_not_listed_makes_all_unknown() -> None:
    assert said(one(flagged=["table ip t {"]), "pc → 198.51.100.7 tcp/80") == {"passes"}
    found = one(flagged=["table ip t {", "table inet other {"])
    assert said(found, "pc → 198.51.100.7 tcp/80") == {"passes", "blocked"}
    assert "table inet other" in " ".join(map(str, found.left_out))
    asleep = one(flagged=["table ip t {", "table inet other {", " flags dormant"])
    assert said(asleep, "pc → 198.51.100.7 tcp/80") == {"passes"}


def test_next_hops_on_the_link_that_nobody_collected_are_beyond() -> None:
    route = [{"dst": "default", "gateway": "198.51.100.1", "dev": "up", "flags": ["onlink"]}]
    found = one(route=route)
    assert {each.name for each in found.network.devices} >= {"beyond-1"}
    assert said(found, "pc → 203.0.113.9 tcp/80") == {"passes"}
    assert ("beyond-1:port", "gate:up") in [tuple(sorted(link.ends)) for link in found.network.links]
