"""Whole lists: numbering, remarks, and all misreadings at once (§3, §11)."""

from threading import Lock

from cachetools import TTLCache, cached
from msgspec.structs import replace

from greyheron.model.entry import Entry, ListBody
from greyheron.model.notation.entries import read_entry, write_entry
from greyheron.model.notation.line import LineError, Misreading, NotationError, NotationLine
from greyheron.model.notation.quick import read_usual
from greyheron.model.values import Family, ListKind

_EntryRead = tuple[Entry, int, str]
"""An entry, its number 0 where the text gives none, with the line that it was read from."""
STEP = 10
MOST_READ, KEPT = 192 << 20, 120
"""So many bytes of entries are kept for so many seconds: what runs and the draft have most lists alike."""
ENTRY = 900
"""About how many bytes an entry takes."""


@cached(TTLCache(MOST_READ, KEPT, getsizeof=lambda body: 300 + ENTRY * len(body.entries)), lock=Lock())
def read_body(text: str, family: Family | None, kind: ListKind) -> ListBody:
    """The entries in `text`, one a line, in the order of their numbers.

    An entry without a number takes one between its neighbours in the text. Raises NotationError with
    every misreading, each with its line and column.
    """
    misreadings: list[Misreading] = []
    remarks: list[str] = []
    read: list[_EntryRead] = []
    quickly = family if kind is ListKind.EXTENDED else None
    for number, line_text in enumerate(text.splitlines(), 1):
        stripped = line_text.strip()
        if stripped.startswith("#"):
            remarks.append(stripped[1:].strip())
        elif stripped:
            try:
                entry = None if quickly is None else read_usual(line_text, quickly)
                if entry is None:
                    entry = read_entry(NotationLine(line_text, number), family, kind)
                read.append((replace(entry, remarks=tuple(remarks)) if remarks else entry, number, line_text))
            except LineError as error:
                misreadings.append(error.misreading)
            remarks = []
    misreadings += _same_numbers(read)
    entries: tuple[Entry, ...] = ()
    if not misreadings:
        try:
            entries = _numbered(read)
        except LineError as error:
            misreadings.append(error.misreading)
    if misreadings:
        raise NotationError(sorted(misreadings, key=lambda misreading: (misreading.line, misreading.column)))
    return ListBody(entries, tuple(remarks))


def write_body(body: ListBody, family: Family | None, kind: ListKind) -> str:
    """The text that `read_body` reads as `body`."""
    known = body.texts.get((family, kind))
    if known is None:
        known = body.texts[family, kind] = _written(body, family, kind)
    return known


def _written(body: ListBody, family: Family | None, kind: ListKind) -> str:
    lines: list[str] = []
    for entry in body.entries:
        lines += [f"# {remark}".rstrip() for remark in entry.remarks]
        lines.append(write_entry(entry, family, kind))
    lines += [f"# {remark}".rstrip() for remark in body.closing_remarks]
    return "".join(f"{line}\n" for line in lines)


def renumbered(body: ListBody, step: int = STEP) -> ListBody:
    """`body` with its numbers in even steps and its order as it was."""
    return body.with_entries(
        replace(entry, number=step * index) for index, entry in enumerate(body.entries, 1)
    )


def _same_numbers(read: list[_EntryRead]) -> list[Misreading]:
    first: dict[int, int] = {}
    found = []
    for entry, line, text in read:
        if entry.number and first.setdefault(entry.number, line) != line:
            message = f"number {entry.number} is already on line {first[entry.number]}"
            found.append(NotationLine(text, line).error(message, at=0).misreading)
    return found


def _numbered(read: list[_EntryRead]) -> tuple[Entry, ...]:
    """Sort by number; entries without one stay behind the entry they follow in the text."""
    runs: list[list[_EntryRead]] = [[]]
    for item in read:
        if item[0].number:
            runs.append([item])
        else:
            runs[-1].append(item)
    runs[1:] = sorted(runs[1:], key=lambda run: run[0][0].number)
    entries: list[Entry] = []
    for index, run in enumerate(runs):
        before = run[0][0].number if index else 0
        if index:
            entries.append(run[0][0])
        new = run[1:] if index else run
        if not new:
            continue
        after = runs[index + 1][0][0].number if index + 1 < len(runs) else None
        numbers = _free_numbers(before, after, len(new))
        if numbers is None:
            message = f"no number is left between {before} and {after}: renumber the list"
            _, line, text = new[0]
            raise NotationLine(text, line).error(message, at=0)
        entries += [replace(each[0], number=number) for each, number in zip(new, numbers, strict=True)]
    return tuple(entries)


def _free_numbers(before: int, after: int | None, count: int) -> range | None:
    """`count` rising numbers between `before` and `after`: round ones if they fit."""
    start = (before // STEP + 1) * STEP
    if after is None or start + STEP * (count - 1) < after:
        return range(start, start + STEP * count, STEP)
    step = (after - before) // (count + 1)
    return range(before + step, before + step * count + 1, step) if step else None
