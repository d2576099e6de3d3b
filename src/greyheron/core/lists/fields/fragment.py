"""`fragment`: a piece of a packet that is not the first: no ports, type or flags (RFC 791, RFC 8200 4.5)."""

from collections.abc import Iterable
from operator import attrgetter
from typing import ClassVar

from msgspec.structs import replace

from greyheron.core.intervals import Spans
from greyheron.core.lists.fields.field import KindField, NamedValues, Says
from greyheron.core.lists.fields.services import HeaderPart, Tag
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.header import TcpFlags
from greyheron.model.notation.clauses import FRAGMENT, Clause
from greyheron.model.values import Family


class FragmentField(KindField):
    label: ClassVar[str] = "fragment"
    clause: ClassVar[Clause] = FRAGMENT
    says: ClassVar[Says] = attrgetter("entry.fragment")

    def matches(self, rule: Rule, packet: Packet) -> bool:
        return packet.fragment or not rule.entry.fragment

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        return tag.numbers if tag is Tag.FRAGMENT or not rule.entry.fragment else ()

    def header_spans(self, rule: Rule, part: HeaderPart) -> Spans | None:
        return None

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        return int(rule.entry.fragment), 1

    def variants(self, kind: Packet, named: NamedValues) -> Iterable[Packet]:
        return [
            kind,
            replace(kind, fragment=True, flags=TcpFlags.NONE, icmp_type=None, icmp_code=None),
        ]

    def variant_words(self, kind: Packet, named: NamedValues) -> str:
        return "fragments" if kind.fragment else "not fragments"
