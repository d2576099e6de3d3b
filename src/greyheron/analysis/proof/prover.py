"""The prover: a requirement answered over every conversation it speaks of, by classes that are alike.

First who talks to whom is cut by what routes, owners and services tell apart, and the courses of those coarse
classes are found. Then each is cut finer by the entries of the lists that its packets may meet, and one
conversation of each fine class is decided.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace

import numpy as np

from greyheron.analysis.proof.answers import EPHEMERAL, Cells, Party, flow_between
from greyheron.analysis.proof.cutting import Borders, Cutter, Role
from greyheron.analysis.proof.places import Place, Places
from greyheron.analysis.proof.regions import Region, Spans, common, size, span_size, span_split, split
from greyheron.analysis.proof.services import ALL_PORTS, Service, by_delivery, meant
from greyheron.core.bulk.conversations import Conversations, Verdicts
from greyheron.core.bulk.engine import VERDICT_ORDER, BulkEngine, Courses
from greyheron.core.bulk.headers import Bools, Ints
from greyheron.core.conversation import USUAL_SOURCE_PORT, Verdict
from greyheron.core.lists import Names, ResolvedList
from greyheron.core.places import AttachmentPoint
from greyheron.core.world import World
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock
from greyheron.model.flow import Flow
from greyheron.model.services import Request
from greyheron.model.values import Expectation, Family

_AT_ONCE = 1 << 16
"""So many coarse classes are looked at before it is asked whether to go on."""
_PASSES = VERDICT_ORDER.index(Verdict.PASSES)


class ProofCancelled(Exception):
    """Nobody waits for the answer any more."""


Progress = Callable[[float], bool]
"""Told how much is done, 0 to 1; false ends the work with ProofCancelled."""


@dataclass(frozen=True, slots=True)
class Half:
    """One part of a requirement: what is expected of everyone in `sources` towards `destinations`.

    pass: every conversation must get through; block: none may
    """

    expect: Expectation
    sources: tuple[Place, ...]
    destinations: tuple[Place, ...]
    services: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Piece:
    """Addresses of a place that routes and owners do not tell apart."""

    device: str
    region: Region
    drawn: bool

    def party(self, region: Region) -> Party:
        return Party(self.device, region, self.drawn, every=False)


class Grounds:
    """What proofs of one family in one world rest on: its places, borders and cuts."""

    def __init__(self, world: World, network: Network, family: Family, engine: BulkEngine) -> None:
        """world, engine:  with everyone in it who could be there"""
        self.world, self.family, self.engine = world, family, engine
        self.places = Places(world, network, family)
        self.cutter = Cutter(family, network.devices)
        self.names = Names(network)
        self.fabric = engine.fabric(family)
        self._borders = Borders((block,) for block in self.fabric.known)
        self.translated_ports = frozenset(
            port
            for device in network.devices
            for rule in device.translations
            for port in (rule.port, rule.to_port)
            if port is not None
        )
        self._services: dict[tuple[str, tuple[str, ...]], list[Service]] = {}

    def pieces(self, places: Iterable[Place]) -> list[Piece]:
        found: list[Piece] = []
        for place in places:
            parts = [place.region]
            if size(place.region) > 1:
                low = min(block.first for block in place.region)
                high = max(block.last for block in place.region)
                for blocks in self._borders.between(low, high):
                    parts = split(parts, blocks)
            found += [Piece(place.device, part, place.drawn) for part in parts]
        return found

    def services(self, device: str, words: tuple[str, ...]) -> list[Service]:
        """What `words` ask of a device, in parts that are delivered alike."""
        key = device, words
        if key not in self._services:
            goal = self.world.devices[device]
            self._services[key] = [
                part
                for service in meant(words, goal, self.names, self.family)
                for part in by_delivery(service, goal, self.fabric, self.translated_ports)
            ]
        return self._services[key]

    def source_ports(self, service: Service, expect: Expectation) -> list[Spans]:
        """All that the semantics ask for (§8), in parts that translations treat alike."""
        if not service.tag.with_ports:
            return [()]
        parts: list[Spans] = [ALL_PORTS if expect is Expectation.BLOCK else EPHEMERAL]
        for port in self.translated_ports:
            parts = span_split(parts, ((port, port),))
        return parts


class Classes:
    """The coarse classes of one half: who, to whom, about what, and from which ports."""

    def __init__(self, grounds: Grounds, half: Half) -> None:
        self.grounds, self.half = grounds, half
        self.sources = grounds.pieces(half.sources)
        self.destinations = grounds.pieces(half.destinations)
        self.services: dict[Service, int] = {}
        self.ports: dict[Spans, int] = {}
        goals: list[tuple[int, int, int]] = []
        for number, piece in enumerate(self.destinations):
            for service in grounds.services(piece.device, half.services):
                asked = self.services.setdefault(service, len(self.services))
                for ports in grounds.source_ports(service, half.expect):
                    goals.append((number, asked, self.ports.setdefault(ports, len(self.ports))))
        self.goals = np.array(goals, dtype=np.int64).reshape(-1, 3)
        devices = {name: number for number, name in enumerate(grounds.world.devices)}
        self.source_device = np.array([devices[piece.device] for piece in self.sources], dtype=np.int64)
        self.goal_device = np.array(
            [devices[self.destinations[number].device] for number in self.goals[:, 0].tolist()],
            dtype=np.int64,
        )
        # Hosts that could be on one segment talk to each other; what is drawn, or outside, not to itself.
        alone = np.array([piece.drawn for piece in self.sources], dtype=np.bool_)
        self._alone = alone
        self._service_list, self._port_list = list(self.services), list(self.ports)

    def conversations(self) -> int:
        """How many conversations there are in all, source ports told apart."""
        widths = [
            span_size(self._service_list[service].spans) * max(span_size(self._port_list[ports]), 1)
            for _, service, ports in self.goals.tolist()
        ]
        to: dict[str, int] = {}
        into: dict[str, list[tuple[Region, int]]] = {}
        for (number, _, _), width in zip(self.goals.tolist(), widths, strict=True):
            piece = self.destinations[number]
            to[piece.device] = to.get(piece.device, 0) + size(piece.region) * width
            into.setdefault(piece.device, []).append((piece.region, width))
        every = sum(to.values())
        total = 0
        for piece in self.sources:
            total += size(piece.region) * (every - to.get(piece.device, 0))
            if not piece.drawn:
                for region, width in into.get(piece.device, ()):
                    both = size(piece.region) * size(region) - size(common(piece.region, region))
                    total += both * width
        return total

    def parts(self, progress: Progress) -> Iterator["Part"]:
        """Every coarse class, some at a time. Raises ProofCancelled."""
        count = len(self.goals)
        step = max(1, _AT_ONCE // max(count, 1))
        for first in range(0, len(self.sources) if count else 0, step):
            if not progress(first / len(self.sources)):
                raise ProofCancelled
            senders = np.arange(first, min(first + step, len(self.sources)))
            source, goal = np.repeat(senders, count), np.tile(np.arange(count), len(senders))
            apart = ~(self._alone[source] & (self.source_device[source] == self.goal_device[goal]))
            yield Part.of(self, source[apart], goal[apart])


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
        return Fine(*(getattr(self, name)[places] for name in _FINE))


_FINE = ("coarse", "source", "destination", "service", "ports", "verdict", "some")


@dataclass(frozen=True, slots=True)
class _Tables:
    """What the numbers of fine classes stand for. Parties come with an address to try, or two."""

    sources: list[Party] = field(default_factory=list)
    destinations: list[Party] = field(default_factory=list)
    services: list[Service] = field(default_factory=list)
    ports: list[Spans] = field(default_factory=list)


class Part:
    """Some coarse classes of one half, where they go, and which of the finer ones violate it.

    counts:  how many fine classes each coarse one has
    """

    def __init__(
        self,
        classes: Classes,
        source: Ints,
        goal: Ints,
        courses: Courses,
        tables: _Tables,
        wrong: Fine,
        counts: Ints,
    ) -> None:
        self._classes, self._source, self._goal, self._courses = classes, source, goal, courses
        self._tables, self.wrong, self.counts = tables, wrong, counts

    @classmethod
    def of(cls, classes: Classes, source: Ints, goal: Ints) -> "Part":
        engine = classes.grounds.engine
        coarse, kept = _Cut(classes, source, goal, engine, None).conversations()
        source, goal = source[kept], goal[kept]
        courses = engine.courses(coarse)
        fine = _Cut(classes, source, goal, engine, courses)
        wrong, counts = fine.wrong(np.arange(len(source)))
        return cls(classes, source, goal, courses, fine.tables, wrong, counts)

    @property
    def family(self) -> Family:
        return self._classes.grounds.family

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
        points = self._courses.fabric.points
        codes, counts = np.unique(codes[rows[met] & (codes < len(points))], return_counts=True)
        return Counter(
            {points[code]: count for code, count in zip(codes.tolist(), counts.tolist(), strict=True)}
        )

    def ends(self, sources: bool) -> set[str]:
        """The devices that send what violates, or those it is sent to."""
        side = self._tables.sources if sources else self._tables.destinations
        places = np.unique(self.wrong.source if sources else self.wrong.destination)
        return {side[place].device for place in places.tolist()}

    def flows(self, most: int) -> list[Flow]:
        """Some conversations that violate, one for each way of being told apart, as test flows."""
        cells, found = self.cells(), []
        for place in np.unique(self._courses.row_of[self.wrong.coarse], return_index=True)[1][:most].tolist():
            ports = cells.ports[cells.port[place]]
            request = cells.services[cells.service[place]].first(self.family)
            ends = apart(cells.sources[cells.source[place]], cells.destinations[cells.destination[place]])
            found.append(flow_between(self.family, *ends, request, usual_port(ports)))
        return found

    def again(self, engine: BulkEngine, before: BulkEngine) -> "Part":
        """The same with other lists: only what they may change is cut and decided again."""
        differs = engine.may_differ(self._courses, before)[self._courses.row_of]
        if not differs.any():
            return self
        rows = np.flatnonzero(differs)
        fine = _Cut(self._classes, self._source[rows], self._goal[rows], engine, self._courses, rows)
        wrong, counts = fine.wrong(rows)
        kept = self.wrong.take(~differs[self.wrong.coarse])
        tables, moved = _appended(self._tables, fine.tables, wrong)
        joined = Fine(*(np.concatenate([getattr(kept, name), getattr(moved, name)]) for name in _FINE))
        every = self.counts.copy()
        every[rows] = counts
        return Part(self._classes, self._source, self._goal, self._courses, tables, joined, every)

    def verdicts(self, engine: BulkEngine) -> Verdicts:
        """What becomes of one conversation of each coarse class: of all, where there are no lists."""
        cut = _Cut(self._classes, self._source, self._goal, self._classes.grounds.engine, None)
        return engine.verdicts(cut.conversations()[0])

    def cells(self) -> Cells:
        """The fine classes that violate the half."""
        tables, wrong = self._tables, self.wrong
        return Cells(
            tables.sources,
            tables.destinations,
            tables.services,
            tables.ports,
            wrong.source,
            wrong.destination,
            wrong.service,
            wrong.ports,
        )


def _appended(first: _Tables, second: _Tables, rows: Fine) -> tuple[_Tables, Fine]:
    """Two sets of tables as one, and `rows` of the second with their places in it."""
    names = ("sources", "destinations", "services", "ports")
    offsets = [len(getattr(first, name)) for name in names]
    tables = _Tables(*([*getattr(first, name), *getattr(second, name)] for name in names))
    return tables, Fine(
        rows.coarse,
        rows.source + offsets[0],
        rows.destination + offsets[1],
        rows.service + offsets[2],
        rows.ports + offsets[3],
        rows.verdict,
        rows.some,
    )


class _Cut:
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
        self.tables = _Tables()
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
        starts, ends = np.searchsorted(rows, np.arange(len(courses.rows))), None
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
