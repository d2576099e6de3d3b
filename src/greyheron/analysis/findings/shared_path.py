"""Lists that look at sources only, on a way that leads to more than they are meant for."""

import re
from collections.abc import Iterable, Iterator, Sequence

import numpy as np

from greyheron.analysis.findings.finding import Finding, Repair, SearchGround, Severity, moving, shortened
from greyheron.analysis.findings.misplaced import last_places
from greyheron.analysis.network.passing import ANY_PROTOCOL, Passers, Passing
from greyheron.analysis.proof.answers import AddressParty
from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.analysis.proof.wording import flow_between
from greyheron.core.lists.fields.address import SourceField
from greyheron.core.lists.matching import decide
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.packet import Packet
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Network, Placement
from greyheron.model.requirement import RequirementKind
from greyheron.model.services import Request
from greyheron.model.values import Expectation, Family

_MOST_WALKED = 24


def keeping_from_more(
    ground: SearchGround, family: Family, everyone: Endpoints, passers: Passers
) -> Iterator[Finding]:
    """What such a list keeps from places of which nothing speaks, and where it would keep from fewer."""
    endpoints = (*everyone.every, *everyone.translated)
    mentions = _Mentions(ground.network, everyone)
    for (point, which), found in ground.world.lists.items():
        device = ground.world.topology.devices[point.device]
        if which is not family or not ground.share.has(found.name):
            continue
        if not device.traits.forwards or point.is_line or not _source_only(found):
            continue
        passing = passers(point)
        if passing is None or passing.pairs is None:
            continue
        denied = _denied_of(passing, found, endpoints)
        if denied:
            kept = _KeptApart(passing, denied, endpoints)
            yield from _judged(ground, point, found, kept, mentions, passers, endpoints)


def _source_only(found: ResolvedList) -> bool:
    return all(isinstance(field, SourceField) for rule in found.rules for field in rule.constraints)


def _denied_of(passing: Passing, found: ResolvedList, endpoints: Sequence[Endpoint]) -> list[int]:
    """The indices of those who come by whom an entry, and not the end of the list, denies."""
    decisions = (
        decide(found, Packet(found.family, endpoints[end].region[0].first, 0, ANY_PROTOCOL))
        for end in passing.sources.tolist()
    )
    return [
        index for index, decision in enumerate(decisions) if decision.denies and decision.entry is not None
    ]


class _KeptApart:
    """Whom a list denies, and from whom that keeps them.

    sources, goals:  endpoints; of goals only such as are drawn ends of a conversation
    """

    def __init__(self, passing: Passing, denied: Sequence[int], endpoints: Sequence[Endpoint]) -> None:
        assert passing.pairs is not None
        self.sources = [endpoints[end] for end in passing.sources[denied].tolist()]
        met = np.flatnonzero(passing.pairs[denied].any(axis=0))
        goals = [endpoints[end] for end in passing.goals[met].tolist()]
        self.goals = [goal for goal in goals if goal.drawn and not goal.translated]


class _Mentions:
    """Whom tests, requirements and notes speak of as kept from somebody, or as reached."""

    def __init__(self, network: Network, everyone: Endpoints) -> None:
        self._network, self._everyone = network, everyone

    def of(self, sources: set[str], goals: Iterable[str], found: ResolvedList) -> tuple[set[str], set[str]]:
        """Of goals those that something wants kept from one of the sources; and all that are mentioned."""
        goals = set(goals)
        kept = {name for name in goals if re.search(rf"\b{re.escape(name)}\b", self._notes(found), re.I)}
        every = set(kept)
        for test in self._network.tests:
            flow = test.flow.flow
            if flow.source.device in sources and flow.destination.device in goals:
                every.add(flow.destination.device or "")
                if test.flow.expect is Expectation.BLOCK:
                    kept.add(flow.destination.device or "")
        for requirement in self._network.requirements:
            statement = requirement.statement
            from_ = {endpoint.device for endpoint in self._everyone.of(statement.sources)}
            to = goals & {endpoint.device for endpoint in self._everyone.of(statement.destinations)}
            blocks = statement.kind is not RequirementKind.ALLOW
            about = from_ & sources if statement.kind is not RequirementKind.ONLY else sources - from_
            if about:
                every |= to
                kept |= to if blocks else set()
        return kept, every

    def _notes(self, found: ResolvedList) -> str:
        access_list = next(each for each in self._network.lists if each.name == found.name)
        entries = access_list.body.entries
        said = [access_list.note, *(each.note or "" for each in entries)]
        return "\n".join([*said, *(remark for each in entries for remark in each.remarks)])


def _judged(
    ground: SearchGround,
    point: AttachmentPoint,
    found: ResolvedList,
    kept: _KeptApart,
    mentions: _Mentions,
    passers: Passers,
    endpoints: Sequence[Endpoint],
) -> Iterator[Finding]:
    family = found.family
    goals = sorted({goal.device for goal in kept.goals})
    meant, every = mentions.of({source.device for source in kept.sources}, goals, found)
    others = [name for name in goals if name not in every and _is_end(ground, name)]
    if not meant or not others:
        return
    place = _last_place(ground, family, kept, meant)
    better = place is not None and place != point and _spares(passers(place), found, others, endpoints)
    repair = None
    if place is not None and better and (place, family) not in ground.world.lists:
        placed = Placement(list=found.name, device=point.device, at=point.at, direction=point.direction)
        repair = Repair(
            f"move {found.name} to where packets are {place}",
            moving(placed, place),
        )
    where = f" {_begun(str(place))} it would still do that, and nothing else." if better else ""
    yield Finding(
        "source-only list on a shared way",
        Severity.WARNING,
        f"{found.name} at {point.device} {point.at} {point.direction}",
        f"{found.name} looks at sources only and stands {point}, on the way to more than "
        f"{shortened(sorted(meant))}: whom it denies it keeps from {shortened(others)} as well, "
        f"of which no entry, note, test or requirement speaks.{where}",
        (f"it denies {shortened(sorted({source.device for source in kept.sources}))}",),
        (point.device,),
        (found.name,),
        repair=repair,
    )


def _is_end(ground: SearchGround, name: str) -> bool:
    traits = ground.world.topology.devices[name].traits
    return traits.end_system or traits.open_ended


def _last_place(
    ground: SearchGround, family: Family, kept: _KeptApart, meant: set[str]
) -> AttachmentPoint | None:
    """Where the last router sends what is to be kept from those who are meant; None where that differs."""
    found: set[AttachmentPoint] = set()
    goals = [goal for goal in kept.goals if goal.device in meant]
    pairs = ((source, goal) for source in kept.sources for goal in goals)
    for number, (source, goal) in enumerate(pairs):
        if number == _MOST_WALKED:
            break
        from_, to = (
            AddressParty(each.device, each.region, each.drawn, every=False) for each in (source, goal)
        )
        flow = flow_between(family, from_, to, Request(ANY_PROTOCOL), 0)
        found.update(last_places(ground.world, flow))
    return found.pop() if len(found) == 1 else None


def _spares(
    passing: Passing | None, found: ResolvedList, others: Sequence[str], endpoints: Sequence[Endpoint]
) -> bool:
    """Whether at a place nobody who is denied is on the way to one of the others."""
    if passing is None or passing.pairs is None:
        return False
    kept = _KeptApart(passing, _denied_of(passing, found, endpoints), endpoints)
    return not {goal.device for goal in kept.goals} & set(others)


def _begun(words: str) -> str:
    return words[0].upper() + words[1:] + ","
