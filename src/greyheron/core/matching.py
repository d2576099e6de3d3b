"""What a list does with a packet: the first entry that matches decides (2-semantics §3)."""

from dataclasses import dataclass
from enum import StrEnum

from greyheron.core.lists import ResolvedList, Rule
from greyheron.core.packet import Packet, TcpFlags
from greyheron.model.entry import AddressBlock, NotPort, PortSpan
from greyheron.model.names import TCP, WITH_PORTS
from greyheron.model.values import Action, Family

NEIGHBOUR_DISCOVERY = range(133, 137)


class Field(StrEnum):
    """What an entry looks at, in the order in which it is compared."""

    PROTOCOL = "protocol"
    SOURCE = "source"
    DESTINATION = "destination"
    SOURCE_PORT = "source port"
    DESTINATION_PORT = "destination port"
    ICMP = "ICMP type"
    ESTABLISHED = "established"


@dataclass(frozen=True, slots=True)
class Mismatch:
    """The first field of an entry that did not match."""

    entry: int
    field: Field


@dataclass(frozen=True, slots=True)
class Decision:
    """What one list did with one packet.

    entry:  the deciding entry's number, or None for what stands unseen at the end
    action:  what it decided
    silent, log:  as the entry says
    passed_over:  every earlier entry with the first field that did not match, in order
    """

    entry: int | None
    action: Action
    silent: bool
    log: bool
    passed_over: tuple[Mismatch, ...]

    @property
    def denies(self) -> bool:
        return self.action is Action.DENY


def decide(access_list: ResolvedList, packet: Packet) -> Decision:
    """The first entry of `access_list` that matches `packet`, or the implicit end of the list."""
    passed_over: list[Mismatch] = []
    for rule in access_list.rules:
        field = first_mismatch(rule, packet)
        if field is None:
            entry = rule.entry
            return Decision(entry.number, entry.action, entry.silent, entry.log, tuple(passed_over))
        passed_over.append(Mismatch(rule.entry.number, field))
    discovers = (
        access_list.family is Family.IPV6
        and packet.protocol == Family.IPV6.icmp
        and packet.icmp_type in NEIGHBOUR_DISCOVERY
    )
    action = Action.PERMIT if discovers else Action.DENY
    return Decision(None, action, silent=False, log=False, passed_over=tuple(passed_over))


def first_mismatch(rule: Rule, packet: Packet) -> Field | None:
    """The first field of `rule` that `packet` does not match, or None when it matches in all."""
    entry = rule.entry
    if entry.protocol is not None and entry.protocol != packet.protocol:
        return Field.PROTOCOL
    if not _holds(rule.sources, packet.source):
        return Field.SOURCE
    if not _holds(rule.destinations, packet.destination):
        return Field.DESTINATION
    if not _admits(rule.source_ports, packet.source_port, packet.protocol):
        return Field.SOURCE_PORT
    if not _admits(rule.destination_ports, packet.destination_port, packet.protocol):
        return Field.DESTINATION_PORT
    if entry.icmp is not None:
        code = entry.icmp.code
        same_protocol = packet.protocol == packet.family.icmp
        if not same_protocol or entry.icmp.type != packet.icmp_type or code not in (None, packet.icmp_code):
            return Field.ICMP
    if entry.established and not (packet.protocol == TCP and packet.flags & (TcpFlags.ACK | TcpFlags.RST)):
        return Field.ESTABLISHED
    return None


def _holds(blocks: tuple[AddressBlock, ...] | None, address: int | None) -> bool:
    if blocks is None:
        return True
    return address is not None and any(block.holds(address) for block in blocks)


def _admits(terms: tuple[PortSpan | NotPort, ...] | None, port: int | None, protocol: int) -> bool:
    if terms is None:
        return True
    if port is None or protocol not in WITH_PORTS:
        return False
    return any(
        term.port != port if isinstance(term, NotPort) else term.low <= port <= term.high for term in terms
    )
