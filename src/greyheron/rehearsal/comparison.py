"""What was predicted beside what was seen: pure."""

from dataclasses import dataclass

from msgspec import Struct

from greyheron.core.network.addresses import is_link_local
from greyheron.core.walk.icmp_errors import Seen
from greyheron.model.values import Family
from greyheron.rehearsal.packets import Captured
from greyheron.rehearsal.rulebook import Counted
from greyheron.rehearsal.sendings import Predicted, Probe, Signature


class SeenFacts(Struct, frozen=True):
    """What a rehearsal saw of one conversation.

    addresses:  what a name server answered
    counted:  the entries that its packets came to, each with the packet's signature
    rose:  the entries that counted anything meanwhile, of other conversations and routing neighbours too
    """

    sees: Seen
    by: str | None
    addresses: tuple[str, ...]
    way: tuple[str, ...]
    counted: tuple[tuple[Counted, Signature], ...]
    rose: frozenset[Counted]


@dataclass(frozen=True, slots=True)
class Discrepancy:
    """One fact that is not as it was predicted."""

    fact: str
    predicted: str
    seen: str


class Rehearsed(Struct, frozen=True):
    """One conversation as it was predicted and as it went.

    span:  the times for which it was tried;  rose:  the entries that counted packets meanwhile
    """

    sending: Probe
    span: str
    predicted: Predicted
    seen: SeenFacts
    differences: tuple[Discrepancy, ...]
    captured: tuple[Captured, ...]


class Rehearsal(Struct, frozen=True):
    """What came of all of it.

    left_out:  what was not tried, and why;  seconds:  for building and for sending
    """

    tried: tuple[Rehearsed, ...]
    left_out: tuple[str, ...]
    seconds: tuple[float, float]


def differences(sending: Probe, seen: SeenFacts) -> tuple[Discrepancy, ...]:
    """In what the conversation came to something else; of equal paths, than on that which is most alike."""
    every = [_differences(sending, predicted, seen) for predicted in sending.predicted]
    return min(every, key=len)


def predicted_like(sending: Probe, seen: SeenFacts) -> Predicted:
    """Of equal paths that which is most like what was seen."""
    return min(sending.predicted, key=lambda each: len(_differences(sending, each, seen)))


def _differences(sending: Probe, predicted: Predicted, seen: SeenFacts) -> tuple[Discrepancy, ...]:
    found: list[Discrepancy] = []
    if _matters(sending, predicted) and (predicted.sees, predicted.by) != (seen.sees, seen.by):
        found.append(
            Discrepancy(
                "what the sender sees",
                sees_words(predicted.sees, predicted.by),
                sees_words(seen.sees, seen.by),
            )
        )
    query = sending.query
    if query is not None and predicted.sees is seen.sees is Seen.REPLY:
        (address, *_) = seen.addresses or (None,)
        if address != query.address:
            found.append(
                Discrepancy("what the name stands for", query.address or "nothing", address or "nothing")
            )
    if predicted.way != seen.way:
        found.append(Discrepancy("the way taken", " → ".join(predicted.way), " → ".join(seen.way)))
    decider = predicted.decider
    if decider is not None and decider not in (others := _at(decider, seen)):
        found.append(Discrepancy("the deciding entry", counted_words(decider), _words(decider, others)))
    return tuple(found)


def _matters(sending: Probe, predicted: Predicted) -> bool:
    """What answers a single packet that arrived, if anything does, is no part of its story.

    Of an IPv6 fragment the kernel tells its sender nothing, nor that nobody is at a link-local address, nor
    that its own list made a host or a network unreachable: that passes, as far as it knows.
    """
    opener, decider = sending.opener, predicted.decider
    itself = decider is not None and decider.point.device == sending.sender and predicted.sees in _MAY_PASS
    local = predicted.by is None and is_link_local(opener.family, opener.destination)
    silent = opener.fragment or itself or local
    if opener.family is Family.IPV6 and silent and predicted.sees is not Seen.REPLY:
        return False
    return sending.answered or predicted.sees is not Seen.NOTHING


_MAY_PASS = (Seen.HOST_UNREACHABLE, Seen.NETWORK_UNREACHABLE)


def sees_words(sees: Seen, by: str | None) -> str:
    if sees is Seen.NOTHING:
        return "nothing"
    return f"{sees} from {by}" if by else f"{sees}, said by itself"


def _at(decider: Counted, seen: SeenFacts) -> set[Counted]:
    """The entries of its list at its place that decided: by the packets told of, else by what counters say.

    Nothing is told of what is said about a conversation, nor of frames.
    """
    for known in ((each for each, _ in seen.counted), seen.rose):
        same = {each for each in known if (each.point, each.list) == (decider.point, decider.list)}
        if same:
            return same
    return set()


def _words(decider: Counted, others: set[Counted]) -> str:
    if not others:
        return f"{decider.list} {decider.point} counted nothing"
    return ", ".join(
        map(counted_words, sorted(others, key=lambda each: (each.entry is None, each.entry or 0)))
    )


def counted_words(counted: Counted) -> str:
    entry = "implicit deny" if counted.entry is None else f"entry {counted.entry}"
    return f"{counted.list} {counted.point}, {entry}"
