"""What the standard YANG modules say of their nodes, and XML does not (RFC 7951 5, 6).

Which repeat, and which are numbers, truths, identities or containers: from the modules that `pyang` ships.
"""

import os
from collections.abc import Iterable, Iterator
from importlib.metadata import files
from pathlib import Path
from typing import Any

from pyang.context import Context
from pyang.repository import FileRepository

MODULES = (
    "ietf-access-control-list",
    "ietf-interfaces",
    "ietf-ip",
    "ietf-ipv4-unicast-routing",
    "ietf-ipv6-unicast-routing",
    "ietf-l3-unicast-topology",
    "ietf-nat",
)
_NUMBERS = frozenset({"int8", "int16", "int32", "uint8", "uint16", "uint32"})
"""Those of 64 bits stand as text in JSON (RFC 7951 6.1)."""


def module_folders() -> tuple[Path, ...]:
    """Where the IETF's and IANA's modules lie."""
    places = {
        Path(str(each.locate())).resolve().parent
        for each in files("pyang") or []
        if each.name.endswith(".yang")
    }
    return tuple(sorted(places))


def yang_tables() -> dict[str, list[str]]:
    """The nodes of each kind, as `parent/name`. Raises ValueError where two modules disagree about one."""
    folders = module_folders()
    context = Context(FileRepository(os.pathsep.join(map(str, folders)), use_env=False))
    for name in MODULES:
        file = next(folder / f"{name}.yang" for folder in folders if (folder / f"{name}.yang").exists())
        context.add_module(str(file), file.read_text(encoding="utf-8"))
    context.validate()
    found: dict[str, set[str]] = {}
    leaves: dict[str, set[str]] = {}
    for module in list(context.modules.values()):
        for parent, node in _nodes(module, ""):
            path = f"{parent}/{node.arg}"
            if node.keyword in ("list", "leaf-list"):
                found.setdefault("lists", set()).add(path)
            if node.keyword == "container":
                found.setdefault("containers", set()).add(path)
            if node.keyword in ("leaf", "leaf-list"):
                leaves.setdefault(path, set()).add(_kind(node.search_one("type")))
    for path, kinds in leaves.items():
        if len(kinds) > 1:
            raise ValueError(
                f"{path} is {' and '.join(sorted(kinds))}: names of parents do not tell them apart"
            )
        found.setdefault(kinds.pop(), set()).add(path)
    return {kind: sorted(found[kind]) for kind in ("containers", "identities", "lists", "numbers", "truths")}


def _nodes(node: Any, parent: str) -> Iterator[tuple[str, Any]]:
    """Every data node below a statement, with its parent's name: choices and cases are not in the data."""
    children: Iterable[Any] = getattr(node, "i_children", ())
    for child in children:
        if child.keyword in ("choice", "case"):
            yield from _nodes(child, parent)
        elif child.keyword in ("container", "list", "leaf", "leaf-list"):
            yield parent, child
            yield from _nodes(child, child.arg)


def _kind(written: Any) -> str:
    """What a leaf of a type is in JSON."""
    while written.i_typedef is not None:
        written = written.i_typedef.search_one("type")
    if written.arg in _NUMBERS:
        return "numbers"
    return {"boolean": "truths", "identityref": "identities"}.get(written.arg, "texts")
