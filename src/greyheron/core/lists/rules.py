"""Rules: entries with every name in them looked up."""

from collections.abc import Iterable
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.intervals import Blocks
from greyheron.model.entry import Entry, NotPort, PortSpan

if TYPE_CHECKING:
    from greyheron.core.lists.fields import Field


class Rule(Struct, frozen=True):
    """An entry and what its names stand for.

    sources, destinations:  the blocks that match; None for any, empty for none at all
    source_ports, destination_ports:  likewise
    constraints:  those of the fields that an entry can match of which it says something; see `among`
    """

    entry: Entry
    sources: Blocks | None
    destinations: Blocks | None
    source_ports: tuple[PortSpan | NotPort, ...] | None
    destination_ports: tuple[PortSpan | NotPort, ...] | None
    constraints: tuple["Field", ...] = ()

    def among(self, fields: Iterable["Field"]) -> "Rule":
        """The rule with its constraints among all that an entry can match."""
        spoken_of = [each for each in fields if (said := each.says(self)) is not None and said is not False]
        return replace(self, constraints=tuple(spoken_of))
