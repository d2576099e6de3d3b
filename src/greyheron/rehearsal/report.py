"""What a rehearsal tells, in words and plain values: for the command line, the API and the screen alike."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from greyheron.core.walk.verdicts import Verdict
from greyheron.model.document import Network
from greyheron.model.names import protocol_name
from greyheron.model.values import Family
from greyheron.rehearsal.comparison import Discrepancy, Rehearsal, Rehearsed, counted_words, sees_words
from greyheron.rehearsal.packets import Captured, header_of
from greyheron.rehearsal.sendings import Signature, other_way

MOST_LINES = 40
MOST_NUMBERS = 12


@dataclass(frozen=True, slots=True)
class SeenHop:
    """What was captured of a conversation at one device, in sentences: on its way out, and home."""

    device: str
    out: tuple[str, ...]
    home: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class TriedReport:
    """One conversation: as predicted, and as it went.

    test, requirement:  for which of the two: its id, the other is None
    flow:  what was sent;  query:  whether it is a query for the flow's name;  when:  for which times
    predicted, seen:  in a sentence each;  sees:  what its sender saw;  hops:  what each device saw of it
    agrees:  whether every fact is as it was predicted
    differences:  those that are not;  packets:  where they differ, every packet that was captured, in order
    """

    test: str | None
    requirement: str | None
    flow: str
    query: bool
    when: str
    verdict: Verdict
    predicted: str
    seen: str
    sees: str
    hops: tuple[SeenHop, ...]
    agrees: bool
    differences: tuple[Discrepancy, ...]
    packets: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class RehearsalReport:
    """A whole rehearsal.

    left_out:  what was not tried, and why
    rests_on:  entries of which nobody knows whether they are there: both was rehearsed
    """

    tried: tuple[TriedReport, ...]
    left_out: tuple[str, ...]
    building_seconds: float
    sending_seconds: float
    rests_on: tuple[str, ...] = ()

    @property
    def differing(self) -> tuple[TriedReport, ...]:
        return tuple(each for each in self.tried if not each.agrees)


def report_of(rehearsal: Rehearsal, network: Network) -> RehearsalReport:
    """`rehearsal` of `network` in words."""
    building, sending = rehearsal.seconds
    return RehearsalReport(
        tuple(map(_tried, rehearsal.tried)),
        rehearsal.left_out,
        round(building, 2),
        round(sending, 2),
        tuple(_not_known(network)),
    )


def _not_known(network: Network) -> Iterator[str]:
    """The entries that may not be there, of lists that are placed."""
    placed = {placement.list for placement in network.placements}
    for each in network.lists:
        numbers = [entry.number for entry in each.body.entries if entry.maybe] if each.name in placed else []
        if numbers:
            some = ", ".join(map(str, numbers[:MOST_NUMBERS]))
            more = f" and {len(numbers) - MOST_NUMBERS} more" if len(numbers) > MOST_NUMBERS else ""
            word = "entry" if len(numbers) == 1 else "entries"
            yield f"{each.name}, {word} {some}{more}"


def _tried(tried: Rehearsed) -> TriedReport:
    predicted, seen = tried.predicted, tried.seen
    decided = "" if predicted.decider is None else f", decided by {counted_words(predicted.decider)}"
    return TriedReport(
        tried.sending.asked.test,
        tried.sending.asked.requirement,
        tried.sending.name,
        tried.sending.query is not None,
        tried.span,
        predicted.verdict,
        f"{_way(predicted.way)}; the sender sees {sees_words(predicted.sees, predicted.by)}{decided}",
        f"{_way(seen.way)}; the sender sees {sees_words(seen.sees, seen.by)}",
        sees_words(seen.sees, seen.by),
        tuple(_hops(tried)),
        not tried.differences,
        tried.differences,
        tuple(_packets(tried.captured)) if tried.differences else (),
    )


def _hops(tried: Rehearsed) -> Iterable[SeenHop]:
    """The devices in the order in which they were come to, the sender first."""
    out = tried.sending.outward
    home = frozenset(map(other_way, out))
    sender, captured = tried.sending.sender, tried.captured
    for device in dict.fromkeys([sender, *(each.device for each in captured)]):
        here = [each for each in captured if each.device == device]
        yield SeenHop(device, *(tuple(_seen_at(tried, device, here, way)) for way in (out, home)))


def _seen_at(
    tried: Rehearsed, device: str, captured: Iterable[Captured], way: frozenset[Signature]
) -> Iterable[str]:
    headers = ((each, header_of(each.frame)) for each in captured)
    crossed = {each.outgoing for each, header in headers if header is not None and header.signature in way}
    if False in crossed:
        yield "came in"
    for counted, signature in tried.seen.counted:
        if counted.point.device == device and signature in way:
            entry = "implicit deny" if counted.entry is None else f"entry {counted.entry}"
            yield f"{counted.list}, {entry}"
    if True in crossed:
        yield "went on" if False in crossed else "was sent"


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
