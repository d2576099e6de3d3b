"""Tables that people open in spreadsheets (RFC 4180)."""

import csv
import io
from collections.abc import Iterable, Sequence

from greyheron.formats.outgoing import for_table


def write_table(rows: Iterable[Sequence[str]]) -> str:
    """Rows as CSV; a field that would be taken for a formula begins with an apostrophe."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerows(map(for_table, row) for row in rows)
    return text.getvalue()
