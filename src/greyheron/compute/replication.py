"""Documents told to other processes piece by piece: by what differs from one that they have already."""

import pickle
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import chain, count
from threading import Lock
from typing import Any

from msgspec import Struct

from greyheron.model.delta import collections_between, fields_between, stretches
from greyheron.model.document import AccessList, Network

MOST_TOLD = 6
"""So many documents of a network are known to another process at once."""
_PIECE = 1000
"""A piece has items of so many entries at most: it is packed in a few milliseconds."""


class SomeItems(Struct, frozen=True):
    """More items of a collection of a document that is being told.

    kept:  where a run of them stands in the same collection of the base: its first index, and behind its last
    """

    collection: str
    kept: tuple[int, int] | None
    fresh: tuple[Any, ...]


class DocumentEnd(Struct, frozen=True):
    """The end of a document: its name, the one that it differs from, and all that is no collection.

    forget:  a document that is not spoken of any more
    """

    token: int
    base: int | None
    fields: Mapping[str, Any]
    forget: int | None


Saying = SomeItems | DocumentEnd
Packed = bytes
"""A piece, pickled."""


def packed(piece: Saying) -> Packed:
    return pickle.dumps(piece, pickle.HIGHEST_PROTOCOL)


class PackedOnce:
    """The items of documents that several others are told at once: who comes to a piece first packs it."""

    def __init__(self) -> None:
        self._packings: dict[tuple[int, int], _Packing] = {}
        self._lock = Lock()

    def __call__(self, network: Network, before: Network | None) -> Iterator[Packed]:
        with self._lock:
            packing = self._packings.setdefault((id(network), id(before)), _Packing(network, before))
        return packing.pieces()


class _Packing:
    """The pieces from one document to another, as far as somebody has come."""

    def __init__(self, network: Network, before: Network | None) -> None:
        self._documents = network, before  # so that no other has their ids meanwhile
        self._coming = _items(network, before)
        self._packed: list[Packed] = []
        self._lock = Lock()

    def pieces(self) -> Iterator[Packed]:
        for number in count():
            with self._lock:
                if number == len(self._packed):
                    item = next(self._coming, None)
                    if item is None:
                        return
                    self._packed.append(packed(item))
            yield self._packed[number]


class Teller:
    """What another process knows of the documents of one network. Pieces must go there in their order."""

    def __init__(self) -> None:
        self._told: OrderedDict[int, Network] = OrderedDict()
        self._tokens = count()

    def pieces(
        self, network: Network, items: Callable[[Network, Network | None], Iterable[Packed]]
    ) -> tuple[int, Iterator[Packed]]:
        """A token for `network`, and what must be said before it is understood.

        items:  gives the pieces of collections, from a document that is known there; see `PackedOnce`
        """
        for token, known in self._told.items():
            if known is network:
                self._told.move_to_end(token)
                return token, iter(())
        base = next(reversed(self._told), None)
        before = None if base is None else self._told[base]
        token = next(self._tokens)
        self._told[token] = network
        forget = self._told.popitem(last=False)[0] if len(self._told) > MOST_TOLD else None
        ending = DocumentEnd(token, base, fields_between(before, network), forget)
        return token, chain(items(network, before), [packed(ending)])


def pieces_of(network: Network, before: Network | None, token: int, base: int | None) -> Iterator[Saying]:
    """What must be said of a document to somebody who knows `before`, which is `base` to them."""
    yield from _items(network, before)
    yield DocumentEnd(token, base, fields_between(before, network), forget=None)


def _items(network: Network, before: Network | None) -> Iterator[SomeItems]:
    """What is in collections that are not those of `before`."""
    for name, items, known in collections_between(before, network):
        yield from _items_of(name, items, known)


def _items_of(collection: str, items: tuple[Any, ...], known: tuple[Any, ...]) -> Iterator[SomeItems]:
    """A collection in pieces that are packed quickly."""
    yield SomeItems(collection, None, ())  # it is told anew, even where nothing is left in it
    for run in stretches(items, known):
        if run.kept is not None:
            yield SomeItems(collection, run.kept, ())
            continue
        some: list[Any] = []
        size = 0
        for item in run.fresh:
            if some and size + _size(item) > _PIECE:
                yield SomeItems(collection, None, tuple(some))
                some, size = [], 0
            some.append(item)
            size += _size(item)
        yield SomeItems(collection, None, tuple(some))


def _size(item: object) -> int:
    return 1 + len(item.body.entries) if isinstance(item, AccessList) else 10


@dataclass(slots=True)
class Listener:
    """The documents of one network, as they were told."""

    known: dict[int, Network] = field(default_factory=dict)
    _coming: dict[str, list[SomeItems]] = field(default_factory=dict)

    def hear(self, piece: Saying) -> None:
        if isinstance(piece, SomeItems):
            self._coming.setdefault(piece.collection, []).append(piece)
            return
        base = None if piece.base is None else self.known[piece.base]
        changed = dict(piece.fields)
        for name, heard in self._coming.items():
            own = () if base is None else getattr(base, name)
            changed[name] = tuple(
                item
                for run in heard
                for item in (run.fresh if run.kept is None else own[run.kept[0] : run.kept[1]])
            )
        self._coming.clear()
        self.known[piece.token] = (
            Network.model_construct(**changed) if base is None else base.model_copy(update=changed)
        )
        if piece.forget is not None:
            self.known.pop(piece.forget, None)
