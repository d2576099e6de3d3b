"""Lists put together of what several requirements want at each place."""

from collections.abc import Iterable, Mapping
from itertools import groupby

from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.advice.entries import on_top, placed_anew
from greyheron.analysis.advice.opening import Opener
from greyheron.analysis.advice.proposal import free_name
from greyheron.analysis.advice.proposals import Addressed, Proposer
from greyheron.analysis.proof.prover import Prover
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import apply
from greyheron.model.document import AccessList, Network
from greyheron.model.requirement import Statement
from greyheron.model.values import Family, ListKind


class PlaceForList(Struct, frozen=True, order=True):
    """Where one list can stand: an attachment point has one for each family."""

    point: AttachmentPoint
    family: Family


class PlaceUse(Struct, frozen=True):
    """A place that denies what one requirement does not want. `wanted`: the requirement's index."""

    place: PlaceForList
    wanted: int


class _EntryLine(Struct, frozen=True):
    """A line to be written, and the requirement for which it denies; None: it lets something wanted pass."""

    text: str
    denies_for: int | None = None


class Assembled(Struct, frozen=True):
    """A network with lists for all that was chosen.

    added:  by list and entry number for which requirement an entry of ours denies
    """

    network: Network
    chosen: frozenset[PlaceUse]
    added: Mapping[str, Mapping[int, int | None]]

    def whose(self, name: str, entry: int | None) -> int | None:
        """For which requirement an entry denies; None where it is none of ours."""
        return None if entry is None else self.added.get(name, {}).get(entry)


class Assembly:
    """Makes lists of what is chosen, on top of one network."""

    def __init__(
        self, prover: Prover, world: World, network: Network, statements: Mapping[int, Statement]
    ) -> None:
        self._network, self._statements = network, statements
        self._proposer, self._opener = Proposer(prover, world, network), Opener(prover, world, network)
        lists = {each.name: each for each in network.lists}
        self._there: dict[PlaceForList, AccessList] = {}
        for each in network.placements:
            family = lists[each.list].family
            if family is not None:
                point = AttachmentPoint(each.device, each.at, each.direction)
                self._there[PlaceForList(point, family)] = lists[each.list]
        self._protected: dict[PlaceForList, dict[tuple[int, bool], None]] = {}
        self._lines: dict[tuple[int, Family, bool], list[str]] = {}

    def there(self, place: PlaceForList) -> bool:
        """Whether a list stands there already."""
        return place in self._there

    def entries(self, use: PlaceUse) -> int:
        """How many entries it takes."""
        return len(self._denying(use))

    def protect(self, place: PlaceForList, wanted: int, returning: bool) -> bool:
        """Let through first what a requirement wants, or answers to it; False where that is so already."""
        known = self._protected.setdefault(place, {})
        if (wanted, returning) in known:
            return False
        known[wanted, returning] = None
        return True

    def of(self, chosen: frozenset[PlaceUse]) -> Assembled:
        """The network with what is chosen written and placed."""
        ordered = sorted(chosen, key=lambda use: (use.place, use.wanted))
        grown: dict[str, tuple[AccessList, list[_EntryLine]]] = {}
        fresh: dict[tuple[Family, tuple[_EntryLine, ...]], list[PlaceForList]] = {}
        for place, uses in groupby(ordered, key=lambda use: use.place):
            lines = self._at(place, [use.wanted for use in uses])
            there = self._there.get(place)
            if there is None:
                fresh.setdefault((place.family, tuple(lines)), []).append(place)
            else:
                before = grown.setdefault(there.name, (there, []))[1]
                before += [line for line in lines if line not in before]
        network, added = self._network, dict[str, dict[int, int | None]]()
        for name, (there, lines) in grown.items():
            texts = [line.text for line in lines]
            network = apply(network, [on_top(there, texts, ListKind.EXTENDED)])
            added[name] = _numbered(network, name, lines)
        for (family, written), places in fresh.items():
            statement = self._statements[
                next(each.denies_for for each in written if each.denies_for is not None)
            ]
            name = free_name(statement, network)
            text = "\n".join([*(line.text for line in written), "permit any from any to any"])
            points = [place.point for place in places]
            network = apply(network, placed_anew(name, family, ListKind.EXTENDED, text, points))
            added[name] = _numbered(network, name, written)
        return Assembled(network, chosen, added)

    def _at(self, place: PlaceForList, wanted: Iterable[int]) -> list[_EntryLine]:
        """What is written at a place: first what must pass, then what each requirement denies."""
        found = [
            _EntryLine(line)
            for index, returning in self._protected.get(place, {})
            for line in self._permits(index, returning, place.family)
        ]
        for index in wanted:
            found += [
                _EntryLine(line, index if line.startswith("deny") else None)
                for line in self._denying(PlaceUse(place, index))
            ]
        return list(dict.fromkeys(found))

    def _permits(self, index: int, returning: bool, family: Family) -> list[str]:
        statement = replace(self._statements[index], family=family)
        lines = self._opener.permits(
            statement, ListKind.EXTENDED, returning, family, self._proposer.endpoints(family)
        )
        return _in_time(lines, statement)

    def _denying(self, use: PlaceUse) -> list[str]:
        at_lines = use.place.point.is_line
        key = use.wanted, use.place.family, at_lines
        if key not in self._lines:
            statement = replace(self._statements[use.wanted], family=use.place.family)
            lines = self._proposer.denying(
                statement, ListKind.EXTENDED, use.place.family, at_lines, Addressed.BOTH
            )
            self._lines[key] = _in_time(lines, statement)
        return self._lines[key]


def _in_time(lines: Iterable[str], statement: Statement) -> list[str]:
    """Entries that are there while a statement speaks of the time."""
    during = "" if statement.during is None else f" during {statement.during}"
    return [f"{line}{during}" for line in lines]


def _numbered(network: Network, name: str, lines: Iterable[_EntryLine]) -> dict[int, int | None]:
    """The numbers that lines, which stand at the top, have now."""
    entries = next(each for each in network.lists if each.name == name).body.entries
    return {entry.number: line.denies_for for entry, line in zip(entries, lines, strict=False)}
