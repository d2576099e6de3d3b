"""Entries of frame lists that others take everything from (§14)."""

from collections.abc import Iterable
from itertools import takewhile

from greyheron.model.entry import Entry, FrameMatch, MacBlock


def hiding(entry: Entry, entries: Iterable[Entry]) -> Entry | None:
    """The first of the entries before one that takes all of its frames at all times; None: none does."""
    earlier = takewhile(lambda each: each is not entry, entries)
    always = (each for each in earlier if each.during is None and not each.maybe)
    return next((each for each in always if _covers(each, entry)), None)


def _covers(one: Entry, other: Entry) -> bool:
    mine, its = one.frame or FrameMatch(), other.frame or FrameMatch()
    return (
        mine.ether_type in (None, its.ether_type)
        and _inside(mine.source, its.source)
        and _inside(mine.destination, its.destination)
    )


def _inside(whole: MacBlock | None, part: MacBlock | None) -> bool:
    """Whether every address of `part` is one of `whole`; None is any."""
    if whole is None:
        return True
    return part is not None and part.mask & whole.mask == whole.mask and whole.holds(part.value)
