"""The kernel's connection table, as text or as XML, or told as it changed: a record for each conversation."""

import re
from collections.abc import Iterator, Mapping, MutableMapping
from io import BytesIO
from ipaddress import ip_address
from typing import Any

from defusedxml.ElementTree import ParseError, iterparse
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.traffic.records import LATEST, MOST_COUNTED, NO_TIME, RecordRow, Records, gathered
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice
from greyheron.model.names import ICMP_TYPES
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.values import Family

_LINE = re.compile(
    rb"^(?:\[(?P<at>\d+\.\d+)\s*\]\s*)?(?:\[(?P<event>NEW|UPDATE|DESTROY)\]\s+)?"
    rb"(?:ipv[46]\s+\d+\s+)?[a-z][\w.-]*\s+(?P<protocol>\d+)\s+(?:\d+\s+)?.*?"
    rb"src=(?P<source>\S+)\s+dst=(?P<destination>\S+)(?:\s+sport=(?P<own>\d+)\s+dport=(?P<port>\d+))?"
    rb"(?:\s+type=(?P<kind>\d+)\s+code=\d+\s+id=(?P<id>\d+))?"
    rb"(?:\s+packets=(?P<packets>\d+)\s+bytes=(?P<octets>\d+))?(?P<rest>.*)$"
)
_BACK = re.compile(rb"packets=(\d+)\s+bytes=(\d+)")
_TOTAL = re.compile(rb"^\S+ v[\d.]+ \([^)]*\): \d+ flow entries have been \w+\.$")
"""What who prints a table says at its end, of how much it printed."""
_XML = re.compile(rb"^\s*(?:<\?xml[^>]*\?>\s*)?<(?:conntrack|flow)\b")
_FIRST_LINES = 2000
_ECHOES = {family.icmp: ICMP_TYPES[family]["echo-request"][0] for family in Family}
_NANOSECONDS = 1_000_000_000
MOST_TOLD = 20


class _ToldConnection(Struct, frozen=True):
    """What a line or an element says of a conversation; `event` is empty in a table."""

    event: str
    key: tuple[Any, ...]
    row: RecordRow


def is_connections(content: bytes) -> bool:
    if _XML.match(content[:_FIRST_LINES]):
        return True
    lines = (line.strip() for line in content[:_FIRST_LINES].splitlines())
    first = next((line for line in lines if line and not _TOTAL.match(line)), b"")
    return _LINE.match(first) is not None


def read_connections(
    path: str, content: bytes, _columns: Mapping[str, str], progress: Progress
) -> tuple[Records, list[Notice]]:
    """A record for each conversation; where its destination was rewritten, the original one counts.

    Raises DocumentError where XML is none.
    """
    notices: list[Notice] = []
    reading = _elements if _XML.match(content[:_FIRST_LINES]) else _lines
    rows: list[RecordRow] = []
    going: dict[tuple[Any, ...], RecordRow] = {}
    for told in reading(path, content, notices, progress):
        if told.event:
            rows += _followed(going, told)
        else:
            rows.append(told.row)
    return gathered([*rows, *going.values()]), notices


def _followed(going: MutableMapping[tuple[Any, ...], RecordRow], told: _ToldConnection) -> list[RecordRow]:
    """The conversations that end with an event; `going` has those that were heard of and have not ended."""
    before = going.get(told.key)
    ended: list[RecordRow] = []
    if told.event == "NEW" and before is not None:
        ended = [going.pop(told.key)]
        before = None
    row = told.row if before is None else _since(before, told.row)
    if told.event != "DESTROY":
        going[told.key] = row
        return ended
    going.pop(told.key, None)
    return [*ended, row]


def _since(before: RecordRow, now: RecordRow) -> RecordRow:
    """A conversation after another event: what was counted last, and answered once is answered."""
    times = [each for each in (before.first, now.first) if each != NO_TIME]
    return replace(
        now,
        packets=max(before.packets, now.packets),
        octets=max(before.octets, now.octets),
        back=max(before.back, now.back),
        first=min(times, default=NO_TIME),
        last=max(before.last, now.last),
    )


def _lines(path: str, content: bytes, notices: list[Notice], progress: Progress) -> Iterator[_ToldConnection]:
    strange = 0
    lines = content.splitlines()
    for number, line in enumerate(lines, 1):
        if number % 20_000 == 0:
            progress(number / len(lines))
        told = _told(line.strip())
        if told is not None:
            yield told
        elif line.strip() and not _TOTAL.match(line.strip()):
            strange += 1
            if strange <= MOST_TOLD:
                notices.append(Notice(f"{path}, line {number}", "this is no line of a connection table"))
    if strange > MOST_TOLD:
        notices.append(Notice(path, f"{strange} lines are none of a connection table: left out"))


def _told(line: bytes) -> _ToldConnection | None:
    found = _LINE.match(line)
    if found is None:
        return None
    said = found.groupdict()
    rest: bytes = said["rest"]
    unanswered = b"[UNREPLIED]" in line
    counted = _BACK.search(rest)
    at = said["at"]
    whole, _, part = (at or b"0.").partition(b".")
    time = NO_TIME if at is None else int(whole) * _NANOSECONDS + int(part.ljust(9, b"0")[:9])
    return _conversation(
        (said["event"] or b"").decode(),
        (said["source"].decode(), said["destination"].decode()),
        int(said["protocol"]),
        {name: int(said[name]) for name in ("own", "port", "kind", "id") if said[name] is not None},
        (int(said["packets"] or 1), int(said["octets"] or 0)),
        (int(counted[1]), int(counted[2])) if counted else (0 if unanswered else 1, 0),
        (time, time),
    )


def _conversation(
    event: str,
    ends: tuple[str, str],
    protocol: int,
    said: Mapping[str, int],
    there: tuple[int, int],
    back: tuple[int, int],
    times: tuple[int, int],
) -> _ToldConnection | None:
    """A conversation of what was read; None where that cannot be.

    said:  ports (own, port), the type of ICMP (kind) and its identifier (id)
    there, back:  packets and octets each way;  times:  the first and the last in nanoseconds since 1970
    """
    try:
        one, other = map(ip_address, ends)
    except ValueError:
        return None
    own, port = said.get("own", -1), said.get("port", said.get("kind", -1))
    if one.version != other.version or max(own, port) > 65535 or protocol > 255:
        return None
    row = RecordRow(
        one.version == 6,
        int(one),
        int(other),
        protocol,
        own,
        port,
        min(there[0], MOST_COUNTED),
        min(there[1] + back[1], MOST_COUNTED),
        min(back[0], MOST_COUNTED),
        min(times[0], LATEST),
        min(times[1], LATEST),
    )
    return _ToldConnection(event, (ends, protocol, own, port, said.get("id")), row)


def _elements(
    path: str, content: bytes, notices: list[Notice], progress: Progress
) -> Iterator[_ToldConnection]:
    """What `flow` elements say; one that is not whole at the end is left."""
    file = BytesIO(content)
    number = strange = untyped = 0
    try:
        for _, element in iterparse(file, events=("end",)):
            if element.tag != "flow":
                continue
            number += 1
            if number % 5_000 == 0:
                progress(min(1.0, file.tell() / len(content)))
            told = _told_by(element)
            element.clear()
            if told is None:
                strange += 1
                continue
            if told.row.protocol in _ECHOES and told.row.destination_port < 0:
                untyped += 1
                told = replace(told, row=replace(told.row, destination_port=_ECHOES[told.row.protocol]))
            yield told
    except ParseError as error:
        if not number:
            raise DocumentError([Problem(path, f"this is no XML: {error}")]) from None
        notices.append(Notice(path, f"it breaks off after {number} conversations: read as far as it goes"))
    if untyped:
        notices.append(
            Notice(path, f"{untyped} conversations of ICMP do not tell its type: taken for echoes")
        )
    if strange:
        notices.append(Notice(path, f"{strange} conversations say too little, or what cannot be: left out"))


def _told_by(flow: Any) -> _ToldConnection | None:
    ways = {meta.get("direction"): meta for meta in flow.findall("meta")}
    there, home, about = (ways.get(name) for name in ("original", "reply", "independent"))
    if there is None:
        return None
    protocol = there.find("layer4")
    try:
        said = {
            name: int(found)
            for name, tag in (("own", "sport"), ("port", "dport"), ("kind", "type"), ("id", "id"))
            if (found := there.findtext(f"layer4/{tag}")) is not None
        }
        unanswered = about is not None and about.find("unreplied") is not None
        answers = (0, 0) if home is None else _counted(home, 0 if unanswered else 1)
        times = [int(flow.findtext(f".//timestamp/{each}") or NO_TIME) for each in ("start", "stop")]
        return _conversation(
            {"new": "NEW", "update": "UPDATE", "destroy": "DESTROY"}.get(flow.get("type", ""), ""),
            (there.findtext("layer3/src") or "", there.findtext("layer3/dst") or ""),
            int(protocol.get("protonum", "")) if protocol is not None else 256,
            said,
            _counted(there, 1),
            answers,
            (times[0], times[1] or times[0]),
        )
    except ValueError:
        return None


def _counted(way: Any, otherwise: int) -> tuple[int, int]:
    """Packets and octets of one way."""
    return (
        int(way.findtext("counters/packets") or otherwise),
        int(way.findtext("counters/bytes") or 0),
    )
