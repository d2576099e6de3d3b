"""All findings of a draft, in the order of how much they matter."""

from collections.abc import Callable, Iterable, Sequence
from functools import partial

from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.findings.finding import Finding, SearchGround, Severity
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.findings.lists import in_lists
from greyheron.analysis.findings.misplaced import stopping_what_is_wanted
from greyheron.analysis.findings.placement import in_placements
from greyheron.analysis.findings.routed import in_routes
from greyheron.analysis.findings.traffic import in_matrix, in_traffic
from greyheron.analysis.findings.wiring import in_wiring
from greyheron.core.bulk.engines import Engines
from greyheron.core.lists.periods import Span
from greyheron.core.progress import Found, Progress, part, unheard, unwatched
from greyheron.core.shares import WHOLE, Share
from greyheron.core.timeline import Timeline
from greyheron.model.document import Acceptance
from greyheron.model.values import Family

_UNDIVIDED: tuple[Callable[[SearchGround], Iterable[Finding]], ...] = (
    partial(in_matrix, family=Family.IPV4),
    partial(in_matrix, family=Family.IPV6),
    in_wiring,
    in_routes,
    in_traffic,
)
"""Searches that are not by list: shares take turns."""
_ORDER = list(Severity)
_MOVING = ("source-only list on a shared way", "list stops what is wanted", "list that faces the wrong way")
"""Kinds that may move the same list: the last of them tells most, and stands for the others."""


class Noted(Struct, frozen=True):
    """A finding, and why it was accepted if it was, and nothing has changed since."""

    finding: Finding
    accepted: str | None


def find_in_time(
    timeline: Timeline,
    engines: Engines,
    kept: KeptFindings,
    progress: Progress = unwatched,
    share: Share = WHOLE,
    told: Found = unheard,
) -> tuple[Finding, ...]:
    """Everything that is wrong or doubtful, at any time that is shown. Raises Cancelled.

    kept:  what was found before, perhaps in another draft
    share:  of the lists and of the searches; `merged` has the findings of all of them
    told:  those of one search after another
    """
    turns = [search for number, search in enumerate(_UNDIVIDED) if number % share.of == share.number]
    searches = [in_placements, *turns]
    steps = 1 + len(searches) * len(timeline.shown)
    on = part(progress, 0, steps)
    ground = SearchGround(timeline.network, timeline.first, timeline, engines, kept, on, share)
    found = {finding.key: finding for finding in reversed([*in_lists(ground)])}
    if share.number == share.of - 1:  # it proves the whole policy: one share does it
        found |= {finding.key: finding for finding in stopping_what_is_wanted(ground)}
    told([*found.values()])
    for number, search in enumerate(searches):
        at_times: dict[str, list[tuple[Span, Finding]]] = {}
        for index, span in enumerate(timeline.shown):
            on = part(progress, 1 + number * len(timeline.shown) + index, steps)
            for finding in search(replace(ground, world=timeline.world(span), progress=on)):
                times = at_times.setdefault(finding.key, [])
                if all(each is not span for each, _ in times):
                    times.append((span, finding))
        fresh = {key: _told(timeline, times) for key, times in at_times.items() if key not in found}
        found |= fresh
        told([*fresh.values()])
    kept.forget_others()
    return _sorted(found.values())


def merged(shares: Iterable[Iterable[Finding]]) -> tuple[Finding, ...]:
    """The findings of all shares of the searches."""
    return _sorted({finding.key: finding for found in shares for finding in found}.values())


def _sorted(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    every = sorted(findings, key=lambda each: (_ORDER.index(each.severity), each.kind, each.subject))
    moved = {_moves(each): each for each in sorted(every, key=_tells) if each.kind in _MOVING}
    return tuple(each for each in every if each.kind not in _MOVING or moved[_moves(each)] is each)


def _tells(finding: Finding) -> int:
    return _MOVING.index(finding.kind) if finding.kind in _MOVING else -1


def _moves(finding: Finding) -> str:
    """The placement that its repair takes away; without a repair it is a matter of its own."""
    return finding.repair.changes[0].key if finding.repair else finding.key


def _told(timeline: Timeline, times: Sequence[tuple[Span, Finding]]) -> Finding:
    """A finding with the times at which it holds, unless it always does."""
    span, finding = times[0]
    if len(times) == len(timeline.shown):
        return finding
    when = " and ".join(each.words for each, _ in times)
    flow = finding.flow and f"{finding.flow} at {span.moment}"
    return replace(finding, text=f"{when[0].upper()}{when[1:]}: {finding.text}", flow=flow)


def noted(findings: Iterable[Finding], accepted: Iterable[Acceptance]) -> tuple[Noted, ...]:
    """Findings with the reasons for which some were accepted."""
    reasons = {(acceptance.finding, acceptance.evidence): acceptance.reason for acceptance in accepted}
    return tuple(Noted(finding, reasons.get((finding.key, finding.digest))) for finding in findings)
