"""Coarse classes, traced: which attachment points their packets meet, and what becomes of the finer ones.

Who talks to whom was cut by what routes, owners and services tell apart (`grounds`). Here the paths of
those classes are found; then each is cut finer by the entries of the lists that its packets may meet, and one
conversation of each fine class is decided (`fine`).
"""

from collections import Counter
from collections.abc import Iterator

import numpy as np

from greyheron.analysis.proof.boxes import ClassRows
from greyheron.analysis.proof.fine_classes import (
    FIELDS,
    Decided,
    FineClasses,
    ListRefinement,
    apart,
    appended,
    compacted,
    usual_port,
)
from greyheron.analysis.proof.header_space import CoarseClasses
from greyheron.analysis.proof.wording import flow_between
from greyheron.core.bulk.conversations import Conversations, Verdicts
from greyheron.core.bulk.engine import BulkEngine
from greyheron.core.bulk.traced_paths import TracedPaths
from greyheron.core.headers import Bools, Ints
from greyheron.core.progress import Progress
from greyheron.core.progress import part as part_of
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.flow import Flow
from greyheron.model.values import Expectation, Family


def parts_of(classes: CoarseClasses, progress: Progress) -> Iterator["ProofPart"]:
    """Every coarse class, some at a time. Raises Cancelled."""
    count = len(classes.goals)
    step = max(1, classes.grounds.engine.at_once // max(count, 1))
    firsts = range(0, len(classes.sources) if count else 0, step)
    for number, first in enumerate(firsts):
        share = part_of(progress, number, len(firsts))
        share(0)
        senders = np.arange(first, min(first + step, len(classes.sources)))
        source, goal = np.repeat(senders, count), np.tile(np.arange(count), len(senders))
        apart = ~(classes.alone[source] & (classes.source_device[source] == classes.goal_device[goal]))
        yield ProofPart.of(classes, source[apart], goal[apart], share)


class ProofPart:
    """Some coarse classes of one half, where they go, and which of the finer ones violate it.

    counts:  how many fine classes each coarse one has
    many:  for each coarse class 0, or so many kinds of addresses and more, of which only some were tried
    answers:  how many fine classes of each arrive, unwanted, and have only their answers stopped
    wrong, remaining:  the fine classes that violate it: of those it speaks of, and of devices themselves
    """

    def __init__(
        self,
        classes: CoarseClasses,
        source: Ints,
        goal: Ints,
        traced_paths: TracedPaths,
        decided: Decided,
    ) -> None:
        self._classes, self._source, self._goal, self._courses = classes, source, goal, traced_paths
        self._tables, self._found = decided.tables, decided.wrong
        self.counts, self.many, self.answers = decided.counts, decided.many, decided.answers
        itself = self._of_devices()
        self.wrong, self.remaining = self._found.take(~itself), self._found.take(itself)
        self.of_hosts = ~(classes.source_itself[source] | classes.goal_itself[goal])

    @classmethod
    def of(cls, classes: CoarseClasses, source: Ints, goal: Ints, progress: Progress) -> "ProofPart":
        engine = classes.grounds.engine
        coarse, kept = ListRefinement(classes, source, goal, engine, None).conversations()
        source, goal = source[kept], goal[kept]
        traced_paths = engine.traced_paths(coarse)
        decided = ListRefinement(classes, source, goal, engine, traced_paths).wrong(
            np.arange(len(source)), progress
        )
        return cls(classes, source, goal, traced_paths, decided)

    @property
    def family(self) -> Family:
        return self._classes.grounds.family

    @property
    def nbytes(self) -> int:
        """About how much memory it takes."""
        tables = self._tables
        parties = len(tables.sources) + len(tables.destinations)
        return self._courses.nbytes + 57 * len(self._found) + 500 * parties

    def _of_devices(self) -> Bools:
        """Which of the classes found are of devices themselves, where hosts are spoken of."""
        sides = (
            (self._tables.sources, self._found.source),
            (self._tables.destinations, self._found.destination),
        )
        source, goal = (
            np.array([party.itself for party in parties], dtype=np.bool_)[index] for parties, index in sides
        )
        found: Bools = source | goal
        return found

    @property
    def crowded(self) -> Bools:
        """Whether each coarse class has more ways than can be followed, so that only some were."""
        return np.isin(self._courses.row_of, self._courses.crowded)

    @property
    def undecided(self) -> Bools:
        """Which coarse classes are not decided in all that they stand for."""
        found: Bools = (self.many > 0) | self.crowded
        return found

    def fits(self, engine: BulkEngine) -> bool:
        return engine.fits(self._courses)

    def paths(self) -> int:
        return self._courses.paths()

    def lists(self, engine: BulkEngine) -> set[str]:
        _, numbers, lists = engine.lists_met(self._courses)
        return {lists[number].name for number in np.unique(numbers).tolist()}

    def points_met(self) -> Counter[AttachmentPoint]:
        """Every attachment point that packets which violate come to, and for how many coarse classes."""
        rows = np.zeros(len(self._courses.rows), dtype=np.bool_)
        rows[self._courses.row_of[self.wrong.coarse]] = True
        met, codes = self._courses.meetings()
        points = self._courses.forwarding.points
        codes, counts = np.unique(codes[rows[met] & (codes < len(points))], return_counts=True)
        return Counter(
            {points[code]: count for code, count in zip(codes.tolist(), counts.tolist(), strict=True)}
        )

    def ends(self, sources: bool) -> set[str]:
        """The devices that send what violates, or those it is sent to."""
        side = self._tables.sources if sources else self._tables.destinations
        indices = np.unique(self.wrong.source if sources else self.wrong.destination)
        return {side[index].device for index in indices.tolist()}

    def flows(self, most: int) -> list[Flow]:
        """Some conversations that violate, one for each way of being told apart, as test flows."""
        told_apart = np.unique(self._courses.row_of[self.wrong.coarse], return_index=True)[1][:most]
        cells = self.cells()
        return [self._flow(cells, index) for index in told_apart.tolist()]

    def answered(self, engine: BulkEngine) -> Flow:
        """One of the unwanted conversations that arrive, and have only their answers stopped."""
        rows = np.flatnonzero(self.answers * self.of_hosts)[:1]
        cut = ListRefinement(self._classes, self._source[rows], self._goal[rows], engine, self._courses, rows)
        return self._flow(cut.only_answers_stopped(), 0)

    def any_flows(self, most: int) -> list[Flow]:
        """Some conversations, whatever becomes of them, from all over the fine classes, as test flows."""
        engine = self._classes.grounds.engine
        cells = ListRefinement(self._classes, self._source, self._goal, engine, self._courses).some(most)
        return [self._flow(cells, index) for index in range(len(cells.source))]

    def _flow(self, cells: ClassRows, index: int) -> Flow:
        ends = apart(cells.sources[cells.source[index]], cells.destinations[cells.destination[index]])
        request = cells.services[cells.service[index]].first(self.family)
        return flow_between(self.family, *ends, request, usual_port(cells.ports[cells.port[index]]))

    def again(self, engine: BulkEngine, before: BulkEngine) -> "ProofPart":
        """The same with other lists: only what they may change is cut and decided again."""
        differs = engine.may_differ(self._courses, before)[self._courses.row_of]
        if not differs.any():
            return self
        rows = np.flatnonzero(differs)
        cut = ListRefinement(self._classes, self._source[rows], self._goal[rows], engine, self._courses, rows)
        fresh = cut.wrong(rows)
        tables, kept = compacted(self._tables, self._found.take(~differs[self._found.coarse]))
        tables, moved = appended(tables, fresh.tables, fresh.wrong)
        joined = FineClasses(
            *(np.concatenate([getattr(kept, name), getattr(moved, name)]) for name in FIELDS)
        )
        counts, many, answers = self.counts.copy(), self.many.copy(), self.answers.copy()
        counts[rows], many[rows], answers[rows] = fresh.counts, fresh.many, fresh.answers
        in_order = joined.take(np.argsort(joined.coarse, kind="stable"))  # as if all were decided at once
        decided = Decided(tables, in_order, counts, many, answers)
        return ProofPart(self._classes, self._source, self._goal, self._courses, decided)

    def holds_still(self, engine: BulkEngine, before: BulkEngine) -> bool | None:
        """Whether nothing violates the half with other lists, when nothing does; None: not quickly seen.

        What is wanted passes all lists now, so that only those that have changed can stop it. What is
        unwanted does not get through more lists.
        """
        differs = engine.may_differ(self._courses, before)[self._courses.row_of]
        if not differs.any():
            return True
        if self._classes.half.expect is Expectation.BLOCK:
            return True if engine.only_denies_more(before, self.family) else None
        rows = np.flatnonzero(differs)
        codes = engine.changed_codes(before, self.family)
        source, goal = self._source[rows], self._goal[rows]
        decided = ListRefinement(self._classes, source, goal, engine, self._courses, rows, codes).wrong(rows)
        part = ProofPart(self._classes, self._source, self._goal, self._courses, decided)
        undecided = decided.many.any() or self.crowded[rows].any()
        return None if undecided else len(part.wrong) == 0

    def examples(self) -> Conversations:
        """A conversation of each fine class that violates, in their order."""
        cut = ListRefinement(self._classes, self._source, self._goal, self._classes.grounds.engine, None)
        return cut.asked_about(self._tables, self.wrong)

    def verdicts(self, engine: BulkEngine) -> Verdicts:
        """What becomes of one conversation of each coarse class: of all, where there are no lists.

        Of those it speaks of; devices themselves are left out where it speaks of hosts.
        """
        source, goal = self._source[self.of_hosts], self._goal[self.of_hosts]
        cut = ListRefinement(self._classes, source, goal, self._classes.grounds.engine, None)
        return engine.verdicts(cut.conversations()[0])

    def cells(self) -> ClassRows:
        """The fine classes that violate the half."""
        return self._cells(self.wrong)

    def remaining_cells(self) -> ClassRows:
        """Those of devices themselves."""
        return self._cells(self.remaining)

    def _cells(self, wrong: FineClasses) -> ClassRows:
        tables = self._tables
        return ClassRows(
            tables.sources,
            tables.destinations,
            tables.services,
            tables.ports,
            wrong.source,
            wrong.destination,
            wrong.service,
            wrong.ports,
        )
