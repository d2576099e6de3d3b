"""Instance data in XML (RFC 7950) and JSON (RFC 7951), converted into each other.

XML does not tell a list from a leaf or a number from text: a table of the standard modules does.
"""

from functools import cache
from importlib.resources import files
from io import BytesIO
from typing import Any
from xml.etree.ElementTree import Element, ParseError
from xml.sax.saxutils import escape, quoteattr

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import iterparse
from msgspec import Struct
from msgspec.json import decode
from msgspec.structs import replace

from greyheron.formats.outgoing import for_xml

_IETF = "urn:ietf:params:xml:ns:yang:"
_NAMESPACES = {"grey-heron": "urn:grey-heron:yang:grey-heron"}
_MODULES = {namespace: module for module, namespace in _NAMESPACES.items()}
_DEEPEST = 64


class _Nodes(Struct, frozen=True):
    """Nodes of the standard modules by what they are, as `parent/name`: `make contracts` makes this table."""

    containers: frozenset[str]
    identities: frozenset[str]
    lists: frozenset[str]
    numbers: frozenset[str]
    truths: frozenset[str]


@cache
def _standard() -> _Nodes:
    told = decode((files(__package__) / "standard.json").read_bytes(), type=_Nodes)
    envelope = {"instance-data-set/content-data"}, {"content-schema/module"}  # RFC 9195, not among them
    return replace(told, containers=told.containers | envelope[0], lists=told.lists | envelope[1])


class NotRead(ValueError):
    """XML that cannot be read; says why."""


def to_xml(name: str, value: Any) -> bytes:
    """Instance data whose outermost member is `name`, with its module, as RFC 7951 has it."""
    lines = ['<?xml version="1.0" encoding="UTF-8"?>']
    _write(name, value, "", "", 0, lines)
    return ("\n".join(lines) + "\n").encode()


def _write(name: str, value: Any, parent: str, module: str, depth: int, lines: list[str]) -> None:
    own, colon, local = name.rpartition(":")
    named = f" xmlns={quoteattr(_namespace(own))}" if colon and own != module else ""
    space = " " * depth
    for each in value if isinstance(value, list) else [value]:
        if isinstance(each, dict):
            lines.append(f"{space}<{local}{named}>")
            for key, inner in each.items():
                _write(key, inner, local, own or module, depth + 1, lines)
            lines.append(f"{space}</{local}>")
            continue
        said = {True: "true", False: "false"}[each] if isinstance(each, bool) else for_xml(str(each))
        more = ""
        if f"{parent}/{local}" in _standard().identities and ":" in said:
            prefix = said.partition(":")[0]
            more = f" xmlns:{prefix}={quoteattr(_namespace(prefix))}"
        lines.append(f"{space}<{local}{named}{more}>{escape(said)}</{local}>")


def _namespace(module: str) -> str:
    return _NAMESPACES.get(module, _IETF + module)


def from_xml(content: bytes) -> dict[str, Any]:
    """The same as RFC 7951 has it. Raises NotRead: entities and documents within are not."""
    spaces: list[tuple[str, str]] = []
    depth = 0
    root: Element | None = None
    prefixes: dict[Element, dict[str, str]] = {}
    try:
        for event, found in iterparse(BytesIO(content), events=("start-ns", "end-ns", "start", "end")):
            if event == "start-ns":
                spaces.append(found)
            elif event == "end-ns":
                spaces.pop()
            elif event == "start":
                root = found if root is None else root
                depth += 1
                if depth > _DEEPEST:
                    raise NotRead("it is nested too deep")
                prefixes[found] = dict(spaces)
            else:
                depth -= 1
    except (ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise NotRead(f"this is no XML that is read here: {error}") from None
    assert root is not None  # a document without an element is no XML
    return {_named(root, ""): _read(root, "", prefixes)}


def _read(element: Element, parent: str, prefixes: dict[Element, dict[str, str]]) -> Any:
    module, local = _split(element)
    if len(element) == 0 and f"{parent}/{local}" not in _standard().containers:
        return _leaf(element, parent, local, prefixes[element])
    found: dict[str, Any] = {}
    for child in element:
        key = _named(child, module)
        value = _read(child, local, prefixes)
        if f"{local}/{_split(child)[1]}" in _standard().lists:
            found.setdefault(key, []).append(value)
        elif key in found:
            raise NotRead(f"{local}: “{key}” stands there twice")
        else:
            found[key] = value
    return found


def _leaf(element: Element, parent: str, local: str, prefixes: dict[str, str]) -> Any:
    text = element.text or ""
    kind = f"{parent}/{local}"
    if kind in _standard().truths:
        return {"true": True, "false": False}.get(text.strip(), text)
    if kind in _standard().numbers:
        text = text.strip()
        return int(text) if text.isdecimal() and len(text) <= 10 else text
    if kind in _standard().identities:
        prefix, colon, value = text.strip().rpartition(":")
        return f"{_module(prefixes.get(prefix, prefix))}:{value}" if colon else value
    return text


def _named(element: Element, module: str) -> str:
    own, local = _split(element)
    return local if own == module else f"{own}:{local}"


def _split(element: Element) -> tuple[str, str]:
    namespace, closing, local = str(element.tag).rpartition("}")
    return (_module(namespace[1:]), local) if closing else ("", local)


def _module(namespace: str) -> str:
    return _MODULES.get(namespace, namespace.removeprefix(_IETF))
