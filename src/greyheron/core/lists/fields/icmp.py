"""ICMP type and code (RFC 792, RFC 4443)."""

from collections.abc import Iterable
from operator import attrgetter
from typing import ClassVar

from msgspec.structs import replace

from greyheron.core.intervals import Spans, span_meet
from greyheron.core.lists.fields.field import KindField, NamedValues, Says
from greyheron.core.lists.fields.services import ALL_PORTS, HeaderPart, Tag, icmp_span
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.entry import IcmpMatch
from greyheron.model.names import icmp_name
from greyheron.model.notation.clauses import ICMP, Clause
from greyheron.model.values import Family

_UNNAMED_TYPE, _UNNAMED_CODE = 250, 200


class IcmpField(KindField):
    label: ClassVar[str] = "ICMP type"
    clause: ClassVar[Clause] = ICMP
    says: ClassVar[Says] = attrgetter("entry.icmp")

    def matches(self, rule: Rule, packet: Packet) -> bool:
        icmp = rule.entry.icmp
        if icmp is None:
            return True
        right_type = packet.protocol == packet.family.icmp and icmp.type == packet.icmp_type
        return right_type and icmp.code in (None, packet.icmp_code)

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        icmp = rule.entry.icmp
        if icmp is None:
            return tag.numbers
        if tag is not Tag.ICMP:
            return ()
        own = (icmp_span(icmp.type, icmp.code),)
        if way is Way.OUT:
            return own
        request, reply = family.echo
        return (icmp_span(request),) if span_meet((icmp_span(reply, 0),), own) else ()

    def header_spans(self, rule: Rule, part: HeaderPart) -> Spans | None:
        return None

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        icmp = rule.entry.icmp
        return ALL_PORTS[0] if icmp is None else icmp_span(icmp.type, icmp.code)

    def variants(self, kind: Packet, named: NamedValues) -> Iterable[Packet]:
        if kind.protocol != kind.family.icmp:
            return [kind]
        known = {(icmp.type, icmp.code or 0) for icmp in named if isinstance(icmp, IcmpMatch)}
        known |= {(number, _UNNAMED_CODE) for number, _ in known} | {(_UNNAMED_TYPE, 0)}
        return [replace(kind, icmp_type=number, icmp_code=code) for number, code in sorted(known)]

    def variant_words(self, kind: Packet, named: NamedValues) -> str:
        matches = [each for each in named if isinstance(each, IcmpMatch)]
        number, code = kind.icmp_type, kind.icmp_code
        if number is None or code is None or not matches:
            return ""
        codes = {each.code for each in matches if each.type == number}
        if not codes:
            return "any other type"
        told = code if code in codes else None
        name = icmp_name(kind.family, number, told) or f"type {number}" + f" code {told}" * (told is not None)
        return f"{name} with any other code" if told is None and codes != {None} else name
