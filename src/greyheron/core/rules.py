"""Rules: entries with every name in them looked up."""

from collections.abc import Iterable
from dataclasses import InitVar, dataclass, field
from typing import TYPE_CHECKING

from greyheron.model.entry import AddressBlock, Entry, NotPort, PortSpan

if TYPE_CHECKING:
    from greyheron.core.fields import Field


@dataclass(frozen=True, slots=True)
class Rule:
    """An entry and what its names stand for.

    sources, destinations:  the blocks that match; None for any, empty for none at all
    source_ports, destination_ports:  likewise
    fields:  all that an entry can match;  constraints:  those of them that the entry says something of
    """

    entry: Entry
    sources: tuple[AddressBlock, ...] | None
    destinations: tuple[AddressBlock, ...] | None
    source_ports: tuple[PortSpan | NotPort, ...] | None
    destination_ports: tuple[PortSpan | NotPort, ...] | None
    fields: InitVar[Iterable["Field"]]
    constraints: tuple["Field", ...] = field(init=False)

    def __post_init__(self, fields: Iterable["Field"]) -> None:
        spoken_of = [each for each in fields if (said := each.says(self)) is not None and said is not False]
        object.__setattr__(self, "constraints", tuple(spoken_of))
