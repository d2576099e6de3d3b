"""Whatever names and notes hold, what goes out is well-formed, and does nothing to whoever opens it."""

import csv
import io
import json
import re
import unicodedata
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as some

from greyheron.analysis.findings.finder import find_in_time, noted
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.testing.book import States, Tries, mark_tests
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.demo.networks import saltmarsh
from greyheron.formats.junit import write_junit
from greyheron.formats.known import WRITTEN
from greyheron.formats.listing import write_listing
from greyheron.formats.outgoing import for_table, for_terminal, for_xml, from_table
from greyheron.formats.sarif import write_sarif
from greyheron.formats.tests_csv import read_tests, write_tests
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.document import FORMAT, Network, to_data
from greyheron.model.problems import DocumentError
from greyheron.model.read import read_network
from tests.command_line import run

FREE = frozenset({"note", "group", "reason"})
HOSTILE = (
    "\x1b[31mred\x1b[0m", "\x1b]0;title\x07", "\x9b2J", "=1+1", "'=1+1", "+x", "@sum", "\tcell", "a\x00b",
    "\u202eback", "\x0c", "]]>", "<b>&", '"', "a\rb", "\u2028", "\ufffe", "-1", "''=x", "'", "\r\n=1",
    "[red]x[/]",
)  # fmt: skip
TEXTS = some.one_of(some.sampled_from(HOSTILE), some.text(max_size=30))


def filled(data: Any, texts: Iterator[str]) -> Any:
    """A document with something else in everything that may hold any text."""
    if isinstance(data, dict):
        return {
            key: next(texts) if key in FREE and isinstance(value, str) else filled(value, texts)
            for key, value in data.items()
        }
    return [filled(each, texts) for each in data] if isinstance(data, list) else data


def hostile(texts: list[str]) -> Network | None:
    """The demo with those texts, taken in turn; None where they are refused."""
    turns = (texts[number % len(texts)] for number in range(10_000))
    data = {**to_data(saltmarsh()), "format": FORMAT, "name": texts[0] or "x", "note": texts[-1]}
    noted = re.sub(r"\s", " ", texts[0])  # a note of an entry is one line
    data["lists"][0] = {
        **data["lists"][0],
        "entries": f"{data['lists'][0]['entries']}\npermit any # n {noted}",
    }
    for collection in ("devices", "lists", "tests", "requirements"):
        data[collection] = [{"note": "", **item} for item in data[collection]]
    try:
        return read_network(filled(data, turns))
    except DocumentError:
        return None


def moving(text: str) -> list[str]:
    """What a terminal would do something about, or that hides."""
    return [
        each
        for each in text
        if each not in "\n\t" and (unicodedata.category(each) in ("Cc", "Zl", "Zp") or each in "\u202e\u2066")
    ]


def check_content(path: str, content: bytes) -> None:
    text = content.decode()
    if path.endswith(".xml"):
        ElementTree.fromstring(text)
    elif path.endswith(".json"):
        json.loads(text)
    elif path.endswith(".csv"):
        for row in csv.reader(io.StringIO(text, newline="")):
            assert not any(field.startswith(("=", "+", "-", "@", "\t", "\r")) for field in row)
    elif path.endswith((".yaml", ".yml")):
        read_workspace(content)
    else:
        raise AssertionError(f"nothing checks {path}")


def test_most_of_it_is_taken_in() -> None:
    """Else the test below would test less than it says."""
    assert sum(hostile([each]) is not None for each in HOSTILE) > len(HOSTILE) / 2


@pytest.mark.long
@settings(deadline=None, max_examples=60, suppress_health_check=[HealthCheck.too_slow])
@given(texts=some.lists(TEXTS, min_size=1, max_size=6))
def test_every_writer_writes_what_its_readers_take(texts: list[str]) -> None:
    network = hostile(texts)
    if network is None:
        return
    for writing in WRITTEN:
        for path, content in writing.write(network).files.items():
            check_content(path, content)
    marks = mark_tests(network.tests, States.of(Timeline.build(saltmarsh())), Tries())
    ElementTree.fromstring(write_junit(network, marks, []))
    check_content("tests.csv", write_tests(network.tests).encode())
    assert moving(for_terminal(write_listing(network.lists))) == []
    assert read_workspace(write_workspace(network)) == network


@settings(deadline=None)
@given(text=TEXTS)
def test_a_table_gives_back_what_it_was_given(text: str) -> None:
    written = for_table(text)
    assert not re.match(r"[=+\-@\t\r]", written)
    assert from_table(written) == text


@given(text=some.text())
def test_a_terminal_is_given_nothing_that_moves_it(text: str) -> None:
    shown = for_terminal(text)
    assert moving(shown) == []
    assert for_terminal(shown) == shown


@given(text=some.text())
def test_xml_is_given_nothing_that_it_cannot_hold(text: str) -> None:
    element = ElementTree.Element("note")
    element.text = for_xml(text)
    back = ElementTree.fromstring(ElementTree.tostring(element)).text or ""
    assert back == for_xml(text).replace("\r\n", "\n").replace("\r", "\n")


def test_test_flows_come_back_from_their_table() -> None:
    network = hostile(["=1+1", "'=x", "+y", "plain", "-z"])
    assert network is not None
    back = read_tests(write_tests(network.tests))
    assert [(each.group, each.note) for each in back] == [(each.group, each.note) for each in network.tests]


def test_findings_are_json_whatever_the_notes_say() -> None:
    network = hostile(["\x1b[31mred", "a\x00b", "\u202eback"])
    assert network is not None
    found = find_in_time(Timeline.build(network), engines(), KeptFindings())
    json.loads(write_sarif("n.yaml", write_workspace(network), noted(found, network.accepted)))


@pytest.mark.parametrize(
    "words", [["check"], ["findings"], ["prove"], ["trace", "--from", "kiosk", "--to", "ledger"]]
)
def test_commands_print_nothing_that_moves_a_terminal(words: list[str], tmp_path: Path) -> None:
    network = hostile(["\x1b[31mred", "\x1b]0;title\x07", "\x9b2J", "\u202eback"])
    assert network is not None
    file = tmp_path / "network.yaml"
    file.write_text(write_workspace(network), encoding="utf-8")
    more = ["--service", "web"] if words[0] == "trace" else []
    result = run([words[0], str(file), *words[1:], *more])
    assert result.output
    assert moving(result.output) == []
