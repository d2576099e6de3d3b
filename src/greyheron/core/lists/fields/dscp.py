"""`dscp`: the differentiated services code point of a packet (RFC 2474)."""

from collections.abc import Iterable
from operator import attrgetter
from typing import ClassVar

from msgspec.structs import replace

from greyheron.core.intervals import Spans, span_parts, span_union
from greyheron.core.lists.fields.field import KindField, NamedValues, Says
from greyheron.core.lists.fields.services import ALL_DSCP, HeaderPart, Tag
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.header import DscpSpan, DscpTerms
from greyheron.model.notation.clauses import DSCP, Clause
from greyheron.model.values import Family


class DscpField(KindField):
    label: ClassVar[str] = "dscp"
    clause: ClassVar[Clause] = DSCP
    says: ClassVar[Says] = attrgetter("entry.dscp")

    def matches(self, rule: Rule, packet: Packet) -> bool:
        terms = rule.entry.dscp
        return terms is None or any(span.low <= packet.dscp <= span.high for span in terms)

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        return tag.numbers

    def header_spans(self, rule: Rule, part: HeaderPart) -> Spans | None:
        terms = rule.entry.dscp
        return None if terms is None or part is not HeaderPart.DSCP else spans_of_terms(terms)

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        spans = self.header_spans(rule, HeaderPart.DSCP) or ALL_DSCP
        return spans[0][0], spans[-1][1]

    def variants(self, kind: Packet, named: NamedValues) -> Iterable[Packet]:
        told = _told(named)
        return [replace(kind, dscp=part[0][0]) for part in span_parts(ALL_DSCP, told)] if told else [kind]

    def variant_words(self, kind: Packet, named: NamedValues) -> str:
        parts = span_parts(ALL_DSCP, _told(named))
        own = next((part for part in parts if len(parts) > 1 and part[0][0] == kind.dscp), ())
        return f"dscp {','.join(str(DscpSpan(low, high)) for low, high in own)}" if own else ""


def _told(named: NamedValues) -> set[Spans]:
    return {spans_of_terms(terms) for terms in named if isinstance(terms, tuple)}


def spans_of_terms(terms: DscpTerms) -> Spans:
    """The numbers that the terms name."""
    return span_union((span.low, span.high) for span in terms)
