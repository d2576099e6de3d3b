"""Sets and periods, a line each: `visitors 172.20.16.0/24 172.20.17.8`, `by-day daily 08:00-18:00, sat`."""

from typing import Final, Literal

from greyheron.model.document import AddressSet, Period, PortSet, read_member
from greyheron.model.notation.line import LineError, NotationError, NotationLine, Option
from greyheron.model.notation.periods import read_window
from greyheron.model.notation.terms import read_ports
from greyheron.model.part_words import name_of

SetCollection = Literal["address_sets", "port_sets", "periods"]
NamedSet = AddressSet | PortSet | Period

_NAMES: Final = {
    "address_sets": Option("visitors", "what the set is called", literal=False),
    "port_sets": Option("web", "what the set is called", literal=False),
    "periods": Option("by-day", "what the period is called", literal=False),
}
_MEMBERS: Final = {
    "address_sets": (
        Option("172.20.16.0/24", "a prefix", literal=False),
        Option("172.20.17.8", "an address", literal=False),
        Option("172.20.18.1~0.0.0.254", "with a wildcard", literal=False),
    ),
    "port_sets": (
        Option("443", "a port", literal=False),
        Option("8000-8080", "a range of ports", literal=False),
    ),
    "periods": (
        Option("mon-fri", "days, and hours behind them; with a comma between windows", literal=False),
        Option("2026-12-24", "a date, an hour, to, and another one", literal=False),
    ),
}


def read_set(text: str, collection: SetCollection) -> NamedSet:
    """A set from its line. Raises NotationError."""
    line = NotationLine(text)
    try:
        if line.note is not None:
            raise line.error("there is no room for a note here: take out what begins with #")
        return take_set(line, collection)
    except LineError as error:
        raise NotationError([error.misreading]) from None


def take_set(line: NotationLine, collection: SetCollection) -> NamedSet:
    """Read a name and members; commas between members may be left out. Raises LineError."""
    name = line.value(name_of, _NAMES[collection])
    line.offer(*_MEMBERS[collection])
    if collection == "periods":
        return Period(name=name, windows=_windows(line))
    members: list[str] = []
    while line.word is not None:
        read = _member if collection == "address_sets" else _port
        members += line.value(read, *_MEMBERS[collection])
    if collection == "address_sets":
        return AddressSet(name=name, members=tuple(members))
    return PortSet(name=name, members=tuple(members))


def write_set(item: NamedSet) -> str:
    """The line that `read_set` reads as the same."""
    if isinstance(item, Period):
        return f"{item.name} {', '.join(map(str, item.windows))}".rstrip()
    return " ".join([item.name, *item.members])


def _member(word: str) -> list[str]:
    return [str(read_member(part)) for part in word.split(",") if part]


def _port(word: str) -> list[str]:
    parts = [part for part in word.split(",") if part]
    for part in parts:
        read_ports(part)
    return parts


def _windows(line: NotationLine) -> tuple[str, ...]:
    """Windows of several words each, with commas between."""
    found: list[str] = []
    begin = line.at
    while line.word is not None:
        last = line.word.endswith(",") or line.at + 1 == len(line.words)
        line.at += 1
        if last:
            text = " ".join(word for word, _ in line.words[begin : line.at]).rstrip(",")
            try:
                found.append(str(read_window(text)))
            except ValueError as error:
                raise line.error(str(error), at=begin) from None
            begin = line.at
    return tuple(found)
