"""Changes: the one way in which documents are edited, compared and taken back.

A document is collections of items with keys. A change puts or removes one item of one collection;
an edit is several changes at once. The difference of two documents is an edit too, and so is undoing.
"""

from collections.abc import Callable, Sequence
from typing import Annotated, Any, Literal

from pydantic import Field

from greyheron.model.device import Device
from greyheron.model.document import (
    Acceptance,
    AccessList,
    AddressSet,
    Link,
    Network,
    Period,
    Placement,
    PortSet,
    Position,
    Requirement,
    TestFlow,
    to_data,
)
from greyheron.model.errors import GreyHeronError
from greyheron.model.item import Item

Collection = Literal[
    "devices",
    "links",
    "address_sets",
    "port_sets",
    "periods",
    "lists",
    "placements",
    "requirements",
    "tests",
    "accepted",
    "positions",
]

ITEM_TYPES: dict[str, type[Item]] = {
    "devices": Device,
    "links": Link,
    "address_sets": AddressSet,
    "port_sets": PortSet,
    "periods": Period,
    "lists": AccessList,
    "placements": Placement,
    "requirements": Requirement,
    "tests": TestFlow,
    "accepted": Acceptance,
    "positions": Position,
}

OF_THE_NETWORK = tuple(name for name in ITEM_TYPES if name not in ("accepted", "positions"))
"""Collections that say what a network is and should do; the others are about how people look at it."""

_KEYS: dict[str, Callable[[Any], str]] = {
    "devices": lambda device: device.name,
    "links": lambda link: " ".join(link.ends),
    "address_sets": lambda group: group.name,
    "port_sets": lambda group: group.name,
    "periods": lambda period: period.name,
    "lists": lambda access_list: access_list.name,
    "placements": lambda placed: f"{placed.device}:{placed.at}:{placed.direction}:{placed.list}",
    "requirements": lambda requirement: requirement.id,
    "tests": lambda test: test.id,
    "accepted": lambda acceptance: acceptance.finding,
    "positions": lambda position: position.device,
}


MOST_ITEMS = 10_000_000
"""No collection has more: whoever says so means its end."""


class Change(Item):
    """Put `item` under `key`, or remove what is there when `item` is None.

    item:  plain data as in the file format
    index:  where a new item goes in its collection; the end when None
    """

    collection: Collection
    key: Annotated[str, Field(max_length=200)]
    item: dict[str, Any] | None = None
    index: Annotated[int, Field(ge=0, le=MOST_ITEMS)] | None = None


class ChangeError(GreyHeronError, ValueError):
    """A change that does not fit the document it was made for."""

    remedy = "open the network again"


def key_of(collection: str, item: Item) -> str:
    """The key of `item` within `collection`."""
    return _KEYS[collection](item)


def putting(collection: Collection, item: Item) -> Change:
    """The change that puts `item` under its own key."""
    return Change(collection=collection, key=key_of(collection, item), item=to_data(item))


def apply(network: Network, changes: Sequence[Change]) -> Network:
    """`network` with `changes` made in order.

    Items must be valid by themselves (see `greyheron.model.read`). Raises ChangeError for a change
    that removes what is not there or whose key is not its item's.
    """
    collections: dict[str, list[Item]] = {}
    for change in changes:
        if change.collection not in collections:
            collections[change.collection] = list(getattr(network, change.collection))
        items = collections[change.collection]
        index = _index_of(items, change)
        if change.item is None:
            if index is None:
                raise ChangeError(f"there is no “{change.key}” in {change.collection} to remove")
            del items[index]
            continue
        item = ITEM_TYPES[change.collection].model_validate(change.item)
        if index is not None:
            items[index] = item
        else:
            items.insert(len(items) if change.index is None else change.index, item)
    return network.model_copy(update={name: tuple(items) for name, items in collections.items()})


def reversed_edit(network: Network, changes: Sequence[Change]) -> list[Change]:
    """The changes that lead back to `network` after `changes` were made to it."""
    back: list[Change] = []
    for change in changes:
        items = list(getattr(network, change.collection))
        index = _index_of(items, change)
        if index is None:
            new = ITEM_TYPES[change.collection].model_validate(change.item)
            back.append(Change(collection=change.collection, key=key_of(change.collection, new)))
        else:
            old = items[index]
            after = (
                change.key
                if change.item is None
                else key_of(change.collection, ITEM_TYPES[change.collection].model_validate(change.item))
            )
            back.append(Change(collection=change.collection, key=after, item=to_data(old), index=index))
        network = apply(network, [change])
    return back[::-1]


def difference(before: Network, after: Network) -> list[Change]:
    """The changes that make `after` of `before`, collection by collection."""
    changes: list[Change] = []
    for collection in ITEM_TYPES:
        if getattr(before, collection) is getattr(after, collection):
            continue
        old = {key_of(collection, item): item for item in getattr(before, collection)}
        new = {key_of(collection, item): item for item in getattr(after, collection)}
        changes += [Change(collection=collection, key=key) for key in old if key not in new]
        kept = [key for key in old if key in new]
        moved = _out_of_order(kept, [key for key in new if key in old])
        changes += [Change(collection=collection, key=key) for key in moved]
        for index, (key, item) in enumerate(new.items()):
            if key in moved or (old.get(key) is not item and old.get(key) != item):
                changes.append(Change(collection=collection, key=key, item=to_data(item), index=index))
    return changes


def _out_of_order(old: list[str], new: list[str]) -> list[str]:
    """Keys to take out so that the rest stand in the same order in both."""
    if old == new:
        return []
    moved: list[str] = []
    rest = list(old)
    for key in new:
        if rest and rest[0] == key:
            rest.pop(0)
        else:
            moved.append(key)
            rest.remove(key)
    return moved


def _index_of(items: Sequence[Item], change: Change) -> int | None:
    """Where the item with the change's key stands in `items`."""
    for index, item in enumerate(items):
        if key_of(change.collection, item) == change.key:
            return index
    return None
