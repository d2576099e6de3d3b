"""What edits of lists and placements really change: the packets that are permitted or denied now."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from greyheron.analysis.entries.difference import PacketBox, changed_packets
from greyheron.analysis.network.arrivals import ComingBy, coming
from greyheron.analysis.presentation.packets import PacketWords, packet_words, told
from greyheron.core.intervals import TooManyParts
from greyheron.core.lists.periods import Span, active_at, spans_of
from greyheron.core.lists.resolved import Names, ResolvedList, permitting_all, resolve
from greyheron.core.progress import Progress, part, unwatched
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import AccessList, Network
from greyheron.model.period import SUPPOSITIONS
from greyheron.model.values import Family

MOST_TOLD = 8
"""So many boxes are told, the largest; of the others how many there are."""

ArrivalsAt = Callable[[AttachmentPoint, Family], ComingBy | None]
"""Who sends by an interface in the network as it is afterwards; None where that is not known."""


@dataclass(frozen=True, slots=True)
class ChangedPackets:
    """Packets that are decided otherwise, in sentences without an end, the largest part first.

    when:  “during open-hours”; "" for all times;  more:  so many parts are not told
    """

    when: str
    packets: tuple[str, ...]
    more: int


@dataclass(frozen=True, slots=True)
class ChangedPlace:
    """A place where packets are decided otherwise.

    before, after:  the list that stood there, and the one that does; null for none
    changed:  of the packets that devices and hosts send each other by there; none where nobody sends such
    left:  why that is not told, or ""
    """

    device: str
    at: str
    direction: str
    where: str
    before: str | None
    after: str | None
    changed: tuple[ChangedPackets, ...]
    left: str = ""


@dataclass(frozen=True, slots=True)
class ChangedList:
    """A list that decides otherwise, by itself: for all packets that there can be.

    places:  what that means where it stands, or stood;  left:  why it is not told, or ""
    """

    name: str
    changed: tuple[ChangedPackets, ...]
    places: tuple[ChangedPlace, ...]
    left: str = ""


def changed_lists(
    before: Network, after: Network, arrivals: ArrivalsAt, progress: Progress = unwatched
) -> tuple[tuple[ChangedList, ...], tuple[ChangedPlace, ...]]:
    """Every list that decides otherwise in `after`, and every place that has another list. Raises Cancelled.

    A list that is new or gone by itself decides nothing: it is told where it stands, or stood.
    """
    comparing = _Comparing(before, after, arrivals)
    names = [each.name for each in after.lists if comparing.differs(each.name)]
    lists = [
        comparing.of_list(name, part(progress, number, len(names) + 1)) for number, name in enumerate(names)
    ]
    places = comparing.other_places(part(progress, len(names), len(names) + 1))
    return tuple(lists), tuple(places)


def changed_list(
    before: Network, after: Network, name: str, arrivals: ArrivalsAt, progress: Progress
) -> ChangedList:
    """What one list, which both have, decides otherwise in `after`. Raises Cancelled."""
    return _Comparing(before, after, arrivals).of_list(name, progress)


_Boxes = tuple[PacketBox, ...]


class _Comparing:
    """Two states of a network, list by list."""

    def __init__(self, before: Network, after: Network, arrivals: ArrivalsAt) -> None:
        self._networks, self._arrivals = (before, after), arrivals
        self._names = tuple(map(Names, self._networks))
        self._lists = tuple({each.name: each for each in network.lists} for network in self._networks)
        self._placed = tuple(map(_placed, self._networks))
        self._times = _times(before, after)
        self._words = {family: PacketWords(after, family) for family in Family}

    def differs(self, name: str) -> bool:
        """Whether a list that both have is not written alike, or its names mean something else now."""
        before, after = (lists.get(name) for lists in self._lists)
        if before is None or after is None:
            return False
        if before.family is None or after.family is None:
            return before.body.entries != after.body.entries
        one, other = (resolve(each, names) for each, names in zip((before, after), self._names, strict=True))
        return one.rules != other.rules or bool(
            before.body.periods and self._networks[0].periods != self._networks[1].periods
        )

    def of_list(self, name: str, progress: Progress) -> ChangedList:
        before, after = (lists[name] for lists in self._lists)
        family = after.family
        if family is None or before.family is not family:
            return ChangedList(name, (), (), "frames are not counted")
        try:
            at_times = self._at_times(before, after, progress)
        except TooManyParts:
            return ChangedList(name, (), (), "it changes too much to be told in parts")
        places = (
            self._place(point, family, at_times)
            for point, which in self._placed[1].items()
            if which.get(family) == name and self._placed[0].get(point, {}).get(family) == name
        )
        return ChangedList(
            name, self._told(at_times, self._words[family].of), tuple(places) if at_times else ()
        )

    def other_places(self, progress: Progress) -> Iterator[ChangedPlace]:
        """Places that have another list than before, or none, or had none."""
        for point in dict.fromkeys([*self._placed[0], *self._placed[1]]):
            for family in Family:
                names = [placed.get(point, {}).get(family) for placed in self._placed]
                if names[0] == names[1]:
                    continue
                old, new = (
                    None if name is None else lists[name]
                    for name, lists in zip(names, self._lists, strict=True)
                )
                try:
                    at_times = self._at_times(old, new, progress)
                except TooManyParts:
                    left = "it changes too much to be told in parts"
                    yield _place_of(point, names[0], names[1], (), left)
                    continue
                if at_times and None in names and self._has_zones(point):
                    yield _place_of(point, names[0], names[1], (), "where no list stands its zones decide")
                elif at_times:
                    yield self._place(point, family, at_times)

    def _has_zones(self, point: AttachmentPoint) -> bool:
        return any(
            device.zones
            for network in self._networks
            for device in network.devices
            if device.name == point.device
        )

    def _place(self, point: AttachmentPoint, family: Family, at_times: Mapping[str, _Boxes]) -> ChangedPlace:
        before, after = (placed.get(point, {}).get(family) for placed in self._placed)
        by = None if point.is_line else self._arrivals(point, family)
        if by is None:  # a login may come from anybody
            left = "" if point.is_line else "who sends by there is not known"
            return _place_of(point, before, after, self._told(at_times, self._words[family].of), left)
        try:
            here = {when: coming(boxes, by, family) for when, boxes in at_times.items()}
        except TooManyParts:
            return _place_of(point, before, after, (), "it changes too much to be told in parts")
        same = all(here[when] == boxes for when, boxes in at_times.items())
        words = self._words[family].of if same else _by_senders(by)
        return _place_of(point, before, after, self._told(here, words))

    def _at_times(
        self, before: AccessList | None, after: AccessList | None, progress: Progress
    ) -> dict[str, _Boxes]:
        """What is decided otherwise, by the times at which that is so; "" for all."""
        known: dict[tuple[frozenset[str], frozenset[str]], _Boxes] = {}
        found: dict[_Boxes, list[str]] = {}
        spoken = [frozenset[str]() if each is None else each.body.periods for each in (before, after)]
        times = self._times if any(spoken) else self._times[:1]
        for old, new, words in times:
            active = old & spoken[0], new & spoken[1]
            if active not in known:
                sides = [
                    None if each is None else resolve(each, names, on)
                    for each, names, on in zip((before, after), self._names, active, strict=True)
                ]
                known[active] = _changed(sides[0], sides[1], progress)
            whens = found.setdefault(known[active], [])
            whens += [words] if words not in whens else []
        return {
            " and ".join(whens) if len(found) > 1 else "": boxes for boxes, whens in found.items() if boxes
        }

    def _told(
        self, at_times: Mapping[str, _Boxes], words: Callable[[PacketBox], str]
    ) -> tuple[ChangedPackets, ...]:
        found = []
        for when, boxes in at_times.items():
            sentences, more = told(boxes, words, MOST_TOLD)
            if sentences:
                found.append(ChangedPackets(when, tuple(sentences), more))
        return tuple(found)


def _changed(before: ResolvedList | None, after: ResolvedList | None, progress: Progress) -> _Boxes:
    """Where no list stands everything is permitted."""
    known = before or after
    if known is None:
        return ()
    free = permitting_all(known)
    return changed_packets(before or free, after or free, progress)


def _by_senders(by: ComingBy) -> Callable[[PacketBox], str]:
    """Packets in words, by whom they come from and go to."""

    def words(box: PacketBox) -> str:
        source, destination = (
            "any" if side is None else by.senders.words(side) for side in (box.sources, box.destinations)
        )
        return packet_words(box, source, destination)

    return words


def _placed(network: Network) -> dict[AttachmentPoint, dict[Family, str]]:
    families = {each.name: each.family for each in network.lists}
    found: dict[AttachmentPoint, dict[Family, str]] = {}
    for each in network.placements:
        family = families[each.list]
        if family is not None:
            point = AttachmentPoint(each.device, each.at, each.direction)
            found.setdefault(point, {})[family] = each.list
    return found


def _times(before: Network, after: Network) -> Sequence[tuple[frozenset[str], frozenset[str], str]]:
    """All times that either tells apart: the periods that are on in each then, and the time in words."""
    own: list[Sequence[Span]] = [spans_of(after), spans_of(before)]
    spans = [span for some in own if len(some) > 1 for span in some] or own[0]
    unknown = frozenset(SUPPOSITIONS)
    return [
        (
            active_at(before, span.moment) | (span.active & unknown),
            active_at(after, span.moment) | (span.active & unknown),
            span.words,
        )
        for span in spans
    ]


def _place_of(
    point: AttachmentPoint,
    before: str | None,
    after: str | None,
    changed: tuple[ChangedPackets, ...],
    left: str = "",
) -> ChangedPlace:
    where = f"at {point}" if point.is_line else str(point)
    return ChangedPlace(point.device, point.at, point.direction, where, before, after, changed, left)
