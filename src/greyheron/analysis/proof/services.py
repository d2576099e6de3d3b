"""Services as sets: what a requirement's words mean, and where a device or a list tells them apart."""

from collections.abc import Iterable
from dataclasses import dataclass

from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.delivery import LOGIN_PORTS
from greyheron.core.fields import PORT_FIELDS
from greyheron.core.fields.ports import spans_of
from greyheron.core.fields.services import ALL_PORTS, EVERY_CODE, Tag, icmp_span, whole
from greyheron.core.lists import Names
from greyheron.core.packet import Way
from greyheron.core.regions import Spans, span_meet, span_minus, span_parts, span_union, spans_touch
from greyheron.core.rules import Rule
from greyheron.model.document import Device
from greyheron.model.names import PORTS, TCP, UDP, UDP_SERVICES
from greyheron.model.notation.terms import read_ports
from greyheron.model.services import LINE_PORTS, OWN_SERVICES, Request
from greyheron.model.values import Family, LineKind


@dataclass(frozen=True, slots=True)
class ServiceSet:
    """Some services of one protocol, or some protocols.

    spans:  destination ports; for ICMP types and codes as `type * 256 + code`; else protocol numbers
    """

    tag: Tag
    spans: Spans

    def first(self, family: Family) -> Request:
        """One of them."""
        number = self.spans[0][0]
        match self.tag:
            case Tag.TCP:
                return Request(TCP, number)
            case Tag.UDP:
                return Request(UDP, number)
            case Tag.ICMP:
                return Request(family.icmp, icmp_type=number >> 8, icmp_code=number & EVERY_CODE)
        return Request(number)


def meant(words: Iterable[str], device: Device, names: Names, family: Family) -> tuple[ServiceSet, ...]:
    """What `words` ask of `device`; stand-ins and outside networks offer every service."""
    found: dict[Tag, list[tuple[int, int]]] = {tag: [] for tag in Tag}
    for word in words:
        for service in _meant(word, device, names, family):
            found[service.tag] += service.spans
    return tuple(ServiceSet(tag, span_union(spans)) for tag, spans in found.items() if spans)


def _meant(word: str, device: Device, names: Names, family: Family) -> list[ServiceSet]:
    everything = [ServiceSet(tag, spans) for tag, spans in whole(family).items()]
    if word == "any" or (word == OWN_SERVICES and device.traits.open_ended):
        return everything
    if word == OWN_SERVICES:
        own = [(Tag(service.protocol), (service.port, service.port)) for service in device.services]
        own += [(Tag.TCP, (port, port)) for line in device.lines for port in sorted(line.ports)]
        return [ServiceSet(tag, (span,)) for tag, span in own]
    head, slash, rest = word.partition("/")
    if not slash:
        return _by_name(word, device, family)
    if head in ("tcp", "udp"):
        terms = names.ports(read_ports(rest)) or ()
        return [ServiceSet(Tag(head), spans_of(terms))]
    numbers = [int(number) for number in rest.split("/")]
    if head == "icmp":
        return [ServiceSet(Tag.ICMP, (icmp_span(*numbers),))]
    tag = {TCP: Tag.TCP, UDP: Tag.UDP, family.icmp: Tag.ICMP}.get(numbers[0])
    return [
        ServiceSet(Tag.OTHER, ((numbers[0], numbers[0]),))
        if tag is None
        else ServiceSet(tag, whole(family)[tag])
    ]


def _by_name(word: str, device: Device, family: Family) -> list[ServiceSet]:
    own = [service for service in device.services if service.name.lower() == word]
    if own:
        return [ServiceSet(Tag(each.protocol), ((each.port, each.port),)) for each in own]
    if word == "ping":
        return [ServiceSet(Tag.ICMP, (icmp_span(family.echo[0], 0),))]
    if word in (Tag.TCP, Tag.UDP, Tag.ICMP):
        return [ServiceSet(Tag(word), whole(family)[Tag(word)])]
    if word in LINE_PORTS:
        offered = {port for line in device.lines if line.name == word for port in line.ports}
        ports = offered or LINE_PORTS[LineKind(word)]
        return [ServiceSet(Tag.TCP, span_union((port, port) for port in ports))]
    if word not in PORTS:
        return []
    tag = Tag.UDP if word in UDP_SERVICES else Tag.TCP
    return [ServiceSet(tag, ((PORTS[word], PORTS[word]),))]


def by_delivery(
    service: ServiceSet, device: Device, forwarding: ForwardingIndex, translated: Iterable[int]
) -> list[ServiceSet]:
    """`service` in parts that the device, every translation and, for ICMP, whoever answers treat alike."""
    if service.tag is Tag.ICMP:
        parts = span_parts(service.spans, [(icmp_span(kind),) for kind in forwarding.family.echo])
        return [ServiceSet(Tag.ICMP, part) for part in parts]
    if service.tag is Tag.OTHER:
        return [service]
    number = forwarding.number[device.name]
    protocol = TCP if service.tag is Tag.TCP else UDP
    ports = {each.port for each in device.services if each.protocol == service.tag.value}
    ports |= LOGIN_PORTS if service.tag is Tag.TCP and device.lines else frozenset()
    alike: dict[object, list[tuple[int, int]]] = {}
    for port in sorted({*ports, *translated}):
        if span_meet(service.spans, ((port, port),)):
            how: object = port if port in translated else forwarding.delivers(number, protocol, port)
            alike.setdefault(how, []).append((port, port))
    named = span_union(span for spans in alike.values() for span in spans)
    rest = span_minus(service.spans, named)
    if rest:
        how = forwarding.delivers(number, protocol, rest[0][0])
        alike.setdefault(how, []).extend(rest)
    return [ServiceSet(service.tag, span_union(spans)) for spans in alike.values()]


@dataclass(frozen=True, slots=True)
class Matched:
    """What of a protocol's services a rule can match, addresses and the sender's ports apart.

    out:  in packets on their way there;  returning:  in replies
    """

    rule: Rule
    out: Spans
    returning: Spans

    @classmethod
    def of(cls, rule: Rule, tag: Tag, family: Family) -> "Matched":
        whole = tag.numbers
        ways = {Way.OUT: whole, Way.RETURN: _replied(tag, family)}
        for field in rule.constraints:
            for way, spans in ways.items():
                own = field.services(rule, tag, family, way)
                if own is not whole:
                    ways[way] = own if spans is whole else span_meet(spans, own)
        return cls(rule, ways[Way.OUT], ways[Way.RETURN])

    def ways(self, service: ServiceSet) -> tuple[Way, ...]:
        """The ways on which the rule can match some packet of `service`."""
        spans = ((Way.OUT, self.out), (Way.RETURN, self.returning))
        return tuple([way for way, own in spans if spans_touch(own, service.spans)])


def _replied(tag: Tag, family: Family) -> Spans:
    """The services that are replied to (§8)."""
    if tag is Tag.ICMP:
        return (icmp_span(family.echo[0]),)
    return ALL_PORTS if tag.with_ports else ()


Matching = list[tuple[Matched, tuple[Way, ...]]]
"""The rules of a list that can match packets of a service, each with the ways on which it can."""


def telling(matching: Matching) -> frozenset[Spans]:
    """The sets of services by which rules tell one from another, on the way there or back."""
    return frozenset(spans for each, _ in matching for spans in (each.out, each.returning))


def telling_source_ports(matching: Matching) -> frozenset[Spans]:
    """The same for source ports, which are a reply's destination ports."""
    return frozenset(
        spans
        for each, ways in matching
        for way in ways
        for field in PORT_FIELDS
        if (spans := field.sender_ports(each.rule, way)) is not None
    )
