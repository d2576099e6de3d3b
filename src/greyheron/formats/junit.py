"""Reports of test flows and requirements as JUnit XML, the form that build servers read."""

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.policy import ProofReport
from greyheron.analysis.testing.book import TestMarks
from greyheron.formats.outgoing import for_xml
from greyheron.model.document import Network, Requirement
from greyheron.model.notation.requirements import write_requirement


class Case(NamedTuple):
    """What is tried, its group, why it failed, if it did, and what else is to be said."""

    name: str
    group: str
    failure: str | None
    note: str = ""


def write_junit(
    network: Network, marks: Sequence[TestMarks], proofs: Iterable[tuple[Requirement, ProofReport]]
) -> str:
    """One suite of test flows and one of requirements; each that is not as expected is a failure."""
    flows = [
        Case(mark.flow, test.group or "test flows", None if not mark.surprises else _why(mark))
        for test, mark in zip(network.tests, marks, strict=True)
    ]
    answers = [
        Case(
            write_requirement(requirement.statement),
            requirement.group or "requirements",
            None if answer.answer is Answer.PROVED else answer.text,
            answer.text if answer.answer is Answer.PROVED and answer.remains else "",
        )
        for requirement, answer in proofs
    ]
    return write_suites(network.name, {"test flows": flows, "requirements": answers})


def write_suites(title: str, suites: Mapping[str, Sequence[Case]]) -> str:
    """Suites of cases by their names."""
    root = Element("testsuites", name=for_xml(title))
    for name, cases in suites.items():
        failures = sum(case.failure is not None for case in cases)
        suite = SubElement(root, "testsuite", name=name, tests=str(len(cases)), failures=str(failures))
        for case in cases:
            element = SubElement(suite, "testcase", name=for_xml(case.name), classname=for_xml(case.group))
            if case.failure is not None:
                SubElement(element, "failure", message=for_xml(case.failure))
            if case.note:
                SubElement(element, "system-out").text = for_xml(case.note)
    indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(root, encoding="unicode") + "\n"


def _why(mark: TestMarks) -> str:
    reason = mark.draft.judgement.reason if mark.draft.judgement else ""
    return f"{mark.draft.text}. {reason}".strip()
