"""Traffic that was recorded: captures of packets, flow records, connection tables; each a reader."""

from collections.abc import Callable, Mapping

from greyheron.analysis.traffic.records import Records, joined
from greyheron.core.progress import Progress, part, unwatched
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Notice
from greyheron.formats.traffic.captured import is_capture
from greyheron.formats.traffic.captures import read_capture
from greyheron.formats.traffic.connections import is_connections, read_connections
from greyheron.formats.traffic.ipfix import is_ipfix, read_ipfix
from greyheron.formats.traffic.tables import is_table, read_table
from greyheron.model.problems import DocumentError, Problem

_TrafficReader = Callable[[str, bytes, Mapping[str, str], Progress], tuple[Records, list[Notice]]]
_READERS: tuple[tuple[str, Callable[[bytes], bool], _TrafficReader], ...] = (
    ("a packet capture", is_capture, read_capture),
    ("flow records", is_ipfix, read_ipfix),
    ("a connection table", is_connections, read_connections),
    ("a table of flows", is_table, read_table),
)


_BY_LINES = (read_connections, read_table)
"""What these read ends with a line: half of one might say something else."""


def read_traffic(
    bundle: Bundle, columns: Mapping[str, str] | None = None, progress: Progress = unwatched
) -> tuple[Records, list[Notice], list[str]]:
    """The records in all files of a bundle, what could not be read of them, and what each file is.

    columns:  for tables, which of their columns holds what: see `tables.COLUMNS`
    Raises DocumentError, Cancelled.
    """
    found: list[Records] = []
    notices: list[Notice] = []
    kinds: list[str] = []
    problems: list[Problem] = []
    for number, (path, content) in enumerate(sorted(bundle.files.items())):
        kind, reader = next(((kind, read) for kind, known, read in _READERS if known(content)), ("", None))
        if path in bundle.cut:
            notices.append(Notice(path, "it is compressed, and breaks off: read as far as it goes"))
            if reader in _BY_LINES:
                content = content[: content.rfind(b"\n") + 1]
        if reader is None:
            known_kinds = ", ".join(kind for kind, _, _ in _READERS)
            problems.append(Problem(path, f"this is none of what is known here: {known_kinds}"))
            continue
        try:
            records, left_out = reader(
                path, content, columns or {}, part(progress, number, len(bundle.files))
            )
        except DocumentError as error:
            problems += error.problems
            continue
        found.append(records)
        notices += left_out
        kinds.append(kind)
    if problems:
        raise DocumentError(problems)
    return joined(found), notices, kinds
