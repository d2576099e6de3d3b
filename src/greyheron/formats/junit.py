"""Reports of test flows and requirements as JUnit XML, the form that build servers read."""

from collections.abc import Iterable, Mapping, Sequence
from xml.etree.ElementTree import Element, SubElement, indent, tostring

from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.policy import ProofReport
from greyheron.analysis.testing.book import TestMarks
from greyheron.model.document import Network, Requirement
from greyheron.model.notation.requirements import write_requirement

Case = tuple[str, str, str | None]
"""What is tried, its group, and why it failed, if it did."""


def write_junit(
    network: Network, marks: Sequence[TestMarks], proofs: Iterable[tuple[Requirement, ProofReport]]
) -> str:
    """One suite of test flows and one of requirements; each that is not as expected is a failure."""
    flows = [
        (mark.flow, test.group or "test flows", None if not mark.surprises else _why(mark))
        for test, mark in zip(network.tests, marks, strict=True)
    ]
    answers = [
        (
            write_requirement(requirement.statement),
            requirement.group or "requirements",
            None if answer.answer is Answer.PROVED else answer.text,
        )
        for requirement, answer in proofs
    ]
    return write_suites(network.name, {"test flows": flows, "requirements": answers})


def write_suites(title: str, suites: Mapping[str, Sequence[Case]]) -> str:
    """Suites of cases by their names."""
    root = Element("testsuites", name=title)
    for name, cases in suites.items():
        failures = sum(why is not None for _, _, why in cases)
        suite = SubElement(root, "testsuite", name=name, tests=str(len(cases)), failures=str(failures))
        for case, group, why in cases:
            element = SubElement(suite, "testcase", name=case, classname=group)
            if why is not None:
                SubElement(element, "failure", message=why)
    indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(root, encoding="unicode") + "\n"


def _why(mark: TestMarks) -> str:
    reason = mark.draft.judgement.reason if mark.draft.judgement else ""
    return f"{mark.draft.text}. {reason}".strip()
