"""What was predicted beside what was seen: pure."""

from dataclasses import dataclass

from greyheron.core.addresses import is_link_local
from greyheron.core.responses import Seen
from greyheron.model.values import Family
from greyheron.rehearsal.packets import Captured
from greyheron.rehearsal.rulebook import Counted
from greyheron.rehearsal.sendings import Predicted, Trying


@dataclass(frozen=True, slots=True)
class SeenFacts:
    """What a rehearsal saw of one conversation.

    rose:  the entries that counted packets meanwhile, of other conversations and routing neighbours too
    """

    sees: Seen
    by: str | None
    way: tuple[str, ...]
    rose: frozenset[Counted]


@dataclass(frozen=True, slots=True)
class Discrepancy:
    """One fact that is not as it was predicted."""

    fact: str
    predicted: str
    seen: str


@dataclass(frozen=True, slots=True)
class Rehearsed:
    """One conversation as it was predicted and as it went.

    span:  the times for which it was tried;  rose:  the entries that counted packets meanwhile
    """

    sending: Trying
    span: str
    predicted: Predicted
    seen: SeenFacts
    differences: tuple[Discrepancy, ...]
    captured: tuple[Captured, ...]


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """What came of all of it.

    left_out:  what was not tried, and why;  seconds:  for building and for sending
    """

    tried: tuple[Rehearsed, ...]
    left_out: tuple[str, ...]
    seconds: tuple[float, float]


def differences(sending: Trying, seen: SeenFacts) -> tuple[Discrepancy, ...]:
    """In what the conversation came to something else; of equal paths, than on that which is most alike."""
    every = [_differences(sending, predicted, seen) for predicted in sending.predicted]
    return min(every, key=len)


def predicted_like(sending: Trying, seen: SeenFacts) -> Predicted:
    """Of equal paths that which is most like what was seen."""
    return min(sending.predicted, key=lambda each: len(_differences(sending, each, seen)))


def _differences(sending: Trying, predicted: Predicted, seen: SeenFacts) -> tuple[Discrepancy, ...]:
    found: list[Discrepancy] = []
    if _matters(sending, predicted) and (predicted.sees, predicted.by) != (seen.sees, seen.by):
        found.append(
            Discrepancy(
                "what the sender sees",
                sees_words(predicted.sees, predicted.by),
                sees_words(seen.sees, seen.by),
            )
        )
    if predicted.way != seen.way:
        found.append(Discrepancy("the way taken", " → ".join(predicted.way), " → ".join(seen.way)))
    decider = predicted.decider
    if decider is not None and decider not in seen.rose:
        found.append(Discrepancy("the deciding entry", counted_words(decider), _others(decider, seen.rose)))
    return tuple(found)


def _matters(sending: Trying, predicted: Predicted) -> bool:
    """What answers a single packet that arrived, if anything does, is no part of its story.

    Of an IPv6 fragment the kernel tells its sender nothing, nor that nobody is at a link-local address.
    """
    opener = sending.opener
    silent = opener.fragment or (predicted.by is None and is_link_local(opener.family, opener.destination))
    if opener.family is Family.IPV6 and silent and predicted.sees is not Seen.REPLY:
        return False
    return sending.answered or predicted.sees is not Seen.NOTHING


def sees_words(sees: Seen, by: str | None) -> str:
    if sees is Seen.NOTHING:
        return "nothing"
    return f"{sees} from {by}" if by else f"{sees}, said by itself"


def _others(decider: Counted, rose: frozenset[Counted]) -> str:
    same = sorted(
        (each for each in rose if (each.point, each.list) == (decider.point, decider.list)),
        key=lambda each: (each.entry is None, each.entry or 0),
    )
    if not same:
        return f"{decider.list} {decider.point} counted nothing"
    return ", ".join(map(counted_words, same))


def counted_words(counted: Counted) -> str:
    entry = "implicit deny" if counted.entry is None else f"entry {counted.entry}"
    return f"{counted.list} {counted.point}, {entry}"
