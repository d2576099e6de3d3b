"""Choices of where a list could go: what each would do, and which the trade would make first."""

from dataclasses import dataclass

from greyheron.analysis.advice.proposal import Measure
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change
from greyheron.model.values import Direction, Family, ListKind

_FAR = 99
_MEASURES = (Measure.EXTENDED, Measure.WIDENED, Measure.MOVED, Measure.NEW, Measure.OPENED)


@dataclass(frozen=True, slots=True)
class Collateral:
    """What a choice changes beyond what was asked.

    conversations:  how many end otherwise, of those in the matrix of services and ping that hosts and outside
        networks begin;  examples:  some of them, in words
    requirements, tests:  the ids of those that hold now and would not;  broken:  what these say
    """

    conversations: int
    examples: tuple[str, ...]
    requirements: tuple[str, ...]
    tests: tuple[str, ...]
    broken: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Choice:
    """One way to make a requirement hold.

    points:  where;  list:  which list;  measure:  what is done with it;  entries:  what is written into it
    holds:  whether the requirement holds then;  left:  how many classes of conversations still violate it
    hops:  devices that an unwanted packet still passes before it is stopped;  stopped_at:  where it is
    cut:  routing neighbours it would part;  locked:  devices that nobody could log in to any more
    on_hosts:  whether some of it is a host's own filter
    exact:  whether a source-only list says just what is asked, as one on a line may
    remains:  what routers and firewalls themselves still do, where hosts are spoken of
    text:  which rule speaks for it, and what against the next;  changes:  what taking it does to the draft
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
    stopped_at: str | None
    cut: tuple[str, ...]
    locked: tuple[str, ...]
    on_hosts: bool
    exact: bool
    remains: str
    text: str
    changes: tuple[Change, ...]

    @property
    def on_lines(self) -> bool:
        """Whether all of it stands on management lines."""
        return all(point.is_line for point in self.points)


@dataclass(frozen=True, slots=True)
class Advice:
    """The choices, the best first, and what there is to say of them all, or of there being none."""

    text: str
    choices: tuple[Choice, ...]


def rank(choice: Choice) -> tuple[object, ...]:
    """The best first, as the trade has it.

    It is enough, and no host's own filter; it breaks nothing and changes nothing else; logins are stopped
    at the line; few places; a full list near the source as packets enter, a source-only one near the
    destination as they leave; what stands there rather than a list more.
    """
    return (
        not choice.holds,
        choice.on_hosts,
        len(choice.cut) + len(choice.locked),
        len(choice.collateral.requirements) + len(choice.collateral.tests),
        choice.collateral.conversations,
        not choice.on_lines,
        len(choice.points),
        source_only(choice),
        distance(choice),
        _MEASURES.index(choice.measure),
        choice.kind is not ListKind.STANDARD if choice.exact else choice.kind is ListKind.STANDARD,
        choice.left,
        len(choice.entries),
        choice.points,
        choice.list,
    )


def source_only(choice: Choice) -> bool:
    """Whether it looks at the source alone where more was asked for."""
    return choice.kind is ListKind.STANDARD and not choice.exact


def distance(choice: Choice) -> tuple[int, bool]:
    """How far from where the trade would put such a list: the source's gateway, or the destination's."""
    leaving = any(point.direction is Direction.OUT for point in choice.points)
    if choice.hops is None:
        return _FAR, leaving
    return (-choice.hops, not leaving) if source_only(choice) else (choice.hops, leaving)
