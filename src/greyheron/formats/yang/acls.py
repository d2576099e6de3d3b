"""Access lists of instance data, and where they stand (RFC 8519)."""

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from greyheron.formats.format import Notice
from greyheron.formats.workspace import read_item
from greyheron.formats.yang.entries import action_of, entry_of
from greyheron.formats.yang.fields import Malformed, inside, items, text_at
from greyheron.model.values import Family

ACLS = "ietf-access-control-list:acls"
STEP = 10
_FAMILIES = ("ipv4", "ipv6")
_TYPES = frozenset(f"{family}-acl-type" for family in _FAMILIES)
_WAYS = {"ingress": "in", "egress": "out"}
_NOT_KNOWN = "10 maybe deny any from any to any\n20 permit any from any to any\n"
_OWN_NAME = re.compile(r"[0-9]+(\.[0-9]+)?|end(\.[0-9]+)?")
"""What our own writer calls an entry."""
_MOST_LETTERS = 63


class InstanceLists:
    """Lists by the name they have here, and what stands at each device, interface and direction.

    One that cannot be read has entries that say: not known.
    """

    def __init__(self, left_out: list[Notice], guessed: list[Notice]) -> None:
        """left_out, guessed:  take what is said of lists and entries"""
        self.found: dict[str, dict[str, Any]] = {}
        self._left_out, self._guessed = left_out, guessed
        self._points: dict[tuple[str, str, str], list[str]] = {}

    def take(self, device: str, path: str, acls: Mapping[str, Any], ports: Mapping[str, str]) -> None:
        """The lists in one file, and where they stand. Raises Malformed.

        ports:  what the interfaces of the device are called here
        """
        called: dict[str, list[str]] = {}
        for told in items(acls, "acl"):
            called[text_at(told, "name", "acl")] = [
                self._kept(device, each) for each in self._read(told, path)
            ]
        for point in items(inside(acls, "attachment-points"), "interface"):
            at = text_at(point, "interface-id", path)
            for way, direction in _WAYS.items():
                for each in items(inside(inside(point, way), "acl-sets"), "acl-set"):
                    name = text_at(each, "name", at)
                    standing = self._points.setdefault((device, ports.get(at, at), direction), [])
                    standing += called.get(name, [name])

    def doubt(self, device: str, ports: Iterable[str]) -> None:
        """Say of all that passes some interfaces of a device that its fate is not known."""
        for port in ports:
            names = [self._kept(device, each) for each in _not_known(f"not-read-{device}-{port}", _FAMILIES)]
            for direction in _WAYS.values():
                self._points.setdefault((device, port, direction), []).extend(names)

    def placements(self) -> list[dict[str, str]]:
        """Where each list stands. What several lists of a family decide at one point is not known."""
        placed = []
        for (device, at, direction), names in self._points.items():
            families: dict[str, list[str]] = {}
            for name in dict.fromkeys(names):
                families.setdefault(self.found.get(name, {}).get("family", ""), []).append(name)
            for family, standing in families.items():
                if len(standing) > 1 and family:
                    both = " and ".join(standing)
                    self._left_out.append(
                        Notice(
                            f"{device}, {at}, {direction}", f"what {both} decide here together is not known"
                        )
                    )
                    [made] = _not_known(f"not-read-{device}-{at}-{direction}", [family])
                    standing = [self._kept(device, made)]
                placed += [
                    {"list": name, "device": device, "at": at, "direction": direction} for name in standing
                ]
        return placed

    def _kept(self, device: str, found: dict[str, Any]) -> str:
        """What a list of a device is called: devices may have different ones of one name."""
        known = self.found.setdefault(found["name"], found)
        if known == found:
            return str(found["name"])
        name = f"{found['name']}-{device}"[:_MOST_LETTERS]
        self.found[name] = found | {"name": name}
        where = f"{device}, list {found['name']}"
        self._guessed.append(Notice(where, f"another one of that name: called {name}"))
        return name

    def _read(self, acl: Mapping[str, Any], path: str) -> list[dict[str, Any]]:
        """The list; where it cannot be read, one of every family that it may be of."""
        name = text_at(acl, "name", "acl")
        if "grey-heron:definition" in acl:
            found = read_item("lists", text_at(acl, "grey-heron:definition", name))
            return [found | {"entries": found.get("entries", "")}]
        kind = str(acl.get("type", "")).rpartition(":")[2]
        families = [each for each in _FAMILIES if each in kind] or [*_FAMILIES]
        try:
            aces = items(inside(acl, "aces"), "ace")
            if not kind:
                headers = {key for ace in aces for key in inside(ace, "matches") if key in _FAMILIES}
                families = sorted(headers) or families
            if kind not in _TYPES and (kind or len(families) > 1):
                raise Malformed(f"list {name}: lists of the type {kind or 'none'} are not read")
            [family] = families
            lines = [self._line(ace, family, f"list {name}", path) for ace in aces]
        except Malformed as error:
            self._left_out.append(Notice(path, f"{error}: what it decides is not known"))
            return _not_known(_plain(name), families)
        if not kind:
            self._guessed.append(
                Notice(path, f"list {name}: it has no type, and reads as one of {Family(family).word}")
            )
        text = "".join(f"{number * STEP} {line}\n" for number, line in enumerate(lines, 1))
        if _plain(name) != name:
            self._guessed.append(Notice(path, f"list {name}: called {_plain(name)}"))
        return [{"name": _plain(name), "family": family, "kind": "extended", "entries": text}]

    def _line(self, ace: Mapping[str, Any], family: str, where: str, path: str) -> str:
        """An entry, with its name as a note. One that cannot be said may be there for any packet."""
        name = " ".join(text_at(ace, "name", where).split())
        note = "" if _OWN_NAME.fullmatch(name) else f" # {name}"
        try:
            return f"{entry_of(ace, family, where)}{note}"
        except Malformed as error:
            action = action_of(ace, f"{where}, entry {name}")
            self._left_out.append(Notice(path, f"{error}: whether it applies is not known"))
            return f"maybe {action} any from any to any{note}"


def _not_known(name: str, families: Sequence[str]) -> list[dict[str, Any]]:
    """Lists of which is not known what they decide, one of each family."""
    return [
        {
            "name": _plain(name if each == families[0] else f"{name}-{each}"),
            "family": each,
            "kind": "extended",
            "entries": _NOT_KNOWN,
        }
        for each in families
    ]


def _plain(name: str) -> str:
    """A name that is allowed here."""
    plain = re.sub(r"[^A-Za-z0-9._-]", "-", name)
    return (plain if plain[:1].isascii() and plain[:1].isalpha() else f"l-{plain}")[:_MOST_LETTERS]
