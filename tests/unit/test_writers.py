"""Whoever writes entries elsewhere goes over all that they ask for: no condition is left behind."""

import json

import pytest

from greyheron.analysis.findings.finder import find_in_time, noted
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.core.bulk.engines import engines
from greyheron.core.lists import resolved
from greyheron.core.lists.fields import FIELDS
from greyheron.core.lists.fields.dscp import DscpField
from greyheron.core.lists.resolved import Names, resolve
from greyheron.core.lists.rules import Rule
from greyheron.core.timeline import Timeline
from greyheron.demo.networks import saltmarsh
from greyheron.formats.sarif import write_sarif
from greyheron.formats.yang.aces import CannotExpand, aces_of
from greyheron.model.notation.clauses import CLAUSES
from greyheron.model.problems import DocumentError
from greyheron.model.values import Family
from greyheron.rehearsal.expressions import matching


class DummyField(DscpField):
    """A field that nobody writes yet, and that every entry asks for."""

    label = "ecn"
    says = staticmethod(lambda _rule: 3)  # type: ignore[assignment]


@pytest.fixture
def rule(monkeypatch: pytest.MonkeyPatch) -> Rule:
    monkeypatch.setattr(resolved, "FIELDS", (*FIELDS, DummyField()))
    network = saltmarsh()
    found = next(each for each in network.lists if each.family is Family.IPV4)
    return resolve(found, Names(network)).rules[0]


@pytest.mark.usefixtures("rule")
def test_a_field_that_the_standard_cannot_say_is_refused() -> None:
    network = saltmarsh()
    found = next(each for each in network.lists if each.family is Family.IPV4)
    with pytest.raises(CannotExpand, match="asks for “ecn”"):
        aces_of(resolve(found, Names(network)))


def test_a_field_that_the_kernel_is_not_told_is_refused(rule: Rule) -> None:
    with pytest.raises(DocumentError, match="asks for ecn"):
        list(matching(rule, Family.IPV4))


def test_every_field_is_written_in_the_notation() -> None:
    assert {field.clause for field in FIELDS} <= set(CLAUSES)


@pytest.mark.parametrize(
    ("path", "location"),
    [
        ("nets/marsh net.yaml", {"uri": "nets/marsh%20net.yaml"}),
        ("/srv/marsh net.yaml", {"uri": "file:///srv/marsh%20net.yaml"}),
        (None, {"description": {"text": "standard input"}}),
    ],
)
def test_sarif_says_where_a_file_is_as_its_rules_want_it(
    path: str | None, location: dict[str, object]
) -> None:
    network = saltmarsh()
    found = noted(find_in_time(Timeline.build(network), engines(), KeptFindings()), network.accepted)
    (run,) = json.loads(write_sarif(path, "", found))["runs"]
    assert run["results"][0]["locations"][0]["physicalLocation"]["artifactLocation"] == location
