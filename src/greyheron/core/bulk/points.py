"""The attachment points where lists stand, and what the lists there make of very many packets."""

from dataclasses import dataclass

import numpy as np

from greyheron.core.bulk.headers import Bools, Headers, Ints
from greyheron.core.bulk.tables import DecisionTable
from greyheron.core.world import World
from greyheron.model.values import Family

NONE = -1


@dataclass(frozen=True, slots=True)
class Denials:
    """The first denial on each of many paths: the point and the entry's number (NONE: the implicit end).

    Where `point` is NONE too, nothing on the path denies.
    """

    point: Ints
    entry: Ints


class Points:
    """The points of one family where a list stands, numbered.

    points, list_names:  by number;  number:  of each point;  is_line:  whether it is a management line
    """

    def __init__(self, world: World, family: Family) -> None:
        placed = [(point, found) for (point, which), found in world.lists.items() if which is family]
        self.points = tuple(point for point, _ in placed)
        self.list_names = tuple(found.name for _, found in placed)
        self.number = {point: number for number, point in enumerate(self.points)}
        lists = {found.name: found for _, found in placed}
        names = list(lists)
        self._tables = [DecisionTable(found) for found in lists.values()]
        self._entries = [
            np.array([NONE if entry is None else entry for entry in table.entries]) for table in self._tables
        ]
        self._table = np.array([names.index(found.name) for _, found in placed], dtype=np.int64)
        self.is_line = np.array(
            [(point.device, point.at) not in world.interfaces for point in self.points], dtype=np.bool_
        )

    def first_denials(self, path: Ints, point: Ints, headers: Headers, paths: int) -> Denials:
        """The first denial on each of `paths` paths.

        path, point, headers:  every meeting of a packet with a list, those of one path in their order
        """
        denied = np.zeros(len(path), dtype=np.bool_)
        entry = np.full(len(path), NONE, dtype=np.int64)
        table_of = self._table[point]
        for number, table in enumerate(self._tables):
            places = np.flatnonzero(table_of == number)
            if len(places):
                decider = table.first_match(headers.take(places))
                denied[places] = table.denies[decider]
                entry[places] = self._entries[number][decider]
        first = np.flatnonzero(denied)
        first = first[first_of_each(path[first])]
        found = Denials(np.full(paths, NONE, dtype=np.int64), np.full(paths, NONE, dtype=np.int64))
        found.point[path[first]] = point[first]
        found.entry[path[first]] = entry[first]
        return found


def first_of_each(sorted_values: Ints) -> Bools:
    """Whether each of `sorted_values` is the first of its kind."""
    fresh = np.ones(len(sorted_values), dtype=np.bool_)
    fresh[1:] = sorted_values[1:] != sorted_values[:-1]
    return fresh
