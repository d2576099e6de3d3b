"""All findings of a draft, in the order of how much they matter."""

from collections.abc import Iterable
from dataclasses import dataclass, replace

from greyheron.analysis.findings.finding import Finding, Ground, Severity
from greyheron.analysis.findings.lists import in_lists
from greyheron.analysis.findings.placed import in_placements
from greyheron.analysis.findings.traffic import in_traffic
from greyheron.analysis.findings.wiring import in_wiring
from greyheron.core.progress import part
from greyheron.model.document import Acceptance

_SEARCHES = (in_lists, in_placements, in_wiring, in_traffic)
_ORDER = list(Severity)


@dataclass(frozen=True, slots=True)
class Noted:
    """A finding, and why it was accepted if it was, and nothing has changed since."""

    finding: Finding
    accepted: str | None


def find_all(ground: Ground) -> tuple[Finding, ...]:
    """Everything that is wrong or doubtful. Raises Cancelled."""
    found: dict[str, Finding] = {}
    for number, search in enumerate(_SEARCHES):
        share = replace(ground, progress=part(ground.progress, number, len(_SEARCHES)))
        for finding in search(share):
            found.setdefault(finding.key, finding)
    return tuple(
        sorted(found.values(), key=lambda each: (_ORDER.index(each.severity), each.kind, each.subject))
    )


def noted(findings: Iterable[Finding], accepted: Iterable[Acceptance]) -> tuple[Noted, ...]:
    """Findings with the reasons for which some were accepted."""
    reasons = {(acceptance.finding, acceptance.evidence): acceptance.reason for acceptance in accepted}
    return tuple(Noted(finding, reasons.get((finding.key, finding.digest))) for finding in findings)
