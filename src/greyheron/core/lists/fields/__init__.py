"""The fields of an entry: one module each, and this registry, which everything else goes through.

In the order in which they are compared. A field that lacks a form cannot stand here: it is a type error.
"""

from collections.abc import Collection
from typing import Final

from greyheron.core.lists.fields.address import AddressField, DestinationField, SourceField
from greyheron.core.lists.fields.dscp import DscpField
from greyheron.core.lists.fields.established import EstablishedField
from greyheron.core.lists.fields.field import Field, KindField, RangedField
from greyheron.core.lists.fields.flags import FlagsField
from greyheron.core.lists.fields.fragment import FragmentField
from greyheron.core.lists.fields.icmp import IcmpField
from greyheron.core.lists.fields.ports import DestinationPortField, PortField, SourcePortField
from greyheron.core.lists.fields.protocol import ProtocolField
from greyheron.core.lists.rules import Rule

ADDRESS_FIELDS: Final[tuple[AddressField, ...]] = (SourceField(), DestinationField())
PORT_FIELDS: Final[tuple[PortField, ...]] = (SourcePortField(), DestinationPortField())
RANGED_FIELDS: Final[tuple[RangedField, ...]] = (*ADDRESS_FIELDS, *PORT_FIELDS)
_PROTOCOL: Final[tuple[KindField, ...]] = (ProtocolField(),)
_BEHIND: Final[tuple[KindField, ...]] = (
    IcmpField(),
    EstablishedField(),
    FlagsField(),
    DscpField(),
    FragmentField(),
)
KIND_FIELDS: Final[tuple[KindField, ...]] = (*_PROTOCOL, *_BEHIND)
FIELDS: Final[tuple[Field, ...]] = (*_PROTOCOL, *RANGED_FIELDS, *_BEHIND)


def unsaid(rule: Rule, said: Collection[type[Field]]) -> list[str]:
    """What a rule asks for that is not among what somebody can say: it must not be written without that."""
    return [field.label for field in rule.constraints if type(field) not in said]


__all__ = [
    "ADDRESS_FIELDS",
    "FIELDS",
    "KIND_FIELDS",
    "PORT_FIELDS",
    "RANGED_FIELDS",
    "AddressField",
    "Field",
    "KindField",
    "PortField",
    "RangedField",
    "unsaid",
]
