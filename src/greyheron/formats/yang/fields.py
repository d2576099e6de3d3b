"""Instance data taken apart: what is expected where, or an error that says the place."""

from collections.abc import Mapping
from functools import lru_cache
from ipaddress import ip_network
from typing import Any


class Malformed(Exception):
    """Part of instance data that is not as its module says, or cannot be said here; says where and what."""


def fields(value: Any, where: str) -> dict[str, Any]:
    """A container as it stands there. Raises Malformed."""
    if not isinstance(value, dict):
        raise Malformed(f"{where}: expected fields")
    return value


def inside(value: Mapping[str, Any], key: str) -> dict[str, Any]:
    """A container; empty where it is not there."""
    return fields(value.get(key, {}), key)


def items(value: Mapping[str, Any], key: str) -> list[dict[str, Any]]:
    """The entries of a list; none where it is not there. Raises Malformed."""
    found = value.get(key, [])
    if not isinstance(found, list):
        raise Malformed(f"{key}: expected a list")
    return [fields(each, key) for each in found]


def text_at(value: Mapping[str, Any], key: str, where: str) -> str:
    """A leaf that must be there and be text. Raises Malformed."""
    found = value.get(key)
    if not isinstance(found, str):
        raise Malformed(f"{where}: expected text in “{key}”")
    return found


def prefix_of(written: str, where: str) -> str:
    """A prefix as it is written here; bits behind its length say nothing (RFC 6991 4). Raises Malformed."""
    try:
        return _canonical(written)
    except ValueError:
        raise Malformed(f"{where}: {written} is no prefix") from None


@lru_cache(maxsize=65536)
def _canonical(written: str) -> str:
    return str(ip_network(written, strict=False))
