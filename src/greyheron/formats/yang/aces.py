"""Entries of a list as those of RFC 8519, each as many as it takes to say the same."""

from collections.abc import Iterator
from functools import lru_cache
from itertools import product
from typing import Any

from greyheron.core.intervals import prefixes_of, span_union
from greyheron.core.lists.fields import unsaid
from greyheron.core.lists.fields.address import DestinationField, SourceField
from greyheron.core.lists.fields.dscp import DscpField
from greyheron.core.lists.fields.established import EstablishedField
from greyheron.core.lists.fields.flags import FlagsField
from greyheron.core.lists.fields.icmp import IcmpField
from greyheron.core.lists.fields.ports import DestinationPortField, SourcePortField, spans_of
from greyheron.core.lists.fields.protocol import ProtocolField
from greyheron.core.lists.matching import NEIGHBOUR_DISCOVERY
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.model.entry import AddressBlock
from greyheron.model.header import EVERY_FLAG, TcpFlags
from greyheron.model.names import TCP, WITH_PORTS
from greyheron.model.values import Action, Family

MODULE = "ietf-access-control-list"
MOST_OF_ONE = 4096
"""So many entries are written for one of ours."""
MOST_SCATTERED = 10
"""A wildcard with up to so many scattered bits is written as prefixes."""
_EVERY_PORT = ((0, 65535),)


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
        DscpField,
    }
)
"""What the standard can say of a packet."""


class CannotExpand(Exception):
    """An entry that the standard cannot say; says which and why."""


def aces_of(access_list: ResolvedList) -> list[dict[str, Any]]:
    """The entries, and the implicit end said aloud. Raises CannotExpand."""
    found: list[dict[str, Any]] = []
    for rule in access_list.rules:
        ways = list(_matches(rule, access_list.family))
        if len(ways) > MOST_OF_ONE:
            raise CannotExpand(f"entry {rule.entry.number} comes to {len(ways)} entries")
        for number, matches in enumerate(ways, 1):
            name = str(rule.entry.number) if len(ways) == 1 else f"{rule.entry.number}.{number}"
            found.append(_ace(name, matches, _forwarding(rule), rule.entry.log))
    if access_list.family is Family.IPV6:
        for kind in sorted(NEIGHBOUR_DISCOVERY):
            matches = {"ipv6": {"protocol": Family.IPV6.icmp}, "icmp": {"type": kind}}
            found.append(_ace(f"end.{kind}", matches, "accept", False))
    found.append(_ace("end", {}, "reject", False))
    return found


def _ace(name: str, matches: dict[str, Any], forwarding: str, log: bool) -> dict[str, Any]:
    actions = {"forwarding": f"{MODULE}:{forwarding}"}
    if log:
        actions["logging"] = f"{MODULE}:log-syslog"
    return {"name": name} | ({"matches": matches} if matches else {}) | {"actions": actions}


def _forwarding(rule: Rule) -> str:
    if rule.entry.action is Action.PERMIT:
        return "accept"
    return "drop" if rule.entry.silent else "reject"


def _matches(rule: Rule, family: Family) -> Iterator[dict[str, Any]]:
    entry = rule.entry
    what = [*unsaid(rule, _SAID), *["during"] * (entry.during is not None), *["maybe"] * entry.maybe]
    if what:
        raise CannotExpand(f"entry {entry.number} asks for “{what[0]}”")
    protocols = [entry.protocol]
    own_ports, other_ports = _ports(rule.source_ports), _ports(rule.destination_ports)
    if entry.protocol is None and (own_ports, other_ports) != ([None], [None]):
        protocols = [*sorted(WITH_PORTS)]
    dscp: list[int | None] = [None]
    if entry.dscp is not None:
        dscp = [*(value for span in entry.dscp for value in range(span.low, span.high + 1))]
    sources, destinations = (
        [
            {} if block is None else {f"{key}-{family}-network": _written(block)}
            for block in _blocks(blocks, entry.number)
        ]
        for key, blocks in (("source", rule.sources), ("destination", rule.destinations))
    )
    icmp = None
    if entry.icmp is not None:
        icmp = {"type": entry.icmp.type} | ({} if entry.icmp.code is None else {"code": entry.icmp.code})
    services = product(protocols, dscp, own_ports, other_ports, _flags(rule))
    for protocol, code, own, port, flags in services:
        first = {} if protocol is None else {"protocol": protocol}
        if code is not None:
            first["dscp"] = code
        layer: dict[str, Any] = {
            f"{key}-port": _range(*span)
            for key, span in (("source", own), ("destination", port))
            if span is not None
        }
        if flags is not None:
            layer["flags"] = flags
        behind: dict[str, Any] = {"tcp" if protocol == TCP else "udp": layer} if layer else {}
        if icmp is not None:
            behind["icmp"] = icmp
        for source, destination in product(sources, destinations):
            header = {**first, **source, **destination}
            yield {str(family): header, **behind} if header else behind


def _flags(rule: Rule) -> list[str | None]:
    """Every header that is meant: what the standard says of flags is all of them, as of other fields."""
    entry = rule.entry
    if entry.flags is None and not entry.established:
        return [None]
    every = [TcpFlags(value) for value in range(EVERY_FLAG + 1)]
    return [
        " ".join(name.lower() for name in reversed(flags.names))
        for flags in every
        if (entry.flags is None or entry.flags.matches(flags))
        and (not entry.established or flags & (TcpFlags.ACK | TcpFlags.RST))
    ]


def _ports(terms: Any) -> list[tuple[int, int] | None]:
    if terms is None:
        return [None]
    spans = spans_of(terms)
    return [None] if spans == _EVERY_PORT else [*spans]


def _range(low: int, high: int) -> dict[str, Any]:
    return {"operator": "eq", "port": low} if low == high else {"lower-port": low, "upper-port": high}


def _blocks(blocks: tuple[AddressBlock, ...] | None, entry: int) -> list[AddressBlock | None]:
    """Prefixes that hold just these addresses. Raises CannotExpand."""
    if blocks is None:
        return [None]
    if len(blocks) == 1 and blocks[0].length is not None:
        return [blocks[0]]
    found: list[AddressBlock] = []
    for block in blocks:
        found += [block] if block.length is not None else _unscattered(block, entry)
    if not found:
        return []
    family = found[0].family
    return [*prefixes_of(family, span_union((each.first, each.last) for each in found))]


@lru_cache(maxsize=65536)
def _written(block: AddressBlock) -> str:
    """A prefix, with its length where it is one address too."""
    return f"{block.family.text(block.value)}/{block.length}"


def _unscattered(block: AddressBlock, entry: int) -> list[AddressBlock]:
    wildcard = block.mask ^ block.family.every_bit
    trailing = (~wildcard & (wildcard + 1)).bit_length() - 1
    bits = [bit for bit in range(trailing, block.family.bits) if wildcard >> bit & 1]
    if len(bits) > MOST_SCATTERED:
        raise CannotExpand(f"entry {entry} has a wildcard of {1 << len(bits)} prefixes")
    length = block.family.bits - trailing
    return [
        AddressBlock.prefix(block.family, block.value | sum(1 << bit for bit in way), length)
        for count in range(1 << len(bits))
        for way in ([bit for place, bit in enumerate(bits) if count >> place & 1],)
    ]
