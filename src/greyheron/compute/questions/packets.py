"""Which packets lists and placements of a draft decide otherwise than what is running."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from threading import RLock
from typing import Self

from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.network.arrivals import ComingBy, WhoSends, coming_by
from greyheron.analysis.network.changed_lists import ChangedList, ChangedPlace, changed_list, changed_lists
from greyheron.analysis.network.passing import MOST_ENDS, known_passers
from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Question
from greyheron.compute.state import NetworkState
from greyheron.core.intervals import TooManyParts
from greyheron.core.progress import Found, Progress
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Network
from greyheron.model.values import Family

_BYTES_OF_PAIR = 64


class Arrivals:
    """Who sends by each place of a network without lists."""

    def __init__(self, state: NetworkState) -> None:
        self._state, self._kept, self._lock = state, KeptFindings(), RLock()
        self._ends: dict[Family, int] = {}

    def at(self, network: Network, point: AttachmentPoint, family: Family) -> ComingBy | None:
        """What comes by an interface; None where that is not known."""
        world = self._state.timeline(network).first
        if (point.device, point.at) not in world.topology.interfaces:
            return None
        with self._lock:
            everyone, passers = known_passers(self._kept, self._state.engine, world, network, family)
            endpoints = (*everyone.every, *everyone.translated)
            senders = self._kept.of(("senders", family), (everyone,), partial(WhoSends, endpoints))
            self._ends[family] = len(endpoints)
        passing = passers(point)
        try:
            return None if passing is None else coming_by(passing, endpoints, senders)
        except TooManyParts:
            return None

    @property
    def nbytes(self) -> int:
        return sum(_BYTES_OF_PAIR * ends**2 for ends in self._ends.values() if ends <= MOST_ENDS)


@dataclass(frozen=True, slots=True)
class PacketChanges:
    """Lists that decide otherwise, and places that have another list, or one no more."""

    lists: tuple[ChangedList, ...]
    places: tuple[ChangedPlace, ...]


class PacketsQuestion(Question[PacketChanges], frozen=True, kw_only=True):
    """What the draft permits that running does not, and the other way round: by lists and places.

    name:  the list that is asked for, which both have; None: all, and places with other lists
    """

    lane = 1
    name: str | None = None

    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> PacketChanges:
        arrivals = partial(state.kept(Arrivals).at, documents.draft)
        before, after = documents.running, documents.draft
        if self.name is not None:
            return PacketChanges((changed_list(before, after, self.name, arrivals, progress),), ())
        return PacketChanges(*changed_lists(before, after, arrivals, progress))

    def split(self, count: int) -> list[Self]:
        return [self]

    def merge(self, documents: Drafted, answers: Sequence[PacketChanges]) -> PacketChanges:
        (answer,) = answers
        return answer
