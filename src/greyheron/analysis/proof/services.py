"""Services as sets: what a requirement's words mean, and where a device or a list tells them apart."""

from collections.abc import Iterable, Mapping

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.intervals import (
    Spans,
    span_meet,
    span_minus,
    span_parts,
    span_size,
    span_union,
    spans_touch,
    within,
)
from greyheron.core.lists.fields import KIND_FIELDS, PORT_FIELDS
from greyheron.core.lists.fields.dscp import spans_of_terms
from greyheron.core.lists.fields.ports import spans_of
from greyheron.core.lists.fields.services import (
    ALL_DSCP,
    ALL_PORTS,
    EVERY_CODE,
    HeaderPart,
    Tag,
    icmp_span,
    spans_where,
    whole,
)
from greyheron.core.lists.resolved import Names
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet, Way
from greyheron.core.walk.delivery import LOGIN_PORTS
from greyheron.model.device import Device
from greyheron.model.header import TcpFlags
from greyheron.model.names import PORTS, TCP, UDP, UDP_SERVICES
from greyheron.model.notation.terms import read_ports
from greyheron.model.requirement import RequestedServices
from greyheron.model.services import LINE_PORTS, OWN_SERVICES, Request
from greyheron.model.values import Expectation, Family, LineKind


class ServiceSet(Struct, frozen=True):
    """Some services of one protocol, or some protocols.

    spans:  destination ports; for ICMP types and codes as `type * 256 + code`; else protocol numbers
    flags:  of single TCP packets; None: conversations
    """

    tag: Tag
    spans: Spans
    flags: Spans | None = None
    dscp: Spans = ALL_DSCP

    def header(self, part: HeaderPart) -> Spans | None:
        """Its flags or code points."""
        return self.flags if part is HeaderPart.FLAGS else self.dscp

    def having(self, part: HeaderPart, spans: Spans) -> "ServiceSet":
        """The same with other flags or code points."""
        return replace(self, flags=spans) if part is HeaderPart.FLAGS else replace(self, dscp=spans)

    def holds(self, packet: Packet) -> bool:
        """Whether a conversation that begins with a packet is about one of them."""
        whole_packet = {TCP: Tag.TCP, UDP: Tag.UDP, packet.family.icmp: Tag.ICMP}.get(
            packet.protocol, Tag.OTHER
        )
        tag = Tag.FRAGMENT if packet.fragment else whole_packet
        number = packet.destination_port if tag.with_ports else packet.protocol
        if tag is Tag.ICMP:
            number = (packet.icmp_type or 0) << 8 | (packet.icmp_code or 0)
        return (
            tag is self.tag
            and number is not None
            and within(self.spans, number)
            and within(self.dscp, packet.dscp)
            and (
                packet.opens or tag is not Tag.TCP
                if self.flags is None
                else within(self.flags, packet.flags.value)
            )
        )

    @property
    def count(self) -> int:
        """How many they are; code points are not told apart."""
        return span_size(self.spans) * (1 if self.flags is None else span_size(self.flags))

    def first(self, family: Family) -> Request:
        """One of them."""
        number, dscp = self.spans[0][0], self.dscp[0][0]
        match self.tag:
            case Tag.TCP:
                flags = None if self.flags is None else TcpFlags(self.flags[0][0])
                return Request(TCP, number, flags=flags, dscp=dscp)
            case Tag.UDP:
                return Request(UDP, number, dscp=dscp)
            case Tag.ICMP:
                return Request(family.icmp, icmp_type=number >> 8, icmp_code=number & EVERY_CODE, dscp=dscp)
        return Request(number, fragment=self.tag is Tag.FRAGMENT, dscp=dscp)


def meant(
    asks: RequestedServices,
    device: Device,
    names: Names,
    family: Family,
    expect: Expectation = Expectation.BLOCK,
) -> tuple[ServiceSet, ...]:
    """What is asked of `device`; stand-ins and outside networks offer every service.

    expect:  to be let through, `any`, `tcp` and `udp` mean what the device has (§10)
    """
    found: dict[Tag, list[tuple[int, int]]] = {tag: [] for tag in Tag}
    header = asks.header
    opened = expect is Expectation.PASS and not header.fragment and not device.traits.open_ended
    for word in asks.services:
        for service in (
            _opened(word, device, names, family)
            if opened and word in OPEN_WORDS
            else _meant(word, device, names, family)
        ):
            found[service.tag] += service.spans
    dscp = ALL_DSCP if header.dscp is None else spans_of_terms(header.dscp)
    services = {tag: span_union(spans) for tag, spans in found.items() if spans}
    if header.fragment:
        return (ServiceSet(Tag.FRAGMENT, _protocols(services, family), dscp=dscp),)
    if header.flags is not None:
        flags = spans_where(header.flags.matches)
        return (ServiceSet(Tag.TCP, services[Tag.TCP], flags, dscp),) if Tag.TCP in services else ()
    return tuple(ServiceSet(tag, spans, dscp=dscp) for tag, spans in services.items())


def _protocols(services: Mapping[Tag, Spans], family: Family) -> Spans:
    """The protocols of services."""
    return span_union(
        span
        for tag, spans in services.items()
        for number in (tag.number(family),)
        for span in (spans if number is None else ((number, number),))
    )


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


OPEN_WORDS = ("any", Tag.TCP.value, Tag.UDP.value)
"""The words for whole protocols of which a device has some services and refuses the rest."""


def _opened(word: str, device: Device, names: Names, family: Family) -> list[ServiceSet]:
    """What `device` has of the services that one of OPEN_WORDS asks for."""
    own = _meant(OWN_SERVICES, device, names, family)
    if word == "any":
        return [*own, *_by_name("ping", device, family)]
    return [service for service in own if service.tag.value == word]


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
        return [replace(service, spans=part) for part in parts]
    if service.tag is Tag.OTHER:
        return [service]
    if service.tag is Tag.FRAGMENT:
        numbers = [number for tag in Tag if (number := tag.number(forwarding.family)) is not None]
        parts = span_parts(service.spans, [((number, number),) for number in numbers])
        return [replace(service, spans=part) for part in parts]
    if service.flags is not None:
        opening = spans_where(lambda flags: Packet(forwarding.family, 0, 0, TCP, flags=flags).opens)
        if len(flags := span_parts(service.flags, [opening])) > 1:
            each = (replace(service, flags=part) for part in flags)
            return [part for one in each for part in by_delivery(one, device, forwarding, translated)]
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
    return [replace(service, spans=span_union(spans)) for spans in alike.values()]


class Matched(Struct, frozen=True):
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


def telling_headers(matching: Matching, part: HeaderPart) -> frozenset[Spans]:
    """The same for a part of the header."""
    return frozenset(
        spans
        for each, _ in matching
        for field in KIND_FIELDS
        if (spans := field.header_spans(each.rule, part)) is not None
    )


def telling_source_ports(matching: Matching) -> frozenset[Spans]:
    """The same for source ports, which are a reply's destination ports."""
    return frozenset(
        spans
        for each, ways in matching
        for way in ways
        for field in PORT_FIELDS
        if (spans := field.sender_ports(each.rule, way)) is not None
    )
