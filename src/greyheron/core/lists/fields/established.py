"""`established`: TCP packets with ACK or RST, which only a connection already made has (RFC 9293)."""

from collections.abc import Iterable
from operator import attrgetter
from typing import ClassVar

from msgspec.structs import replace

from greyheron.core.intervals import Spans
from greyheron.core.lists.fields.field import KindField, NamedValues, Says
from greyheron.core.lists.fields.services import HeaderPart, Tag, spans_where
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP
from greyheron.model.notation.clauses import ESTABLISHED, Clause
from greyheron.model.values import Family

_MADE = TcpFlags.ACK | TcpFlags.RST


class EstablishedField(KindField):
    label: ClassVar[str] = "established"
    clause: ClassVar[Clause] = ESTABLISHED
    says: ClassVar[Says] = attrgetter("entry.established")

    def matches(self, rule: Rule, packet: Packet) -> bool:
        if not rule.entry.established:
            return True
        return packet.protocol == TCP and bool(packet.flags & _MADE)

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        return tag.numbers if tag is Tag.TCP or not rule.entry.established else ()

    def header_spans(self, rule: Rule, part: HeaderPart) -> Spans | None:
        told = rule.entry.established and part is HeaderPart.FLAGS
        return spans_where(lambda flags: bool(flags & _MADE)) if told else None

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        return int(rule.entry.established), 1

    def variants(self, kind: Packet, named: NamedValues) -> Iterable[Packet]:
        if kind.protocol != TCP:
            return [kind]
        return [replace(kind, flags=flags) for flags in (TcpFlags.SYN, TcpFlags.ACK)]

    def variant_words(self, kind: Packet, named: NamedValues) -> str:
        if True not in named or kind.protocol != TCP or kind.fragment:
            return ""
        return "established" if kind.flags & _MADE else "not established"
