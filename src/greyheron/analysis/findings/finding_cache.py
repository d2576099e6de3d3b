"""What searches found before, kept by what it rests on: an edit costs what it can change."""

from collections.abc import Callable, Hashable
from operator import is_
from typing import TypeVar, cast

from greyheron.analysis.reach.matrix_cache import KeptReaches

T = TypeVar("T")


class KeptFindings:
    """Results of parts of a search, each in a slot of its own, from one search to the next.

    A result holds as long as what it rests on are the same objects: documents and worlds share whatever an
    edit leaves as it was.

    reaches, without:  the matrices that findings read, and those of the networks without lists
    """

    def __init__(self, reaches: KeptReaches | None = None) -> None:
        self.reaches = KeptReaches() if reaches is None else reaches
        self.without = KeptReaches()
        self._found: dict[Hashable, tuple[tuple[object, ...], object]] = {}
        self._asked: set[Hashable] = set()

    def get(self, slot: Hashable, ground: tuple[object, ...]) -> object | None:
        """What `slot` has, if it rests on `ground`."""
        self._asked.add(slot)
        before, value = self._found.get(slot, ((), None))
        same = len(ground) == len(before) and all(map(is_, ground, before))
        return value if same else None

    def put(self, slot: Hashable, ground: tuple[object, ...], value: object) -> None:
        self._found[slot] = ground, value

    def of(self, slot: Hashable, ground: tuple[object, ...], make: Callable[[], T]) -> T:
        """What `slot` has, made by `make` where it rests on something else than `ground`."""
        known = self.get(slot, ground)
        if known is not None:
            return cast(T, known)
        made = make()
        self.put(slot, ground, made)
        return made

    def forget_others(self) -> None:
        """Let go what the search that ends here did not ask for."""
        for slot in self._found.keys() - self._asked:
            self._found.pop(slot, None)
        self._asked = set()
