"""Rehearsals in this machine's kernel: everything as predicted, and what is meddled with is found."""

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path

import pytest
from typer.testing import CliRunner

from greyheron.cli.main import app
from greyheron.demo.networks import saltmarsh, storm
from greyheron.formats.workspace import write_workspace
from greyheron.model.document import Network
from greyheron.rehearsal.report import RehearsalReport
from greyheron.rehearsal.runner import CannotRehearse, missing, run_rehearsal
from tests.kernel.meddling import KINDS
from tests.lab import Lab
from tests.unit.test_frames import frames

pytestmark = pytest.mark.skipif(bool(missing()), reason=" ".join(missing()) or "a rehearsal can be had")


def quietly(_stage: str, _done: float) -> None:
    """Nobody watches."""


def rehearsed(network: Network, *flows: str) -> RehearsalReport:
    tests = [{"id": f"t{number}", "flow": f"{flow} pass"} for number, flow in enumerate(flows)]
    data = network.model_dump(mode="json", by_alias=True) | {"tests": tests}
    return run_rehearsal(Network.model_validate(data), quietly)


@pytest.mark.parametrize("network", [saltmarsh(), storm()], ids=["saltmarsh", "storm"])
def test_every_flow_of_the_demos_goes_as_predicted(network: Network) -> None:
    report = run_rehearsal(network, quietly)
    assert [(each.flow, each.when, each.differences) for each in report.differing] == []
    assert report.left_out == ()
    assert {each.test for each in report.tried if each.test} == {test.id for test in network.tests}
    rehearsed = {each.requirement for each in report.tried if each.requirement}
    assert rehearsed == {each.id for each in network.requirements}


def test_flows_of_every_shape_go_as_predicted() -> None:
    lab = Lab().place("r2 wan0 in", "deny tcp from any to any flags fin,!syn\npermit any from any to any")
    lab.place(
        "r3 wan0 in", "deny any from any to any fragment\npermit any from any to any dscp 0\n", name="pieces"
    )
    lab.device("left")["tracks"] = []
    frames("sw p2 out", "deny arp\npermit any")(lab)
    report = rehearsed(
        lab.network(),
        "left → right tcp/443",
        "left → right tcp/80",
        "left → right udp/53",
        "left → right udp/54",
        "left → right ping",
        "left → right protocol/47",
        "left → right tcp/443 flags fin",
        "left → right tcp/443 flags ack",
        "left → right udp/53 fragment",
        "left → right ping dscp ef",
        "left → mate ping",
        "left → r3 ssh",
        "left → 172.20.1.77 ping",
        "left → 172.20.9.9 ping",
        "172.20.3.77/24 → left ping",
        "left → 172.20.3.78/24 tcp/80",
    )
    assert [(each.flow, each.differences) for each in report.differing] == []
    assert len(report.tried) == 16


@pytest.mark.parametrize(("meddle", "flow", "facts"), KINDS.values(), ids=KINDS.keys())
def test_what_is_changed_behind_its_back_is_found_and_named(
    meddle: str, flow: str, facts: set[str], tmp_path: Path
) -> None:
    """In a process of its own, as a rehearsal is; `meddle` is the name of what changes the built network."""
    lab = Lab().place("r2 wan0 in", "10 deny tcp from any to any port 80\n20 permit any from any to any")
    lab.data["tests"] = [{"id": "t1", "flow": f"{flow} pass"}]
    asked = tmp_path / "network.yaml"
    asked.write_text(write_workspace(lab.network()))
    done = subprocess.run(
        [
            *("unshare", "--user", "--map-root-user", "--net", "--mount", "--ipc", "--pid", "--fork"),
            *(
                "--kill-child",
                "--mount-proc",
                sys.executable,
                "-m",
                "tests.kernel.meddling",
                meddle,
                str(asked),
            ),
        ],
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr
    (tried,) = json.loads(done.stdout)
    assert {each["fact"] for each in tried["differences"]} == facts
    assert tried["predicted"] != tried["seen"] or facts == {"the deciding entry"}


def test_a_rehearsal_that_is_killed_leaves_nothing(tmp_path: Path) -> None:
    before = set(subprocess.run(["ip", "-o", "link"], capture_output=True, text=True).stdout.splitlines())
    file = tmp_path / "demo.yaml"
    file.write_text(write_workspace(saltmarsh()))
    for number in range(6):
        process = subprocess.Popen(
            [sys.executable, "-m", "greyheron", "rehearse", str(file)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(1.2 + 0.7 * number)  # a moment to be killed in, not one to wait for
        process.send_signal(signal.SIGKILL)
        process.wait()
    deadline = time.monotonic() + 20
    while _left() and time.monotonic() < deadline:
        time.sleep(0.1)
    assert _left() == []
    assert (
        set(subprocess.run(["ip", "-o", "link"], capture_output=True, text=True).stdout.splitlines())
        == before
    )
    assert [*Path("/run/frr").glob("d[0-9]*"), *Path("/var/tmp/frr").glob("*")] == []


def _left() -> list[str]:
    """The processes of rehearsals that still run, here or for nobody; others may rehearse beside this."""
    parents, commands = {}, {}
    for each in Path("/proc").iterdir():
        try:
            command = (each / "cmdline").read_bytes().replace(b"\0", b" ").decode()
            parents[each.name] = (each / "stat").read_text().rpartition(")")[2].split()[1]
        except OSError:
            continue
        if "greyheron.rehearsal.stage" in command or "/usr/lib/frr/" in command:
            commands[each.name] = command

    def begun_by(process: str) -> str:
        while (parent := parents.get(process, "1")) not in ("0", "1", str(os.getpid())):
            process = parent
        return process

    others = {number for number, parent in parents.items() if parent in ("0", "1") and number not in commands}
    return [command for number, command in commands.items() if begun_by(number) not in others]


def test_two_rehearsals_at_once_do_not_meet(tmp_path: Path) -> None:
    file = tmp_path / "lab.yaml"
    lab = Lab()
    lab.data["tests"] = [{"id": "t1", "flow": "left → right web pass"}]
    file.write_text(write_workspace(lab.network()))
    command = [sys.executable, "-m", "greyheron", "rehearse", str(file)]
    both = [subprocess.Popen(command, stdout=subprocess.PIPE, text=True) for _ in range(2)]
    for each in both:
        out, _ = each.communicate()
        assert each.returncode == 0
        assert "1 conversation, all went as predicted" in out


def test_the_command_prints_counts_captures_and_reports(tmp_path: Path) -> None:
    file = tmp_path / "lab.yaml"
    lab = Lab()
    lab.data["tests"] = [
        {"id": "t1", "flow": "left → right web pass"},
        {"id": "t2", "flow": "left → right tcp/80 block"},
    ]
    file.write_text(write_workspace(lab.network()))
    captures, junit = tmp_path / "captures", tmp_path / "report.xml"
    done = CliRunner().invoke(
        app, ["rehearse", str(file), "--test", "t1", "--captures", str(captures), "--junit", str(junit)]
    )
    assert done.exit_code == 0, done.output
    assert "✓ ● left → right web at all times" in done.output
    assert [each.name for each in captures.iterdir()] == ["t1.pcapng"]
    assert (captures / "t1.pcapng").read_bytes()[:4] == b"\x0a\x0d\x0d\x0a"
    assert 'tests="1" failures="0"' in junit.read_text()
    as_json = CliRunner().invoke(app, ["rehearse", str(file), "--json"])
    told = json.loads(as_json.output)
    assert [each["agrees"] for each in told["tried"]] == [True, True]
    assert CliRunner().invoke(app, ["rehearse", str(file), "--test", "t9"]).exit_code != 0


def test_a_network_that_is_kept_stands_until_it_is_let_go() -> None:
    lab = Lab().place("r2 wan0 in", "10 deny tcp from any to any port 80\n20 permit any from any to any")
    lab.data["tests"] = [{"id": "t1", "flow": "left → right web pass"}]
    seen: list[str] = []

    def look(report: RehearsalReport, ways_in: Mapping[str, str]) -> None:
        assert report.differing == ()
        for device in ("left", "r2"):
            command = [*ways_in[device].split(), "ip", "-o", "-4", "addr"]
            seen.append(subprocess.run(command, capture_output=True, text=True, check=True).stdout)

    run_rehearsal(lab.network(), quietly, keep=look)
    assert "172.20.1.10/24" in seen[0]
    assert "172.20.0.2/30" in seen[1]
    deadline = time.monotonic() + 20
    while _left() and time.monotonic() < deadline:
        time.sleep(0.1)
    assert _left() == []


def test_each_hop_says_what_it_saw_and_which_entries_counted_it() -> None:
    lab = Lab().place("r2 wan0 in", "10 deny tcp from any to any port 80\n20 permit any from any to any")
    web, denied = rehearsed(lab.network(), "left → right web", "left → right tcp/80").tried
    assert [(hop.device, hop.out, hop.home) for hop in web.hops] == [
        ("left", ("was sent",), ("came in",)),
        ("r1", ("came in", "went on"), ("came in", "went on")),
        ("r2", ("came in", "list, entry 20", "went on"), ("came in", "went on")),
        ("r3", ("came in", "went on"), ("came in", "went on")),
        ("right", ("came in",), ("was sent",)),
    ]
    assert denied.hops[-1].out == ("came in", "list, entry 10")


def test_no_room_for_processes_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_args: object, **_named: object) -> None:
        raise BlockingIOError(11, "Resource temporarily unavailable")

    monkeypatch.setattr(subprocess, "Popen", full)
    with pytest.raises(CannotRehearse, match="This system cannot begin another process"):
        run_rehearsal(Lab().network(), quietly)


def test_what_watches_can_end_it() -> None:
    class Enough(Exception):
        pass

    def stop(stage: str, _done: float) -> None:
        if stage == "lists":
            raise Enough

    with pytest.raises(Enough):
        run_rehearsal(saltmarsh(), stop)
    with pytest.raises(CannotRehearse, match="The rehearsal broke off"):
        run_rehearsal(saltmarsh(), quietly, longest=1.0)


def test_what_is_left_out_is_said() -> None:
    text = """
devices:
  - {name: a, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.1/24]}]}
  - {name: b, kind: host, interfaces: [{name: eth0, addresses: [172.20.1.2/24]}]}
  - {name: s1, kind: switch, interfaces: [{name: p1}, {name: p2}, {name: p3}]}
  - {name: s2, kind: switch, interfaces: [{name: p1}, {name: p2}, {name: p3}]}
links:
  - {ends: ["a:eth0", "s1:p1"]}
  - {ends: ["s1:p2", "s2:p2"]}
  - {ends: ["s1:p3", "s2:p3"]}
  - {ends: ["s2:p1", "b:eth0"]}
tests: [{id: t1, flow: a → b ping pass}]
"""
    report = run_rehearsal(Lab.of(text).network(), quietly)
    assert report.left_out == ("the link s1:p3 – s2:p3: it closes a circle of switches",)
    assert report.differing == ()
