"""§12: windows and moments as they are written, the spans they cut time into, and what that does to flows."""

from datetime import datetime, timedelta
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.over_time import prove_in_time
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.testing.book import States, Tries, mark_tests
from greyheron.analysis.testing.judge import Standing
from greyheron.core.bulk.engines import engines
from greyheron.core.lists.periods import active_at, spans_of
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.verdicts import Verdict
from greyheron.core.world import build_world
from greyheron.model.changes import apply
from greyheron.model.document import Network, Period
from greyheron.model.notation.flows import read_bare_flow, write_flow
from greyheron.model.notation.periods import read_moment, read_window
from greyheron.model.notation.requirements import read_requirement, write_requirement
from greyheron.model.period import DatedWindow, Moment, WeeklyWindow
from greyheron.model.problems import DocumentError
from greyheron.model.renaming import renaming
from tests.lab import Lab

MINUTE = timedelta(minutes=1)


@pytest.mark.parametrize(
    "text",
    [
        "mon-fri 08:00-18:00",
        "sat,sun 09:30-17:00",
        "daily 20:00-06:00",
        "daily",
        "mon,wed,fri",
        "tue 00:00-24:00",
        "2026-12-24 12:00 to 2026-12-27 06:00",
    ],
)
def test_a_window_is_written_as_it_was_read(text: str) -> None:
    assert str(read_window(text)) == text.replace(" 00:00-24:00", "")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("moonday 08:00-18:00", "“moonday” is no day"),
        ("mon 8-18", "“8” is no hour"),
        ("mon 08:00-25:00", "“25:00” is no hour"),
        ("mon 08:00-08:00", "must begin before midnight"),
        ("mon 08:00", "write 08:00-18:00"),
        ("2026-02-30 12:00 to 2026-03-01 12:00", "“2026-02-30” is no day"),
        ("2026-12-27 12:00 to 2026-12-24 12:00", "ends before it begins"),
    ],
)
def test_what_is_no_window_is_told(text: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        read_window(text)


@pytest.mark.parametrize(
    ("window", "moment", "holds"),
    [
        ("mon-fri 08:00-18:00", "fri 17:59", True),
        ("mon-fri 08:00-18:00", "fri 18:00", False),
        ("mon-fri 08:00-18:00", "sat 10:00", False),
        ("fri 22:00-06:00", "sat 05:59", True),
        ("fri 22:00-06:00", "fri 05:59", False),
        ("sun 22:00-06:00", "mon 03:00", True),  # over the end of the week
        ("2026-12-24 12:00 to 2026-12-27 06:00", "2026-12-25 00:00", True),
        ("2026-12-24 12:00 to 2026-12-27 06:00", "2026-12-27 06:00", False),
        ("2026-12-24 12:00 to 2026-12-27 06:00", "thu 13:00", False),  # an ordinary week has no dates
        ("mon-fri 08:00-18:00", "2026-12-25 09:00", True),  # a Friday
    ],
)
def test_what_a_window_holds(window: str, moment: str, holds: bool) -> None:
    assert read_window(window).holds(read_moment(moment)) is holds


def with_periods(lab: Lab, **periods: list[str]) -> Lab:
    lab.data["periods"] = [{"name": name, "windows": windows} for name, windows in periods.items()]
    return lab


OPEN = ["mon-fri 08:00-18:00"]


def opened_by_day(entries: str = "permit tcp to any port 443 during open\ndeny tcp\npermit any") -> Lab:
    """Web from left to right on working days only."""
    return with_periods(Lab(), open=OPEN).place("r2 wan0 in", entries)


def verdict_at(network: Network, flow: str) -> list[Verdict]:
    timeline, read = Timeline.build(network), read_bare_flow(flow)
    return [converse(timeline.world(span), read).verdict for span in timeline.for_flow(read)]


@pytest.mark.parametrize(
    ("flow", "verdicts"),
    [
        ("left → right web at tue 14:00", [Verdict.PASSES]),
        ("left → right web at tue 18:00", [Verdict.BLOCKED]),
        ("left → right web at sun 14:00", [Verdict.BLOCKED]),
        ("left → right web", [Verdict.BLOCKED, Verdict.PASSES]),
        ("left → right ping", [Verdict.PASSES, Verdict.PASSES]),
    ],
)
def test_an_entry_is_there_in_its_period_only(flow: str, verdicts: list[Verdict]) -> None:
    assert verdict_at(opened_by_day().network(), flow) == verdicts


def test_with_an_exclamation_mark_it_is_there_outside_it() -> None:
    network = opened_by_day("deny tcp to any port 443 during !open\npermit any").network()
    assert verdict_at(network, "left → right web at tue 14:00") == [Verdict.PASSES]
    assert verdict_at(network, "left → right web at tue 20:00") == [Verdict.BLOCKED]


def test_standard_lists_have_periods_too() -> None:
    lab = with_periods(Lab(), open=OPEN).place(
        "r2 wan0 in", "permit from 172.20.1.10 during open", kind="standard"
    )
    assert verdict_at(lab.network(), "left → right web") == [Verdict.BLOCKED, Verdict.PASSES]


def test_what_depends_on_no_time_has_one_span() -> None:
    assert len(spans_of(with_periods(Lab(), open=OPEN).network())) == 1


def test_an_unknown_period_is_a_problem_with_its_place() -> None:
    with pytest.raises(DocumentError) as raised:
        opened_by_day("permit any during opened").network()
    (problem,) = raised.value.problems
    assert problem.where == "list list, entry 10"
    assert "“opened”" in problem.message
    assert "open" in problem.message


def test_a_period_is_renamed_wherever_it_is_spoken_of() -> None:
    lab = opened_by_day()
    lab.data["requirements"] = [{"id": "r1", "statement": "allow left → right tcp/443 during open"}]
    network = lab.network()
    renamed = apply(network, renaming(network, "periods", "open", "office-hours"))
    assert str(renamed.lists[0].body.entries[0].during) == "office-hours"
    assert write_requirement(renamed.requirements[0].statement).endswith("during office-hours")


def test_the_book_says_which_verdict_is_when() -> None:
    lab = opened_by_day()
    lab.data["tests"] = [
        {"id": "t1", "flow": "left → right web pass"},
        {"id": "t2", "flow": "left → right web at tue 14:00 pass"},
        {"id": "t3", "flow": "left → right ping pass"},
    ]
    network = lab.network()
    marks = mark_tests(network.tests, States.of(Timeline.build(network)), Tries())
    assert [mark.draft.verdict for mark in marks] == [Verdict.MIXED, Verdict.PASSES, Verdict.PASSES]
    assert marks[0].draft.text == "mixed: blocked outside open, passes during open"
    assert marks[0].draft.judgement is not None
    assert marks[0].draft.judgement.standing is Standing.FAILS
    assert [(each.when, each.at) for each in marks[0].draft.times] == [
        ("outside open", "mon 00:00"),
        ("during open", "mon 08:00"),
    ]
    assert marks[0].baseline.verdict is Verdict.PASSES
    assert marks[2].draft.times == ()


@pytest.mark.parametrize(
    ("text", "answer"),
    [
        ("allow left → right tcp/443 during open ipv4", Answer.PROVED),
        ("allow left → right tcp/443 ipv4", Answer.VIOLATED),
        ("block left → right tcp/443 during !open ipv4", Answer.PROVED),
        ("block left → right tcp/443 ipv4", Answer.VIOLATED),
        ("allow left → right ping ipv4", Answer.PROVED),
    ],
)
def test_requirements_hold_at_all_times_unless_they_say_when(text: str, answer: Answer) -> None:
    lab = opened_by_day()
    lab.data["requirements"] = [{"id": "r1", "statement": text}]
    network = lab.network()
    timeline, statement = Timeline.build(network), read_requirement(text)
    proof, _ = prove_in_time(Prover(engines()), statement, timeline)
    assert proof.answer is answer
    if proof.counterexample is not None:
        example = proof.counterexample.flow
        assert example.at is not None
        world = timeline.world(timeline.span(example.at))
        assert converse(world, example).verdict is proof.counterexample.verdict
        assert all(violation.when for violation in proof.violations)


def test_what_is_written_is_read_again() -> None:
    for text in ("left → right web at tue 14:00", "left → right web dscp ef at 2026-12-25 10:00 ipv4"):
        assert write_flow(read_bare_flow(text)) == text
    text = "block left → right any during !open ipv4"
    assert write_requirement(read_requirement(text)) == text


def test_an_entry_that_another_hides_for_some_hours_only_has_something_to_do() -> None:
    def kinds(entries: str) -> set[str]:
        found = find_in_time(Timeline.build(opened_by_day(entries).network()), engines(), KeptFindings())
        return {each.kind for each in found}

    hidden = "general before specific"
    assert hidden not in kinds("permit tcp during open\ndeny tcp to any port 23\npermit any")
    assert hidden in kinds("permit tcp\ndeny tcp to any port 23 during open\npermit any")
    assert hidden in kinds("permit tcp during open\ndeny tcp to any port 23 during open\npermit any")


def test_a_finding_of_some_hours_says_so() -> None:
    lab = opened_by_day("permit any to 172.20.3.10\npermit any during open")
    lab.data["devices"][0]["services"] = [{"name": "page", "protocol": "tcp", "port": 80}]
    lab.place("r2 wan1 in", "deny tcp from any port 443 during !open\npermit any", name="home")
    found = find_in_time(Timeline.build(lab.network()), engines(), KeptFindings())
    (reply,) = [each for each in found if each.kind == "reply blocked"]
    assert reply.text.startswith("Outside open: home")
    assert reply.flow is not None
    assert reply.flow.endswith(" at mon 00:00")


def random_periods(seed: int) -> list[Period]:
    chance = Random(seed)

    def weekly() -> WeeklyWindow:
        first, end = chance.sample(range(24), 2)
        days = tuple(sorted(chance.sample(range(7), chance.randint(1, 7))))
        return WeeklyWindow(days, 60 * first, 60 * end + 30)

    def dated() -> DatedWindow:
        first = datetime(2026, 12, 1) + timedelta(hours=chance.randint(0, 900))
        return DatedWindow(first, first + timedelta(hours=chance.randint(1, 400)))

    return [
        Period(
            name=name, windows=tuple(chance.choice([weekly, dated])() for _ in range(chance.randint(0, 3)))
        )
        for name in ("a", "b", "c")
    ]


@pytest.mark.long
@given(st.integers(0, 1_000_000))
def test_the_spans_are_all_that_any_hour_of_any_day_comes_to(seed: int) -> None:
    """Every half hour of half a year, and of an ordinary week, tried one by one."""
    lab = with_periods(Lab()).place(
        "r2 wan0 in", "permit tcp during a\npermit udp during !b\npermit icmp during c"
    )
    lab.data["periods"] = [each.model_dump(mode="json") for each in random_periods(seed)]
    network = lab.network()
    began = datetime(2026, 11, 1)
    dates = {active_at(network, Moment.at(began + half * 30 * MINUTE)) for half in range(48 * 100)}
    week = {active_at(network, Moment(*divmod(30 * half, 1440))) for half in range(48 * 7)}
    assert {span.active for span in spans_of(network)} == dates | week
    for span in spans_of(network):
        assert active_at(network, span.moment) == span.active


def test_worlds_of_other_times_share_what_is_the_same() -> None:
    timeline = Timeline.build(opened_by_day().place("r3 eth0 in", "permit any", name="other").network())
    one, other = (timeline.world(span) for span in timeline.spans)
    assert one.topology is other.topology
    lists = [{each.name: each for each in world.lists.values()} for world in (one, other)]
    assert lists[0]["other"] is lists[1]["other"]
    assert lists[0]["list"] is not lists[1]["list"]
    assert build_world(timeline.network).resolved.active == frozenset()
