"""Reading documents from plain data, with every problem at once."""

import re
from collections.abc import Callable, Container, Iterator, Sequence
from itertools import count
from typing import Any

from pydantic import ValidationError
from pydantic_core import ErrorDetails

from greyheron.model.changes import ITEM_TYPES, Change, apply
from greyheron.model.check import Broken, problems_of
from greyheron.model.document import FORMAT, Network
from greyheron.model.item import Item
from greyheron.model.notation.line import NotationError
from greyheron.model.problems import DocumentError, Problem, misread

SINGULAR = {
    "devices": "device",
    "links": "link",
    "address_sets": "address set",
    "port_sets": "port set",
    "periods": "period",
    "windows": "window",
    "lists": "list",
    "placements": "placement",
    "requirements": "requirement",
    "tests": "test flow",
    "accepted": "accepted finding",
    "positions": "position",
    "interfaces": "interface",
    "addresses": "address",
    "routes": "route",
    "services": "service",
    "lines": "line",
    "members": "member",
    "prefixes": "prefix",
    "ends": "end",
}
_NAMED_BY = ("name", "id", "finding", "to", "list", "device")


def read_network(data: Any, progress: Callable[[float], None] = lambda _done: None) -> Network:
    """The document that `data` (parsed YAML or JSON) holds. Raises DocumentError with all problems.

    progress:  told how much of it has been read, 0 to 1; what it raises ends the reading
    """
    if not isinstance(data, dict):
        raise DocumentError(
            [Problem("document", "this is no network: expected fields such as format, name, devices")]
        )
    if data.get("format") != FORMAT:
        written = f"“{data['format']}”" if "format" in data else "nothing"
        raise DocumentError([Problem("document, format", f"expected {FORMAT}, found {written}")])
    problems: list[Problem] = []
    readable: dict[str, Any] = {field: value for field, value in data.items() if field not in ITEM_TYPES}
    broken: dict[str, frozenset[str]] = {}
    whole, read = max(1, sum(_length(data.get(collection)) for collection in ITEM_TYPES)), 0
    for collection, item_type in ITEM_TYPES.items():
        items = data.get(collection)
        if items is None:
            continue
        if not isinstance(items, list):
            problems.append(
                Problem(f"document, {collection}", "expected a list of items, each behind a dash")
            )
            continue
        good: list[Any] = []
        bad: set[str] = set()
        for number, item in enumerate(_with_ids(collection, items), 1):
            progress(0.95 * read / whole)
            read += _length(item)
            try:
                good.append(item_type.model_validate(item))
            except ValidationError as error:
                problems += _from_pydantic(error, item, _place_name(collection, number, item))
                bad |= _names(item)
        readable[collection] = good
        broken[collection] = frozenset(bad)
    try:
        network = Network.model_validate(readable)
    except ValidationError as error:
        raise DocumentError(problems + _from_pydantic(error, readable, "document")) from None
    problems += problems_of(network, Broken(broken))
    if problems:
        raise DocumentError(problems)
    return network


def read_what_reads(data: Any) -> tuple[Network, list[Problem]]:
    """The network that is left of `data` without the items that keep it from being one, and what those say.

    Raises DocumentError where it is not even the beginnings of one.
    """
    said: list[Problem] = []
    left = dict(data) if isinstance(data, dict) else data
    for spare in (None, *reversed(ITEM_TYPES)):
        while True:
            try:
                return read_network(left), said
            except DocumentError as error:
                if not isinstance(left, dict) or left.get("format") != FORMAT:
                    raise
                said += [each for each in error.problems if each not in said]
                without = {name: _kept(name, items, error.problems) for name, items in left.items()}
            if without == left:  # nothing more can be told to be at fault: the least needed goes as a whole
                break
            left = without
        if spare is not None:
            left = {name: items for name, items in left.items() if name != spare}
    raise DocumentError(said)


def _kept(collection: str, items: Any, problems: Sequence[Problem]) -> Any:
    """The items of a collection, but for those that a problem is about."""
    if collection not in ITEM_TYPES or not isinstance(items, list):
        return items
    begins = f"{SINGULAR[collection]} "
    about = [each.where for each in problems if each.where.startswith(begins)]
    return [
        item
        for number, item in enumerate(items, 1)
        if not any(_is_about(where, _place_name(collection, number, item), item) for where in about)
    ]


def _is_about(where: str, place: str, item: Any) -> bool:
    """Whether a problem there is one of an item, which is called by its place or by what it names."""
    if where == place or where.startswith((f"{place},", f"{place} ")):
        return True
    named = [str(item[key]) for key in (*_NAMED_BY, "at") if key in item] if isinstance(item, dict) else []
    ends = item.get("ends") if isinstance(item, dict) else None
    named += [str(each) for each in ends] if isinstance(ends, list) else []
    words = re.split(r"[ ,]+", where)
    return len(named) > 1 and all(each in words for each in named)


def _length(data: Any) -> int:
    """About how long a part of a document takes to read, lists by their text."""
    if isinstance(data, dict):
        return 200 + len(data["entries"]) if isinstance(data.get("entries"), str) else 200
    return sum(map(_length, data)) if isinstance(data, list) else 1


def edited(network: Network, changes: Sequence[Change]) -> Network:
    """`network`, which is sound, after `changes`, checked as a whole. Raises DocumentError or ChangeError."""
    require_items(changes)
    after = apply(network, changes)
    problems = problems_of(after, before=network)
    if problems:
        raise DocumentError(problems)
    return after


def require_items(changes: Sequence[Change]) -> None:
    """Raise DocumentError unless every item that is put is valid by itself."""
    problems: list[Problem] = []
    for change in changes:
        if change.item is not None:
            where = f"{SINGULAR[change.collection]} {change.key}"
            problems += item_problems(ITEM_TYPES[change.collection], change.item, where)
    if problems:
        raise DocumentError(problems)


def item_problems(item_type: type[Item], data: Any, where: str) -> list[Problem]:
    """What keeps `data` from being an item of `item_type`."""
    try:
        item_type.model_validate(data)
    except ValidationError as error:
        return _from_pydantic(error, data, where)
    return []


_ID_BEGINS = {"tests": "t", "requirements": "r"}


def free_ids(collection: str, taken: Container[Any], many: int = 0) -> Iterator[str]:
    """Ids for new test flows or requirements, one after another, that are not `taken`.

    many:  how many there are already, to number on from
    """
    begins = _ID_BEGINS[collection]
    return (free for number in count(many + 1) if (free := f"{begins}{number}") not in taken)


def _with_ids(collection: str, items: list[Any]) -> list[Any]:
    """Test flows and requirements written by hand need no id: each one without gets the next free number."""
    if collection not in _ID_BEGINS:
        return items
    taken = {str(item.get("id")) for item in items if isinstance(item, dict)}
    free = free_ids(collection, taken)
    return [
        {"id": next(free), **item} if isinstance(item, dict) and "id" not in item else item for item in items
    ]


def _from_pydantic(error: ValidationError, data: Any, where: str) -> list[Problem]:
    problems = []
    for details in error.errors(include_url=False):
        place = where + _place(details["loc"], data)
        cause = details.get("ctx", {}).get("error")
        if isinstance(cause, NotationError):
            problems += misread(cause, place)
        else:
            problems.append(Problem(place, _message(details)))
    return problems


def _message(details: ErrorDetails) -> str:
    shown = repr(details["input"])
    found = shown if len(shown) <= 60 else shown[:57] + "…"
    kind = details["type"]
    if kind == "missing":
        return "this field is missing"
    if kind == "extra_forbidden":
        return "there is no such field: check its spelling, or take it out"
    if kind == "string_pattern_mismatch":
        return f"{found} is no name: a letter, then letters, digits, dots, dashes or underscores"
    message = details["msg"].removeprefix("Value error, ")
    return f"{message[0].lower()}{message[1:]}" + ("" if kind == "value_error" else f", found {found}")


def _place(location: Sequence[int | str], data: Any) -> str:
    """The place in words: `, interface wan0, address 1`."""
    words: list[str] = []
    for step in location:
        if isinstance(step, int):
            data = data[step] if isinstance(data, list | tuple) and step < len(data) else None
            name = (
                next((str(data[key]) for key in _NAMED_BY if key in data), None)
                if isinstance(data, dict)
                else None
            )
            words[-1] = f"{SINGULAR.get(words[-1], words[-1])} {name or step + 1}"
        else:
            data = data.get(step) if isinstance(data, dict) else None
            words.append(step)
    return "".join(f", {word}" for word in words)


def _place_name(collection: str, number: int, item: Any) -> str:
    names = [str(item[key]) for key in _NAMED_BY if key in item] if isinstance(item, dict) else []
    return f"{SINGULAR[collection]} {names[0] if names else f'number {number}'}"


def _names(item: Any) -> set[str]:
    return {str(item["name"])} if isinstance(item, dict) and "name" in item else set()
