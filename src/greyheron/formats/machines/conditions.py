"""What a rule of a packet filter asks of a packet, as sets: so that two rules can be asked at once."""

from collections.abc import Callable
from operator import attrgetter
from typing import Any

from msgspec import Struct

from greyheron.core.intervals import Spans, span_meet
from greyheron.model.entry import IcmpMatch
from greyheron.model.header import FlagsMatch
from greyheron.model.values import Family

NO_INTERFACE = ""


class Conditions(Struct, frozen=True):
    """What a packet must be; None for anything.

    arrives, leaves:  the interfaces; NO_INTERFACE where there is none yet, or none any more
    source, destination:  addresses of `family`, as numbers;  states:  of its conversation
    icmp:  alternatives
    """

    family: Family | None = None
    arrives: frozenset[str] | None = None
    leaves: frozenset[str] | None = None
    protocol: Spans | None = None
    source: Spans | None = None
    destination: Spans | None = None
    source_ports: Spans | None = None
    destination_ports: Spans | None = None
    icmp: frozenset[IcmpMatch] | None = None
    states: frozenset[str] | None = None
    flags: FlagsMatch | None = None
    dscp: Spans | None = None


ANYTHING = Conditions()


def _same(one: Any, other: Any) -> Any:
    return one if one == other else None


def _flags(one: FlagsMatch, other: FlagsMatch) -> FlagsMatch | None:
    on, off = one.on | other.on, one.off | other.off
    return None if on & off else FlagsMatch(on, off)


def _icmp(one: frozenset[IcmpMatch], other: frozenset[IcmpMatch]) -> frozenset[IcmpMatch]:
    return frozenset(
        IcmpMatch(mine.type, mine.code if mine.code is not None else others.code)
        for mine in one
        for others in other
        if mine.type == others.type and (None in (mine.code, others.code) or mine.code == others.code)
    )


_MEET: dict[str, Callable[[Any, Any], Any]] = {
    "family": _same,
    "arrives": frozenset.__and__,
    "leaves": frozenset.__and__,
    "states": frozenset.__and__,
    "flags": _flags,
    "icmp": _icmp,
}
_NAMES = Conditions.__struct_fields__
_MEETING = tuple(_MEET.get(name, span_meet) for name in _NAMES)
_values = attrgetter(*_NAMES)


def both(one: Conditions, other: Conditions) -> Conditions | None:
    """What is asked by both; None where no packet can be all of it."""
    found: list[Any] = []
    for mine, others, meet in zip(_values(one), _values(other), _MEETING, strict=True):
        if mine is None or others is None:
            found.append(others if mine is None else mine)
            continue
        met = meet(mine, others)
        if not met:
            return None
        found.append(met)
    return Conditions(*found)
