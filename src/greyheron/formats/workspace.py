"""Workspace files: a network document as YAML.

Files that are read are hostile until validated: size is bounded, no tags, no anchors, no doubled keys,
and only what YAML 1.2's JSON schema knows as true, false, null and numbers.
"""

import re
from typing import Any

import yaml

from greyheron.core.progress import Progress, unwatched
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought, Taken
from greyheron.model.changes import ITEM_TYPES
from greyheron.model.document import Network, to_data
from greyheron.model.item import Item
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import item_problems, read_network

LARGEST_FILE = 128 * 1024 * 1024
DEEPEST = 12
PARSED = 0.1
"""So much of the work is done when the YAML is read."""


def read_workspace(text: str | bytes, progress: Progress = unwatched) -> Network:
    """The network in a workspace file. Raises DocumentError with every problem in it, and Cancelled."""
    data = parsed(text)

    def on(done: float) -> None:
        progress(PARSED + (1 - PARSED) * done)

    return read_network(data, on)


class Workspace:
    """Workspace files, one network each; nothing is lost either way."""

    name = "workspace"
    title = "a workspace file"
    suffix = ".yaml"
    media_type = "application/yaml"
    loses: tuple[str, ...] = ()

    def recognises(self, bundle: Bundle) -> bool:
        only = bundle.only
        return only is not None and only[0].lower().endswith((".yaml", ".yml"))

    def read(self, bundle: Bundle, progress: Progress) -> Brought:
        assert bundle.only is not None
        return Brought(read_workspace(bundle.only[1], progress))

    def write(self, network: Network) -> Taken:
        return Taken({f"network{self.suffix}": write_workspace(network).encode()})


def read_item(collection: str, text: str) -> dict[str, Any]:
    """One item of a collection, as plain data, from its text alone. Raises DocumentError."""
    data = parsed(text)
    if not isinstance(data, dict):
        raise DocumentError([Problem("text", "expected fields such as name and kind, each with a colon")])
    found = item_problems(ITEM_TYPES[collection], data, "text")
    if found:
        raise DocumentError(found)
    return data


def write_item(item: Item) -> str:
    """The text of one item, as it would stand in a workspace file."""
    return _written(to_data(item))


def parsed(text: str | bytes) -> Any:
    """YAML as plain data, not checked as a network yet. Raises DocumentError."""
    if len(text) > LARGEST_FILE:
        raise DocumentError([Problem("file", f"it is larger than {LARGEST_FILE // 2**20} MiB")])
    if isinstance(text, bytes):
        try:
            text = text.decode("utf-8-sig")
        except UnicodeDecodeError as error:
            raise DocumentError([Problem("file", f"it is no UTF-8 text: byte {error.start + 1}")]) from None
    try:
        _refuse_aliases_and_depth(text)
        return yaml.load(text, Loader=_Loader)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        line = None if mark is None else mark.line + 1
        column = None if mark is None else mark.column + 1
        message = " ".join(filter(None, (error.context, error.problem)))
        raise DocumentError([Problem("file", f"this is not YAML: {message}", line, column)]) from None
    except yaml.YAMLError as error:
        raise DocumentError([Problem("file", f"this is not YAML: {error}")]) from None
    except ValueError as error:
        raise DocumentError([Problem("file", str(error))]) from None


def write_workspace(network: Network) -> str:
    """The workspace file of `network`; reading it gives the same document."""
    return _written({"format": network.format, **to_data(network)})


def _written(data: dict[str, Any]) -> str:
    return yaml.dump(data, Dumper=_Dumper, allow_unicode=True, sort_keys=False, width=110)


def _refuse_aliases_and_depth(text: str) -> None:
    """Read the events alone, so that nothing large is built from a small file."""
    depth = 0
    for event in yaml.parse(text, Loader=yaml.CSafeLoader):
        if isinstance(event, yaml.AliasEvent):
            raise _refusal("aliases are not read: write the value out", event)
        if isinstance(event, yaml.ScalarEvent | yaml.CollectionStartEvent) and event.tag is not None:
            raise _refusal(f"tags such as {event.tag} are not read: take it out", event)
        depth += isinstance(event, yaml.CollectionStartEvent) - isinstance(event, yaml.CollectionEndEvent)
        if depth > DEEPEST:
            raise _refusal(f"it is nested deeper than {DEEPEST} levels", event)


def _refusal(message: str, event: yaml.Event) -> yaml.MarkedYAMLError:
    mark: Any = event.start_mark
    return yaml.MarkedYAMLError(problem=message, problem_mark=mark)


class _Loader(yaml.CSafeLoader):
    """CSafeLoader without doubled keys or YAML 1.1's many ways to write a boolean."""

    def construct_mapping(self, node: yaml.MappingNode, deep: bool = False) -> dict[Any, Any]:
        seen: set[str] = set()
        for key, _ in node.value:
            if key.tag != "tag:yaml.org,2002:str":
                found = key.value if isinstance(key, yaml.ScalarNode) else "a list or fields"
                raise yaml.constructor.ConstructorError(
                    None, None, f"expected the name of a field, found {found}", key.start_mark
                )
            if key.value in seen:
                raise yaml.constructor.ConstructorError(
                    None, None, f"“{key.value}” is written twice", key.start_mark
                )
            seen.add(key.value)
        return super().construct_mapping(node, deep)


_Loader.yaml_implicit_resolvers = {}
for _tag, _pattern, _first in (
    ("bool", r"true|false", "tf"),
    ("null", r"null|~|", ["n", "~", ""]),
    ("int", r"-?(?:0|[1-9][0-9]*)", "-0123456789"),
    ("float", r"-?(?:0|[1-9][0-9]*)\.[0-9]+(?:e[-+]?[0-9]+)?", "-0123456789"),
):
    _Loader.add_implicit_resolver(f"tag:yaml.org,2002:{_tag}", re.compile(f"^(?:{_pattern})$"), list(_first))


class _Dumper(yaml.CSafeDumper):
    def ignore_aliases(self, _data: Any) -> bool:
        return True


def _text(dumper: yaml.CSafeDumper, value: str) -> yaml.ScalarNode:
    style = "|" if "\n" in value else None
    return dumper.represent_scalar("tag:yaml.org,2002:str", value, style=style)


_Dumper.add_representer(str, _text)
