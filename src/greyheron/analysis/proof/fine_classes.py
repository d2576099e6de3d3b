"""Coarse classes cut finer by the entries of the lists that their packets may meet, and decided."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.proof.answers import AddressParty
from greyheron.analysis.proof.boxes import ClassRows
from greyheron.analysis.proof.header_space import CoarseClasses, EndpointPart
from greyheron.analysis.proof.services import ServiceSet
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine
from greyheron.core.bulk.traced_paths import TracedPaths
from greyheron.core.headers import Bools, Ints
from greyheron.core.intervals import Region, Spans, TooManyParts, size
from greyheron.core.lists.fields.address import Role
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.progress import Progress, unwatched
from greyheron.core.walk.addressing import USUAL_SOURCE_PORT
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.entry import AddressBlock
from greyheron.model.services import Request
from greyheron.model.values import Expectation

_PASSES = VERDICT_ORDER.index(Verdict.PASSES)


class FineClasses(Struct, frozen=True):
    """Fine classes: of each its coarse class, its indices in the tables, and what becomes of it."""

    coarse: Ints
    source: Ints
    destination: Ints
    service: Ints
    ports: Ints
    verdict: Ints

    def __len__(self) -> int:
        return len(self.coarse)

    def take(self, indices: Ints | Bools) -> "FineClasses":
        return FineClasses(*(getattr(self, name)[indices] for name in FIELDS))


SOME = 64
"""So many addresses are tried where there are too many kinds to try one of each."""
MOST_OF_ONE = 1 << 18
MOST_AT_ALL = 1 << 21
"""A coarse class, and all of those that are looked at together, may be cut into so many finer ones."""
FIELDS = ("coarse", "source", "destination", "service", "ports", "verdict")


_NONE = np.zeros(0, dtype=np.int64)
NO_CLASSES = FineClasses(_NONE, _NONE, _NONE, _NONE, _NONE, _NONE)


@dataclass(frozen=True, slots=True)
class ClassTables:
    """What the numbers of fine classes stand for. Parties come with an address to try, or two."""

    sources: list[AddressParty] = field(default_factory=list)
    destinations: list[AddressParty] = field(default_factory=list)
    services: list[ServiceSet] = field(default_factory=list)
    ports: list[Spans] = field(default_factory=list)


def compacted(tables: ClassTables, fine: FineClasses) -> tuple[ClassTables, FineClasses]:
    """Only what `fine` speaks of, so that nothing is held of classes that were decided otherwise."""
    kept: list[list[Any]] = []
    indices: list[Ints] = []
    sides = ((fine.source, tables.sources), (fine.destination, tables.destinations))
    for numbers, held in (*sides, (fine.service, tables.services), (fine.ports, tables.ports)):
        used, index = np.unique(numbers, return_inverse=True)
        kept.append([held[number] for number in used.tolist()])
        indices.append(index)
    source, destination, service, ports = indices
    return ClassTables(*kept), FineClasses(fine.coarse, source, destination, service, ports, fine.verdict)


def appended(first: ClassTables, second: ClassTables, rows: FineClasses) -> tuple[ClassTables, FineClasses]:
    """Two sets of tables as one, and `rows` of the second with their indices in it."""
    names = ("sources", "destinations", "services", "ports")
    offsets = [len(getattr(first, name)) for name in names]
    tables = ClassTables(*([*getattr(first, name), *getattr(second, name)] for name in names))
    return tables, FineClasses(
        rows.coarse,
        rows.source + offsets[0],
        rows.destination + offsets[1],
        rows.service + offsets[2],
        rows.ports + offsets[3],
        rows.verdict,
    )


class Decided(Struct, frozen=True):
    """What became of coarse classes: the fine ones that violate, and how many each was cut into.

    many:  for each coarse class 0, or so many kinds of addresses and more, of which only some were tried
    answers:  how many of each, unwanted ones, arrive and have only their answers stopped
    """

    tables: ClassTables
    wrong: FineClasses
    counts: Ints
    many: Ints
    answers: Ints


class _FieldParts(Struct, frozen=True):
    """The parts of one class in one field; `many` is not 0 where they are only some of so many and more."""

    numbers: range
    many: int


class _Dimension(Struct, frozen=True):
    """For each class where its parts begin in `flat`, how many there are, and `many` as in `_FieldParts`."""

    starts: Ints
    counts: Ints
    flat: Ints
    many: Ints


def _within_bounds(dimensions: list[_Dimension], many: Ints) -> Ints:
    """How many fine classes of each coarse one are tried: too many are cut down, and put into `many`."""
    counts = [dimension.counts for dimension in dimensions]
    total: Ints = np.prod(counts, axis=0, dtype=np.int64)
    before = np.cumsum(total) - total
    over = (total > MOST_OF_ONE) | (before > MOST_AT_ALL)
    many[over] = np.maximum(many[over], total[over])
    for row in np.flatnonzero(over).tolist():
        most = MOST_OF_ONE if before[row] <= MOST_AT_ALL else SOME
        while total[row] > most:
            widest = max(counts, key=lambda each: int(each[row]))
            widest[row] = (widest[row] + 1) // 2
            total[row] = np.prod([count[row] for count in counts])
    return total


def _expanded(dimensions: list[_Dimension], total: Ints, first: int, end: int) -> tuple[Ints, ...]:
    """Every fine class of the coarse ones from `first` on, before `end`: its coarse class and its indices."""
    some = total[first:end]
    coarse = np.repeat(np.arange(first, end), some)
    left = np.arange(len(coarse)) - np.repeat(np.cumsum(some) - some, some)
    found = [coarse]
    for each in dimensions:
        left, index = np.divmod(left, each.counts[coarse])
        found.append(each.flat[each.starts[coarse] + index])
    return tuple(found)


class ListRefinement:
    """Coarse classes cut by the lists that they meet; by none when `traced_paths` are not known yet."""

    def __init__(
        self,
        classes: CoarseClasses,
        source: Ints,
        goal: Ints,
        engine: BulkEngine,
        traced_paths: TracedPaths | None,
        rows: Ints | None = None,
        codes: Bools | None = None,
    ) -> None:
        """rows:  which conversations of `traced_paths` these are; all unless given
        codes:  the points and solicitations whose lists count; all unless given
        """
        self._classes, self._engine, self._source, self._goal = classes, engine, source, goal
        self.tables = ClassTables()
        self._groups: list[tuple[ResolvedList, ...]] = [()]
        self._group = np.zeros(len(source), dtype=np.int64)
        if traced_paths is not None:
            row_of = traced_paths.row_of if rows is None else traced_paths.row_of[rows]
            self._group = self._grouped(traced_paths, codes)[row_of]

    def _grouped(self, traced_paths: TracedPaths, codes: Bools | None) -> Ints:
        """Which of `_groups` each row of `traced_paths` meets."""
        rows, numbers, lists = self._engine.lists_met(traced_paths, codes)
        weights = np.random.default_rng(len(lists)).integers(1, 1 << 62, len(lists), dtype=np.uint64)
        digest = np.zeros(len(traced_paths.rows), dtype=np.uint64)
        np.add.at(digest, rows, weights[numbers])
        starts = np.searchsorted(rows, np.arange(len(traced_paths.rows)))
        ends = np.searchsorted(rows, np.arange(len(traced_paths.rows)), side="right")
        _, first, group = np.unique(digest, return_index=True, return_inverse=True)
        self._groups = [
            tuple(lists[number] for number in numbers[starts[row] : ends[row]].tolist())
            for row in first.tolist()
        ]
        groups: Ints = group.astype(np.int64)
        return groups

    def _dimension(self, key: Ints, parts: Callable[[int], _FieldParts]) -> _Dimension:
        unique, index = np.unique(key, return_inverse=True)
        found = [parts(each) for each in unique.tolist()]
        counts = np.array([len(each.numbers) for each in found], dtype=np.int64)
        starts = np.cumsum(counts) - counts
        flat = np.array([number for each in found for number in each.numbers], dtype=np.int64)
        many = np.array([each.many for each in found], dtype=np.int64)
        return _Dimension(starts[index], counts[index], flat, many[index])

    def _dimensions(self) -> list[_Dimension]:
        """What the coarse classes are cut into, field by field."""
        classes, tables = self._classes, self.tables
        destination, service, ports = classes.goals[self._goal].T
        services, spans = list(classes.services), list(classes.ports)
        groups, kinds = len(self._groups), len(services)
        cutter = classes.grounds.cutter

        def sides(
            pieces: list[EndpointPart], role: Role, into: list[AddressParty]
        ) -> Callable[[int], _FieldParts]:
            def parts(key: int) -> _FieldParts:
                key, asked = divmod(key, kinds)
                number, group = divmod(key, groups)
                piece, lists, many = pieces[number], self._groups[group], 0
                try:
                    regions = cutter.regions(piece.region, lists, services[asked], role)
                except TooManyParts as too_many:
                    many = too_many.count
                    regions = cutter.some(piece.region, lists, services[asked], role, SOME)
                into.extend(piece.party(region) for region in regions)
                return _FieldParts(range(len(into) - len(regions), len(into)), many)

            return parts

        def asked_parts(key: int) -> _FieldParts:
            asked, group = divmod(key, groups)
            cut = cutter.services(services[asked], self._groups[group])
            tables.services.extend(cut)
            return _FieldParts(range(len(tables.services) - len(cut), len(tables.services)), 0)

        def port_parts(key: int) -> _FieldParts:
            key, group = divmod(key, groups)
            number, asked = divmod(key, kinds)
            cut = cutter.source_ports(spans[number], services[asked], self._groups[group])
            tables.ports.extend(cut)
            return _FieldParts(range(len(tables.ports) - len(cut), len(tables.ports)), 0)

        # What cannot be cut is the same whatever it meets.
        single_source = np.array([size(piece.region) == 1 for piece in classes.sources], dtype=np.bool_)
        single_goal = np.array([size(piece.region) == 1 for piece in classes.destinations], dtype=np.bool_)

        def key(number: Ints, single: Bools) -> Ints:
            free = ~single[number]
            numbers: Ints = (number * groups + self._group * free) * kinds + service * free
            return numbers

        return [
            self._dimension(
                key(self._source, single_source), sides(classes.sources, Role.SOURCE, tables.sources)
            ),
            self._dimension(
                key(destination, single_goal),
                sides(classes.destinations, Role.DESTINATION, tables.destinations),
            ),
            self._dimension(service * groups + self._group, asked_parts),
            self._dimension((ports * kinds + service) * groups + self._group, port_parts),
        ]

    def conversations(self) -> tuple[Conversations, Bools]:
        """One conversation of each coarse class, and which of the classes have any."""
        dimensions = self._dimensions()
        total = np.prod([each.counts for each in dimensions], axis=0)
        return self._asked(*_expanded(dimensions, total, 0, len(total)))

    def wrong(self, rows: Ints, progress: Progress = unwatched) -> "Decided":
        """The fine classes that violate the half. Raises Cancelled.

        rows:  the numbers of the coarse classes
        """
        dimensions = self._dimensions()
        many = np.max([dimension.many for dimension in dimensions], axis=0)
        total = _within_bounds(dimensions, many)
        counts, answers = np.zeros((2, len(total)), dtype=np.int64)
        found = [NO_CLASSES]
        blocks = self._classes.half.expect is Expectation.BLOCK
        ends = np.cumsum(total)
        first = 0
        while first < len(total):
            progress(first / len(total))
            done = ends[first] - total[first]
            end = max(first + 1, int(np.searchsorted(ends, done + self._engine.at_once, side="right")))
            fine = _expanded(dimensions, total, first, end)
            asked, kept = self._asked(*fine)
            verdicts = self._engine.verdicts(asked)
            coarse, source, destination, service, ports = (part[kept] for part in fine)
            bad = verdicts.arrives if blocks else verdicts.verdict != _PASSES
            counts += np.bincount(coarse, minlength=len(total))
            if blocks:
                answers += np.bincount(coarse[verdicts.reached & ~bad], minlength=len(total))
            part = FineClasses(rows[coarse], source, destination, service, ports, verdicts.verdict)
            found.append(part.take(bad))
            first = end
        joined = FineClasses(
            *(np.concatenate([getattr(decided, name) for decided in found]) for name in FIELDS)
        )
        tables, joined = compacted(self.tables, joined)
        return Decided(tables, joined, counts, many, answers)

    def some(self, most: int) -> ClassRows:
        """Up to `most` of the fine classes, from all over them."""
        fine = self._every()
        _, kept = self._asked(*fine)
        there = np.flatnonzero(kept)
        chosen = there[np.unique(np.linspace(0, len(there) - 1, min(most, len(there))).astype(np.int64))]
        return self._rows(fine, chosen)

    def only_answers_stopped(self) -> ClassRows:
        """The first of the fine classes that arrive and have only their answers stopped."""
        fine = self._every()
        asked, kept = self._asked(*fine)
        verdicts = self._engine.verdicts(asked)
        return self._rows(fine, np.flatnonzero(kept)[verdicts.reached & ~verdicts.arrives][:1])

    def _every(self) -> tuple[Ints, ...]:
        dimensions = self._dimensions()
        total = _within_bounds(dimensions, np.zeros(len(self._source), dtype=np.int64))
        return _expanded(dimensions, total, 0, len(total))

    def _rows(self, fine: tuple[Ints, ...], chosen: Ints) -> ClassRows:
        tables, (_, source, destination, service, ports) = self.tables, fine
        return ClassRows(
            tables.sources,
            tables.destinations,
            tables.services,
            tables.ports,
            source[chosen],
            destination[chosen],
            service[chosen],
            ports[chosen],
        )

    def asked_about(self, tables: ClassTables, fine: FineClasses) -> Conversations:
        """One conversation of each of some fine classes that were found to have any."""
        self.tables = tables
        return self._asked(fine.coarse, fine.source, fine.destination, fine.service, fine.ports)[0]

    def _asked(
        self, coarse: Ints, source: Ints, destination: Ints, service: Ints, ports: Ints
    ) -> tuple[Conversations, Bools]:
        """One conversation of each fine class, and which of the classes have any."""
        tables, family = self.tables, self._classes.grounds.family
        senders = [(party.device, party.region[0].first) for party in tables.sources]
        goals = [party.region[0].first for party in tables.destinations]
        requests: dict[Request, int] = {}
        request = [requests.setdefault(service.first(family), len(requests)) for service in tables.services]
        port = [usual_port(ports) for ports in tables.ports]
        kept = np.ones(len(coarse), dtype=np.bool_)
        source, destination = source.copy(), destination.copy()
        to_itself = (
            self._classes.source_device[self._source[coarse]] == self._classes.goal_device[self._goal[coarse]]
        )
        translated = np.array([party.translated for party in tables.destinations], dtype=np.bool_)
        to_itself |= translated[destination]  # by an outside address that is its own
        other_source: dict[int, int] = {}
        other_goal: dict[int, int] = {}
        for index in np.flatnonzero(to_itself).tolist():
            from_, to = int(source[index]), int(destination[index])
            if senders[from_][1] != goals[to]:
                continue
            second = another(tables.destinations[to].region)
            if second is not None:
                destination[index] = other_goal.setdefault(to, len(goals))
                goals += [second] * (other_goal[to] == len(goals))
                continue
            second = another(tables.sources[from_].region)
            if second is not None:
                source[index] = other_source.setdefault(from_, len(senders))
                senders += [(senders[from_][0], second)] * (other_source[from_] == len(senders))
            else:
                kept[index] = False
        asked = Conversations(
            family,
            senders,
            goals,
            list(requests),
            source[kept],
            destination[kept],
            np.array(request, dtype=np.int64)[service[kept]],
            np.array(port, dtype=np.int64)[ports[kept]],
        )
        return asked, kept


def apart(source: AddressParty, destination: AddressParty) -> tuple[AddressParty, AddressParty]:
    """Both, with an address of each first that the other does not begin with."""
    if source.region[0].first != destination.region[0].first:
        return source, destination
    for one, other in ((destination, source), (source, destination)):
        address = another(one.region)
        if address is not None:
            family = one.region[0].family
            single = replace(one, region=(AddressBlock(family, address, family.every_bit),))
            return (other, single) if one is destination else (single, other)
    raise AssertionError("an address with itself is no conversation")


def another(region: Region) -> int | None:
    """Another address of a region than the first of its first block, if it has more than one."""
    if region[0].size > 1:
        free = ~region[0].mask & region[0].family.every_bit
        return region[0].first | (free & -free)
    return region[1].first if len(region) > 1 else None


def usual_port(ports: Spans) -> int:
    """A source port of those: the usual one if it is among them."""
    if not ports or any(low <= USUAL_SOURCE_PORT <= high for low, high in ports):
        return USUAL_SOURCE_PORT
    return ports[0][0]
