"""The files of a collection: which are machines, and what each is called."""

import json
import re
from collections.abc import Mapping, Sequence
from itertools import chain, count

from pydantic import ValidationError

from greyheron.formats.format import Notice
from greyheron.formats.machines.machine import Machine
from greyheron.formats.machines.printed import AS_ROOT, FORMAT, Collected
from greyheron.model.problems import DocumentError, Problem

MOST_NAMES = 60


def is_machine(content: bytes) -> bool:
    """Whether a file says of itself that it is one, at its beginning."""
    return f'"format":"{FORMAT}"'.encode() in content[:200].replace(b" ", b"")


def machines_in(files: Mapping[str, bytes]) -> tuple[list[Machine], list[Notice]]:
    """The machines in files, by name; what of them is missing. Raises DocumentError with all problems."""
    found: list[Machine] = []
    notices: list[Notice] = []
    problems: list[Problem] = []
    names: set[str] = set()
    for path, content in sorted(files.items()):
        if not is_machine(content):
            notices.append(Notice(path, "this is no file of the collecting script: it was not read"))
            continue
        try:
            collected = _read(path, content)
        except DocumentError as error:
            problems += error.problems
            continue
        name = _named(collected.machine, names)
        names.add(name)
        found.append(Machine(name, path, collected))
        if collected.address is None:
            problems.append(Problem(path, f"nothing was collected by `ip -j -d address`: {AS_ROOT}"))
        for part, command in (("route", "ip -j -4 route"), ("ruleset", "nft -j list ruleset")):
            if getattr(collected, part) is None:
                notices.append(Notice(path, f"nothing was collected by `{command}`: {AS_ROOT}"))
    if problems:
        raise DocumentError(problems)
    return found, notices


def _read(path: str, content: bytes) -> Collected:
    try:
        data = json.loads(content)
    except (ValueError, RecursionError) as error:
        at = f": {error}" if isinstance(error, ValueError) else ": it is nested too deep"
        raise DocumentError([Problem(path, f"this is no JSON{at}")]) from None
    try:
        return Collected.model_validate(data)
    except ValidationError as error:
        raise DocumentError(
            [
                Problem(f"{path}, {', '.join(map(str, each['loc'])) or 'file'}", each["msg"].lower())
                for each in error.errors()[:100]
            ]
        ) from None


def _named(text: str, taken: set[str]) -> str:
    """A name for a machine that is allowed here, and nobody's yet."""
    name = re.sub(r"[^A-Za-z0-9._-]", "-", text.partition(".")[0])[:MOST_NAMES].strip("-")
    name = name if name[:1].isalpha() else f"m-{name}"
    return next(
        each for each in chain((name,), (f"{name}-{number}" for number in count(2))) if each not in taken
    )


def kept_names(names: Sequence[str]) -> dict[str, str]:
    """A name that is allowed here for each interface."""
    found: dict[str, str] = {}
    for name in names:
        plain = re.sub(r"[^A-Za-z0-9._/-]", "-", name)[:28]
        plain = plain if plain[:1].isalpha() else f"i{plain}"
        taken = set(found.values())
        found[name] = next(
            each for each in (plain, *(f"{plain}-{number}" for number in range(2, 100))) if each not in taken
        )
    return found
