"""The command line: verdicts, JSON and exit statuses."""

import json
from importlib.resources import files
from pathlib import Path
from xml.etree import ElementTree

from greyheron.analysis.testing.book import States, Tries, mark_tests
from greyheron.core.timeline import Timeline
from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import read_workspace
from tests.command_line import run

DEMO = str(files("greyheron.demo").joinpath("saltmarsh.yaml"))


def test_check_says_what_is_not_as_expected_and_ends_with_1() -> None:
    result = run(["check", DEMO])
    assert result.exit_code == 1
    assert "26 test flows, 24 as expected, 2 not." in result.output
    assert (
        "blocked on the way home, entering hide-gw by eth1: hides-in denies, implicit deny" in result.output
    )


def test_check_gives_the_verdicts_that_the_interface_shows() -> None:
    found = json.loads(run(["check", DEMO, "--json"]).output)
    expected = {
        mark.id: mark.draft.verdict
        for mark in mark_tests(saltmarsh().tests, States.of(Timeline.build(saltmarsh())), Tries())
    }
    assert {test["id"]: test["verdict"]["verdict"] for test in found["tests"]} == expected


def test_check_ends_with_0_when_all_is_as_expected(tmp_path: Path) -> None:
    file = tmp_path / "ok.yaml"
    file.write_text(
        Path(DEMO).read_text().replace("kiosk → ledger telnet block", "kiosk → ledger telnet pass")
    )
    text = file.read_text().replace("ringing-desk → camhub web pass", "ringing-desk → camhub web block")
    file.write_text(
        text.replace("statement: block visitors → ledger telnet", "statement: block visitors → jetty udp")
    )
    assert run(["check", str(file)]).exit_code == 1  # nobody listens there: it proves nothing
    file.write_text(text.replace("statement: block visitors", "statement: block beyond"))
    assert run(["check", str(file)]).exit_code == 0


def test_a_bad_file_ends_with_2_and_every_problem(tmp_path: Path) -> None:
    file = tmp_path / "bad.yaml"
    file.write_text("format: grey-heron/1\nname: x\ndevices: [{name: a, kind: b}, {name: c, kind: d}]\n")
    result = run(["check", str(file)])
    assert result.exit_code == 2
    assert "device a, kind" in result.output
    assert "device c, kind" in result.output
    assert run(["check", str(tmp_path / "none.yaml")]).exit_code == 2


def test_trace_in_words_and_as_json() -> None:
    flow = ["trace", DEMO, "--from", "ringing-desk", "--to", "camhub", "--service", "web"]
    result = run(flow)
    assert result.exit_code == 0
    assert "hides-in denies, implicit deny" in result.output
    assert "the sender sees nothing: a timeout" in result.output
    found = json.loads(run([*flow, "--json"]).output)
    assert found["verdict"] == "blocked"
    exchange = found["exchanges"][0]
    assert exchange["decided_on"] == "home"
    assert exchange["deciding"] == {
        "device": "hide-gw",
        "at": "eth1",
        "direction": "in",
        "list": "hides-in",
        "entry": None,
    }
    assert json.loads(run([*flow, "--json", "--baseline"]).output)["verdict"] == "passes"


def test_trace_takes_source_interfaces_addresses_and_ports() -> None:
    def verdict(source: str, *more: str) -> str:
        flow = ["trace", DEMO, "--from", source, "--to", "ledger", "--service", "tcp/443", *more, "--json"]
        found: str = json.loads(run(flow).output)["exchanges"][0]["out"]["hops"][0]["header"]
        return str(found)

    assert "172.20.255.3" in verdict("centre-gw:lo0")
    assert "172.20.16.1" in verdict("centre-gw:172.20.16.1")
    assert "1024" in verdict("kiosk", "--source-port", "1024")


def test_a_flow_that_cannot_be_traced_ends_with_2() -> None:
    result = run(["trace", DEMO, "--from", "nobody", "--to", "ledger", "--service", "web"])
    assert result.exit_code == 2
    assert "there is no device “nobody”" in result.output


def test_format_puts_a_file_into_its_usual_form(tmp_path: Path) -> None:
    file = tmp_path / "door.lists"
    file.write_text("list door ipv4 standard\n5 permit   from 172.20.16.0/24\n12 deny any\n")
    assert run(["format", str(file), "--check"]).exit_code == 1
    assert run(["format", str(file), "--write", "--renumber"]).exit_code == 0
    assert file.read_text() == "list door ipv4 standard\n10 permit from 172.20.16.0/24\n20 deny from any\n"
    assert run(["format", str(file), "--check"]).exit_code == 0
    file.write_text("list door ipv4 standard\npermit tcp\n")
    result = run(["format", str(file)])
    assert (result.exit_code, "line 2, column 8" in result.output) == (2, True)


def test_format_keeps_what_a_workspace_says(tmp_path: Path) -> None:
    file = tmp_path / "network.yaml"
    file.write_bytes(Path(DEMO).read_bytes())
    run(["format", str(file), "--write"])
    assert read_workspace(file.read_bytes()) == read_workspace(Path(DEMO).read_bytes())
    assert file.read_text().startswith(Path(DEMO).read_text().splitlines()[0])


def test_serving_elsewhere_than_on_loopback_needs_a_token() -> None:
    result = run(["serve", "--host", "0.0.0.0"])
    assert result.exit_code == 2
    assert "token" in result.output
    assert run(["serve", "--host", "0.0.0.0", "--token", "short"]).exit_code == 2


def test_prove_advise_and_findings_end_as_a_pipeline_wants(tmp_path: Path) -> None:
    assert run(["prove", DEMO, "allow visitors → ledger https"]).exit_code == 0
    violated = run(["prove", DEMO, "block visitors → ledger telnet", "--json"])
    assert violated.exit_code == 1
    answer = json.loads(violated.output)["requirements"][0]
    assert (answer["answer"], answer["verdict"]) == ("violated", "passes")
    assert run(["prove", DEMO, "block visitors"]).exit_code == 2
    assert run(["prove", DEMO, "block nobody → ledger any"]).exit_code == 2
    advice = run(["advise", DEMO, "kiosk → ledger telnet block", "--json"])
    assert advice.exit_code == 0
    assert json.loads(advice.output)["choices"][0]["holds"]
    assert run(["advise", DEMO, "kiosk → nowhere telnet block"]).exit_code == 2
    assert run(["findings", DEMO]).exit_code == 1  # the reply that is blocked
    every = json.loads(run(["findings", DEMO, "--json"]).output)["findings"]
    assert {each["severity"] for each in every} == {"warning", "note"}
    report = tmp_path / "report.xml"
    run(["check", DEMO, "--junit", str(report)])
    suites = {each.get("name"): each for each in ElementTree.parse(report).getroot()}
    assert suites["requirements"].get("failures") == "1"
    assert suites["test flows"].get("tests") == "26"
