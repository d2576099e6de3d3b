"""`flags`: TCP packets with some control bits set and others clear (RFC 9293 3.1)."""

from collections.abc import Iterable
from functools import reduce
from operator import attrgetter, or_
from typing import ClassVar

from msgspec.structs import replace

from greyheron.core.intervals import Spans
from greyheron.core.lists.fields.field import KindField, NamedValues, Says
from greyheron.core.lists.fields.services import HeaderPart, Tag, spans_where
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.header import EVERY_FLAG, FlagsMatch, TcpFlags
from greyheron.model.names import TCP
from greyheron.model.notation.clauses import FLAGS, Clause
from greyheron.model.values import Family


class FlagsField(KindField):
    label: ClassVar[str] = "flags"
    clause: ClassVar[Clause] = FLAGS
    says: ClassVar[Says] = attrgetter("entry.flags")

    def matches(self, rule: Rule, packet: Packet) -> bool:
        flags = rule.entry.flags
        if flags is None:
            return True
        return packet.protocol == TCP and not packet.fragment and flags.matches(packet.flags)

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        return tag.numbers if tag is Tag.TCP or rule.entry.flags is None else ()

    def header_spans(self, rule: Rule, part: HeaderPart) -> Spans | None:
        flags = rule.entry.flags
        return None if flags is None or part is not HeaderPart.FLAGS else spans_where(flags.matches)

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        flags = rule.entry.flags
        return (0, EVERY_FLAG) if flags is None else (flags.on.value, EVERY_FLAG & ~flags.off.value)

    def variants(self, kind: Packet, named: NamedValues) -> Iterable[Packet]:
        if kind.protocol != TCP:
            return [kind]
        found = [kind]
        for flag in TcpFlags:
            if any(isinstance(each, FlagsMatch) and flag & (each.on | each.off) for each in named):
                found = [replace(each, flags=flags) for each in found for flags in _both(each.flags, flag)]
        return found

    def variant_words(self, kind: Packet, named: NamedValues) -> str:
        matches = [each for each in named if isinstance(each, FlagsMatch)]
        if not matches or kind.protocol != TCP or kind.fragment:
            return ""
        told = reduce(or_, (each.on | each.off for each in matches))
        return f"flags {FlagsMatch(on=kind.flags & told, off=~kind.flags & told)}"


def _both(flags: TcpFlags, flag: TcpFlags) -> tuple[TcpFlags, TcpFlags]:
    return flags & ~flag, flags | flag
