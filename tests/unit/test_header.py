"""Flags, fragments and code points (§3): as they are written, in a trace, in proofs and in findings."""

import pytest

from greyheron.analysis.entries.ineffective import ineffective_entries
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.wording import asking_words
from greyheron.analysis.testing.bulk_verdicts import Flows
from greyheron.core.bulk.engines import engines
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import build_world
from greyheron.model.notation.entries import read_entry, write_entry
from greyheron.model.notation.flows import read_bare_flow, write_flow
from greyheron.model.notation.line import LineError, NotationError, NotationLine
from greyheron.model.notation.requirements import read_requirement, write_requirement
from greyheron.model.values import Family, ListKind
from tests.cases import Case, all_of, check, traced
from tests.lab import Lab

ENTRIES = [
    "10 permit tcp from any to any port 80 flags syn,!ack",
    "10 deny tcp from any to any flags fin,psh,urg log",
    "10 deny any from any to any fragment",
    "10 permit udp from any to 172.20.3.10 dscp ef,cs1,8-10",
    "10 deny tcp from any to any established flags !ece dscp 0",
]


@pytest.mark.parametrize("text", ENTRIES)
def test_an_entry_is_written_as_it_was_read(text: str) -> None:
    entry = read_entry(NotationLine(text), Family.IPV4, ListKind.EXTENDED)
    assert write_entry(entry, Family.IPV4, ListKind.EXTENDED) == text


@pytest.mark.parametrize(
    ("text", "column", "words"),
    [
        ("deny tcp from any to any port 80 fragment", 34, "has no ports, ICMP type or flags"),
        ("deny icmp echo-request from any to any fragment", 40, "has no ports, ICMP type or flags"),
        ("deny tcp from any to any flags syn,acc", 32, "“acc” is no TCP flag"),
        ("deny tcp from any to any flags syn,!syn", 32, "stands there twice"),
        ("deny udp from any to any flags syn", 26, "does not fit here"),
        ("deny udp from any to any dscp 64", 31, "“64” is no code point"),
        ("deny udp from any to any dscp 9-3", 31, "runs backwards"),
    ],
)
def test_what_does_not_fit_is_told_with_its_place(text: str, column: int, words: str) -> None:
    with pytest.raises(LineError) as raised:
        read_entry(NotationLine(text), Family.IPV4, ListKind.EXTENDED)
    assert raised.value.misreading.column == column
    assert words in str(raised.value)


@pytest.mark.parametrize(
    "text",
    [
        "left → right web flags fin,psh",
        "left → right web fragment dscp ef",
        "left → right udp/53 dscp 7 ipv4",
    ],
)
def test_a_flow_is_written_as_it_was_read(text: str) -> None:
    assert write_flow(read_bare_flow(text)) == text


@pytest.mark.parametrize(
    "text",
    [
        "block left → right tcp flags syn,!ack dscp ef",
        "block left → right any fragment ipv4",
        "allow left → right tcp/443 dscp 0,46",
    ],
)
def test_a_requirement_is_written_as_it_was_read(text: str) -> None:
    assert write_requirement(read_requirement(text)) == text


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("block left → right udp flags syn", "only TCP has flags|does not fit"),
        ("block left → right tcp/80 fragment", "has no ports"),
    ],
)
def test_a_requirement_that_means_nothing_is_refused(text: str, words: str) -> None:
    with pytest.raises(NotationError, match=words):
        read_requirement(text)


def at_r2(entries: str) -> Case:
    return Case("left → right web", "passes", change=lambda lab: lab.place("r2 wan0 in", entries))


def fragments(entries: str, verdict: str, why: str = "") -> Case:
    return Case("left → right web fragment", verdict, why, lambda lab: lab.place("r2 wan0 in", entries))


CASES = {
    "a fragment by itself is one packet, and passes when it arrives": Case(
        "left → right web fragment", "passes", sees="nothing"
    ),
    "an entry with ports never matches it": fragments("deny tcp to any port 443\npermit any", "passes"),
    "nor one that looks for flags": fragments("deny tcp established\npermit any", "passes"),
    "so a permit with ports does not let it through": fragments(
        "permit tcp to any port 443", "blocked", "implicit deny"
    ),
    "one that asks for addresses and protocol does": fragments("permit tcp from 172.20.1.0/24", "passes"),
    "an entry for fragments stops it": fragments("deny any fragment\npermit any", "blocked", "entry 10"),
    "and nothing else": Case(
        "left → right web",
        "passes",
        change=lambda lab: lab.place("r2 wan0 in", "deny any fragment\npermit any"),
    ),
    "a device that follows conversations waits for the first one": Case(
        "left → right web fragment",
        "blocked",
        "a fragment that is not the first",
        lambda lab: lab.device("r2").update(tracks=["tcp"]),
    ),
    "not for a protocol that it does not follow": Case(
        "left → right protocol/47 fragment",
        "passes",
        change=lambda lab: lab.device("r2").update(tracks=["tcp"]),
    ),
    "nor where it is for that device: its lists see the whole packet": Case(
        "left → right web fragment",
        "passes",
        change=lambda lab: lab.place("right eth0 in", "deny any fragment\npermit any"),
    ),
    "whoever follows nothing asks its list about it": Case(
        "left → right web fragment",
        "blocked",
        "entry 10",
        all_of(
            lambda lab: lab.place("right eth0 in", "deny any fragment\npermit any"),
            lambda lab: lab.device("right").update(tracks=[]),
        ),
    ),
    "what opens nothing begins no session at its sender: an error about it meets the list": Case(
        "left → 172.20.3.77 tcp/80 flags ack",
        "unreachable",
        change=lambda lab: lab.place("left eth0 in", "deny any"),
        sees="nothing: a timeout",
    ),
    "and one about what opens a conversation does not": Case(
        "left → 172.20.3.77 tcp/80",
        "unreachable",
        change=lambda lab: lab.place("left eth0 in", "deny any"),
        sees="host unreachable",
    ),
    "a single ACK is let in by established": Case(
        "left → right web flags ack",
        "passes",
        change=all_of(
            lambda lab: lab.place("r2 wan0 in", "permit tcp established"),
            lambda lab: lab.device("right").update(tracks=[]),
        ),
    ),
    "and stopped by a host that follows conversations": Case(
        "left → right web flags ack", "blocked", "right: no such session"
    ),
    "SYN alone opens a conversation, with ECN set-up too": Case(
        "left → right web flags syn,ece,cwr", "passes"
    ),
    "flags that must be set, and clear": Case(
        "left → right web flags syn,fin",
        "blocked",
        "entry 10",
        lambda lab: lab.place("r2 wan0 in", "deny tcp flags syn,fin\npermit any"),
    ),
    "with ! clear": Case(
        "left → right web",
        "blocked",
        "entry 10",
        lambda lab: lab.place("r2 wan0 in", "deny tcp flags syn,!ack\npermit any"),
    ),
    "a code point": Case(
        "left → right web dscp ef",
        "blocked",
        "entry 10",
        lambda lab: lab.place("r2 wan0 in", "deny any dscp 40-46\npermit any"),
    ),
    "another one": Case(
        "left → right web dscp af11",
        "passes",
        change=lambda lab: lab.place("r2 wan0 in", "deny any dscp 40-46\npermit any"),
    ),
    "the answer of a TCP or UDP conversation has none": Case(
        "left → right names dscp ef",
        "passes",
        change=lambda lab: lab.place("r2 wan1 in", "permit any dscp 0"),
    ),
    "that of a ping has the same (RFC 1812 4.3.3.6)": Case(
        "left → right ping dscp ef",
        "blocked",
        "on the way home",
        lambda lab: lab.place("r2 wan1 in", "permit any dscp 0"),
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_header(case: Case) -> None:
    check(Lab(), case)


def test_the_trace_says_what_the_packet_is() -> None:
    found = traced(Lab(), "left → right web flags fin,psh dscp ef")
    assert found.exchanges[0].out.hops[0].steps[0].text == "sends tcp/443 FIN+PSH to 172.20.3.10"
    header = found.exchanges[0].out.hops[0].header
    assert ("DSCP", "46 ef") in [(field.field, field.value) for field in header]
    fragment = traced(Lab(), "left → right web fragment").exchanges[0]
    assert fragment.out.hops[0].steps[0].text == "sends tcp fragment to 172.20.3.10"


def proof_of(lab: Lab, text: str) -> tuple[Answer, list[str]]:
    network = lab.network()
    proof = Prover(engines()).prove(read_requirement(text), build_world(network), network).proof
    return proof.answer, [
        asking_words(asking, box.family)
        for violation in proof.violations
        for box in violation.boxes
        for asking in box.asking
    ]


PROOFS = {
    "block left → right tcp/23 ipv4": ("deny tcp to any port 23\npermit any", Answer.PROVED, []),
    "block left → right tcp fragment ipv4": (
        "deny tcp to any port 23\npermit any",
        Answer.VIOLATED,
        ["fragments of tcp"],
    ),
    "block left → right any fragment ipv4": ("deny any fragment\npermit any", Answer.PROVED, []),
    "allow left → right tcp/443 ipv4": (
        "deny any dscp 1-63\npermit any",
        Answer.VIOLATED,
        ["tcp/443 (https) dscp 1-63"],
    ),
    "block left → right tcp/23 flags !syn,!ack,!rst,!psh,!urg,!ece,!cwr ipv4": (
        "deny tcp flags fin\npermit any",
        Answer.VIOLATED,
        ["tcp/23 (telnet) with no flags"],
    ),
}


@pytest.mark.parametrize("text", PROOFS)
def test_a_requirement_is_exact_over_headers(text: str) -> None:
    entries, answer, words = PROOFS[text]
    lab = Lab().place("r2 wan0 in", entries)
    lab.device("right").update(tracks=[])
    assert proof_of(lab, text) == (answer, words)


def test_a_code_point_may_be_asked_for() -> None:
    lab = Lab().place("r2 wan0 in", "deny any dscp 1-63\npermit any")
    assert proof_of(lab, "allow left → right tcp/443 dscp 0 ipv4")[0] is Answer.PROVED


def test_an_entry_that_only_fragments_come_to_has_something_to_do() -> None:
    lab = Lab().place("r2 wan0 in", "permit tcp to any port 0-65535\npermit tcp\npermit any")
    (found,) = build_world(lab.network()).lists.values()
    assert [each.number for each in ineffective_entries(found)] == [10, 20]
    lab = Lab().place("r2 wan0 in", "deny tcp to any port 0-65535\npermit tcp\ndeny any")
    (found,) = build_world(lab.network()).lists.values()
    assert ineffective_entries(found) == ()


def test_what_stands_in_for_an_entry_with_ports_is_not_what_only_fragments_come_to() -> None:
    entries = (
        "permit tcp from any to 172.20.3.1\npermit tcp from any to 172.20.3.2 port 22\n"
        "permit tcp fragment\npermit tcp"
    )
    (found,) = build_world(Lab().place("r2 wan0 in", entries).network()).lists.values()
    assert {each.number: each.by for each in ineffective_entries(found)} == {
        10: (30, 40),
        20: (40,),
        30: (40,),
    }


LATER = {
    "the first answer has SYN, what comes home later has not": (
        "left eth0 in",
        "deny tcp flags !syn\npermit any",
        "left → right tcp/443",
    ),
    "so it is with what goes out": (
        "right eth0 in",
        "deny tcp flags !syn\npermit any",
        "left → right tcp/443",
    ),
    "the first packet sets up ECN, later ones do not": (
        "r2 wan0 in",
        "permit tcp flags ece\ndeny tcp to any port 443\npermit any",
        "left → right tcp/443 flags syn,ece,cwr",
    ),
}


@pytest.mark.parametrize("case", LATER)
def test_lists_are_asked_about_later_packets_where_they_tell_them_apart(case: str) -> None:
    place, entries, text = LATER[case]
    lab = Lab().place(place, entries)
    lab.device("left").update(tracks=[])
    lab.device("right").update(tracks=[])
    world, flow = build_world(lab.network()), read_bare_flow(text)
    assert converse(world, flow).verdict is Verdict.BLOCKED
    assert Flows(world, engines(), [flow]).verdicts(world)[flow] is Verdict.BLOCKED
