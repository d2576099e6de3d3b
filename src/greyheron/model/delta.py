"""A network as what differs from an earlier one; collections in stretches of items that are known or not."""

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from greyheron.model.document import Network


class Stretch(Struct, frozen=True):
    """Items that stand one after another.

    kept:  where they stand in the earlier collection: the first index, and the one behind the last, or None
    fresh:  the items themselves, where they are not known
    """

    kept: tuple[int, int] | None
    fresh: Sequence[Any] = ()


def collections_between(
    before: Network | None, network: Network
) -> Iterator[tuple[str, tuple[Any, ...], tuple[Any, ...]]]:
    """Collections that are not the same object as before: their names, their items, and those before."""
    for name in Network.model_fields:
        items, known = getattr(network, name), () if before is None else getattr(before, name)
        if isinstance(items, tuple) and (before is None or items is not known):
            yield name, items, known


def fields_between(before: Network | None, network: Network) -> dict[str, Any]:
    """What is no collection and not as before."""
    values = {name: getattr(network, name) for name in Network.model_fields}
    return {
        name: value
        for name, value in values.items()
        if not isinstance(value, tuple) and (before is None or value != getattr(before, name))
    }


def stretches(items: Sequence[Any], known: Sequence[Any]) -> Iterator[Stretch]:
    """`items` by what is known; an item is known where it is the same object, not one like it."""
    at = {id(item): index for index, item in enumerate(known)}
    index = 0
    while index < len(items):
        first, end = at.get(id(items[index])), index + 1
        if first is None:
            while end < len(items) and id(items[end]) not in at:
                end += 1
            yield Stretch(None, items[index:end])
        else:
            while end < len(items) and at.get(id(items[end])) == first + end - index:
                end += 1
            yield Stretch((first, first + end - index))
        index = end
