"""List files: access lists in the notation, each under its own heading (§11)."""

import re

from greyheron.model.document import AccessList
from greyheron.model.notation.line import LineError, Misreading, NotationError, NotationLine, Option
from greyheron.model.notation.lists import read_body, write_body
from greyheron.model.notation.terms import NAME
from greyheron.model.values import Family, ListKind

_HEADING = re.compile(r"\s*list(\s|$)")


def is_listing(text: str) -> bool:
    """Whether `text` is a list file: it has a heading, and is no document."""
    lines = text.splitlines()
    return any(map(_HEADING.match, lines)) and not any(line.startswith("format:") for line in lines)


def read_listing(text: str) -> tuple[AccessList, ...]:
    """The lists in `text`. Raises NotationError with every misreading; their lines are those of the file.

    Remarks above a heading belong to the list before it; the note of a heading is the list's own.
    """
    lines = text.splitlines()
    starts = [number for number, line in enumerate(lines) if _HEADING.match(line)]
    misreadings = [
        NotationLine(line, number + 1)
        .error("no list has begun: write `list NAME FAMILY KIND` first", at=0)
        .misreading
        for number, line in enumerate(lines[: starts[0] if starts else len(lines)])
        if line.strip() and not line.lstrip().startswith("#")
    ]
    found: list[AccessList] = []
    names: dict[str, int] = {}
    for start, end in zip(starts, [*starts[1:], len(lines)], strict=False):
        heading = NotationLine(lines[start], start + 1)
        try:
            name, family, kind = _read_heading(heading)
            if name in names:
                raise heading.error(f"the list “{name}” is already on line {names[name]}", at=1)
            names[name] = start + 1
            body = read_body("\n".join(["", *lines[start + 1 : end]]), family, kind)
            found.append(AccessList(name=name, family=family, kind=kind, note=heading.note or "", body=body))
        except LineError as error:
            misreadings.append(error.misreading)
        except NotationError as error:
            misreadings += [
                Misreading(each.line + start, each.column, each.end, each.message)
                for each in error.misreadings
            ]
    if misreadings:
        raise NotationError(misreadings)
    return tuple(found)


def write_listing(lists: tuple[AccessList, ...]) -> str:
    """The text that `read_listing` reads as `lists`."""
    return "\n".join(
        f"list {each.name} {f'{each.family} ' if each.family else ''}{each.kind}{_heading_note(each.note)}\n"
        + write_body(each.body, each.family, each.kind)
        for each in lists
    )


def _read_heading(line: NotationLine) -> tuple[str, Family | None, ListKind]:
    line.take("list", "a list begins")
    name = line.value(_name, Option("visitors-in", "a name for the list", literal=False))
    families: dict[str, str] = {
        Family.IPV4: "an IPv4 list",
        Family.IPV6: "an IPv6 list",
        ListKind.FRAME: "a list of frames, for switch ports",
    }
    chosen = line.choose(families)
    if chosen == ListKind.FRAME:
        line.end()
        return name, None, ListKind.FRAME
    family = Family(chosen)
    kinds: dict[str, str] = {ListKind.EXTENDED: "matches all that an entry can name"}
    if family is Family.IPV4:
        kinds[ListKind.STANDARD] = "matches source addresses only"
    kind = ListKind(line.choose(kinds))
    line.end()
    return name, family, kind


def _heading_note(note: str) -> str:
    return f"  # {' '.join(note.splitlines()).strip()}" if note.strip() else ""


def _name(word: str) -> str:
    if not NAME.fullmatch(word):
        raise ValueError(f"“{word}” is no name: it begins with a letter and has letters, digits, . _ and -")
    return word
