"""Flow records as a table: CSV with a header, or JSON lines, whatever their columns are called."""

import csv
import io
import json
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from decimal import Decimal, InvalidOperation
from ipaddress import ip_address
from typing import Any

from greyheron.analysis.traffic.records import LATEST, MOST_COUNTED, NO_TIME, RecordRow, Records, gathered
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice
from greyheron.model.names import ICMP_TYPES, PORTS, PROTOCOLS
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.values import Family


def _reverse(counted: str) -> tuple[str, str]:
    """Counters of the way back as the registry calls them (RFC 5103 6.1)."""
    return f"reverse{counted}deltacount", f"reverse{counted}totalcount"


_UNITS = {"seconds": 1_000_000_000, "milliseconds": 1_000_000, "microseconds": 1000, "nanoseconds": 1}
_UPTIME = "sysuptime"
_SECOND = 1_000_000_000


def _clocks(word: str) -> tuple[str, ...]:
    """A time as the registry calls it, by its unit."""
    return (*(word + unit for unit in _UNITS), word + _UPTIME)


COLUMNS: Mapping[str, tuple[str, ...]] = {
    "source": ("source", "src", "source_address", "sourceipv4address", "sourceipv6address"),
    "destination": (
        "destination",
        "dst",
        "destination_address",
        "destinationipv4address",
        "destinationipv6address",
    ),
    "protocol": ("protocol", "proto", "protocolidentifier"),
    "source_port": ("source_port", "sport", "sourcetransportport"),
    "destination_port": ("destination_port", "dport", "port", "destinationtransportport"),
    "packets": ("packets", "packetdeltacount", "packettotalcount", "initiatorpackets"),
    "octets": ("octets", "bytes", "octetdeltacount", "octettotalcount", "initiatoroctets"),
    "back": ("back", "reply_packets", *_reverse("packet"), "responderpackets"),
    "back_octets": (
        "back_octets",
        "back_bytes",
        "reply_octets",
        "reply_bytes",
        *_reverse("octet"),
        "responderoctets",
    ),
    "first": ("first", "start", "start_time", "time", *_clocks("flowstart"), *_clocks("observationtime")),
    "last": ("last", "end", "end_time", *_clocks("flowend")),
    "started": ("started", "systeminittimemilliseconds"),
}
"""What is read, and the names that its column may have, those of the IPFIX registry too, in any case.

started:  when an exporter began to count its uptime, where first and last are told by that
"""
MOST_TOLD = 20
_NEEDED = ("source", "destination", "protocol")


def is_table(content: bytes) -> bool:
    """Whether its first line names addresses, or is an object that does."""
    try:
        line = content[:4000].decode("utf-8-sig", errors="replace").splitlines()[0]
    except IndexError:
        return False
    if line.startswith("{"):
        try:
            found = json.loads(line)
        except (ValueError, RecursionError):
            return False
        return isinstance(found, dict) and len(found) >= len(_NEEDED)
    return line.count(",") + line.count(";") + line.count("\t") >= len(_NEEDED) - 1


def read_table(
    path: str, content: bytes, columns: Mapping[str, str], progress: Progress
) -> tuple[Records, list[Notice]]:
    """A record for each row that can be read. Raises DocumentError where columns that are needed are missing.

    columns:  names that columns have here, by what they hold
    """
    notices: list[Notice] = []
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.end < len(content) or error.reason != "unexpected end of data":
            raise DocumentError([Problem(path, f"it is no UTF-8 text: byte {error.start + 1}")]) from None
        text = content[: content.rfind(b"\n") + 1].decode("utf-8-sig")
        notices.append(Notice(path, "it breaks off in its last row: read as far as it goes"))
    rows: list[RecordRow] = []
    strange = 0
    size = max(1, text.count("\n"))
    for number, named in _rows(path, text, columns):
        if number % 20_000 == 0:
            progress(min(1.0, number / size))
        try:
            rows.append(_record(named))
        except ValueError as error:
            strange += 1
            if strange <= MOST_TOLD:
                notices.append(Notice(f"{path}, line {number}", f"{error}: left out"))
    if strange > MOST_TOLD:
        notices.append(Notice(path, f"{strange} rows cannot be read: left out"))
    return gathered(rows), notices


_RowCells = Mapping[str, tuple[str, Any]]
"""What a row holds, by what it is: the name of its column, and the value."""


def _rows(path: str, text: str, columns: Mapping[str, str]) -> Iterator[tuple[int, _RowCells]]:
    if text.startswith("{"):
        for number, line in enumerate(text.splitlines(), 1):
            if not line.strip():
                continue
            try:
                found = json.loads(line)
            except (ValueError, RecursionError):
                found = None
            if not isinstance(found, dict):
                yield number, {}
                continue
            yield number, _picked(found, _naming(path, list(found), columns))
        return
    try:
        dialect: Any = csv.Sniffer().sniff(text[:4000], delimiters=",;\t")
    except csv.Error:
        dialect = csv.excel
    reader = csv.DictReader(io.StringIO(text, newline=""), dialect=dialect)
    try:
        naming = _naming(path, list(reader.fieldnames or ()), columns)
        for row in reader:
            yield reader.line_num, _picked(row, naming)
    except csv.Error as error:
        raise DocumentError([Problem(f"{path}, line {reader.line_num}", str(error))]) from None


def _picked(row: Mapping[str, Any], naming: Mapping[str, tuple[str, ...]]) -> _RowCells:
    """Of several columns for one thing that which says something: addresses of two families have two."""
    cells = {what: [(name, row[name]) for name in names] for what, names in naming.items()}
    return {what: next((each for each in some if _says(each[1])), some[0]) for what, some in cells.items()}


def _says(value: Any) -> bool:
    return value is not None and str(value).strip() not in ("", "-", "0.0.0.0", "::")


def _naming(path: str, names: list[str], columns: Mapping[str, str]) -> dict[str, tuple[str, ...]]:
    """Which columns hold what. Raises DocumentError."""
    plain = {_plain(name): name for name in names if isinstance(name, str)}
    found: dict[str, tuple[str, ...]] = {}
    for what, usual in COLUMNS.items():
        named = [_plain(name) for name in ((columns[what],) if what in columns else usual)]
        there = tuple(plain[name] for name in named if name in plain)
        if there:
            found[what] = there
    missing = [what for what in _NEEDED if what not in found]
    if missing:
        every = ", ".join(names[:20]) or "none"
        message = f"no column holds the {missing[0]} (there are: {every}): say which one does"
        raise DocumentError([Problem(path, message)])
    return found


def _plain(name: str) -> str:
    return name.strip().lower().replace(" ", "_").replace("-", "_")


def _record(cells: _RowCells) -> RecordRow:
    """Raises ValueError."""
    if not cells:
        raise ValueError("this is no object")
    named = {what: value for what, (_, value) in cells.items()}
    source, destination = (ip_address(str(named[what]).strip()) for what in ("source", "destination"))
    if source.version != destination.version:
        raise ValueError(f"{source} and {destination} are of different families")
    six = source.version == 6
    protocol = _protocol(named["protocol"])
    started = _time(*cells.get("started", ("", None)), NO_TIME)
    first, last = (_time(*cells.get(what, ("", None)), started) for what in ("first", "last"))
    port = _port(named.get("destination_port"))
    if port < 0 and protocol in (1, 58):
        port = ICMP_TYPES[Family.IPV6 if six else Family.IPV4]["echo-request"][0]
    return RecordRow(
        six,
        int(source),
        int(destination),
        protocol,
        _port(named.get("source_port")),
        port,
        _count(named.get("packets"), 1),
        _count(named.get("octets"), 0) + _count(named.get("back_octets"), 0),
        _count(named.get("back"), -1),
        first,
        last or first,
        opens=False,
    )


def _protocol(value: Any) -> int:
    text = str(value).strip().lower()
    if text in PROTOCOLS:
        return PROTOCOLS[text]
    if text.isascii() and text.isdigit() and int(text) <= 255:
        return int(text)
    raise ValueError(f"“{value}” is no protocol")


def _port(value: Any) -> int:
    text = "" if value is None else str(value).strip().lower()
    if not text or text == "-":
        return -1
    if text in PORTS:
        return PORTS[text]
    if text.isascii() and text.isdigit() and len(text) < 6 and int(text) <= 65535:
        return int(text)
    raise ValueError(f"“{value}” is no port")


def _count(value: Any, otherwise: int) -> int:
    text = "" if value is None else str(value).strip()
    if not text:
        return otherwise
    if text.isascii() and text.isdigit() and len(text) < 18:
        return min(int(text), MOST_COUNTED)
    raise ValueError(f"“{value}” is no number of packets or bytes")


def _time(column: str, value: Any, started: int) -> int:
    """Nanoseconds since 1970; NO_TIME of nothing, and of an uptime where nobody says since when.

    A number is in the unit that its column's name says, else in that which makes it a time of these years.
    """
    text = "" if value is None else str(value).strip()
    if not text:
        return NO_TIME
    try:
        number = Decimal(text)
    except InvalidOperation:
        return _date(text)
    if not 0 <= number < 10**19:
        raise ValueError(f"“{value}” is no time")
    if _plain(column).endswith(_UPTIME):
        return NO_TIME if started == NO_TIME else min(started + int(number * _UNITS["milliseconds"]), LATEST)
    unit = next((unit for name, unit in _BY_NAME if _plain(column).endswith(name)), None)
    if unit is None:
        unit = next(unit for most, unit in _BY_SIZE if number < most)
    return min(int(number * unit), LATEST)


_BY_NAME = sorted(_UNITS.items(), key=lambda named: -len(named[0]))
_BY_SIZE = ((10**11, _SECOND), (10**14, 1_000_000), (10**17, 1000), (10**19, 1))


def _date(text: str) -> int:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"“{text}” is no time") from None
    whole = found if found.tzinfo else found.replace(tzinfo=UTC)
    since = (whole - datetime(1970, 1, 1, tzinfo=UTC)) // timedelta(microseconds=1)
    if since < 0:
        raise ValueError(f"“{text}” is no time")
    return since * 1000
