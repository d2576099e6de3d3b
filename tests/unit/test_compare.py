"""Two files compared by the command, as text, JSON and Markdown."""

import json
import re
from importlib.resources import files
from pathlib import Path

import pytest

from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import write_workspace
from greyheron.model.changes import Change
from greyheron.model.read import edited
from tests.command_line import run

DEMO = str(files("greyheron.demo").joinpath("saltmarsh.yaml"))
STORM = str(files("greyheron.demo").joinpath("storm.yaml"))
HOSTILE = "**[click](https://hut.example)** <img src=x> @warden `a`\n# head"


@pytest.fixture
def later(tmp_path: Path) -> str:
    """The demo with an entry that opens what a requirement forbids, and a note that means harm."""
    network = saltmarsh()
    entries = "10 permit tcp from any to any port 1-1023\n20 deny any from any to any log\n"
    own = {"name": "from-beyond", "family": "ipv4", "kind": "extended", "entries": entries, "note": HOSTILE}
    test = {"id": "t1", "flow": "kiosk → ledger telnet pass", "group": ""}
    changes = [
        Change(collection="lists", key="from-beyond", item=own),
        Change(collection="tests", key="t1", item=test),
    ]
    file = tmp_path / "later.yaml"
    file.write_text(write_workspace(edited(network, changes)))
    return str(file)


def test_the_same_file_has_no_difference() -> None:
    result = run(["compare", DEMO, DEMO])
    assert (result.exit_code, result.output.strip()) == (0, "0 differences; every packet as before.")


def test_packets_come_first_and_what_is_written_last(later: str) -> None:
    result = run(["compare", DEMO, later])
    assert result.exit_code == 1
    lines = [line.strip() for line in result.output.splitlines()]
    assert "from-beyond, for all packets:" in lines
    assert any(
        line.startswith("permits 1,023 more: tcp from any to any, ports 1–1023") for line in lines
    ) or any(line.startswith("permits ") and "ports 1–" in line for line in lines)
    assert lines.index("Packets") < lines.index("Reach") < lines.index("Written")
    assert "− 10 permit tcp from any to 203.0.113.10 port https" in lines


def test_json_has_every_part(later: str) -> None:
    found = json.loads(run(["compare", DEMO, later, "--json"]).output)
    assert (found["old"], found["new"]) == (saltmarsh().name,) * 2
    (changed,) = found["lists"]
    assert changed["name"] == "from-beyond"
    assert [place["device"] for place in changed["places"]] == ["weir"]
    assert found["reach"]["gain"] > 0
    assert {each["collection"] for each in found["differences"]} == {"lists", "tests"}


@pytest.mark.long
def test_a_storm_is_told_with_what_it_broke() -> None:
    found = json.loads(run(["compare", DEMO, STORM, "--json"]).output)
    broken = {each["text"] for each in found["requirements"] if not each["expected"]}
    assert "allow visitors → ledger https" in broken
    assert any("routing neighbours" in each["text"] for each in found["found"])
    assert {each["device"] for each in found["places"]} >= {"lagoon", "hide-gw", "centre-gw"}


def test_markdown_takes_names_and_notes_for_text(later: str) -> None:
    result = run(["compare", DEMO, later, "--markdown"])
    assert result.output.startswith("### Saltmarsh reserve\n")
    assert "**Packets**" in result.output
    note = next(line for line in result.output.splitlines() if "click" in line)
    assert re.fullmatch(r"\s*- (`+) ?\+ note: .*\1", note)  # all of it in a code span
    assert "\n# head" not in result.output
    assert "<img" not in re.sub(r"(`+).*?\1(?!`)", "", result.output)


def test_both_forms_at_once_are_refused(later: str) -> None:
    result = run(["compare", DEMO, later, "--markdown", "--json"])
    assert result.exit_code == 2
    assert "choose one" in result.output


def test_standard_input_is_one_of_the_two() -> None:
    result = run(["compare", "-", "-"])
    assert result.exit_code == 2
    assert "not both" in result.output


def test_a_file_that_is_not_there_is_named(tmp_path: Path) -> None:
    result = run(["compare", DEMO, str(tmp_path / "none.yaml")])
    assert result.exit_code == 2
    assert "none.yaml" in result.output
