"""The command line: verdicts, JSON and exit statuses."""

import asyncio
import csv
import io
import json
import re
import socket
from importlib.resources import files
from pathlib import Path
from xml.etree import ElementTree

import pytest

from greyheron.analysis.testing.book import States, Tries, mark_tests
from greyheron.cli.reading import CannotGoOn
from greyheron.cli.serve import at_socket, listening_at, token_of
from greyheron.core.timeline import Timeline
from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import read_workspace, write_workspace
from tests.command_line import run
from tests.sites import site

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


@pytest.mark.parametrize("token", ["short", "", "   "])
def test_a_token_is_long_and_its_owners_only(tmp_path: Path, token: str) -> None:
    file = tmp_path / "token"
    file.touch(mode=0o600)
    file.write_text(f"{token}\n")
    with pytest.raises(CannotGoOn, match="too short"):
        token_of(file)
    file.write_text("long enough for anybody\n")
    assert token_of(file) == "long enough for anybody"
    file.chmod(0o644)
    with pytest.raises(CannotGoOn, match="Others may read"):
        token_of(file)


def test_a_token_is_never_taken_from_the_command_line() -> None:
    result = run(["serve", "--token", "long enough for anybody"])
    assert result.exit_code == 2
    assert "can be read by everybody" in result.output


def test_a_socket_is_its_owners_only_and_is_taken_by_one(tmp_path: Path) -> None:
    path = tmp_path / "heron.sock"
    with at_socket(path):
        assert path.stat().st_mode & 0o777 == 0o600
        with pytest.raises(CannotGoOn, match="Somebody listens"), at_socket(path):
            pass
    assert not path.exists()
    left = socket.socket(socket.AF_UNIX)
    left.bind(str(path))
    left.close()  # nobody listens there any more
    with at_socket(path):
        assert path.is_socket()


@pytest.mark.long
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


def test_what_only_devices_themselves_do_is_said_and_is_no_failure(tmp_path: Path) -> None:
    file, report = tmp_path / "site.yaml", tmp_path / "report.xml"
    network = site(
        "router r1 a=172.20.1.1/24 w=172.21.0.1/30",
        "router r2 w=172.21.0.2/30 b=172.20.2.1/24",
        "host pc 172.20.1.10/24",
        "host server 172.20.2.10/24 tcp/80",
        "list guard at r1:a:in deny tcp from any to @server port 80; permit any from any to any",
        "requirement block segment:r1:a → server tcp/80",
    )
    file.write_text(write_workspace(network))
    words = "Proved for every host; r1 itself (172.20.1.1) gets through."
    said = run(["prove", str(file)])
    assert (said.exit_code, words in said.output) == (0, True)
    assert "themselves: r1 itself (172.20.1.1) → server: tcp/80 (http) (ipv4)" in said.output
    answer = json.loads(run(["prove", str(file), "--json"]).output)["requirements"][0]
    assert (answer["answer"], answer["themselves"]) == ("proved", ["r1"])
    assert answer["remains"] == "r1 itself (172.20.1.1) gets through"
    assert run(["check", str(file), "--junit", str(report)]).exit_code == 0
    (case,) = ElementTree.parse(report).getroot().iter("testcase")
    assert [(each.tag, each.text) for each in case] == [("system-out", words)]
    strict = run(["prove", str(file), "block segment:r1:a+devices → server tcp/80"])
    assert (strict.exit_code, "r1:172.20.1.1 → server" in strict.output) == (1, True)


def test_advice_calls_things_by_what_they_say() -> None:
    said = run(["advise", DEMO, "block visitors → ledger telnet"])
    assert said.output.index("Entering centre-gw by eth1") < said.output.index("Leaving centre-gw by wan0")
    plain = " ".join(said.output.split())
    assert "“allow visitors → ledger https”, “kiosk → ledger web pass” and 3 more would fail" in plain
    assert not re.search(r"\b[rt][0-9]+\b", plain)
    assert plain.index("Filters of hosts themselves:") < plain.index(
        "Entering ledger by eth0: stops them only"
    )
    few = run(["advise", DEMO, "block visitors → ledger telnet", "--kind", "standard"])
    assert "extended list" not in few.output
    assert few.output.index("Leaving lagoon by eth2") < few.output.index("Entering lagoon by wan0")


COLLECTED = Path(__file__).parents[1] / "machines"


def test_machines_are_converted_and_what_was_guessed_is_said(tmp_path: Path) -> None:
    result = run(["convert", str(COLLECTED)])
    assert result.exit_code == 0
    assert "guessed: gate:up – shed:down: joined, since both are in 172.20.0.0/30" in result.output
    file = tmp_path / "reserve.yaml"
    assert run(["convert", str(COLLECTED), "--output", str(file)]).exit_code == 0
    assert run(["check", str(file)]).exit_code == 0
    assert {each.name for each in read_workspace(file.read_bytes()).devices} >= {"gate", "ledger"}
    some = tmp_path / "some"
    some.mkdir()
    (some / "gate.json").write_bytes((COLLECTED / "gate.json").read_bytes())
    (some / "notes.txt").write_text("not one of them")
    left_out = run(["convert", str(some)])
    assert (left_out.exit_code, "left out: notes.txt" in left_out.output) == (1, True)


def test_what_cannot_be_converted_is_said(tmp_path: Path) -> None:
    (tmp_path / "x.bin").write_bytes(b"\0")
    unknown = run(["convert", str(tmp_path / "x.bin")])
    assert (unknown.exit_code, "this is neither" in unknown.output) == (2, True)
    (tmp_path / "bad.yaml").write_text("format: grey-heron/1\nname: x\ndevices: [{name: 1}]\n")
    bad = run(["convert", str(tmp_path / "bad.yaml")])
    assert (bad.exit_code, f"{tmp_path / 'bad.yaml'}: device" in bad.output) == (2, True)
    assert "standard input: file" in run(["convert", "-"], b"{").output
    assert "There is no format “x” to write" in run(["convert", DEMO, "--to", "x"]).output
    assert run(["convert", str(tmp_path / "nowhere")]).exit_code == 2
    assert run(["convert", "-"], Path(DEMO).read_bytes()).output == run(["convert", DEMO]).output


def test_the_collecting_script_is_printed() -> None:
    assert run(["collect"]).output.startswith("#!/bin/sh\n")


def test_traffic_is_folded_and_judged(tmp_path: Path) -> None:
    file = tmp_path / "flows.csv"
    file.write_text(
        "client,server,proto,dport,back\n172.20.16.21,172.20.40.10,tcp,443,3\n"
        "172.20.40.20,172.20.48.5,tcp,443,2\nnobody,172.20.40.10,tcp,443,2\n"
    )
    asked = ["traffic", DEMO, str(file), "--column", "source=client", "--column", "destination=server"]
    result = run(asked)
    assert result.exit_code == 1
    assert "▌ ringing-desk (172.20.40.20) → camhub (172.20.48.5) tcp/443: 3 packets" in result.output
    assert "it was answered, and would not get through" in result.output
    assert "2 conversations: 1 would not get through, of which 1 were answered" in result.output
    assert "left out: flows.csv, line 4" in result.output
    rows = json.loads(run([*asked, "--json"]).output.partition("left out")[0])
    assert {row["draft"] for row in rows} == {"passes", "blocked"}
    assert run(asked[:3]).exit_code == 2
    assert "names no column" in run([*asked, "--column", "sheep=x"]).output


def test_findings_are_written_as_sarif_at_the_lines_of_the_file(tmp_path: Path) -> None:
    storm = Path(DEMO).with_name("storm.yaml")
    file = tmp_path / "findings.sarif"
    told = json.loads(run(["findings", str(storm), "--json", "--sarif", str(file)]).output)["findings"]
    log = json.loads(file.read_text())
    (written,) = log["runs"]
    assert (log["version"], written["tool"]["driver"]["name"]) == ("2.1.0", "Grey Heron")
    assert [each["ruleId"] for each in written["results"]] == [each["kind"] for each in told]
    rules = [rule["id"] for rule in written["tool"]["driver"]["rules"]]
    entries = 0
    lines = storm.read_text().splitlines()
    for result, finding in zip(written["results"], told, strict=True):
        assert rules[result["ruleIndex"]] == finding["kind"]
        assert (
            result["level"] == {"fault": "error", "warning": "warning", "note": "note"}[finding["severity"]]
        )
        assert ("suppressions" in result) is (finding["accepted"] is not None)
        (place,) = result["locations"]
        line = lines[place["physicalLocation"]["region"]["startLine"] - 1]
        named = [*finding["lists"], *finding["devices"]]
        spoken = re.findall(r"\bentry (\d+)", json.dumps(finding)) if finding["lists"] else []
        at_entry = line.split()[0] in spoken
        assert at_entry or not named or any(f"name: {name}" in line for name in named), (line, named)
        entries += at_entry
        assert place["physicalLocation"]["artifactLocation"]["uri"] == storm.as_uri()
    assert entries >= 4


def test_lists_are_a_table_for_whoever_reads_them_in_a_spreadsheet() -> None:
    table = run(["convert", DEMO, "--to", "lists-csv"]).output
    rows = list(csv.DictReader(io.StringIO(table)))
    first = next(row for row in rows if row["list"] == "hides-in")
    assert {key: first[key] for key in ("number", "action", "protocol", "source", "destination port")} == {
        "number": "10",
        "action": "permit",
        "protocol": "udp",
        "source": "'@camhub",
        "destination port": "syslog",
    }
    assert first["placed"] == "hide-gw eth1 in"
    ends = [row for row in rows if row["number"] == "end"]
    assert [row["note"] for row in ends] == ["implicit"] * len(ends)
    assert all(row["entry"].startswith(row["action"]) for row in rows if row["number"] != "end")


def test_a_network_goes_out_as_yang_and_comes_in_again(tmp_path: Path) -> None:
    out = tmp_path / "out"
    gone = run(["convert", DEMO, "--to", "yang", "--output", str(out)])
    assert (gone.exit_code, "left out: list hides-in: entry 40" in gone.output) == (1, True)
    assert "say with --output into which folder" in run(["convert", DEMO, "--to", "yang"]).output
    back = run(["convert", str(out)])
    assert back.exit_code == 0
    assert read_workspace(back.output).tests == saltmarsh().tests


def test_reach_is_a_table_of_who_can_talk_to_whom(tmp_path: Path) -> None:
    printed = run(["reach", DEMO, "https", "ping"])
    assert printed.exit_code == 0
    rows = {row[0]: row for row in csv.reader(io.StringIO(printed.output))}
    head = rows["from \\ to"]
    assert rows["kiosk"][head.index("ledger")] == "passes"
    assert rows["camhub"][head.index("ledger")] == "blocked"
    assert rows["kiosk"][head.index("kiosk")] == "nothing asked"
    data = json.loads(run(["reach", DEMO, "https", "ping", "--json", "--hosts-only"]).output)
    assert "weir" not in data["devices"]
    assert data["cells"][data["devices"].index("kiosk")][data["devices"].index("ledger")] == "1"
    other = tmp_path / "formula.yaml"
    other.write_text(Path(DEMO).read_text().replace("name: Saltmarsh", "name: =Saltmarsh", 1))
    unknown = run(["reach", str(other), "gopher-hole"])
    assert unknown.exit_code == 2
    assert "no service is known by the name “gopher-hole”" in unknown.output


def test_answers_go_out_at_once_where_a_connection_is_used_again() -> None:
    """Not when the other side has acknowledged what went before (Nagle's algorithm, RFC 896)."""

    async def without_delay() -> int:
        found: asyncio.Future[int] = asyncio.get_running_loop().create_future()

        def taken(_reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            own = writer.get_extra_info("socket")
            found.set_result(own.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY))
            writer.close()

        with listening_at("127.0.0.1", 0) as listening:
            async with await asyncio.start_server(taken, sock=listening):
                _, writer = await asyncio.open_connection(*listening.getsockname())
                try:
                    return await found
                finally:
                    writer.close()
                    await writer.wait_closed()

    assert asyncio.run(without_delay()) == 1
