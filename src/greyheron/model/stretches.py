"""A collection as what differs from an earlier one: stretches of what is known, and of what is not."""

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct


class Stretch(Struct, frozen=True):
    """Items that stand one after another.

    kept:  where they stand in the earlier collection: the first index, and the one behind the last, or None
    fresh:  the items themselves, where they are not known
    """

    kept: tuple[int, int] | None
    fresh: Sequence[Any] = ()


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
