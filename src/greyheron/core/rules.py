"""Rules: entries with every name in them looked up."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from greyheron.model.entry import AddressBlock, Entry, NotPort, PortSpan

if TYPE_CHECKING:
    from greyheron.core.fields import Field


@dataclass(frozen=True, slots=True)
class Rule:
    """An entry and what its names stand for.

    sources, destinations:  the blocks that match; None for any, empty for none at all
    source_ports, destination_ports:  likewise
    constraints:  the fields that the entry says something of, in the order in which they are compared
    """

    entry: Entry
    sources: tuple[AddressBlock, ...] | None = None
    destinations: tuple[AddressBlock, ...] | None = None
    source_ports: tuple[PortSpan | NotPort, ...] | None = None
    destination_ports: tuple[PortSpan | NotPort, ...] | None = None
    constraints: tuple["Field", ...] = ()
