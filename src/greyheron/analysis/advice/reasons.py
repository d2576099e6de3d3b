"""Why a choice stands where it does: the rule that speaks for it, and what speaks against the next."""

from greyheron.analysis.advice.choices import Choice, distance, source_only
from greyheron.analysis.advice.proposal import Measure
from greyheron.analysis.presentation.steps import joined
from greyheron.core.walk.steps import Path
from greyheron.core.world import World
from greyheron.model.values import Direction, ListKind

MOST_BROKEN = 2


def sentence(choice: Choice, does: str, other: Choice | None) -> str:
    """A choice in one sentence.

    does:  what becomes of unwanted packets (`doing`);  other:  the choice that comes next
    """
    beyond = choice.collateral.conversations
    others = f"{beyond} other conversation{'s' * (beyond != 1)} change{'s' * (beyond == 1)}"
    rather = "" if other is None else against(choice, other)
    place = where(choice)
    parts = [
        f"{place[0].upper()}{place[1:]}: {does}{_with(choice)}{rather}",
        others if beyond else "nothing else changes",
    ]
    broken = choice.collateral.broken
    if broken:
        parts.append(f"{_quoted(broken)} would fail")
    if choice.cut:
        parts.append(f"it parts the routing neighbours {'; '.join(choice.cut)}")
    if choice.locked:
        parts.append(f"nobody could log in to {', '.join(choice.locked)} any more")
    if choice.remains:
        parts.append(f"{choice.remains} all the same")
    return "; ".join(parts) + "."


def where(choice: Choice) -> str:
    """Its place, or how many there are."""
    if len(choice.points) == 1:
        return f"{'on ' * choice.on_lines}{choice.points[0]}"
    if choice.on_lines:
        return f"on the {choice.points[0].at} lines of {joined([point.device for point in choice.points])}"
    return f"{len(choice.points)} places together"


def doing(choice: Choice, stopped: Path | None, world: World) -> str:
    """What a choice does to what is unwanted, and how early, or that it lets through what is wanted.

    stopped:  how far an unwanted packet comes with it, if a list stops one on its way
    """
    several = "" if len(choice.points) == 1 else "s"
    if _permits(choice):
        does = f"let{'' if several else 's'} them through above what denies them"
    elif choice.on_lines:
        does = f"stop{'' if several else 's'} them as they log in"
    elif several:
        does = "stop them where they enter" if _all_enter(choice, stopped, world) else "stop them"
    else:
        does = _stops(choice, stopped, world)
    return does if choice.holds else does.replace("them", "a part of them", 1)


def _permits(choice: Choice) -> bool:
    """Whether all that it does is to let through."""
    lines = [line for entry in choice.entries for line in entry.splitlines()]
    return choice.measure is Measure.OPENED or (
        bool(lines) and all(line.startswith("permit") for line in lines)
    )


def _all_enter(choice: Choice, stopped: Path | None, world: World) -> bool:
    inbound = all(point.direction is Direction.IN for point in choice.points)
    return inbound and stopped is not None and len(_routers(stopped, world)) == 1


def _routers(stopped: Path, world: World) -> list[str]:
    devices = world.with_possible_hosts.topology.devices
    return [hop.device for hop in stopped.hops if devices[hop.device].traits.forwards]


def _stops(choice: Choice, stopped: Path | None, world: World) -> str:
    if stopped is None:
        return "stops them"
    routers = _routers(stopped, world)
    if not routers:
        return "stops them before they leave their sender, by its own filter"
    if stopped.last.device not in routers:
        return f"stops them only at {stopped.last.device} itself, by its own filter"
    entering = choice.points[0].direction is Direction.IN
    if source_only(choice):
        return "stops them as they come in" if entering else "stops them as they leave"
    if len(routers) == 1:
        return "stops them where they enter" if entering else "stops them at the first router"
    further = len(routers) - 1
    return f"stops them at {routers[-1]}, {further} router{'s' * (further > 1)} further on"


def _with(choice: Choice) -> str:
    match choice.measure:
        case Measure.EXTENDED | Measure.WIDENED:
            many = sum(len(entry.splitlines()) for entry in choice.entries)
            stands = "stand" if "," in choice.list else "stands"
            more = f"{many} more entr{'y' if many == 1 else 'ies'}"
            full = " and becomes a full list" * (choice.measure is Measure.WIDENED)
            return f", with {more} in {choice.list}, which {stands} there{full}"
        case Measure.MOVED:
            return f", by moving {choice.list} there"
        case Measure.OPENED:
            return ", with a list that overrules the zones and keeps what else they say"
        case Measure.NEW:
            return ""


def against(choice: Choice, other: Choice) -> str:
    """What speaks against the next choice, as the end of “stops them where they enter”; empty for nothing."""
    the_other = where(other) if other.points != choice.points else "there"
    if other.kind is not choice.kind:
        kind = "a source-only list" if other.kind is ListKind.STANDARD else "a full list"
        the_other = f"{kind} {the_other}"
    elif the_other == "there":
        the_other = f"{other.list} there"
    mine, its = choice.collateral, other.collateral
    if choice.holds and not other.holds:
        return f", where {the_other} would stop only a part"
    if other.on_hosts and not choice.on_hosts:
        return f", where {the_other} would be a host’s own filter"
    if len(other.cut) > len(choice.cut):
        return f", where {the_other} would part routing neighbours"
    if len(other.locked) > len(choice.locked):
        return f", where {the_other} would lock everybody out of {joined(list(other.locked))}"
    if len(its.broken) > len(mine.broken):
        return f", where {the_other} would make {_quoted(its.broken, 1)} fail"
    if its.conversations > mine.conversations:
        more = its.conversations
        return f", where {the_other} would change {more} other conversation{'s' * (more > 1)}"
    if choice.on_lines and not other.on_lines:
        return ", whichever way they come"
    if len(other.points) > len(choice.points):
        return f", at {_count(len(choice.points))} instead of {len(other.points)}"
    if source_only(other) and not source_only(choice):
        return f", where {the_other} could not tell where they are going"
    return _nearer(choice, other) or _rather(choice, other)


def _nearer(choice: Choice, other: Choice) -> str:
    """By how much a choice is nearer to where such a list belongs."""
    if distance(choice) >= distance(other) or choice.hops is None or other.hops is None:
        return ""
    apart = abs(other.hops - choice.hops)
    routers = "" if apart == 0 or choice.on_hosts else "one router " if apart == 1 else f"{apart} routers "
    nearer = "nearer to where they go" if source_only(choice) else "earlier"
    return f", {routers}{nearer} than {where(other) if apart == 0 else other.stopped_at}"


def _rather(choice: Choice, other: Choice) -> str:
    if choice.measure is not Measure.NEW and other.measure is Measure.NEW:
        return f", where {where(other)} would take a list more"
    return ""


def _count(places: int) -> str:
    return "one place" if places == 1 else f"{places} places"


def _quoted(broken: tuple[str, ...], most: int = MOST_BROKEN) -> str:
    named = [f"“{each}”" for each in broken[:most]]
    return joined(named + [f"{len(broken) - most} more"] * (len(broken) > most))
