"""Two states of a network side by side: what is written otherwise, and what that comes to."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from greyheron.analysis.findings.finding import Finding, Severity, counted, shortened
from greyheron.analysis.network.changed_lists import ChangedList, ChangedPackets, ChangedPlace
from greyheron.analysis.network.differences import Difference, LineSign
from greyheron.analysis.reach.change import ReachChange
from greyheron.model.read import SINGULAR

_MOST_LINES = 6
_MOST_TOLD = 40


@dataclass(frozen=True, slots=True)
class ChangedOutcome:
    """A test flow or a requirement of the second state, and what becomes of it in each.

    before:  null where the first state does not have it;  expected:  whether it is now as it should be
    """

    text: str
    before: str | None
    after: str
    expected: bool


@dataclass(frozen=True, slots=True)
class ToldFinding:
    severity: Severity
    text: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """What a second state of a network has otherwise than a first.

    lists, places:  exactly which packets are decided otherwise
    flows, requirements:  those that come to something else, or are new
    reach:  null where it takes too long, or the devices are not the same
    found, mended:  findings that only the second has, and only the first
    """

    differences: tuple[Difference, ...]
    lists: tuple[ChangedList, ...]
    places: tuple[ChangedPlace, ...]
    flows: tuple[ChangedOutcome, ...]
    requirements: tuple[ChangedOutcome, ...]
    reach: ReachChange | None
    found: tuple[ToldFinding, ...]
    mended: tuple[ToldFinding, ...]


@dataclass(frozen=True, slots=True)
class Line:
    """A line of what is told: how deep it stands under others, and whether it is in the notation."""

    text: str
    depth: int = 0
    written: bool = False


@dataclass(frozen=True, slots=True)
class ToldSection:
    title: str
    lines: tuple[Line, ...]


def only_in(some: Iterable[Finding], others: Iterable[Finding]) -> tuple[ToldFinding, ...]:
    """Findings that are not among others, told."""
    known = {each.key for each in others}
    return tuple(ToldFinding(each.severity, each.text) for each in some if each.key not in known)


def sections(of: Comparison) -> tuple[ToldSection, ...]:
    """All of it in words, short; sections that have nothing to say are left out."""
    found = (
        ToldSection("Packets", tuple(_packets(of))),
        ToldSection("Requirements", tuple(_turned(of.requirements))),
        ToldSection("Test flows", tuple(_turned(of.flows))),
        ToldSection("Reach", tuple(_reach(of.reach))),
        ToldSection("Findings", tuple(_findings(of))),
        ToldSection("Written", tuple(_written(of.differences))),
    )
    return tuple(each for each in found if each.lines)


def _packets(of: Comparison) -> Iterator[Line]:
    for each in of.lists:
        if each.left:
            yield Line(f"{each.name}: what it changes is not told: {each.left}")
            continue
        if not each.changed:
            yield Line(f"{each.name} decides every packet as before")
            continue
        yield Line(f"{each.name}, for all packets:")
        yield from _sentences(each.changed)
        for place in each.places:
            yield from _place(place, each.changed)
    for place in of.places:
        names = [each for each in (place.before, place.after) if each]
        if place.before is None:
            words = f"{names[0]} stands {place.where} now"
        elif place.after is None:
            words = f"{names[0]} stands {place.where} no more"
        else:
            words = f"{names[1]} stands {place.where} instead of {names[0]}"
        yield Line(words)
        yield from _place(place, None)


def _place(place: ChangedPlace, every: tuple[ChangedPackets, ...] | None) -> Iterator[Line]:
    if place.left:
        yield Line(f"of what comes {place.where}: {place.left}", 1)
        if every is None:
            yield from _sentences(place.changed)
    elif not place.changed:
        yield Line(f"no device or host sends such packets {place.where}", 1)
    elif place.changed == every:
        yield Line(f"all of it can come {place.where}", 1)
    else:
        if every is not None:
            yield Line(f"of what devices and hosts send each other, {place.where}:", 1)
        yield from _sentences(place.changed, 2 if every is not None else 1)


def _sentences(changed: Iterable[ChangedPackets], depth: int = 1) -> Iterator[Line]:
    for each in changed:
        when = f"{each.when}: " if each.when else ""
        yield from (Line(f"{when}{text}", depth) for text in each.packets)
        if each.more:
            yield Line(f"and {counted(each.more, 'smaller part')}", depth)


def _turned(some: tuple[ChangedOutcome, ...]) -> Iterator[Line]:
    for each in some[:_MOST_TOLD]:
        doubt = "" if each.expected else ", which is not what is expected"
        yield Line(f"{each.text}: {each.before or 'new'} → {each.after}{doubt}")
    if len(some) > _MOST_TOLD:
        yield Line(f"and {len(some) - _MOST_TOLD} more")


def _reach(reach: ReachChange | None) -> Iterator[Line]:
    if reach is not None and reach.changed:
        families = " and ".join(each.word for each in reach.families)
        yield Line(
            f"{', '.join(reach.services)} over {families}: {counted(reach.changed, 'pair')} of devices "
            f"differ, {reach.lose} lose and {reach.gain} gain"
        )


def _findings(of: Comparison) -> Iterator[Line]:
    for verb, some in (("new", of.found), ("gone", of.mended)):
        yield from (Line(f"{verb} {each.severity}: {each.text}") for each in some[:_MOST_TOLD])
        if len(some) > _MOST_TOLD:
            yield Line(f"and {len(some) - _MOST_TOLD} more that are {verb}")


def _written(differences: Iterable[Difference]) -> Iterator[Line]:
    positions = 0
    for each in differences:
        if each.collection == "positions":
            positions += 1
            continue
        was = f", was {each.was}" if each.was else ""
        yield Line(f"{SINGULAR[each.collection]} {each.key} {each.verb}{was}")
        signs = {LineSign.GONE: "−", LineSign.ADDED: "+"}
        lines = [f"{signs[line.sign]} {line.text}" for line in each.lines if line.sign in signs]
        yield from (Line(line, 1, written=True) for line in lines[:_MOST_LINES])
        if len(lines) > _MOST_LINES:
            yield Line(f"and {counted(len(lines) - _MOST_LINES, 'more line')}", 1)
    if positions:
        yield Line(counted(positions, "plate") + " moved on the map")


def sentence(of: Comparison) -> str:
    """All of it in one sentence."""
    lists, places = (sum(bool(each.changed) for each in some) for some in (of.lists, of.places))
    decided = [counted(lists, "changed list")] * bool(lists) + [counted(places, "changed place")] * bool(
        places
    )
    parts = [
        counted(len(of.differences), "difference"),
        f"packets are decided otherwise by {' and '.join(decided)}" if decided else "every packet as before",
    ]
    wrong = [each.text for each in (*of.requirements, *of.flows) if not each.expected]
    if wrong:
        parts.append(f"not as expected now: {shortened(wrong, 3)}")
    return "; ".join(parts)
