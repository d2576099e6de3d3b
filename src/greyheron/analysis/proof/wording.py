"""Sides, services and numbers of a proof in words, and a flow for one of its conversations."""

from collections.abc import Sequence

from greyheron.analysis.proof.answers import EPHEMERAL, AddressParty, Parties, ServicePorts
from greyheron.analysis.proof.services import ServiceSet
from greyheron.core.lists.fields.services import ALL_DSCP, ALL_PORTS, ALL_PROTOCOLS, Tag, whole
from greyheron.core.walk.addressing import USUAL_SOURCE_PORT
from greyheron.model.flow import Flow, FlowEnd
from greyheron.model.header import DscpSpan, TcpFlags
from greyheron.model.names import icmp_name, port_name, protocol_name
from greyheron.model.services import Request, written
from greyheron.model.values import Family


def flow_between(
    family: Family, source: AddressParty, destination: AddressParty, request: Request, port: int
) -> Flow:
    """The conversation as a test flow would write it."""
    with_port = request.port is not None and port != USUAL_SOURCE_PORT
    ends = [_end(family, party) for party in (source, destination)]
    dscp = DscpSpan(request.dscp, request.dscp) if request.dscp else None
    return Flow(
        ends[0],
        ends[1],
        written(request, family),
        port if with_port else None,
        request.flags,
        request.fragment,
        dscp,
    )


def _end(family: Family, party: AddressParty) -> FlowEnd:
    address = family.text(party.region[0].first)
    if party.translated:
        return FlowEnd(None, address)
    if party.drawn:
        return FlowEnd(party.device, address)
    return FlowEnd(None, f"{address}/{party.device.partition('/')[2]}")


MOST_NAMED = 6


def side_words(side: Parties, most: int = MOST_NAMED) -> list[str]:
    """Everyone of a side, each in a few words."""
    found = [party_words(party) for party in side]
    return found if len(found) <= most else [*found[: most - 1], f"{len(found) - most + 1} more"]


def party_words(party: AddressParty) -> str:
    if party.every and not party.itself:
        return party.device if party.drawn else f"any other host on {party.device}"
    blocks = [str(block) for block in party.region]
    shown = ", ".join(blocks[:MOST_NAMED]) + (
        f" and {len(blocks) - MOST_NAMED} more" * (len(blocks) > MOST_NAMED)
    )
    if party.itself:
        return f"{party.device} itself ({shown})"
    return f"{party.device} ({shown})" if party.drawn else f"a host at {shown}"


def asking_words(asking: ServicePorts, family: Family) -> str:
    ports = asking.source_ports
    usual = not ports or ports in (ALL_PORTS, EPHEMERAL)
    return service_words(asking.service, family) + ("" if usual else f" from port {span_words(ports)}")


def service_words(service: ServiceSet, family: Family) -> str:
    """“tcp/443 (https)”, “fragments of udp”, “tcp with SYN+FIN”; code points as far as not all are meant."""
    words = _number_words(service, family)
    if service.tag is Tag.FRAGMENT:
        words = f"fragments of {words}"
    if service.flags is not None:
        some = [_flag_words(low) for low, high in service.flags for low in range(low, high + 1)]
        words += f" with {' or '.join(some[:MOST_NAMED])}" + (
            f" and {len(some) - MOST_NAMED} more" * (len(some) > MOST_NAMED)
        )
    return words if service.dscp == ALL_DSCP else f"{words} dscp {span_words(service.dscp)}"


def _flag_words(number: int) -> str:
    return "+".join(TcpFlags(number).names) or "no flags"


def _number_words(service: ServiceSet, family: Family) -> str:
    if service.tag is Tag.FRAGMENT and service.spans == ALL_PROTOCOLS:
        return "every protocol"
    if service.tag in (Tag.OTHER, Tag.FRAGMENT):
        if service.spans == whole(family)[Tag.OTHER]:
            return "every other protocol"
        names = [protocol_name(low, family) for low, high in service.spans if low == high]
        names += [f"protocols {low}–{high}" for low, high in service.spans if low < high]
        return ", ".join(names)
    if service.spans == ALL_PORTS:
        return service.tag
    if service.tag is Tag.ICMP:
        return ", ".join(_icmp_words(low, high, family) for low, high in service.spans)
    if len(service.spans) == 1 and service.spans[0][0] == service.spans[0][1]:
        port = service.spans[0][0]
        name = port_name(port)
        return f"{service.tag}/{port}" + (f" ({name})" if name else "")
    return f"{service.tag}/{span_words(service.spans)}"


def _icmp_words(low: int, high: int, family: Family) -> str:
    kind = low >> 8
    if high >> 8 != kind:
        return f"icmp types {kind}–{high >> 8}"
    if (kind, low & 255, high & 255) == (family.echo[0], 0, 0):
        return "ping"
    whole = low & 255 == 0 and high & 255 == 255
    name = icmp_name(family, kind, None if whole else low & 255) or f"icmp/{kind}"
    return name if whole or name != f"icmp/{kind}" else f"icmp/{kind}/{low & 255}"


def span_words(spans: Sequence[tuple[int, int]]) -> str:
    return ",".join(str(low) if low == high else f"{low}-{high}" for low, high in spans)
