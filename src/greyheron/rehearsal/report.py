"""What a rehearsal tells, in words and plain values: for the command line, the API and the screen alike."""

from collections.abc import Iterable
from dataclasses import dataclass

from greyheron.core.conversation import Verdict
from greyheron.model.names import protocol_name
from greyheron.model.values import Family
from greyheron.rehearsal.comparison import Discrepancy, Rehearsal, Rehearsed, counted_words, sees_words
from greyheron.rehearsal.packets import Captured, header_of

MOST_LINES = 40


@dataclass(frozen=True, slots=True)
class TriedReport:
    """One conversation: as predicted, and as it went.

    test, requirement:  for which of the two: its id, the other is None
    flow:  what was sent;  when:  for which times
    predicted, seen:  in a sentence each;  agrees:  whether every fact is as it was predicted
    differences:  those that are not;  packets:  where they differ, every packet that was captured, in order
    """

    test: str | None
    requirement: str | None
    flow: str
    when: str
    verdict: Verdict
    predicted: str
    seen: str
    agrees: bool
    differences: tuple[Discrepancy, ...]
    packets: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class RehearsalReport:
    """A whole rehearsal. `left_out`: what was not tried, and why."""

    tried: tuple[TriedReport, ...]
    left_out: tuple[str, ...]
    building_seconds: float
    sending_seconds: float

    @property
    def differing(self) -> tuple[TriedReport, ...]:
        return tuple(each for each in self.tried if not each.agrees)


def report_of(rehearsal: Rehearsal) -> RehearsalReport:
    """`rehearsal` in words."""
    building, sending = rehearsal.seconds
    return RehearsalReport(
        tuple(map(_tried, rehearsal.tried)), rehearsal.left_out, round(building, 2), round(sending, 2)
    )


def _tried(tried: Rehearsed) -> TriedReport:
    predicted, seen = tried.predicted, tried.seen
    decided = "" if predicted.decider is None else f", decided by {counted_words(predicted.decider)}"
    return TriedReport(
        tried.sending.asked.test,
        tried.sending.asked.requirement,
        tried.sending.name,
        tried.span,
        predicted.verdict,
        f"{_way(predicted.way)}; the sender sees {sees_words(predicted.sees, predicted.by)}{decided}",
        f"{_way(seen.way)}; the sender sees {sees_words(seen.sees, seen.by)}",
        not tried.differences,
        tried.differences,
        tuple(_packets(tried.captured)) if tried.differences else (),
    )


def _way(way: Iterable[str]) -> str:
    return " → ".join(way)


def _packets(captured: Iterable[Captured]) -> Iterable[str]:
    for number, each in enumerate(captured):
        if number == MOST_LINES:
            yield "and more"
            return
        header = header_of(each.frame)
        if header is None:
            continue
        protocol, source, source_port, destination, destination_port = header.signature
        family: Family = header.family
        ends = [
            family.text(address or 0) + ("" if port is None else f" port {port}")
            for address, port in ((source, source_port), (destination, destination_port))
        ]
        code = "" if header.code is None else f" {header.code[0]}/{header.code[1]}"
        verb = "leaves" if each.outgoing else "enters"
        yield f"{verb} {each.device}: {protocol_name(protocol, family)}{code} {ends[0]} → {ends[1]}"
