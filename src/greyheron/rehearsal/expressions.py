"""Entries in the terms of the kernel's packet filter, as its JSON interface takes them."""

from collections.abc import Iterable, Iterator, Sequence
from itertools import product
from typing import Any

from greyheron.core.intervals import span_union
from greyheron.core.lists.fields import unsaid
from greyheron.core.lists.fields.address import DestinationField, SourceField
from greyheron.core.lists.fields.dscp import DscpField
from greyheron.core.lists.fields.established import EstablishedField
from greyheron.core.lists.fields.flags import FlagsField
from greyheron.core.lists.fields.fragment import FragmentField
from greyheron.core.lists.fields.icmp import IcmpField
from greyheron.core.lists.fields.ports import DestinationPortField, SourcePortField
from greyheron.core.lists.fields.protocol import ProtocolField
from greyheron.core.lists.fields.services import ALL_PORTS
from greyheron.core.lists.rules import Rule
from greyheron.model.entry import (
    EVERY_MAC_BIT,
    AddressBlock,
    FrameMatch,
    MacBlock,
    NotPort,
    PortSpan,
    mac_text,
)
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP, protocol_name
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.values import Family

Expression = dict[str, Any]
_SAID = frozenset(
    {
        ProtocolField,
        SourceField,
        DestinationField,
        SourcePortField,
        DestinationPortField,
        IcmpField,
        EstablishedField,
        FlagsField,
        FragmentField,
        DscpField,
    }
)
_FRAGMENT_OFFSET = 0x1FFF


def match(left: Expression, right: Any, op: str = "==") -> Expression:
    return {"match": {"op": op, "left": left, "right": right}}


def meta(key: str) -> Expression:
    return {"meta": {"key": key}}


def payload(protocol: str, field: str) -> Expression:
    return {"payload": {"protocol": protocol, "field": field}}


def either(values: Sequence[Any]) -> Any:
    """One value, or any of several."""
    return values[0] if len(values) == 1 else {"set": list(values)}


def of_family(family: Family) -> Expression:
    return match(meta("nfproto"), family.value)


def matching(rule: Rule, family: Family) -> Iterator[list[Expression]]:
    """The conjunctions of which a packet must fulfil one to match the entry; none at all: none can.

    Raises DocumentError where the entry asks for something else than is said here.
    """
    entry = rule.entry
    what = unsaid(rule, _SAID)
    if what:
        told = f"entry {entry.number} asks for {what[0]}, which a rehearsal cannot say to the kernel yet"
        raise DocumentError([Problem(f"entry {entry.number}", told)])
    ip = "ip" if family is Family.IPV4 else "ip6"
    sides = [
        list(_addresses(blocks, payload(ip, field)))
        for blocks, field in ((rule.sources, "saddr"), (rule.destinations, "daddr"))
    ]
    behind: list[Expression] = []
    if entry.protocol is not None:
        behind.append(match(meta("l4proto"), entry.protocol))
        transport = protocol_name(entry.protocol, family)
        for ports, field in ((rule.source_ports, "sport"), (rule.destination_ports, "dport")):
            behind += _ports(ports, payload(transport, field))
    if entry.icmp is not None:
        icmp = "icmp" if family is Family.IPV4 else "icmpv6"
        behind.append(match(payload(icmp, "type"), entry.icmp.type))
        if entry.icmp.code is not None:
            behind.append(match(payload(icmp, "code"), entry.icmp.code))
    if entry.established:
        behind.append(match(_masked(payload("tcp", "flags"), TcpFlags.ACK | TcpFlags.RST), 0, "!="))
    if entry.flags is not None:
        asked = entry.flags.on | entry.flags.off
        behind += [
            match(meta("l4proto"), TCP),
            match(_masked(payload("tcp", "flags"), asked), entry.flags.on.value),
        ]
    if entry.fragment:
        behind.append(no_first_fragment(family))
    if entry.dscp is not None:
        spans = [
            each.low if each.low == each.high else {"range": [each.low, each.high]} for each in entry.dscp
        ]
        behind.append(match(payload(ip, "dscp"), either(spans)))
    for from_, to in product(*sides):
        yield [*from_, *to, *behind]


def no_first_fragment(family: Family) -> Expression:
    """Whether a packet is a fragment that is not the first (RFC 791, RFC 8200 4.5)."""
    if family is Family.IPV4:
        return match({"&": [payload("ip", "frag-off"), _FRAGMENT_OFFSET]}, 0, "!=")
    return match({"exthdr": {"name": "frag", "field": "frag-off"}}, 0, "!=")


def matching_frame(asked: FrameMatch) -> list[Expression]:
    """What a frame must fulfil to match an entry of a frame list."""
    found: list[Expression] = []
    if asked.ether_type is not None:
        found.append(match(meta("protocol"), asked.ether_type))
    for block, field in ((asked.source, "saddr"), (asked.destination, "daddr")):
        if block is not None:
            found.append(_mac(block, payload("ether", field)))
    return found


def _addresses(blocks: tuple[AddressBlock, ...] | None, left: Expression) -> Iterator[list[Expression]]:
    if blocks is None:
        yield []
        return
    prefixes = [block for block in blocks if block.length is not None]
    every = [block for block in prefixes if block.length == 0]
    if every:
        yield []
        return
    if prefixes:
        yield [match(left, either([_prefix(block) for block in _apart(prefixes)]))]
    for block in blocks:
        if block.length is None:
            mask = block.family.text(block.mask)
            yield [match({"&": [left, mask]}, block.family.text(block.value))]


def _apart(prefixes: Iterable[AddressBlock]) -> list[AddressBlock]:
    """Without those that lie within another: the kernel's sets hold none that overlap."""
    found: list[AddressBlock] = []
    for block in sorted(set(prefixes), key=lambda block: (block.first, -block.size)):
        if not found or block.first > found[-1].last:
            found.append(block)
    return found


def _prefix(block: AddressBlock) -> Any:
    address = block.family.text(block.value)
    return (
        address if block.length == block.family.bits else {"prefix": {"addr": address, "len": block.length}}
    )


def _ports(terms: tuple[PortSpan | NotPort, ...] | None, left: Expression) -> Iterator[Expression]:
    if terms is None:
        return
    if len(terms) == 1 and isinstance(terms[0], NotPort):
        yield match(left, terms[0].port, "!=")
        return
    spans: list[tuple[int, int]] = []
    for term in terms:
        if isinstance(term, NotPort):
            spans += [
                (low, high) for low, high in ((0, term.port - 1), (term.port + 1, 65535)) if low <= high
            ]
        else:
            spans.append((term.low, term.high))
    merged = span_union(spans)
    if merged != ALL_PORTS:
        yield match(left, either([low if low == high else {"range": [low, high]} for low, high in merged]))
    else:
        yield match(left, {"range": [0, 65535]})  # a fragment has no port at all


def _masked(left: Expression, flags: TcpFlags) -> Expression:
    return {"&": [left, flags.value]}


def _mac(block: MacBlock, left: Expression) -> Expression:
    if block.mask == EVERY_MAC_BIT:
        return match(left, mac_text(block.value))
    return match({"&": [left, mac_text(block.mask)]}, mac_text(block.value))
