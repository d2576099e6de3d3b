"""What differs between two states of a network, in the notation and in order, as a reader would tell it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from enum import StrEnum

from greyheron.model.changes import Change, Collection, difference, key_of
from greyheron.model.device import Device
from greyheron.model.document import AccessList, Network, Placement, to_data
from greyheron.model.item import Item
from greyheron.model.notation.flows import write_expected_flow
from greyheron.model.notation.lists import renumbered, write_body
from greyheron.model.notation.requirements import write_requirement
from greyheron.model.parts import PARTS, lines_of
from greyheron.model.settings import SETTING_FIELDS, unusual_settings, write_setting

AROUND = 2
"""Lines that are shown before and behind one that differs."""
LINES_ALONE = frozenset({"name", "kind", "gateway", "gateway6", *PARTS, *SETTING_FIELDS})
"""What lines of parts say already."""


class Verb(StrEnum):
    NEW = "new"
    REMOVED = "removed"
    CHANGED = "changed"
    RENAMED = "renamed"
    MOVED = "moved"
    RENUMBERED = "renumbered"


class LineSign(StrEnum):
    """What became of a line; a gap stands for lines that are left out."""

    SAME = "same"
    GONE = "gone"
    ADDED = "added"
    GAP = "gap"


@dataclass(frozen=True, slots=True)
class DiffLine:
    """A line. `count`: of a gap, how many lines it stands for."""

    sign: LineSign
    text: str
    count: int = 1


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that is otherwise.

    was:  what it was called, or where it stood, when it was renamed or moved
    """

    collection: Collection
    key: str
    verb: Verb
    was: str | None
    lines: tuple[DiffLine, ...]


def differences(before: Network, after: Network) -> list[Difference]:
    """Everything that differs, in the order of the document."""
    changes = difference(before, after)
    gone = {(each.collection, each.key): _item(before, each) for each in changes if each.item is None}
    found: list[Difference] = []
    for change in changes:
        if change.item is None:
            continue
        new, old = _item(after, change), _item(before, change)
        source = None
        if old is None:
            source = next((key for key, item in gone.items() if _same_thing(key[0], item, change, new)), None)
        if source is not None:
            verb = Verb.MOVED if change.collection == "placements" else Verb.RENAMED
            lines = _compared(lines_in(gone.pop(source)), lines_in(new))
            found.append(Difference(change.collection, change.key, verb, source[1], lines))
            continue
        verb = Verb.NEW if old is None else Verb.CHANGED
        if isinstance(old, AccessList) and isinstance(new, AccessList) and _renumbered(old, new):
            verb = Verb.RENUMBERED
        lines = _compared(lines_in(old), lines_in(new))
        found.append(Difference(change.collection, change.key, verb, None, lines))
    for (collection, key), item in gone.items():
        found.append(Difference(collection, key, Verb.REMOVED, None, _compared(lines_in(item), ())))
    return found


def _item(network: Network, change: Change) -> Item | None:
    items: Sequence[Item] = getattr(network, change.collection)
    return next((each for each in items if key_of(change.collection, each) == change.key), None)


def _same_thing(collection: str, old: Item | None, change: Change, new: Item | None) -> bool:
    """Whether what is gone came back under another name, or at another place."""
    if collection != change.collection or old is None or new is None:
        return False
    if isinstance(old, Placement) and isinstance(new, Placement):
        return old.list == new.list
    if collection not in ("devices", "lists", "address_sets", "port_sets", "periods"):
        return False
    return {**to_data(old), "name": ""} == {**to_data(new), "name": ""}


def _renumbered(old: AccessList, new: AccessList) -> bool:
    same = old.body.entries != new.body.entries and len(old.body.entries) == len(new.body.entries)
    return same and renumbered(old.body) == renumbered(new.body)


def lines_in(item: Item | None) -> tuple[str, ...]:
    """What an item says, a line for each thing that can differ, in the notation where it has one."""
    return () if item is None else tuple(_lines(item))


def _lines(item: Item) -> Iterator[str]:
    data = to_data(item)
    if isinstance(item, AccessList):
        yield from write_body(item.body, item.family, item.kind).splitlines()
    elif isinstance(item, Device):
        for section in PARTS:
            if section != "settings":
                yield from (f"{section}: {line}" for line in lines_of(item, section))
        yield from (f"settings: {write_setting(each)}" for each in unusual_settings(item))
        yield from (f"{name}: {value}" for name, value in data.items() if name not in LINES_ALONE)
    elif hasattr(item, "statement"):
        yield write_requirement(item.statement)
    elif hasattr(item, "flow"):
        yield write_expected_flow(item.flow)
    elif "members" in data:
        yield from map(str, data["members"])
    else:
        yield from (str(data[name]) for name in ("reason",) if name in data)
    if "note" in data:
        yield f"note: {data['note']}"
    if "group" in data and not isinstance(item, Device):
        yield f"group: {data['group']}"


def _compared(before: Sequence[str], after: Sequence[str]) -> tuple[DiffLine, ...]:
    """The lines of both in their order, those that stayed shown only near others."""
    if list(before) == list(after):
        return ()
    matcher = SequenceMatcher(None, before, after, autojunk=False)
    found: list[DiffLine] = []
    at = 0
    for group in matcher.get_grouped_opcodes(AROUND):
        if group[0][1] > at:
            found.append(DiffLine(LineSign.GAP, "", group[0][1] - at))
        for tag, low, high, first, last in group:
            if tag == "equal":
                found += [DiffLine(LineSign.SAME, line) for line in before[low:high]]
                continue
            found += [DiffLine(LineSign.GONE, line) for line in before[low:high]]
            found += [DiffLine(LineSign.ADDED, line) for line in after[first:last]]
        at = group[-1][2]
    if at < len(before):
        found.append(DiffLine(LineSign.GAP, "", len(before) - at))
    return tuple(found)
