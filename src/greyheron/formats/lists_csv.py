"""Access lists as one table (RFC 4180): a row for each entry, and one for the end of each list."""

from collections.abc import Iterator

from greyheron.formats.format import Taken
from greyheron.formats.spreadsheet import write_table
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import Entry
from greyheron.model.names import protocol_name
from greyheron.model.notation.clauses import DESTINATION, DESTINATION_PORTS, SOURCE, SOURCE_PORTS, Clause
from greyheron.model.notation.entries import write_entry
from greyheron.model.values import Action, Family, ListKind

COLUMNS = (
    *("list", "family", "kind", "placed", "number", "action", "protocol", "source", "source port"),
    *("destination", "destination port", "log", "note", "entry"),
)


class ListsTable:
    """What an auditor reads in a spreadsheet."""

    name = "lists-csv"
    title = "lists as CSV"
    suffix = ".csv"
    media_type = "text/csv"
    loses: tuple[str, ...] = (
        "Only the access lists and where they stand: a table to read, which is not read back.",
        "A field that a spreadsheet would take for a formula begins with an apostrophe.",
    )

    def write(self, network: Network) -> Taken:
        rows = (row for access_list in network.lists for row in _rows(access_list, network))
        return Taken({"lists.csv": write_table([COLUMNS, *rows]).encode()})


def _rows(access_list: AccessList, network: Network) -> Iterator[list[str]]:
    family, kind = access_list.family, access_list.kind
    places = [
        f"{each.device} {each.at} {each.direction}"
        for each in network.placements
        if each.list == access_list.name
    ]
    head = [access_list.name, str(family or ""), str(kind), "; ".join(places)]
    for entry in access_list.body.entries:
        action = f"{entry.action}{' silently' if entry.silent else ''}"
        written = write_entry(entry, family, kind).partition(" ")[2].partition(" # ")[0]
        yield [
            *head,
            str(entry.number),
            action,
            *_asked(entry, family, kind),
            "log" if entry.log else "",
            entry.note or "",
            written,
        ]
    yield [*head, "end", str(Action.DENY), *[""] * 6, "implicit", ""]


def _asked(entry: Entry, family: Family | None, kind: ListKind) -> list[str]:
    """Protocol, source, its port, destination, its port."""
    if family is None:
        return [""] * 5
    if kind is ListKind.STANDARD:
        return ["", str(entry.source or "any"), "", "", ""]
    protocol = "any" if entry.protocol is None else protocol_name(entry.protocol, family)

    def said(clause: Clause) -> str:
        return " ".join([*clause.write(entry, family)][1:])

    return [protocol, *map(said, (SOURCE, SOURCE_PORTS, DESTINATION, DESTINATION_PORTS))]
