"""Choices of where a list could go: what each would do, which are better, and why in one sentence."""

from dataclasses import dataclass

from greyheron.analysis.advice.proposals import Measure
from greyheron.core.steps import Path
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change
from greyheron.model.values import Family, ListKind


@dataclass(frozen=True, slots=True)
class Collateral:
    """What a choice changes beyond what was asked.

    conversations:  how many end otherwise, of those in the matrix of services and ping that hosts and outside
        networks begin;  examples:  some of them, in words
    requirements, tests:  the ids of those that hold now and would not
    """

    conversations: int
    examples: tuple[str, ...]
    requirements: tuple[str, ...]
    tests: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Choice:
    """One way to make a requirement hold.

    points:  where;  list:  which list;  measure:  what is done with it;  entries:  what is written into it
    holds:  whether the requirement holds then;  left:  how many classes of conversations still violate it
    hops:  devices that an unwanted packet still passes before it is stopped
    cut:  routing neighbours it would part;  locked:  devices that nobody could log in to any more
    text:  why, in a sentence;  changes:  what taking it does to the draft
    """

    points: tuple[AttachmentPoint, ...]
    list: str
    kind: ListKind
    family: Family
    measure: Measure
    entries: tuple[str, ...]
    holds: bool
    left: int
    collateral: Collateral
    hops: int | None
    cut: tuple[str, ...]
    locked: tuple[str, ...]
    text: str
    changes: tuple[Change, ...]


@dataclass(frozen=True, slots=True)
class Advice:
    """The choices, the best first, and what there is to say of them all, or of there being none."""

    text: str
    choices: tuple[Choice, ...]


def rank(choice: Choice, world: World) -> tuple[object, ...]:
    """The best first: it holds, breaks nothing, changes little else, and stands on the network's own devices.

    Then it takes few places, keeps to what stands there, and stops early.
    """
    return (
        not choice.holds,
        len(choice.cut) + len(choice.locked),
        len(choice.collateral.requirements) + len(choice.collateral.tests),
        choice.collateral.conversations,
        _on_hosts(choice, world),
        len(choice.points),
        choice.measure is Measure.NEW,
        choice.left,
        99 if choice.hops is None else choice.hops,
        choice.measure is Measure.MOVED,
        choice.kind is ListKind.STANDARD,
        choice.points,
        choice.list,
    )


def _on_hosts(choice: Choice, world: World) -> bool:
    """Whether some of it is a filter on a host, which is not the network's."""
    return any(not world.topology.devices[point.device].traits.forwards for point in choice.points)


def sentence(choice: Choice, stopped: Path | None, world: World) -> str:
    """Why a choice stands where it does.

    stopped:  how far an unwanted packet comes with it, if a list stops one on its way
    """
    several = len(choice.points) > 1
    place = f"{len(choice.points)} places together" if several else str(choice.points[0])
    does = "let them through" if _permits(choice) else "stop them"
    if not several:
        does = "lets them through" if _permits(choice) else _does(choice, stopped, world)
    if not choice.holds:
        does = does.replace("them", "a part of them", 1)
    beyond = choice.collateral.conversations
    others = f"{beyond} other conversation{'s' * (beyond != 1)} change{'s' * (beyond == 1)}"
    parts = [
        f"{place[0].upper()}{place[1:]}: {does}{_with(choice)}",
        others if beyond else "nothing else changes",
    ]
    broken = [*choice.collateral.requirements, *choice.collateral.tests]
    if broken:
        parts.append(f"{', '.join(broken)} would fail")
    if choice.cut:
        parts.append(f"it parts the routing neighbours {'; '.join(choice.cut)}")
    if choice.locked:
        parts.append(f"nobody could log in to {', '.join(choice.locked)} any more")
    return "; ".join(parts) + "."


def _permits(choice: Choice) -> bool:
    """Whether all that it does is to permit."""
    return bool(choice.entries) and all(
        line.startswith("permit") for entry in choice.entries for line in entry.splitlines()
    )


def _does(choice: Choice, stopped: Path | None, world: World) -> str:
    """What becomes of unwanted packets, and how early."""
    point = choice.points[0]
    if point.is_line:
        return "stops them as they log in"
    if stopped is None:
        return "stops them"
    passed = [hop.device for hop in stopped.hops]
    devices = world.with_possible_hosts.topology.devices
    routers = [name for name in passed if devices[name].traits.forwards]
    if not routers:
        return "stops them before they leave their sender"
    if passed[-1] not in routers:
        return f"stops them only at {passed[-1]} itself"
    if len(routers) == 1:
        return "stops them at the first router"
    return f"stops them at {routers[-1]}, {len(routers) - 1} router{'s' * (len(routers) > 2)} further on"


def _with(choice: Choice) -> str:
    match choice.measure:
        case Measure.EXTENDED:
            many = sum(len(entry.splitlines()) for entry in choice.entries)
            return (
                f", with {many} more entr{'y' if many == 1 else 'ies'} in {choice.list}, which stands there"
            )
        case Measure.MOVED:
            return f", by moving {choice.list} there"
        case Measure.NEW:
            return ""
