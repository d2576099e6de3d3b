"""Plans that make all requirements hold: what each would write and place, and what it would break."""

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from greyheron.analysis.advice.advisor import Advisor, parted
from greyheron.analysis.advice.assembly import Assembled
from greyheron.analysis.advice.together import Aim, AllTogether, Impossible, NotTogether
from greyheron.analysis.findings.finding import counted
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.prover import Prover
from greyheron.core.bulk.engines import Engines
from greyheron.core.progress import Progress, part, unwatched
from greyheron.core.timeline import Timeline
from greyheron.core.world import build_world
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, difference
from greyheron.model.document import AccessList, Network, Placement
from greyheron.model.notation.flows import write_expected_flow
from greyheron.model.notation.lists import write_body
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.values import Family


@dataclass(frozen=True, slots=True)
class PlannedList:
    """A list that a plan makes or extends.

    added:  the entries that are new, as they are written;  places:  where it is placed anew, in words
    """

    name: str
    new: bool
    added: tuple[str, ...]
    places: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class PolicyPlan:
    """One set of lists that makes all requirements hold.

    aims:  what it is the best in;  places, entries:  how many are new
    broken:  test flows that hold now and would not;  locked:  devices that nobody could log in to any more
    cut:  routing neighbours that it would part;  hosts:  those whose own filters it needs
    changes:  what taking it does to the draft
    """

    aims: tuple[Aim, ...]
    places: int
    entries: int
    lists: tuple[PlannedList, ...]
    broken: tuple[str, ...]
    locked: tuple[str, ...]
    cut: tuple[str, ...]
    hosts: tuple[str, ...]
    changes: tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class AllHolding:
    """The plans, the fewest places first; or which requirements cannot be had together.

    text:  what there is to say of it
    at_odds:  requirements for which no lists were found, and for fewer of them they were
    """

    text: str
    plans: tuple[PolicyPlan, ...]
    at_odds: tuple[str, ...] = ()


def make_all_hold(
    prover: Prover,
    engines: Engines,
    timeline: Timeline,
    chosen: Collection[str] | None = None,
    progress: Progress = unwatched,
) -> AllHolding:
    """Lists for the requirements that do not hold, and keep those holding that do. Raises Cancelled.

    chosen:  the ids of those that do not hold and are meant; None: all of them
    """
    network = timeline.network
    first = part(progress, 0, 1 + len(Aim))
    violated = set(_violated(prover, timeline, first))
    meant = violated if chosen is None else violated & set(chosen)
    if not meant:
        return AllHolding("All of them hold already: nothing needs to be placed.", ())
    wanted = [each for each in network.requirements if each.id in meant or each.id not in violated]
    together = AllTogether(prover, network, wanted)
    found: list[tuple[Assembled, list[Aim]]] = []
    for number, aim in enumerate(Aim):
        try:
            assembled = together.solve(aim, part(progress, 1 + number, 1 + len(Aim)))
        except NotTogether as failed:
            if not found:
                return _at_odds(together.impossible(failed, progress), network)
            continue  # it is another way to what was found already
        same = next((aims for known, aims in found if known.network == assembled.network), None)
        if same is None:
            found.append((assembled, [aim]))
        else:
            same.append(aim)
    advisor = Advisor(prover, engines, timeline.first, network)
    plans = [_plan(advisor, network, timeline, *each) for each in found]
    ways = f"{counted(len(plans), 'way')} that differ in kind" if len(plans) > 1 else "one way"
    return AllHolding(
        f"{counted(len(meant), 'requirement')} would hold, and no other is lost: {ways}.", tuple(plans)
    )


def _violated(prover: Prover, timeline: Timeline, progress: Progress) -> Iterator[str]:
    every = timeline.network.requirements
    for number, each in enumerate(every):
        progress(number / len(every))
        if any(
            prover.prove(each.statement, timeline.world(span), timeline.network).proof.answer
            is Answer.VIOLATED
            for span in timeline.for_statement(each.statement)
        ):
            yield each.id


def _at_odds(impossible: Impossible, network: Network) -> AllHolding:
    statements = {each.id: write_requirement(each.statement) for each in network.requirements}
    said = tuple(statements[each] for each in impossible.ids)
    hold = "this hold" if len(said) == 1 else f"these {len(said)} hold together"
    if impossible.given_up:
        text = (
            f"No lists were found that make {hold}, which does not say that there are none: {impossible.why}."
        )
    else:
        text = f"No lists can make {hold}: {impossible.why}."
    return AllHolding(text, (), said)


def _plan(
    advisor: Advisor,
    network: Network,
    timeline: Timeline,
    assembled: Assembled,
    aims: Sequence[Aim],
) -> PolicyPlan:
    after = assembled.network
    world = build_world(after, timeline.first, timeline.first.resolved.active)
    lists = tuple(_lists(network, after))
    return PolicyPlan(
        tuple(aims),
        sum(len(each.places) for each in lists),
        sum(len(each.added) for each in lists),
        lists,
        tuple(write_expected_flow(test.flow) for test in advisor.failing(world)),
        tuple(sorted({name for family in Family for name in advisor.locked_by(world, family)})),
        tuple(sorted(parted(world) - parted(timeline.first))),
        tuple(sorted(_hosts(network, after, timeline))),
        tuple(difference(network, after)),
    )


def _hosts(before: Network, after: Network, timeline: Timeline) -> set[str]:
    """Devices that do not forward, and filter what is their own."""
    placed = {each.device for each in after.placements if each not in before.placements}
    return {name for name in placed if not timeline.first.topology.devices[name].traits.forwards}


def _lists(before: Network, after: Network) -> Iterator[PlannedList]:
    old = {each.name: each for each in before.lists}
    placed = [each for each in after.placements if each not in before.placements]
    for each in after.lists:
        places = tuple(_where(placement) for placement in placed if placement.list == each.name)
        if places or old.get(each.name) != each:
            yield PlannedList(each.name, each.name not in old, _added(old.get(each.name), each), places)


def _where(placement: Placement) -> str:
    return str(AttachmentPoint(placement.device, placement.at, placement.direction))


def _added(before: AccessList | None, after: AccessList) -> tuple[str, ...]:
    """The entries of a list that it did not have, without their numbers."""
    known = set(_lines(before)) if before is not None else set()
    return tuple(line for line in _lines(after) if line not in known)


def _lines(access_list: AccessList) -> list[str]:
    lines = write_body(access_list.body, access_list.family, access_list.kind).splitlines()
    return [line.lstrip("0123456789 ") for line in lines if not line.startswith("#")]
