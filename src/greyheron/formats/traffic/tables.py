"""Flow records as a table: CSV with a header, or JSON lines, whatever their columns are called."""

import csv
import io
import json
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from ipaddress import ip_address
from typing import Any

from greyheron.analysis.traffic.records import LATEST, MOST_COUNTED, NO_TIME, RecordRow, Records, gathered
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice
from greyheron.model.names import ICMP_TYPES, PORTS, PROTOCOLS
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.values import Family

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
    "packets": ("packets", "packetdeltacount", "packettotalcount"),
    "octets": ("octets", "bytes", "octetdeltacount", "octettotalcount"),
    "back": ("back", "reply_packets"),
    "first": ("first", "start", "start_time", "time", "flowstartmilliseconds", "flowstartseconds"),
    "last": ("last", "end", "end_time", "flowendmilliseconds", "flowendseconds"),
}
"""What is read, and the names that its column may have, those of the IPFIX registry too, in any case."""
MOST_TOLD = 20
_NEEDED = ("source", "destination", "protocol")
_SECOND = 1_000_000_000


def is_table(content: bytes) -> bool:
    """Whether its first line names addresses, or is an object that does."""
    try:
        line = content[:4000].decode("utf-8-sig").splitlines()[0]
    except (UnicodeDecodeError, IndexError):
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
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise DocumentError([Problem(path, f"it is no UTF-8 text: byte {error.start + 1}")]) from None
    rows: list[RecordRow] = []
    notices: list[Notice] = []
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


def _rows(path: str, text: str, columns: Mapping[str, str]) -> Iterator[tuple[int, Mapping[str, Any]]]:
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
            yield number, {what: found[name] for what, name in _naming(path, list(found), columns).items()}
        return
    try:
        dialect: Any = csv.Sniffer().sniff(text[:4000], delimiters=",;\t")
    except csv.Error:
        dialect = csv.excel
    reader = csv.DictReader(io.StringIO(text, newline=""), dialect=dialect)
    try:
        naming = _naming(path, list(reader.fieldnames or ()), columns)
        for row in reader:
            yield reader.line_num, {what: row[name] for what, name in naming.items()}
    except csv.Error as error:
        raise DocumentError([Problem(f"{path}, line {reader.line_num}", str(error))]) from None


def _naming(path: str, names: list[str], columns: Mapping[str, str]) -> dict[str, str]:
    """Which column holds what. Raises DocumentError."""
    plain = {_plain(name): name for name in names if isinstance(name, str)}
    found: dict[str, str] = {}
    for what, usual in COLUMNS.items():
        for name in (columns[what],) if what in columns else usual:
            if _plain(name) in plain:
                found[what] = plain[_plain(name)]
                break
    missing = [what for what in _NEEDED if what not in found]
    if missing:
        there = ", ".join(names[:20]) or "none"
        message = f"no column holds the {missing[0]} (there are: {there}): say which one does"
        raise DocumentError([Problem(path, message)])
    return found


def _plain(name: str) -> str:
    return name.strip().lower().replace(" ", "_").replace("-", "_")


def _record(named: Mapping[str, Any]) -> RecordRow:
    """Raises ValueError."""
    if not named:
        raise ValueError("this is no object")
    source, destination = (ip_address(str(named[what]).strip()) for what in ("source", "destination"))
    if source.version != destination.version:
        raise ValueError(f"{source} and {destination} are of different families")
    six = source.version == 6
    protocol = _protocol(named["protocol"])
    first, last = _time(named.get("first")), _time(named.get("last"))
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
        _count(named.get("octets"), 0),
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


def _time(value: Any) -> int:
    """Nanoseconds since 1970, of seconds, milli- or microseconds, or a date; NO_TIME of nothing."""
    text = "" if value is None else str(value).strip()
    if not text:
        return NO_TIME
    try:
        number = float(text)
    except ValueError:
        try:
            found = datetime.fromisoformat(text)
        except ValueError:
            raise ValueError(f"“{value}” is no time") from None
        whole = found if found.tzinfo else found.replace(tzinfo=UTC)
        return int(whole.timestamp() * _SECOND)
    if not 0 <= number < 1e19:
        raise ValueError(f"“{value}” is no time")
    scale: Callable[[float], float] = next(
        scaled for most, scaled in (
            (1e11, lambda each: each * 1e9), (1e14, lambda each: each * 1e6),
            (1e17, lambda each: each * 1e3), (1e20, lambda each: each),
        ) if number < most
    )  # fmt: skip
    return min(int(scale(number)), LATEST)
