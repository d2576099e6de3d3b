"""Where the trade puts a list: what a teacher would mark as right, case by case (§10, advice)."""

from dataclasses import dataclass

import pytest

from greyheron.analysis.advice.advisor import Advisor, wanted
from greyheron.analysis.advice.choices import Advice
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.prover import Prover
from greyheron.core.bulk.engines import engines
from greyheron.core.world import build_world
from greyheron.model.changes import apply
from greyheron.model.document import Network
from greyheron.model.values import ListKind
from tests.sites import site

TWO = (
    "router r1 a=172.20.1.1/24 w=172.21.0.1/30",
    "router r2 w=172.21.0.2/30 b=172.20.2.1/24",
    "host pc 172.20.1.10/24",
    "host server 172.20.2.10/24 tcp/80,tcp/443",
)
THREE = (
    "router r1 a=172.20.1.1/24 w=172.21.0.1/30",
    "router r2 w=172.21.0.2/30 x=172.21.0.5/30 c=172.20.4.1/24",
    "router r3 x=172.21.0.6/30 b=172.20.2.1/24 d=172.20.3.1/24",
    "host pc 172.20.1.10/24",
    "host mate 172.20.1.11/24",
    "host third 172.20.4.10/24 tcp/80",
    "host server 172.20.2.10/24 tcp/80,tcp/443,udp/53",
    "host store 172.20.3.10/24 tcp/80",
)
BRANCHES = (
    "router core c=172.20.9.1/24 x=172.21.0.1/30 y=172.21.0.5/30",
    "router r1 x=172.21.0.2/30 a=172.20.1.1/24",
    "router r2 y=172.21.0.6/30 b=172.20.2.1/24",
    "host pc 172.20.1.10/24",
    "host lab 172.20.2.10/24",
    "host server 172.20.9.10/24 tcp/80",
)
ONE_GATE = (
    "router gate a=172.20.1.1/24 b=172.20.2.1/24 w=172.21.0.1/30",
    "router far w=172.21.0.2/30 s=172.20.9.1/24",
    "host pc 172.20.1.10/24",
    "host lab 172.20.2.10/24",
    "host server 172.20.9.10/24 tcp/80",
)
DIAMOND = (
    "router r1 a=172.20.1.1/24 u=172.21.0.1/30 v=172.21.0.5/30",
    "router up u=172.21.0.2/30 p=172.21.0.9/30",
    "router down v=172.21.0.6/30 q=172.21.0.13/30",
    "router r4 p=172.21.0.10/30 q=172.21.0.14/30 b=172.20.2.1/24",
    "host pc 172.20.1.10/24",
    "host server 172.20.2.10/24 tcp/80",
)
SIX = (
    "router r1 a=2001:db8:1::1/64 w=2001:db8:f::1/64",
    "router r2 w=2001:db8:f::2/64 b=2001:db8:2::1/64",
    "host pc 2001:db8:1::10/64",
    "host server 2001:db8:2::10/64 tcp/80",
)
BOTH = (
    "router r1 a=172.20.1.1/24,2001:db8:1::1/64 w=172.21.0.1/30,2001:db8:f::1/64",
    "router r2 w=172.21.0.2/30,2001:db8:f::2/64 b=172.20.2.1/24,2001:db8:2::1/64",
    "host pc 172.20.1.10/24,2001:db8:1::10/64",
    "host server 172.20.2.10/24,2001:db8:2::10/64 tcp/80",
)
WALLED = (
    "firewall wall lan=172.20.1.1/24 dmz=172.20.2.1/24 wan=203.0.113.1/30 zones lan,dmz,wan",
    "host pc 172.20.1.10/24 tcp/22",
    "host shop 172.20.2.10/24 tcp/443",
    "outside beyond 203.0.113.2/30 198.51.100.0/24",
    "route wall 0.0.0.0/0 203.0.113.2",
)
BEHIND = (
    "router r1 a=172.20.1.1/24 w=172.21.0.1/30",
    "firewall wall w=172.21.0.2/30 in=172.20.2.1/24 zones in,w",
    "host pc 172.20.1.10/24",
    "host server 172.20.2.10/24 tcp/80",
    "route r1 172.20.2.0/24 172.21.0.2",
    "route wall 172.20.1.0/24 172.21.0.1",
)
OPEN_WALL = (*BEHIND, "list open at wall:w:in permit any from any to any")
SHARED_WAY = (*THREE, "test mate → store tcp/80 pass", "test mate → server tcp/443 pass")
PUBLISHED = (
    "router edge in=172.20.1.1/24 out=203.0.113.1/29",
    "host shop 172.20.1.10/24 tcp/443",
    "host desk 172.20.1.11/24",
    "outside beyond 203.0.113.2/29 198.51.100.0/24",
    "route edge 0.0.0.0/0 203.0.113.2",
    "nat edge static in out 172.20.1.10/32 203.0.113.3/32",
)
PAST_IT = "deny udp from any to any port 69; permit any from any to any"
ALONE = (
    "host pc 172.20.1.10/24",
    "host mate 172.20.1.11/24 tcp/80",
    "router r1 a=172.20.1.1/24 w=172.21.0.1/30",
)


@dataclass(frozen=True)
class Placed:
    """What is asked in a network, and where the trade puts it.

    at:  places, as `device:interface:direction`;  says:  words of the sentence with it
    kind:  only lists of this kind are looked at;  entries:  what is written, where that matters
    """

    name: str
    network: tuple[str, ...]
    asked: str
    at: str
    says: str
    kind: str | None = None
    measure: str = "new"
    entries: tuple[str, ...] = ()


A = "segment:r1:a"
CASES = (
    # A full list: near the source, as packets enter.
    Placed("segment to host", TWO, f"block {A} → server ping", "r1:a:in", "where they enter"),
    Placed(
        "a prefix as the source", TWO, "block 172.20.1.0/24 → server tcp/80", "r1:a:in", "where they enter"
    ),
    Placed("one host to one host", TWO, "block pc → server tcp/80", "r1:a:in", "where they enter"),
    Placed("host to a segment", TWO, "block pc → segment:r2:b any", "r1:a:in", "where they enter"),
    Placed("segment to segment", TWO, f"block {A} → segment:r2:b any", "r1:a:in", "where they enter"),
    Placed("nobody listens yet", TWO, f"block {A} → server telnet", "r1:a:in", "where they enter"),
    Placed("three routers", THREE, f"block {A} → server tcp/443", "r1:a:in", "where they enter"),
    Placed("from the middle", THREE, "block third → server ping", "r2:c:in", "where they enter"),
    Placed("the other way", THREE, "block server → pc ping", "r3:b:in", "where they enter"),
    Placed("across one router", THREE, "block server → store tcp/80", "r3:b:in", "where they enter"),
    Placed("udp", THREE, f"block {A} → server udp/53", "r1:a:in", "where they enter"),
    Placed("two destinations", THREE, f"block {A} → server,store tcp/80", "r1:a:in", "where they enter"),
    Placed("everything of one host", THREE, "block pc → 172.20.2.0/23 any", "r1:a:in", "where they enter"),
    Placed("a flow as it is tested", THREE, "pc → server tcp/80 block", "r1:a:in", "where they enter"),
    Placed("over IPv6", SIX, f"block {A} → server tcp/80", "r1:a:in", "where they enter"),
    Placed("one host over IPv6", SIX, "block pc → server ping", "r1:a:in", "where they enter"),
    Placed("each family has its own", BOTH, f"block {A} → server tcp/80", "r1:a:in", "where they enter"),
    Placed("equal paths", DIAMOND, f"block {A} → server tcp/80", "r1:a:in", "where they enter"),
    Placed("equal paths back", DIAMOND, "block server → pc ping", "r4:b:in", "where they enter"),
    Placed(
        "behind a firewall that lets in",
        OPEN_WALL,
        f"block {A} → server tcp/80",
        "r1:a:in",
        "where they enter",
    ),
    Placed("out of a firewall", BEHIND, "block server → pc ping", "wall:in:in", "where they enter"),
    Placed(
        "from inside to the outside", WALLED, "block pc → beyond tcp/25", "wall:lan:in", "where they enter"
    ),
    Placed(
        "from outside to what is published",
        PUBLISHED,
        "block beyond → shop tcp/443",
        "edge:out:in",
        "where they enter",
    ),
    Placed(
        "who shares the way is not hit", SHARED_WAY, "block pc → server tcp/80", "r1:a:in", "where they enter"
    ),
    # Several source segments.
    Placed(
        "two branches meet at the core",
        BRANCHES,
        "block segment:r1:a,segment:r2:b → server tcp/80",
        "core:c:out",
        "at one place instead of 2",
    ),
    Placed(
        "two segments of one gateway",
        ONE_GATE,
        "block segment:gate:a,segment:gate:b → server tcp/80",
        "gate:w:out",
        "one router earlier than far",
    ),
    # A source-only list: near the destination, as packets leave.
    Placed("source-only", TWO, f"block {A} → segment:r2:b any", "r2:b:out", "as they leave", "standard"),
    Placed("source-only, one host", TWO, "block pc → server any", "r2:b:out", "as they leave", "standard"),
    Placed(
        "source-only, three routers",
        THREE,
        "block pc → segment:r3:b any",
        "r3:b:out",
        "as they leave",
        "standard",
    ),
    Placed(
        "source-only past others",
        (*THREE, "test pc → store tcp/80 pass", "test pc → third tcp/80 pass"),
        "block pc → server any",
        "r3:b:out",
        "as they leave",
        "standard",
    ),
    Placed(
        "source-only, equal paths",
        DIAMOND,
        f"block {A} → server any",
        "r4:b:out",
        "as they leave",
        "standard",
    ),
    Placed(
        "source-only on a shared router",
        THREE,
        "block server → store any",
        "r3:d:out",
        "as they leave",
        "standard",
    ),
    # A device's own logins: its remote line.
    Placed("remote line", TWO, "block pc → r2 remote", "r2:remote:in", "as they log in", measure="new"),
    Placed("ssh alone", TWO, f"block {A} → r2 ssh", "r2:remote:in", "as they log in"),
    Placed("its own gateway", TWO, "block pc → r1 telnet", "r1:remote:in", "as they log in"),
    Placed(
        "only the desk",
        TWO,
        "only pc → r1,r2 remote",
        "r1:remote:in r2:remote:in",
        "as they log in",
        entries=("permit from @pc", "deny from any"),
    ),
    Placed("the web line", TWO, f"block {A} → r2 https", "r2:web:in", "as they log in"),
    Placed(
        "every router's line",
        THREE,
        f"block {A} → routers remote",
        "r1:remote:in r2:remote:in r3:remote:in",
        "as they log in",
    ),
    Placed("more than logins", TWO, "block pc → r2 any", "r1:a:in", "where they enter"),
    # What stands there already.
    Placed(
        "a list stands there",
        (*TWO, f"list guard at r1:a:in {PAST_IT}"),
        f"block {A} → server tcp/80",
        "r1:a:in",
        "with 1 more entry in guard, which stands there",
        measure="extended",
        entries=("deny tcp from 172.20.1.0/24 to @server port 80",),
    ),
    Placed(
        "a source-only list stands there",
        (*TWO, "source-only list crowd at r1:a:in deny 172.20.1.66; permit any"),
        f"block {A} → server tcp/80",
        "r1:a:in",
        "in crowd, which stands there and becomes a full list",
        measure="widened",
    ),
    Placed(
        "a list stands further on",
        (*TWO, f"list guard at r2:b:out {PAST_IT}"),
        f"block {A} → server tcp/80",
        "r1:a:in",
        "where they enter",
    ),
    Placed(
        "placed nowhere",
        (*TWO, "list guard deny tcp from 172.20.1.0/24 to @server port 80; permit any from any to any"),
        f"block {A} → server tcp/80",
        "r1:a:in",
        "by moving guard there",
        measure="moved",
    ),
    # Opening.
    Placed(
        "above what denies it",
        (
            *TWO,
            "list guard at r1:a:in permit udp from any to any; deny tcp from any to any; "
            "permit any from any to any",
        ),
        "allow pc → server tcp/80",
        "r1:a:in",
        "above what denies them",
        measure="extended",
        entries=("permit tcp from @pc to @server port 80",),
    ),
    Placed(
        "above the implicit deny",
        (*TWO, "list guard at r2:w:in permit icmp from any to any; permit ospf from any to any"),
        "allow pc → server tcp/80",
        "r2:w:in",
        "above what denies them",
        measure="extended",
        entries=("permit tcp from @pc to @server port 80",),
    ),
    Placed(
        "the answer is denied",
        (*TWO, "list back at r2:b:in permit icmp from any to any"),
        "allow pc → server tcp/80",
        "r2:b:in",
        "above what denies them",
        measure="extended",
        entries=("permit tcp from @server port 80 to @pc established",),
    ),
    Placed(
        "at a line",
        (*TWO, "source-only list wardens at r2:remote:in permit 172.20.2.10"),
        "allow pc → r2 ssh",
        "r2:remote:in",
        "above what denies them",
        measure="extended",
        entries=("permit from @pc",),
    ),
    Placed(
        "two lists in the way",
        (
            *TWO,
            "list one at r1:a:in permit icmp from any to any",
            "list two at r2:b:out permit icmp from any to any",
        ),
        "allow pc → server tcp/80",
        "r1:a:in r2:b:out",
        "above what denies them",
        measure="extended",
    ),
    Placed(
        "zones deny it",
        WALLED,
        "allow beyond → shop tcp/443",
        "wall:wan:in",
        "overrules the zones",
        measure="opened",
        entries=("permit tcp from @beyond to @shop port 443\npermit any from any to @wall\n",),
    ),
    Placed(
        "from the middle zone inwards",
        WALLED,
        "allow shop → pc tcp/22",
        "wall:dmz:in",
        "overrules the zones",
        measure="opened",
    ),
    Placed(
        "through a firewall to a server",
        BEHIND,
        "allow pc → server tcp/80",
        "wall:w:in",
        "overrules the zones",
        measure="opened",
    ),
    # Hosts last.
    Placed("nobody routes between them", ALONE, "block pc → mate tcp/80", "pc:eth0:out", "by its own filter"),
)


def asked(network: Network, text: str) -> Advice:
    shared, world = engines(), build_world(network)
    return Advisor(Prover(shared), shared, world, network).advise(wanted(text, network))


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_the_first_choice_is_the_one_of_the_trade(case: Placed) -> None:
    network = site(*case.network)
    found = asked(network, case.asked).choices
    first = next(each for each in found if case.kind is None or each.kind is ListKind(case.kind))
    places = " ".join(f"{point.device}:{point.at}:{point.direction}" for point in first.points)
    assert (places, first.holds) == (case.at, True), [each.text for each in found[:4]]
    assert case.says in first.text
    assert first.measure == case.measure
    assert all(each in first.entries or each in "\n".join(first.entries) for each in case.entries), (
        first.entries
    )
    assert first.collateral.tests == ()
    after = apply(network, first.changes)
    statement = wanted(case.asked, network)
    if len({each.family for each in found}) == 1:
        assert Prover(engines()).prove(statement, build_world(after), after).proof.answer is Answer.PROVED


def test_there_are_enough_cases() -> None:
    assert len(CASES) >= 40
    assert len({case.name for case in CASES}) == len(CASES)


def test_each_gateway_and_the_place_that_all_pass_are_both_offered() -> None:
    found = asked(site(*BRANCHES), "block segment:r1:a,segment:r2:b → server tcp/80").choices
    said = {
        " ".join(f"{each.device}:{each.at}:{each.direction}" for each in one.points): one
        for one in found
        if one.kind is ListKind.EXTENDED
    }
    assert "at one place instead of 2" in said["core:c:out"].text
    both = said["r1:a:in r2:b:in"]
    assert (both.holds, both.text.startswith("2 places together: stop them where they enter")) == (True, True)
