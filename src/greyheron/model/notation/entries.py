"""Entries: one line each (§11)."""

import re

from greyheron.model.entry import Entry, FrameMatch
from greyheron.model.notation.clauses import CLAUSES, Given
from greyheron.model.notation.frames import read_frame_match, write_frame_match
from greyheron.model.notation.line import NotationLine, Option
from greyheron.model.notation.periods import take_during
from greyheron.model.notation.terms import read_term
from greyheron.model.values import Action, Family, ListKind

LARGEST_NUMBER = 2_147_483_647
_DIGITS = re.compile(r"[0-9]+")
_NUMBER_OPTION = Option("10", "the entry's number; left out, the next free one", literal=False)


def read_entry(line: NotationLine, family: Family | None, kind: ListKind) -> Entry:
    """Read a whole entry. Its number is 0 when the line gives none. Raises LineError.

    family:  of the list; None for a frame list
    """
    number = _read_number(line)
    what = "frame" if family is None else "packet"
    actions = {"permit": f"let matching {what}s pass", "deny": f"stop matching {what}s"}
    chosen = line.choose(actions | {"maybe": "an entry of which nobody knows whether it is there"})
    maybe = chosen == "maybe"
    action = Action(line.choose(actions) if maybe else chosen)
    silent = action is Action.DENY and line.take("silently", "stop them without telling the sender")
    given: Given = {}
    if family is None:
        given["frame"] = read_frame_match(line)
    elif kind is ListKind.STANDARD:
        line.take("from", "the source address, which is all that a standard list looks at")
        given["source"] = read_term(line, family)
    else:
        for clause in CLAUSES:
            clause.read(line, given, family)
    during = take_during(line)
    log = line.take("log", f"write a log line for each {what} that matches")
    line.end()
    return Entry(number, action, during=during, log=log, silent=silent, note=line.note, maybe=maybe, **given)


def write_entry(entry: Entry, family: Family | None, kind: ListKind) -> str:
    """`entry` on one line, without its remarks."""
    words = [str(entry.number), *(["maybe"] if entry.maybe else []), entry.action.value]
    if entry.silent:
        words.append("silently")
    if family is None:
        words += write_frame_match(entry.frame or FrameMatch())
    elif kind is ListKind.STANDARD:
        words += ["from", str(entry.source or "any")]
    else:
        for clause in CLAUSES:
            words += clause.write(entry, family)
    if entry.during is not None:
        words += ["during", str(entry.during)]
    if entry.log:
        words.append("log")
    if entry.note:
        words.append(f"# {entry.note}")
    return " ".join(words)


def _read_number(line: NotationLine) -> int:
    line.offer(_NUMBER_OPTION)
    if line.word is None or not _DIGITS.fullmatch(line.word):
        return 0
    if not 1 <= int(line.word[:12]) <= LARGEST_NUMBER:
        raise line.error(f"“{line.word}” is no entry number: 1 to {LARGEST_NUMBER} can stand here")
    number = int(line.word)
    line.at += 1
    return number
