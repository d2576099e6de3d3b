"""The source and the destination port of TCP and UDP packets."""

from abc import abstractmethod
from collections.abc import Iterable, Sequence
from itertools import chain
from operator import attrgetter
from typing import ClassVar

import numpy as np

from greyheron.core.headers import NO_PORT, Headers, Ints, Words
from greyheron.core.intervals import Spans, span_classes, span_parts, span_union
from greyheron.core.lists.fields.field import FieldValues, RangedField, Says, TableRows, ValueClass, span_rows
from greyheron.core.lists.fields.services import ALL_PORTS, Tag
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.model.entry import NotPort, PortSpan
from greyheron.model.names import WITH_PORTS
from greyheron.model.notation.clauses import DESTINATION_PORTS, SOURCE_PORTS, Clause
from greyheron.model.values import Family

PORTS = 1 << 16
Terms = tuple[PortSpan | NotPort, ...]


class PortField(RangedField):
    def terms(self, rule: Rule) -> Terms | None:
        """The ports that the entry wants; None for any, and then for packets without ports too."""
        terms: Terms | None = self.says(rule)
        return terms

    @abstractmethod
    def shows_service(self, way: Way) -> bool:
        """Whether it is the port that is asked for, in packets that way; else the sender's."""

    def matches(self, rule: Rule, packet: Packet) -> bool:
        terms = self.terms(rule)
        if terms is None:
            return True
        port: int | None = getattr(packet, self.attribute)
        if port is None or packet.protocol not in WITH_PORTS:
            return False
        return any(
            term.port != port if isinstance(term, NotPort) else term.low <= port <= term.high
            for term in terms
        )

    def services(self, rule: Rule, tag: Tag, family: Family, way: Way) -> Spans:
        terms = self.terms(rule)
        if terms is None:
            return tag.numbers
        if not tag.with_ports:
            return ()
        return spans_of(terms) if self.shows_service(way) else tag.numbers

    def sender_ports(self, rule: Rule, way: Way) -> Spans | None:
        terms = self.terms(rule)
        return None if terms is None or self.shows_service(way) else spans_of(terms)

    def table(self, rules: Sequence[Rule | None], family: Family) -> TableRows:
        return _PortRows(self.attribute, [None if rule is None else self.terms(rule) for rule in rules])

    def hull(self, rule: Rule, family: Family) -> tuple[int, int]:
        spans = self._spans(rule)
        return (spans[0][0], spans[-1][1]) if spans else (1, 0)

    def stretch(self, rule: Rule) -> tuple[int, int] | None:
        terms = self.terms(rule)
        if terms is None:  # packets without ports too
            return None
        spans = spans_of(terms)
        return spans[0] if len(spans) == 1 else None

    def parts(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        sets = {terms for each in others if (terms := self.terms(each)) is not None}
        own = self._spans(rule)
        return [part[0][0] for part in (span_parts(own, map(spans_of, sets)) if sets else [own])]

    def classes(
        self, said: Sequence[Terms], within: Sequence[Terms | None], family: Family
    ) -> list[ValueClass]:
        among = [spans_of(terms) for terms in within if terms is not None]
        whole = ALL_PORTS if len(among) < len(within) else span_union(chain.from_iterable(among))
        found = span_classes(whole, enumerate(map(spans_of, said)))
        return [(spans, inside) for inside, spans in found.items()]

    def joined(self, some: Sequence[FieldValues], family: Family) -> FieldValues | None:
        spans = span_union((low, high) for each in some for low, high in each)
        return None if spans == ALL_PORTS else spans

    def borders(self, rule: Rule, others: Sequence[Rule], family: Family) -> list[int]:
        own = self._spans(rule)
        near = (span for each in others for span in spans_of(self.terms(each) or ()))
        return [port for span in own for port in span] + [
            port
            for low, high in near
            for port in (low - 1, high + 1)
            if any(first <= port <= last for first, last in own)
        ]

    def _spans(self, rule: Rule) -> Spans:
        terms = self.terms(rule)
        return ALL_PORTS if terms is None else spans_of(terms)


class SourcePortField(PortField):
    label: ClassVar[str] = "source port"
    clause: ClassVar[Clause] = SOURCE_PORTS
    says: ClassVar[Says] = attrgetter("source_ports")
    attribute: ClassVar[str] = "source_port"

    def shows_service(self, way: Way) -> bool:
        return way is not Way.OUT


class DestinationPortField(PortField):
    label: ClassVar[str] = "destination port"
    clause: ClassVar[Clause] = DESTINATION_PORTS
    says: ClassVar[Says] = attrgetter("destination_ports")
    attribute: ClassVar[str] = "destination_port"

    def shows_service(self, way: Way) -> bool:
        return way is Way.OUT


def port_spans(terms: Iterable[PortSpan | NotPort]) -> list[tuple[int, int]]:
    """The ports that some of `terms` holds, as spans that may overlap."""
    spans: list[tuple[int, int]] = []
    for term in terms:
        if isinstance(term, PortSpan):
            spans.append((term.low, term.high))
        else:
            spans += [(0, term.port - 1), (term.port + 1, PORTS - 1)]
    return [(low, high) for low, high in spans if low <= high]


def spans_of(terms: Terms) -> Spans:
    """The ports that some of `terms` holds, joined."""
    if len(terms) == 1 and isinstance(terms[0], PortSpan):  # by far the most are one port, or one range
        return ((terms[0].low, terms[0].high),)
    return span_union(port_spans(terms))


_ROW_OF_ANY_PORT = np.ones(PORTS, dtype=np.uint8)
"""Where no rule tells ports apart: the row behind the one for packets without ports."""


class _PortRows(TableRows):
    """Ports cut where some rule begins or ends to hold; the first row is for packets without ports."""

    def __init__(self, attribute: str, rules: Sequence[Terms | None]) -> None:
        self._attribute = attribute
        spans = [
            (index, low, high)
            for index, terms in enumerate(rules)
            for low, high in (spans_of(terms) if terms is not None else [(NO_PORT, PORTS - 1)])
        ]
        cuts = {0} | {low for _, low, _ in spans} | {high + 1 for _, _, high in spans}
        self._cuts = np.array(sorted(cuts - {NO_PORT, PORTS}), dtype=np.int64)

        row_from = {cut: index for index, cut in enumerate(self._cuts.tolist(), 1)} | {NO_PORT: 0}

        count = len(self._cuts) + 1
        self._rows = span_rows(
            ((index, row_from[low], row_from.get(high + 1, count) - 1) for index, low, high in spans),
            count,
            len(rules),
        )
        if count == 2:
            self._row_of_port = _ROW_OF_ANY_PORT
            return
        widths = np.diff(np.concatenate([[0], self._cuts, [PORTS]]))
        kind = np.min_scalar_type(count - 1)
        self._row_of_port = np.repeat(np.arange(count, dtype=kind), widths)

    def rows(self, headers: Headers) -> tuple[Words, Ints]:
        ports: Ints = getattr(headers, self._attribute)
        return self._rows, np.where(ports == NO_PORT, 0, self._row_of_port[ports]).astype(np.int64)
