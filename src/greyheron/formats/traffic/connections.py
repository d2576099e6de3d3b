"""The kernel's connection table as text: a line for each conversation, both ways in it."""

import re
from collections.abc import Mapping
from ipaddress import ip_address

from greyheron.analysis.traffic.records import MOST_COUNTED, RecordRow, Records, gathered
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice

_LINE = re.compile(
    rb"^(?:ipv[46]\s+\d+\s+)?(tcp|udp|icmp|icmpv6|sctp|gre|unknown|dccp|udplite)\s+(\d+)\s+(?:\d+\s+)?.*?"
    rb"src=(\S+)\s+dst=(\S+)(?:\s+sport=(\d+)\s+dport=(\d+))?(?:\s+type=(\d+)\s+code=\d+\s+id=\d+)?"
    rb"(?:\s+packets=(\d+)\s+bytes=(\d+))?(.*)$"
)
_BACK = re.compile(rb"packets=(\d+)\s+bytes=(\d+)")
MOST_TOLD = 20


def is_connections(content: bytes) -> bool:
    return _LINE.match(content[:2000].lstrip().partition(b"\n")[0].strip()) is not None


def read_connections(
    path: str, content: bytes, _columns: Mapping[str, str], progress: Progress
) -> tuple[Records, list[Notice]]:
    """A record for each line; the original destination of a rewritten conversation is the one that counts."""
    rows: list[RecordRow] = []
    notices: list[Notice] = []
    strange = 0
    lines = content.splitlines()
    for number, line in enumerate(lines, 1):
        if number % 20_000 == 0:
            progress(number / len(lines))
        row = _row(line.strip())
        if row is not None:
            rows.append(row)
        elif line.strip():
            strange += 1
            if strange <= MOST_TOLD:
                notices.append(Notice(f"{path}, line {number}", "this is no line of a connection table"))
    if strange > MOST_TOLD:
        notices.append(Notice(path, f"{strange} lines are none of a connection table: left out"))
    return gathered(rows), notices


def _row(line: bytes) -> RecordRow | None:
    found = _LINE.match(line)
    if found is None:
        return None
    _, protocol, source, destination, own, port, kind, packets, octets, rest = found.groups()
    try:
        one, other = ip_address(source.decode()), ip_address(destination.decode())
    except ValueError:
        return None
    if one.version != other.version or int(protocol) > 255 or int(port or 0) > 65535 or int(own or 0) > 65535:
        return None
    unanswered = b"[UNREPLIED]" in rest or b"[UNREPLIED]" in line
    counted = _BACK.search(rest)
    back = 0 if unanswered else min(int(counted[1]), MOST_COUNTED) if counted else 1
    return RecordRow(
        one.version == 6,
        int(one),
        int(other),
        int(protocol),
        -1 if own is None else int(own),
        int(port) if port is not None else int(kind) if kind is not None else -1,
        min(int(packets or 1), MOST_COUNTED),
        min(int(octets or 0) + (int(counted[2]) if counted else 0), MOST_COUNTED),
        back,
    )
