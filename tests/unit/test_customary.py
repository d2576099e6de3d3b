"""Where the trade puts a list that is carried: full near the source, source-only near the destination."""

import pytest

from greyheron.analysis.network.customary import Customary, customary_places
from tests.sites import site

CHAIN = (
    "router r1 a=172.20.1.1/24,2001:db8:1::1/64 w=172.21.0.1/30",
    "router r2 w=172.21.0.2/30 x=172.21.0.5/30",
    "router r3 x=172.21.0.6/30 b=172.20.2.1/24,2001:db8:2::1/64 out=203.0.113.1/30",
    "host pc 172.20.1.10/24,2001:db8:1::10/64",
    "host server 172.20.2.10/24 tcp/80",
    "outside beyond 203.0.113.2/30 198.51.100.0/24",
)


def places(listed: str) -> Customary:
    network = site(*CHAIN, listed)
    return customary_places(network, network.lists[-1])


@pytest.mark.parametrize(
    ("listed", "expected"),
    [
        ("list full deny tcp from 172.20.1.0/24 to @server port 80; permit any from any to any", "r1:a:in"),
        ("list full permit tcp from @pc to any port 80", "r1:a:in"),
        ("list full deny tcp from 198.51.100.0/24 to @server", "r3:out:in"),
        ("list full6 deny tcp from 2001:db8:1::/64 to any", "r1:a:in"),
        ("list full deny tcp from any to @server port 23; permit any from any to any", "r3:b:out"),
        ("list full permit any from any to any", ""),
        (
            "source-only list few deny 172.20.1.0/24; permit any",
            "r3:b:out r3:out:out r1:remote:in r1:web:in r2:remote:in r2:web:in r3:remote:in r3:web:in",
        ),
    ],
)
def test_the_places_of_the_trade(listed: str, expected: str) -> None:
    found = places(listed)
    assert " ".join(f"{each.device}:{each.at}:{each.direction}" for each in found.points) == expected
    assert bool(found.rule) is bool(expected)


@pytest.mark.parametrize(
    ("at", "words"),
    [
        ("r1:a:out", "Here it faces the other way: what it is about comes by inbound."),
        (
            "r1:w:out",
            "Here packets have been let in and routed already; entering r1 by a they are stopped first.",
        ),
        ("r2:w:in", "Here packets come one router further than entering r1 by a."),
        ("r3:b:out", "Here packets come 2 routers further than entering r1 by a."),
        ("r1:remote:in", "Here it sees logins to r1 only, and nothing that passes through."),
        ("r1:console:in", "Nobody comes to this line over the network: here it stops nothing."),
        ("server:eth0:in", "Here it is server’s own filter: the network carries the packets all the way."),
    ],
)
def test_what_is_different_elsewhere(at: str, words: str) -> None:
    found = places("list full deny tcp from 172.20.1.0/24 to @server port 80; permit any from any to any")
    said = {
        f"{each.point.device}:{each.point.at}:{each.point.direction}": each.words for each in found.elsewhere
    }
    assert said[at] == words


def test_a_source_only_list_at_its_source_stops_everything() -> None:
    found = places("source-only list few deny 172.20.1.0/24; permit any")
    said = {
        (each.point.device, each.point.at, each.point.direction.value): each.words for each in found.elsewhere
    }
    assert (
        said["r1", "a", "in"]
        == "Here it keeps its sources from everything, and not from one destination alone."
    )
    assert (
        said["r2", "x", "out"] == "Here it is one router earlier: more than one destination lies behind it."
    )
    assert said["r3", "x", "in"] == "Here more than one destination lies behind it."
