"""Services as sets: what a requirement's words mean, and where a device or a list tells them apart."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from greyheron.analysis.proof.regions import Spans, span_meet, span_minus, span_parts, span_union
from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.bulk.tables import port_spans
from greyheron.core.delivery import LOGIN_PORTS
from greyheron.core.lists import Names, Rule
from greyheron.model.document import Device
from greyheron.model.entry import NotPort, PortSpan
from greyheron.model.names import PORTS, TCP, UDP, UDP_SERVICES
from greyheron.model.notation.terms import read_ports
from greyheron.model.services import LINE_PORTS, OWN_SERVICES, Request
from greyheron.model.values import Family, LineKind

ALL_PORTS: Spans = ((0, 65535),)
_EVERY_CODE = 255


class Tag(StrEnum):
    """Protocols as far as their services are told apart in different ways."""

    TCP = "tcp"
    UDP = "udp"
    ICMP = "icmp"
    OTHER = "protocol"

    @property
    def with_ports(self) -> bool:
        return self in (Tag.TCP, Tag.UDP)


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
                return Request(family.icmp, icmp_type=number >> 8, icmp_code=number & _EVERY_CODE)
        return Request(number)


def _icmp(kind: int, code: int | None = None) -> tuple[int, int]:
    return (kind << 8, kind << 8 | _EVERY_CODE) if code is None else (kind << 8 | code, kind << 8 | code)


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
        return [ServiceSet(Tag(head), span_union(port_spans(terms)))]
    numbers = [int(number) for number in rest.split("/")]
    if head == "icmp":
        return [ServiceSet(Tag.ICMP, (_icmp(*numbers),))]
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
        return [ServiceSet(Tag.ICMP, (_icmp(family.echo[0], 0),))]
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


def whole(family: Family) -> dict[Tag, Spans]:
    """Everything there is."""
    others = span_minus(((0, 255),), span_union((number, number) for number in (TCP, UDP, family.icmp)))
    return {Tag.TCP: ALL_PORTS, Tag.UDP: ALL_PORTS, Tag.ICMP: ALL_PORTS, Tag.OTHER: others}


def by_delivery(
    service: ServiceSet, device: Device, forwarding: ForwardingIndex, translated: Iterable[int]
) -> list[ServiceSet]:
    """`service` in parts that the device, every translation and, for ICMP, whoever answers treat alike."""
    if service.tag is Tag.ICMP:
        parts = span_parts(service.spans, [(_icmp(kind),) for kind in forwarding.family.echo])
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


def there(rule: Rule, service: ServiceSet, family: Family) -> bool:
    """Whether `rule` can match a packet on its way there, addresses and source ports apart."""
    spans = _forward(rule, service.tag, family)
    return bool(span_meet(service.spans, spans))


def back(rule: Rule, service: ServiceSet, family: Family) -> bool:
    """Whether `rule` can match a reply, addresses and the sender's port apart."""
    entry = rule.entry
    if service.tag.with_ports:
        if entry.protocol not in (None, TCP if service.tag is Tag.TCP else UDP) or entry.icmp is not None:
            return False
        if entry.established and service.tag is Tag.UDP:
            return False
        return rule.source_ports is None or bool(span_meet(service.spans, spans_of(rule.source_ports)))
    if service.tag is not Tag.ICMP or not span_meet(service.spans, (_icmp(family.echo[0]),)):
        return False
    reply = ServiceSet(Tag.ICMP, (_icmp(family.echo[1], 0),))
    return bool(span_meet(reply.spans, _forward(rule, Tag.ICMP, family)))


def _forward(rule: Rule, tag: Tag, family: Family) -> Spans:
    """What `rule` can match of a protocol's services."""
    entry = rule.entry
    with_ports = rule.source_ports is not None or rule.destination_ports is not None
    if tag.with_ports:
        number = TCP if tag is Tag.TCP else UDP
        if entry.protocol not in (None, number) or entry.icmp is not None:
            return ()
        if entry.established and tag is Tag.UDP:
            return ()
        return ALL_PORTS if rule.destination_ports is None else spans_of(rule.destination_ports)
    if with_ports or entry.established:
        return ()
    if tag is Tag.ICMP:
        if entry.protocol not in (None, family.icmp):
            return ()
        return ALL_PORTS if entry.icmp is None else (_icmp(entry.icmp.type, entry.icmp.code),)
    if entry.icmp is not None:
        return ()
    return ((0, 255),) if entry.protocol is None else ((entry.protocol, entry.protocol),)


def spans_of(terms: Iterable[PortSpan | NotPort]) -> Spans:
    """The ports that some of `terms` holds, joined."""
    return span_union(port_spans(terms))


def telling(rules: Iterable[Rule], service: ServiceSet, family: Family) -> frozenset[Spans]:
    """The sets of services by which rules tell one from another, on the way there or back."""
    found = {_forward(rule, service.tag, family) for rule in rules}
    if service.tag.with_ports:
        found |= {spans_of(rule.source_ports) for rule in rules if rule.source_ports is not None}
    return frozenset(found)


def telling_source_ports(rules: Iterable[Rule], service: ServiceSet, family: Family) -> frozenset[Spans]:
    """The same for source ports, which are a reply's destination ports."""
    out = (rule.source_ports for rule in rules if there(rule, service, family))
    home = (rule.destination_ports for rule in rules if back(rule, service, family))
    return frozenset(spans_of(terms) for terms in (*out, *home) if terms is not None)
