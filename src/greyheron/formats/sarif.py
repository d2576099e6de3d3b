"""Findings as SARIF 2.1.0 (OASIS), so that a code host shows them at the lines of the workspace file."""

import json
from collections.abc import Iterator, Sequence
from typing import Any

import yaml

from greyheron import __version__
from greyheron.analysis.findings.finder import Noted
from greyheron.analysis.findings.finding import Finding, Severity

_LEVEL = {Severity.FAULT: "error", Severity.WARNING: "warning", Severity.NOTE: "note"}
_NAMED = ("lists", "devices")
"""What findings speak of, by the collections of a file, the more telling first."""


def write_sarif(path: str, text: str, found: Sequence[Noted]) -> str:
    """path:  of the workspace file, as the code host has it;  text:  what is in it

    What was accepted is suppressed, with its reason.
    """
    lines = dict(_lines(text))
    kinds = sorted({each.finding.kind for each in found})
    run = {
        "tool": {
            "driver": {
                "name": "Grey Heron",
                "version": __version__,
                "rules": [{"id": kind, "shortDescription": {"text": kind}} for kind in kinds],
            }
        },
        "columnKind": "unicodeCodePoints",
        "results": [_result(path, each, lines, kinds) for each in found],
    }
    return json.dumps({"version": "2.1.0", "runs": [run]}, ensure_ascii=False, indent=2) + "\n"


def _result(
    path: str, noted: Noted, lines: dict[tuple[str, str], int], kinds: Sequence[str]
) -> dict[str, Any]:
    finding = noted.finding
    result = {
        "ruleId": finding.kind,
        "ruleIndex": kinds.index(finding.kind),
        "level": _LEVEL[finding.severity],
        "message": {"text": "\n".join((finding.text, *finding.evidence))},
        "partialFingerprints": {"subject/v1": finding.key, "evidence/v1": finding.digest},
        "locations": [
            {
                "physicalLocation": {
                    "artifactLocation": {"uri": path},
                    "region": {"startLine": _line(finding, lines)},
                }
            }
        ],
    }
    if noted.accepted:
        result["suppressions"] = [{"kind": "external", "justification": noted.accepted}]
    return result


def _line(finding: Finding, lines: dict[tuple[str, str], int]) -> int:
    """Where the first list, else the first device, that it speaks of begins."""
    named = [(collection, name) for collection in _NAMED for name in getattr(finding, collection)]
    return next((lines[each] for each in named if each in lines), 1)


def _lines(text: str) -> Iterator[tuple[tuple[str, str], int]]:
    """Where each item of those collections begins, counted from 1."""
    root = yaml.compose(text, Loader=yaml.CSafeLoader)
    if not isinstance(root, yaml.MappingNode):
        return
    for collection, items in root.value:
        if collection.value not in _NAMED or not isinstance(items, yaml.SequenceNode):
            continue
        for item in items.value:
            for key, value in item.value if isinstance(item, yaml.MappingNode) else ():
                if key.value == "name":
                    yield (collection.value, value.value), item.start_mark.line + 1
