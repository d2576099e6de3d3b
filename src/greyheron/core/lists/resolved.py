"""Access lists with every name in them resolved, ready to be matched."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cache, cached_property
from typing import Any
from weakref import ReferenceType, ref

from greyheron.core.intervals import Blocks
from greyheron.core.lists.fields import FIELDS, KIND_FIELDS
from greyheron.core.lists.rules import Rule
from greyheron.core.network.addresses import block_of, held
from greyheron.core.packet import Packet
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import (
    AddressBlock,
    AddressTerm,
    Entry,
    NamedAddresses,
    NamedPorts,
    NotPort,
    PortSpan,
    PortTerm,
)
from greyheron.model.header import TcpFlags
from greyheron.model.item import family_of
from greyheron.model.names import TCP
from greyheron.model.values import Action, Family, ListKind

_OPENING = tuple(
    TcpFlags.SYN | ecn for ecn in (TcpFlags.NONE, TcpFlags.ECE, TcpFlags.CWR, TcpFlags.ECE | TcpFlags.CWR)
)
"""The control bits that a first packet may have: with ECN set up or without (RFC 3168 6.1.1)."""


@dataclass(frozen=True, eq=False)
class ResolvedList:
    """A list with its names looked up; only itself is equal to it, so that what is made of it can be kept."""

    name: str
    family: Family
    kind: ListKind
    rules: tuple[Rule, ...]

    @cached_property
    def tells_later_packets(self) -> bool:
        """Whether it tells the first packet of a TCP connection from later ones the same way."""
        return any(self._tells_from_ack(flags) for flags in _OPENING)

    @cached_property
    def tells_later_replies(self) -> bool:
        """Whether it tells the first answer of a TCP connection from later packets the same way."""
        return self._tells_from_ack(TcpFlags.SYN | TcpFlags.ACK)

    def _tells_from_ack(self, flags: TcpFlags) -> bool:
        first, later = (Packet(self.family, 0, 0, TCP, flags=each) for each in (flags, TcpFlags.ACK))
        return any(
            field.matches(rule, first) != field.matches(rule, later)
            for field in KIND_FIELDS
            for rule in {field.says(rule): rule for rule in self.rules}.values()
        )


@dataclass(frozen=True, eq=False)
class FrameList:
    """A frame list with the entries that are there (§14); only itself is equal to it."""

    name: str
    entries: tuple[Entry, ...]


ListsKey = tuple[ReferenceType[Any] | None, ...]
"""Lists as what something is looked up by: it does not keep them, nor the tables that are made of them."""


def key_of_lists(lists: "Iterable[ResolvedList | FrameList | None]") -> ListsKey:
    """A key for these very lists, in this order."""
    return tuple(None if each is None else ref(each) for each in lists)


class Names:
    """What `@name` stands for in one network: an address set, else every address of a device."""

    def __init__(self, network: Network) -> None:
        self._sets = {group.name: group for group in network.address_sets}
        self._devices = {device.name: device for device in network.devices}
        self._ports = {group.name: group for group in network.port_sets}

    def addresses(self, term: AddressTerm | None, family: Family) -> Blocks | None:
        """What a term means; the same object for the same name, however often it is used."""
        if term is None:
            return None
        if not isinstance(term, NamedAddresses):
            return Blocks((term,))
        return self._meant(term.name, family)

    @cache  # noqa: B019 (lives as long as the lists that are resolved)
    def _meant(self, name: str, family: Family) -> Blocks:
        if name in self._sets:
            return Blocks(self._sets[name].blocks(family))
        device = self._devices[name]
        own = (
            AddressBlock(family, each.address, family.every_bit)
            for interface in device.interfaces
            for each in held(device, interface, family)
        )
        return Blocks([*own, *(block_of(each) for each in device.prefixes if family_of(each) is family)])

    def ports(self, terms: tuple[PortTerm, ...]) -> tuple[PortSpan | NotPort, ...] | None:
        if not terms:
            return None
        found: list[PortSpan | NotPort] = []
        for term in terms:
            members = self._ports[term.name].terms if isinstance(term, NamedPorts) else (term,)
            found += [member for member in members if not isinstance(member, NamedPorts)]
        return tuple(found)


def resolve(access_list: AccessList, names: Names, active: frozenset[str] | None = None) -> ResolvedList:
    """`access_list`, no frame list, with its names looked up. The document has been checked: all exist.

    active:  the periods that are on: entries of others are not there (§12); None: all entries are
    """
    family = access_list.family
    assert family is not None
    rules = tuple(rule_of(entry, family, names) for entry in _there(access_list, active))
    return ResolvedList(access_list.name, family, access_list.kind, rules)


def _there(access_list: AccessList, active: frozenset[str] | None) -> Iterator[Entry]:
    return (entry for entry in access_list.body.entries if active is None or entry.there(active))


def rule_of(entry: Entry, family: Family, names: Names) -> Rule:
    return Rule(
        entry,
        names.addresses(entry.source, family),
        names.addresses(entry.destination, family),
        names.ports(entry.source_ports),
        names.ports(entry.destination_ports),
    ).among(FIELDS)


class ResolvedLists:
    """The lists of one network, each resolved once."""

    def __init__(
        self, network: Network, known: "ResolvedLists | None" = None, active: frozenset[str] = frozenset()
    ) -> None:
        """known: of a network whose lists may be the same, to take over what is;  active:  see `resolve`"""
        self._network, self.active = network, active
        before = known._found if known is not None and known._names_the_same(network) else {}
        names = Names(network)
        self._found: dict[str, tuple[AccessList, ResolvedList | FrameList]] = {}
        for access_list in network.lists:
            old, resolved = before.get(access_list.name, (None, None))
            same = old is access_list or old == access_list
            if resolved is None or not same or self._told_apart(access_list, known):
                resolved = (
                    FrameList(access_list.name, tuple(_there(access_list, active)))
                    if access_list.family is None
                    else resolve(access_list, names, active)
                )
            self._found[access_list.name] = access_list, resolved

    def _told_apart(self, access_list: AccessList, known: "ResolvedLists | None") -> bool:
        """Whether other entries of a list are there than in `known`."""
        if known is None or known.active == self.active or not access_list.body.periods:
            return False
        return any(
            entry.there(self.active) is not entry.there(known.active) for entry in access_list.body.entries
        )

    def __getitem__(self, name: str) -> ResolvedList | FrameList:
        return self._found[name][1]

    def _names_the_same(self, network: Network) -> bool:
        own = self._network
        return (own.devices, own.address_sets, own.port_sets) == (
            network.devices,
            network.address_sets,
            network.port_sets,
        )

    def placed(self) -> dict[tuple[AttachmentPoint, Family], ResolvedList]:
        """What stands at each attachment point, by family."""
        return {
            (point, resolved.family): resolved
            for point, resolved in self._placements()
            if isinstance(resolved, ResolvedList)
        }

    def placed_frames(self) -> dict[AttachmentPoint, FrameList]:
        """The frame lists at each attachment point."""
        return {point: found for point, found in self._placements() if isinstance(found, FrameList)}

    def _placements(self) -> Iterator[tuple[AttachmentPoint, ResolvedList | FrameList]]:
        for placed in self._network.placements:
            yield AttachmentPoint(placed.device, placed.at, placed.direction), self[placed.list]


def permitting_all(resolved: ResolvedList) -> ResolvedList:
    """A list by the same name that permits everything."""
    return replace(resolved, rules=(Rule(Entry(10, Action.PERMIT), None, None, None, None),))
