"""The protocol of a packet (IANA protocol numbers)."""

from collections.abc import Iterable
from operator import attrgetter
from typing import ClassVar

from msgspec.structs import replace

from greyheron.core.intervals import Spans
from greyheron.core.lists.fields.field import KindField, NamedValues, Says
from greyheron.core.lists.fields.services import ALL_PROTOCOLS, HeaderPart, Tag
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.names import TCP, UDP, protocol_name
from greyheron.model.notation.clauses import PROTOCOL, Clause
from greyheron.model.values import Family


class ProtocolField(KindField):
    label: ClassVar[str] = "protocol"
    clause: ClassVar[Clause] = PROTOCOL
    says: ClassVar[Says] = attrgetter("entry.protocol")

    def matches(self, rule: Rule, packet: Packet) -> bool:
        return rule.entry.protocol in (None, packet.protocol)

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        protocol, number = rule.entry.protocol, tag.number(family)
        if protocol is None:
            return tag.numbers
        if number is None:
            return ((protocol, protocol),)
        return tag.numbers if protocol == number else ()

    def header_spans(self, rule: Rule, part: HeaderPart) -> Spans | None:
        return None

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        protocol = rule.entry.protocol
        return ALL_PROTOCOLS[0] if protocol is None else (protocol, protocol)

    def variants(self, kind: Packet, named: NamedValues) -> Iterable[Packet]:
        known = {number for number in named if isinstance(number, int)} | {TCP, UDP, kind.family.icmp}
        other = next(number for number in range(253, 0, -1) if number not in known)
        return [replace(kind, protocol=number) for number in sorted({*known, other})]

    def variant_words(self, kind: Packet, named: NamedValues) -> str:
        known = {*named, TCP, UDP, kind.family.icmp}
        return protocol_name(kind.protocol, kind.family) if kind.protocol in known else "any other protocol"
