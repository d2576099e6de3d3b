"""Instance data in XML (RFC 7950) and JSON (RFC 7951): one said as the other.

Standard modules are known as far as they are read here: what repeats, what is a number, what is a truth.
"""

from io import BytesIO
from typing import Any
from xml.etree.ElementTree import Element, ParseError
from xml.sax.saxutils import escape, quoteattr

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import iterparse

from greyheron.formats.outgoing import for_xml

_IETF = "urn:ietf:params:xml:ns:yang:"
_NAMESPACES = {"grey-heron": "urn:grey-heron:yang:grey-heron"}
_MODULES = {namespace: module for module, namespace in _NAMESPACES.items()}
_DEEPEST = 64
_LISTS = frozenset(
    (
        *(("content-schema", "module"), ("interfaces", "interface"), ("attachment-points", "interface")),
        *(
            ("ipv4", "address"),
            ("ipv6", "address"),
            ("acls", "acl"),
            ("aces", "ace"),
            ("acl-sets", "acl-set"),
        ),
        *(("control-plane-protocols", "control-plane-protocol"), ("ipv4", "route"), ("ipv6", "route")),
        *(("next-hop-list", "next-hop"), ("networks", "network"), ("network", "node"), ("network", "link")),
        *(("node", "termination-point"), ("node", "supporting-node"), ("network", "supporting-network")),
        *(("l3-termination-point-attributes", "ip-address"), ("instances", "instance")),
        *(("instance", "policy"), ("policy", "subscriber-match"), ("policy", "external-ip-address-pool")),
        ("mapping-table", "mapping-entry"),
    )
)
_NUMBERS = frozenset(
    (
        *(("address", "prefix-length"), ("icmp", "type"), ("icmp", "code"), ("instance", "id")),
        *((family, word) for family in ("ipv4", "ipv6") for word in ("protocol", "dscp")),
        *((f"{side}-port", word) for side in ("source", "destination") for word in ("port", "lower-port")),
        *((f"{side}-port", "upper-port") for side in ("source", "destination")),
        *((f"{side}-src-port", "start-port-number") for side in ("internal", "external")),
        *(("mapping-entry", "index"), ("mapping-entry", "transport-protocol"), ("policy", "id")),
        *(("subscriber-match", "match-id"), ("external-ip-address-pool", "pool-id")),
    )
)
_TRUTHS = frozenset(
    (
        ("interface", "enabled"),
        *((family, word) for family in ("ipv4", "ipv6") for word in ("enabled", "forwarding")),
    )
)
_IDENTITIES = frozenset(
    (
        *(("interface", "type"), ("acl", "type"), ("actions", "forwarding"), ("actions", "logging")),
        *(("control-plane-protocol", "type"), ("instance", "type")),
    )
)
_CONTAINERS = frozenset((("network-types", "l3-unicast-topology"), ("instance-data-set", "content-data")))
"""They say something, or are there, even if nothing is in them."""


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
        if (parent, local) in _IDENTITIES and ":" in said:
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
    if len(element) == 0 and (parent, local) not in _CONTAINERS:
        return _leaf(element, parent, local, prefixes[element])
    found: dict[str, Any] = {}
    for child in element:
        key = _named(child, module)
        value = _read(child, local, prefixes)
        if (local, _split(child)[1]) in _LISTS:
            found.setdefault(key, []).append(value)
        elif key in found:
            raise NotRead(f"{local}: “{key}” stands there twice")
        else:
            found[key] = value
    return found


def _leaf(element: Element, parent: str, local: str, prefixes: dict[str, str]) -> Any:
    text = element.text or ""
    kind = parent, local
    if kind in _TRUTHS:
        return {"true": True, "false": False}.get(text.strip(), text)
    if kind in _NUMBERS:
        text = text.strip()
        return int(text) if text.isdecimal() and len(text) <= 10 else text
    if kind in _IDENTITIES:
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
