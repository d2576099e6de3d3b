"""Coarse classes cut finer by the entries of the lists that their packets may meet, and decided."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from greyheron.analysis.proof.answers import Party
from greyheron.analysis.proof.cutting import Role
from greyheron.analysis.proof.grounds import Classes, Piece
from greyheron.analysis.proof.regions import Region, Spans, size
from greyheron.analysis.proof.services import Service
from greyheron.core.bulk.conversations import Conversations
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine, Courses
from greyheron.core.bulk.headers import Bools, Ints
from greyheron.core.conversation import USUAL_SOURCE_PORT, Verdict
from greyheron.core.lists import ResolvedList
from greyheron.model.entry import AddressBlock
from greyheron.model.services import Request
from greyheron.model.values import Expectation

_PASSES = VERDICT_ORDER.index(Verdict.PASSES)


@dataclass(frozen=True, slots=True)
class Fine:
    """Fine classes: of each its coarse class, its places in the tables, and what becomes of it."""

    coarse: Ints
    source: Ints
    destination: Ints
    service: Ints
    ports: Ints
    verdict: Ints
    some: Bools

    def __len__(self) -> int:
        return len(self.coarse)

    def take(self, places: Ints | Bools) -> "Fine":
        return Fine(*(getattr(self, name)[places] for name in FIELDS))


FIELDS = ("coarse", "source", "destination", "service", "ports", "verdict", "some")


@dataclass(frozen=True, slots=True)
class Tables:
    """What the numbers of fine classes stand for. Parties come with an address to try, or two."""

    sources: list[Party] = field(default_factory=list)
    destinations: list[Party] = field(default_factory=list)
    services: list[Service] = field(default_factory=list)
    ports: list[Spans] = field(default_factory=list)


def appended(first: Tables, second: Tables, rows: Fine) -> tuple[Tables, Fine]:
    """Two sets of tables as one, and `rows` of the second with their places in it."""
    names = ("sources", "destinations", "services", "ports")
    offsets = [len(getattr(first, name)) for name in names]
    tables = Tables(*([*getattr(first, name), *getattr(second, name)] for name in names))
    return tables, Fine(
        rows.coarse,
        rows.source + offsets[0],
        rows.destination + offsets[1],
        rows.service + offsets[2],
        rows.ports + offsets[3],
        rows.verdict,
        rows.some,
    )


class Cut:
    """Coarse classes cut by the lists that they meet; by none when `courses` are not known yet."""

    def __init__(
        self,
        classes: Classes,
        source: Ints,
        goal: Ints,
        engine: BulkEngine,
        courses: Courses | None,
        rows: Ints | None = None,
    ) -> None:
        """rows:  which conversations of `courses` these are; all unless given"""
        self._classes, self._engine, self._source, self._goal = classes, engine, source, goal
        self.tables = Tables()
        self._groups: list[tuple[ResolvedList, ...]] = [()]
        self._group = np.zeros(len(source), dtype=np.int64)
        if courses is not None:
            self._group = self._grouped(courses)[courses.row_of if rows is None else courses.row_of[rows]]

    def _grouped(self, courses: Courses) -> Ints:
        """Which of `_groups` each row of `courses` meets."""
        rows, numbers, lists = self._engine.lists_met(courses)
        weights = np.random.default_rng(len(lists)).integers(1, 1 << 62, len(lists), dtype=np.uint64)
        digest = np.zeros(len(courses.rows), dtype=np.uint64)
        np.add.at(digest, rows, weights[numbers])
        starts = np.searchsorted(rows, np.arange(len(courses.rows)))
        ends = np.searchsorted(rows, np.arange(len(courses.rows)), side="right")
        _, first, group = np.unique(digest, return_index=True, return_inverse=True)
        self._groups = [
            tuple(lists[number] for number in numbers[starts[row] : ends[row]].tolist())
            for row in first.tolist()
        ]
        groups: Ints = group.astype(np.int64)
        return groups

    def _dimension(self, key: Ints, parts: Callable[[int], list[int]]) -> tuple[Ints, Ints, Ints]:
        """For each class where its parts begin in a flat array and how many there are, and that array."""
        unique, place = np.unique(key, return_inverse=True)
        found = [parts(each) for each in unique.tolist()]
        counts = np.array([len(each) for each in found], dtype=np.int64)
        starts = np.cumsum(counts) - counts
        flat = np.array([number for each in found for number in each], dtype=np.int64)
        return starts[place], counts[place], flat

    def _fine(self) -> tuple[Ints, Ints, Ints, Ints, Ints]:
        """Every fine class: its coarse class and its places in the tables."""
        classes, tables = self._classes, self.tables
        destination, service, ports = classes.goals[self._goal].T
        services, spans = list(classes.services), list(classes.ports)
        groups, kinds = len(self._groups), len(services)
        cutter = classes.grounds.cutter

        def sides(pieces: list[Piece], role: Role, into: list[Party]) -> Callable[[int], list[int]]:
            def parts(key: int) -> list[int]:
                key, asked = divmod(key, kinds)
                number, group = divmod(key, groups)
                piece = pieces[number]
                regions = cutter.regions(piece.region, self._groups[group], services[asked], role)
                into.extend(piece.party(region) for region in regions)
                return list(range(len(into) - len(regions), len(into)))

            return parts

        def asked_parts(key: int) -> list[int]:
            asked, group = divmod(key, groups)
            found = cutter.services(services[asked], self._groups[group])
            tables.services.extend(found)
            return list(range(len(tables.services) - len(found), len(tables.services)))

        def port_parts(key: int) -> list[int]:
            key, group = divmod(key, groups)
            number, asked = divmod(key, kinds)
            found = cutter.source_ports(spans[number], services[asked], self._groups[group])
            tables.ports.extend(found)
            return list(range(len(tables.ports) - len(found), len(tables.ports)))

        # What cannot be cut is the same whatever it meets.
        single_source = np.array([size(piece.region) == 1 for piece in classes.sources], dtype=np.bool_)
        single_goal = np.array([size(piece.region) == 1 for piece in classes.destinations], dtype=np.bool_)

        def key(number: Ints, single: Bools) -> Ints:
            free = ~single[number]
            found: Ints = (number * groups + self._group * free) * kinds + service * free
            return found

        dimensions = [
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
        total = np.prod([counts for _, counts, _ in dimensions], axis=0)
        coarse = np.repeat(np.arange(len(total)), total)
        left = np.arange(len(coarse)) - np.repeat(np.cumsum(total) - total, total)
        found = []
        for starts, counts, flat in dimensions:
            left, place = np.divmod(left, counts[coarse])
            found.append(flat[starts[coarse] + place])
        return coarse, found[0], found[1], found[2], found[3]

    def conversations(self) -> tuple[Conversations, Bools]:
        """One conversation of each coarse class, and which of the classes have any."""
        return self._asked(*self._fine())

    def wrong(self, rows: Ints) -> tuple[Fine, Ints]:
        """The fine classes that violate the half, and how many there are of each coarse one.

        rows:  the numbers of the coarse classes
        """
        fine = self._fine()
        asked, kept = self._asked(*fine)
        verdicts = self._engine.verdicts(asked)
        coarse, source, destination, service, ports = (each[kept] for each in fine)
        blocks = self._classes.half.expect is Expectation.BLOCK
        bad = verdicts.some if blocks else verdicts.verdict != _PASSES
        counts = np.bincount(coarse, minlength=len(self._source)).astype(np.int64)
        found = Fine(rows[coarse], source, destination, service, ports, verdicts.verdict, verdicts.some)
        return found.take(bad), counts

    def _asked(
        self, coarse: Ints, source: Ints, destination: Ints, service: Ints, ports: Ints
    ) -> tuple[Conversations, Bools]:
        """One conversation of each fine class, and which of the classes have any."""
        tables, family = self.tables, self._classes.grounds.family
        senders = [(party.device, party.region[0].first) for party in tables.sources]
        goals = [party.region[0].first for party in tables.destinations]
        requests: dict[Request, int] = {}
        request = [requests.setdefault(each.first(family), len(requests)) for each in tables.services]
        port = [usual_port(each) for each in tables.ports]
        kept = np.ones(len(coarse), dtype=np.bool_)
        source, destination = source.copy(), destination.copy()
        to_itself = (
            self._classes.source_device[self._source[coarse]] == self._classes.goal_device[self._goal[coarse]]
        )
        other_source: dict[int, int] = {}
        other_goal: dict[int, int] = {}
        for place in np.flatnonzero(to_itself).tolist():
            from_, to = int(source[place]), int(destination[place])
            if senders[from_][1] != goals[to]:
                continue
            second = another(tables.destinations[to].region)
            if second is not None:
                destination[place] = other_goal.setdefault(to, len(goals))
                goals += [second] * (other_goal[to] == len(goals))
                continue
            second = another(tables.sources[from_].region)
            if second is not None:
                source[place] = other_source.setdefault(from_, len(senders))
                senders += [(senders[from_][0], second)] * (other_source[from_] == len(senders))
            else:
                kept[place] = False
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


def apart(source: Party, destination: Party) -> tuple[Party, Party]:
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
        free = ~region[0].care & region[0].family.every_bit
        return region[0].first | (free & -free)
    return region[1].first if len(region) > 1 else None


def usual_port(ports: Spans) -> int:
    """A source port of those: the usual one if it is among them."""
    if not ports or any(low <= USUAL_SOURCE_PORT <= high for low, high in ports):
        return USUAL_SOURCE_PORT
    return ports[0][0]
