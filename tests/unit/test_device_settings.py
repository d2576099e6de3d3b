"""What differs between devices: what lists see, what is said of denials, who takes logins, what is logged."""

import pytest

from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.network.differences import LineSign, differences
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.over_time import prove_in_time
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.testing.sending import sending_of
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.core.walk.conversation import converse
from greyheron.core.world import build_world
from greyheron.model.changes import apply
from greyheron.model.device import Device
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.notation.line import NotationError
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.parts import lines_of, read_new_device, with_part, without_part
from greyheron.model.problems import DocumentError
from tests.cases import Case, all_of, check, traced
from tests.lab import Lab
from tests.unit.test_translation import EDGE

ROUTER = read_new_device("router sluice 172.20.32.1/24").device
FIREWALL = read_new_device("firewall weir 172.20.32.1/24").device
HOST = read_new_device("host kiosk 172.20.16.21/24").device


def sees(inbound: str = "before", outbound: str = "after"):  # type: ignore[no-untyped-def]
    return lambda lab: lab.device("edge").update(inbound_sees=inbound, outbound_sees=outbound)


def at_edge(point: str, entries: str):  # type: ignore[no-untyped-def]
    return lambda lab: lab.place(f"edge {point}", entries, name=f"at-{point[-3:].strip()}")


TRANSLATED = {
    "inbound before translation: the outside address is named": Case(
        "friend → 203.0.113.80 tcp/80",
        "passes",
        change=at_edge("out0 in", "permit tcp from any to 203.0.113.80 port 80"),
    ),
    "and an entry for the inside one never matches": Case(
        "friend → 203.0.113.80 tcp/80",
        "blocked",
        "implicit deny",
        at_edge("out0 in", "permit tcp from any to 172.20.1.80 port 80"),
    ),
    "inbound after translation: the inside address is named": Case(
        "friend → 203.0.113.80 tcp/80",
        "passes",
        change=all_of(sees("after"), at_edge("out0 in", "permit tcp from any to 172.20.1.80 port 80")),
    ),
    "and the inside port": Case(
        "friend → 203.0.113.90 tcp/8080",
        "passes",
        change=all_of(sees("after"), at_edge("out0 in", "permit tcp from any to 172.20.1.90 port 80")),
    ),
    "and an entry for the outside one never matches then": Case(
        "friend → 203.0.113.80 tcp/80",
        "blocked",
        "implicit deny",
        all_of(sees("after"), at_edge("out0 in", "permit tcp from any to 203.0.113.80 port 80")),
        sees="prohibited from 203.0.113.80",
    ),
    "outbound after translation: the outside source is named": Case(
        "desk → friend web", "passes", change=at_edge("out0 out", "permit any from 203.0.113.1")
    ),
    "outbound before translation: the inside source": Case(
        "desk → friend web",
        "passes",
        change=all_of(sees(outbound="before"), at_edge("out0 out", "permit any from 172.20.1.10")),
    ),
    "and not the outside one": Case(
        "desk → friend web",
        "blocked",
        "leaving edge by out0",
        all_of(sees(outbound="before"), at_edge("out0 out", "permit any from 203.0.113.1")),
    ),
}


@pytest.mark.parametrize("case", TRANSLATED.values(), ids=TRANSLATED)
def test_what_lists_see_of_a_translation(case: Case) -> None:
    check(Lab.of(EDGE), case)


def test_the_trace_says_that_a_list_saw_it_translated() -> None:
    lab = Lab.of(EDGE).with_(
        all_of(sees("after", "before"), at_edge("out0 in", "permit any"), at_edge("out0 out", "permit any"))
    )
    steps = [step.text for step in traced(lab, "friend → 203.0.113.80 tcp/80").exchanges[0].out.hops[1].steps]
    assert any("permits" in step and step.endswith("which sees it translated") for step in steps), steps
    steps = [step.text for step in traced(lab, "desk → friend web").exchanges[0].out.hops[1].steps]
    assert any("permits" in step and step.endswith("which sees it untranslated") for step in steps), steps


ANSWERS = {
    "a denied login looks like a port on which nobody listens": Case(
        "left → r2:172.20.0.2 ssh",
        "blocked",
        "r2’s remote line",
        lambda lab: lab.place("r2 remote in", "deny any"),
        sees="reset from 172.20.0.2",
    ),
    "unless the device says nothing": Case(
        "left → r2:172.20.0.2 ssh",
        "blocked",
        change=all_of(
            lambda lab: lab.place("r2 remote in", "deny any"),
            lambda lab: lab.device("r2").update(answers_logins="nothing"),
        ),
        sees="nothing: a timeout",
    ),
    "or the entry is silent": Case(
        "left → r2:172.20.0.2 ssh",
        "blocked",
        change=lambda lab: lab.place("r2 remote in", "deny silently any"),
        sees="nothing: a timeout",
    ),
    "whatever it says of what its interfaces deny": Case(
        "left → r2:172.20.0.2 ssh",
        "blocked",
        change=all_of(
            lambda lab: lab.place("r2 remote in", "deny any"),
            lambda lab: lab.device("r2").update(answers_denied="host-unreachable"),
        ),
        sees="reset from 172.20.0.2",
    ),
}
DENIED = {
    "prohibited": ("right web", "administratively prohibited from 172.20.0.2"),
    "host-unreachable": ("right web", "host unreachable from 172.20.0.2"),
    "network-unreachable": ("right ping", "network unreachable from 172.20.0.2"),
    "port-unreachable": ("right web", "port unreachable from 172.20.0.2"),
    "reset": ("right web", "reset from 172.20.3.10"),
    "nothing": ("right web", "nothing: a timeout"),
}


@pytest.mark.parametrize("case", ANSWERS.values(), ids=ANSWERS)
def test_what_a_denied_login_looks_like(case: Case) -> None:
    check(Lab(), case)


@pytest.mark.parametrize("answer", DENIED)
def test_what_a_device_says_of_what_it_denies(answer: str) -> None:
    wanted, seen = DENIED[answer]
    lab = Lab().place("r2 wan0 in", "deny any")
    lab.device("r2").update(answers_denied=answer)
    check(lab, Case(f"left → {wanted}", "blocked", sees=seen))


def test_a_device_that_resets_says_of_all_but_tcp_that_no_port_is_there() -> None:
    lab = Lab().place("r2 wan0 in", "deny any")
    lab.device("r2").update(answers_denied="reset")
    check(lab, Case("left → right ping", "blocked", sees="port unreachable from 172.20.0.2"))


@pytest.mark.parametrize(("old", "new"), [(True, "prohibited"), (False, "nothing")])
def test_whether_it_answers_is_still_read_as_it_was_written_before(old: bool, new: str) -> None:
    lab = Lab()
    lab.device("r2").update(answers_denied=old)
    (r2,) = (each for each in lab.network().devices if each.name == "r2")
    assert r2.answers_denied == new


def several(*numbers: str):  # type: ignore[no-untyped-def]
    """r2 has remote lines in ranges instead of one."""

    def change(lab: Lab) -> None:
        lines = [{"name": "remote", "numbers": each, "transports": ["ssh"]} for each in numbers]
        lab.device("r2")["lines"] = [*lines, {"name": "console"}]

    return change


def at_first(lab: Lab) -> None:
    lab.place("r2 remote/1-4 in", "deny any from 172.20.1.10\npermit any")


def test_a_login_may_be_taken_by_any_line_that_could_be_free() -> None:
    lab = Lab().with_(all_of(several("1-4", "5-8"), at_first))
    found = traced(lab, "left → r2:172.20.0.2 ssh")
    assert found.verdict == "mixed"
    assert found.text == (
        "mixed: it is blocked at the remote/1-4 line, it passes at the remote/5-8 line; "
        "a login is taken by the first line that is free"
    )
    check(lab, Case("mate → r2:172.20.0.2 ssh", "passes"))


def test_a_block_that_stands_at_some_of_the_lines_is_violated() -> None:
    lab = Lab().with_(all_of(several("1-4", "5-8"), at_first))
    timeline = Timeline.build(lab.network())
    statement = read_requirement("block left → r2 ssh")
    assert prove_in_time(Prover(engines()), statement, timeline)[0].answer is Answer.VIOLATED
    (finding,) = found(lab, "list on some of the lines")
    assert "stands at remote/1-4, and no IPv4 list at remote/5-8" in finding.text
    assert finding.repair is not None
    mended = apply(lab.network(), finding.repair.changes)
    assert prove_in_time(Prover(engines()), statement, Timeline.build(mended))[0].answer is Answer.PROVED


def test_lists_at_all_lines_are_no_finding() -> None:
    lab = Lab().with_(all_of(several("1-4", "5-8"), at_first))
    lab.place("r2 remote/5-8 in", "deny any", name="others")
    assert found(lab, "list on some of the lines") == []


@pytest.mark.parametrize(
    ("numbers", "says"),
    [
        (("1-4", "4-8"), "its numbers do not follow those of remote/1-4"),
        (("5-8", "1-4"), "its numbers do not follow those of remote/5-8"),
        (("4-1",), "the range runs backwards: write 1-4"),
    ],
)
def test_numbers_of_lines_rise(numbers: tuple[str, ...], says: str) -> None:
    with pytest.raises(DocumentError) as refused:
        Lab().with_(several(*numbers)).network()
    assert says in str(refused.value)


LOGGED = [
    ("implicit-end", "left → right web", lambda lab: lab.place("r2 wan0 in", "deny udp")),
    ("sessions", "left → right tcp/443 flags ack", lambda lab: lab.device("r2").update(tracks=["tcp"])),
]


@pytest.mark.parametrize(("setting", "flow", "change"), LOGGED, ids=[each[0] for each in LOGGED])
def test_a_device_logs_denials_that_no_entry_makes(setting, flow, change) -> None:  # type: ignore[no-untyped-def]
    lab = Lab().with_(change)
    for logs, lines in (([], 0), ([setting], 1)):
        lab.device("r2").update(logs=logs)
        world = build_world(lab.network())
        sent = sending_of(converse(world, read_bare_flow(flow)), 3, world.topology.devices)
        assert [(line.denial, line.place.device, line.count) for line in sent.lines] == [
            (setting, "r2", 3)
        ] * lines


def test_zones_and_inside_addresses_are_logged_too() -> None:
    lab = Lab.of(EDGE)
    lab.device("edge").update(logs=["zones", "translations"])
    lab.route("friend", "172.20.0.0/16", via="203.0.113.1")
    world = build_world(lab.network())
    sent = sending_of(converse(world, read_bare_flow("friend → server web")), 1, world.topology.devices)
    assert [(line.denial, line.place.list, line.place.at) for line in sent.lines] == [
        ("translations", "", "out0")
    ]
    lab.device("edge").update(kind="firewall", zones=[{"name": "all", "interfaces": ["in0", "out0"]}])
    world = build_world(lab.network())
    sent = sending_of(converse(world, read_bare_flow("desk → friend web")), 1, world.topology.devices)
    assert [line.denial for line in sent.lines] == ["zones"]


def test_what_devices_remember_of_a_conversation() -> None:
    lab = Lab.of(EDGE)
    kept = {each.device: each for each in traced(lab, "desk → friend web").exchanges[0].kept}
    assert set(kept) == {"desk", "edge", "friend"}
    edge = kept["edge"]
    assert (edge.came, edge.sent) == (
        "172.20.1.10:49152 → 203.0.113.10:80",
        "203.0.113.1:49152 → 203.0.113.10:80",
    )
    assert (edge.tracked, edge.translated, edge.state, edge.lasts) == (False, True, "under way", "2 h 4 min")
    lab.device("edge").update(tracks=["tcp", "udp", "icmp"])
    lab.place("friend eth0 in", "deny any")
    (_desk, edge) = traced(lab, "desk → friend ping").exchanges[0].kept
    assert (edge.protocol, edge.tracked, edge.state, edge.lasts) == ("icmp", True, "not answered yet", "60 s")
    (_desk, edge) = traced(lab, "desk → friend web").exchanges[0].kept
    assert (edge.state, edge.lasts) == ("half open", "4 min")


@pytest.mark.parametrize(
    ("device", "line"),
    [
        (ROUTER, "denied reset"),
        (ROUTER, "denied-logins nothing"),
        (ROUTER, "inbound-lists after translation"),
        (ROUTER, "outbound-lists before translation"),
        (ROUTER, "own-packets filtered"),
        (ROUTER, "tracks tcp,icmp"),
        (ROUTER, "logs implicit-end,translations"),
        (ROUTER, "announces default,static"),
        (FIREWALL, "same-zone passes"),
        (FIREWALL, "tracks nothing"),
        (HOST, "denied prohibited"),
        (HOST, "own-packets unfiltered"),
    ],
)
def test_a_setting_is_a_line_and_as_usual_again_when_it_is_taken_out(device: Device, line: str) -> None:
    before = lines_of(device, "settings")
    place = next(place for place, each in enumerate(before) if each.split()[0] == line.split()[0])
    changed = with_part(device, "settings", line, place)
    after = lines_of(changed, "settings")
    assert after[place] == line
    assert [each for each in after if each != line] == [each for each in before if each != before[place]]
    assert without_part(changed, "settings", place) == device
    assert with_part(device, "settings", line, None) == changed


@pytest.mark.parametrize(
    ("device", "line", "says"),
    [
        (ROUTER, "denied politely", "expected prohibited"),
        (
            ROUTER,
            "tracks tcp,gre",
            "“gre” does not fit here: expected some of tcp, udp",
        ),
        (HOST, "inbound-lists after", "“inbound-lists” does not fit here"),
        (ROUTER, "inbound-lists after lunch", "“lunch” does not fit here"),
    ],
)
def test_what_is_no_setting_is_refused_with_what_could_stand_there(
    device: Device, line: str, says: str
) -> None:
    with pytest.raises(NotationError) as refused:
        with_part(device, "settings", line, None)
    assert says in str(refused.value)


def found(lab: Lab, kind: str):  # type: ignore[no-untyped-def]
    every = find_in_time(Timeline.build(lab.network()), engines(), KeptFindings())
    return [each for each in every if each.kind == kind]


@pytest.mark.parametrize(
    ("inbound", "named", "meant"),
    [("before", "172.20.1.80", "203.0.113.80"), ("after", "203.0.113.80", "172.20.1.80")],
)
def test_an_entry_for_the_other_side_of_a_translation_is_found_and_mended(
    inbound: str, named: str, meant: str
) -> None:
    lab = Lab.of(EDGE).with_(
        all_of(sees(inbound), at_edge("out0 in", f"permit tcp from any to {named} port 80\npermit icmp"))
    )
    (finding,) = found(lab, "address of the other side")
    assert f"names {named}, which no packet has entering edge by out0" in finding.text
    assert f"they have {meant} there" in finding.text
    assert finding.repair is not None
    mended = apply(lab.network(), finding.repair.changes)
    world = build_world(mended)
    assert converse(world, read_bare_flow("friend → 203.0.113.80 tcp/80")).verdict == "passes"
    after = find_in_time(Timeline.build(mended), engines(), KeptFindings())
    assert not {each.kind for each in after} & {finding.kind, "list that faces the wrong way"}


def test_an_outbound_list_behind_a_translation_that_names_an_inside_host_is_found() -> None:
    lab = Lab.of(EDGE).with_(at_edge("out0 out", "permit any from 172.20.1.80\npermit any from 203.0.113.1"))
    (finding,) = found(lab, "address of the other side")
    assert "names 172.20.1.80, which no packet has leaving edge by out0" in finding.text
    lab.device("edge").update(outbound_sees="before")
    assert not found(lab, "address of the other side")


def test_changes_name_settings_that_are_not_as_usual_once() -> None:
    lab = Lab()
    before = lab.network()
    lab.device("r2").update(answers_denied="reset", logs=["zones"])
    (changed,) = differences(before, lab.network())
    told = [line.text for line in changed.lines if line.sign is LineSign.ADDED]
    assert told == ["settings: denied reset", "settings: logs zones"]
    new = next(each for each in differences(Lab.of("devices: []").network(), before) if each.key == "r2")
    assert not [line for line in new.lines if "settings" in line.text or "tracks" in line.text]
