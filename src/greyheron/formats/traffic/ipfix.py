"""IPFIX files (RFC 5655): messages of RFC 7011 one after another, with the templates that they need."""

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from msgspec import Struct

from greyheron.analysis.traffic.records import RecordRow, Records, gathered
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice
from greyheron.formats.traffic.flow_records import SYSTEM_START, Exported, row_of, tells_no_time
from greyheron.model.problems import DocumentError, Problem

VERSION = 10
_HEADER = struct.Struct("!HHIII")
_TEMPLATES, _OPTIONS, _FIRST_DATA = 2, 3, 256
_VARIABLE = 0xFFFF


class _Element(Struct, frozen=True):
    number: int
    enterprise: int
    length: int


class _DataSet(Struct, frozen=True):
    """Records of one template, of one exporter's domain, sent at a time in seconds since 1970."""

    domain: int
    template: int
    body: bytes
    at: int


@dataclass
class _FlowFile:
    """What was read so far.

    templates:  elements by domain and number;  options:  templates whose records tell of their exporter
    started:  when each domain's exporter had started, in milliseconds since 1970
    early:  sets whose templates did not come before them
    strange, timeless:  records without addresses, and records whose times nobody can tell
    """

    templates: dict[tuple[int, int], list[_Element]] = field(default_factory=dict)
    options: set[tuple[int, int]] = field(default_factory=set)
    started: dict[int, int] = field(default_factory=dict)
    early: list[_DataSet] = field(default_factory=list)
    rows: list[RecordRow] = field(default_factory=list)
    strange: int = 0
    timeless: int = 0

    def take(self, found: _DataSet) -> bool:
        """Takes the records of a set; false where its template is not known."""
        key = found.domain, found.template
        template = self.templates.get(key)
        if template is None:
            return False
        for values in _records(found.body, template):
            if (0, SYSTEM_START) in values:
                self.started[found.domain] = values[0, SYSTEM_START]
            if key in self.options:
                continue
            exported = Exported(found.at, self.started.get(found.domain))
            row = row_of(values, exported)
            self.strange += row is None
            self.timeless += row is not None and tells_no_time(values, exported)
            self.rows += [] if row is None else [row]
        return True


def is_ipfix(content: bytes) -> bool:
    if len(content) < _HEADER.size + 4:
        return False
    version, length, *_ = _HEADER.unpack_from(content)
    kind, inside = struct.unpack_from("!HH", content, _HEADER.size)
    known = kind in (_TEMPLATES, _OPTIONS) or kind >= _FIRST_DATA
    return bool(version == VERSION and known and 4 <= inside <= length - _HEADER.size)


def read_ipfix(
    path: str, content: bytes, _columns: Mapping[str, str], progress: Progress
) -> tuple[Records, list[Notice]]:
    """A record for each flow. A file that breaks off is read as far as it goes.

    Raises DocumentError where what is no message begins.
    """
    found = _FlowFile()
    broken, place = 0, 0
    whole = True
    while place < len(content):
        if place + _HEADER.size > len(content):
            whole = False
            break
        version, length, at, _, domain = _HEADER.unpack_from(content, place)
        if version != VERSION or length < _HEADER.size:
            raise DocumentError([Problem(f"{path}, byte {place}", "no IPFIX message begins here")])
        progress(place / len(content))
        whole = place + length <= len(content)
        for kind, body, complete in _sets(content[place + _HEADER.size : place + length]):
            broken += whole and not complete
            if kind in (_TEMPLATES, _OPTIONS):
                _learn(found, domain, body, kind == _OPTIONS)
            elif kind >= _FIRST_DATA:
                data = _DataSet(domain, kind, body, at)
                found.early += [] if found.take(data) else [data]
        place += length
    unknown = sum(not found.take(data) for data in found.early)
    said = {
        "it breaks off in a message: read as far as it goes": not whole,
        f"{broken} sets are longer than their messages: read as far as they go": broken,
        f"{unknown} sets have no templates: left out": unknown,
        f"{found.strange} records have no addresses: left out": found.strange,
        f"{found.timeless} records tell times by how long their exporter had run, and nothing says since "
        "when: they have no times": found.timeless,
    }
    return gathered(found.rows), [Notice(path, message) for message, is_so in said.items() if is_so]


def _sets(body: bytes) -> Iterator[tuple[int, bytes, bool]]:
    """The sets of a message: their kind, what is in them, and whether that is all of it."""
    at = 0
    while at + 4 <= len(body):
        kind, length = struct.unpack_from("!HH", body, at)
        if length < 4:
            yield kind, b"", False
            return
        yield kind, body[at + 4 : at + length], at + length <= len(body)
        at += length


def _learn(found: _FlowFile, domain: int, body: bytes, options: bool) -> None:
    """Takes templates into `found`; those of options say how many of their elements are their scope."""
    at, head = 0, 6 if options else 4
    while at + 4 <= len(body):
        number, count = struct.unpack_from("!HH", body, at)
        if count == 0:  # it is withdrawn (RFC 7011 8.1)
            found.templates.pop((domain, number), None)
            at += 4
            continue
        at += head
        elements: list[_Element] = []
        for _ in range(count):
            if at + 4 > len(body):
                return
            element, length = struct.unpack_from("!HH", body, at)
            at += 4
            enterprise = 0
            if element & 0x8000:
                if at + 4 > len(body):
                    return
                (enterprise,) = struct.unpack_from("!I", body, at)
                at += 4
            elements.append(_Element(element & 0x7FFF, enterprise, length))
        if number >= _FIRST_DATA:
            found.templates[domain, number] = elements
            (found.options.add if options else found.options.discard)((domain, number))


def _records(body: bytes, template: list[_Element]) -> Iterator[dict[tuple[int, int], int]]:
    """The values of each record as numbers, by enterprise and element."""
    least = sum(1 if each.length == _VARIABLE else each.length for each in template)
    at = 0
    while least and at + least <= len(body):
        values: dict[tuple[int, int], int] = {}
        for each in template:
            length = each.length
            if length == _VARIABLE:
                length, at = body[at] if at < len(body) else 0, at + 1
                if length == 255 and at + 2 <= len(body):
                    (length,) = struct.unpack_from("!H", body, at)
                    at += 2
            if at + length > len(body):
                return
            if length <= 16:
                values[each.enterprise, each.number] = int.from_bytes(body[at : at + length], "big")
            at += length
        yield values
