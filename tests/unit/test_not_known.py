"""Entries of which nobody knows whether they are there: what is certain all the same (§3)."""

import pytest

from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.over_time import prove_in_time
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.proof.sentences import sentence
from greyheron.analysis.testing.book import States, Tries, mark_tests
from greyheron.analysis.testing.judge import Standing
from greyheron.core.bulk.engines import engines
from greyheron.core.lists.periods import times_of
from greyheron.core.timeline import Timeline
from greyheron.core.walk.verdicts import Verdict
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.document import Network
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.period import Moment
from tests.sites import site

TWO = (
    "router r1 a=172.20.1.1/24 w=172.21.0.1/30",
    "router r2 w=172.21.0.2/30 b=172.20.2.1/24",
    "host pc 172.20.1.10/24",
    "host server 172.20.2.10/24 tcp/80,tcp/443,tcp/22",
)
GUARD = (
    "list guard at r1:a:in permit tcp from any to any port 443; maybe permit tcp from any to any port 80; "
    "maybe deny tcp from any to any port 80,443; maybe deny tcp from any to any port 22; "
    "deny any from any to any"
)
TESTS = tuple(
    f"test pc → server tcp/{port} {expect}" for port in (443, 80, 22) for expect in ("pass", "block")
)


def guarded(*more: str) -> Network:
    return site(*TWO, GUARD, *more)


def test_a_flow_is_known_where_every_supposition_agrees() -> None:
    network = guarded(*TESTS)
    marks = mark_tests(network.tests, States.of(Timeline.build(network)), Tries())
    found = [(mark.draft.verdict, mark.draft.judgement.standing) for mark in marks if mark.draft.judgement]
    assert found == [
        (Verdict.PASSES, Standing.HOLDS),
        (Verdict.PASSES, Standing.FAILS),
        (Verdict.MIXED, Standing.INCONCLUSIVE),
        (Verdict.MIXED, Standing.INCONCLUSIVE),
        (Verdict.BLOCKED, Standing.FAILS),
        (Verdict.BLOCKED, Standing.HOLDS),
    ]
    assert marks[2].draft.text == (
        "not known: blocked if what is not known denies, passes if what is not known permits"
    )


@pytest.mark.parametrize(
    ("text", "answer", "says"),
    [
        ("allow pc → server tcp/443", "proved", "Proved"),
        ("block pc → server tcp/443", "violated", "tcp/443 gets through"),
        (
            "allow pc → server tcp/80",
            "inconclusive",
            "violated if what is not known denies, proved if it permits",
        ),
        (
            "block pc → server tcp/80",
            "inconclusive",
            "proved if what is not known denies, violated if it permits",
        ),
        ("allow pc → server tcp/22", "violated", "does not get through"),
        ("block pc → server tcp/22", "proved", "Proved"),
        ("allow pc → server tcp/80,443", "inconclusive", "not be there"),
        ("block pc → server tcp/80,443", "violated", "tcp/443 gets through"),
        ("only pc → server tcp/443", "proved", "Proved"),
    ],
)
def test_what_rests_on_it_is_not_called_proved(text: str, answer: str, says: str) -> None:
    timeline = Timeline.build(guarded())
    proof, _ = prove_in_time(Prover(engines()), read_requirement(text + " ipv4"), timeline)
    expected = "violated" if text.startswith("only") else answer  # everybody else gets through as well
    assert proof.answer is Answer(expected), sentence(proof)
    assert expected != answer or says in sentence(proof)


def test_it_is_written_and_read() -> None:
    network = guarded()
    assert read_workspace(write_workspace(network).encode()).lists == network.lists
    assert "20 maybe permit tcp from any to any port 80" in write_workspace(network)


def test_suppositions_are_no_times() -> None:
    network = guarded()
    assert [span.words for span in Timeline.build(network).shown] == [
        "if what is not known denies",
        "if what is not known permits",
    ]
    assert [span.words for span in times_of(network)] == ["at all times"]
    moment = Moment(1, 600)
    assert [span.moment for span in Timeline.build(network, moment).shown] == [moment, moment]
