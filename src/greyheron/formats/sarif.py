"""Findings as SARIF 2.1.0 (OASIS), so that a code host shows them at the lines of the workspace file."""

import json
import re
from collections.abc import Iterator, Sequence
from pathlib import PurePath
from typing import Any
from urllib.parse import quote

import yaml

from greyheron import __version__
from greyheron.analysis.findings.finder import Noted
from greyheron.analysis.findings.finding import Finding, Severity

_LEVEL = {Severity.FAULT: "error", Severity.WARNING: "warning", Severity.NOTE: "note"}
_NAMED = ("lists", "devices")
"""What findings speak of, by the collections of a file, the more telling first."""
_ENTRIES = "entries"
_ENTRY = re.compile(r"\bentry (\d{1,9})\b")
_NUMBER = re.compile(r"\s*(\d{1,9})\s")


_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
"""Where the standard keeps its schema: a name for who reads the file, nothing that is fetched here."""


def write_sarif(path: str | None, text: str, found: Sequence[Noted]) -> str:
    """path:  of the workspace file, as the code host has it, or None for one without;  text:  what is in it

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
    return (
        json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, ensure_ascii=False, indent=2)
        + "\n"
    )


def _artifact(path: str | None) -> dict[str, Any]:
    """Where a file is, as RFC 3986 writes it (SARIF 3.4.3, 3.10.2)."""
    if path is None:
        return {"description": {"text": "standard input"}}
    place = PurePath(path)
    return {"uri": place.as_uri() if place.is_absolute() else quote(place.as_posix())}


def _result(
    path: str | None, noted: Noted, lines: dict[tuple[str, str], int], kinds: Sequence[str]
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
                    "artifactLocation": _artifact(path),
                    "region": {"startLine": _line(finding, lines)},
                }
            }
        ],
    }
    if noted.accepted:
        result["suppressions"] = [{"kind": "external", "justification": noted.accepted}]
    return result


def _line(finding: Finding, lines: dict[tuple[str, str], int]) -> int:
    """Where the entry is that it speaks of; else where the first list, or the first device, begins."""
    named = [(collection, name) for collection in _NAMED for name in getattr(finding, collection)]
    spoken = _ENTRY.search(finding.subject) or _ENTRY.search(finding.text)
    if spoken:
        named = [*((_ENTRIES, f"{name} {spoken[1]}") for name in finding.lists[:1]), *named]
    return next((lines[each] for each in named if each in lines), 1)


def _lines(text: str) -> Iterator[tuple[tuple[str, str], int]]:
    """Where each item of those collections begins, and each numbered entry of a list, counted from 1."""
    written = text.splitlines()
    root = yaml.compose(text, Loader=yaml.CSafeLoader)
    if not isinstance(root, yaml.MappingNode):
        return
    for collection, items in root.value:
        if collection.value not in _NAMED or not isinstance(items, yaml.SequenceNode):
            continue
        for item in items.value:
            fields = (
                {key.value: value for key, value in item.value} if isinstance(item, yaml.MappingNode) else {}
            )
            if "name" not in fields:
                continue
            name, entries = fields["name"].value, fields.get("entries")
            yield (collection.value, name), item.start_mark.line + 1
            if entries is not None and entries.style == "|":
                for line in range(entries.start_mark.line + 1, min(entries.end_mark.line, len(written))):
                    numbered = _NUMBER.match(written[line])
                    if numbered:
                        yield (_ENTRIES, f"{name} {int(numbered[1])}"), line + 1
