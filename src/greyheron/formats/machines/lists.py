"""Rules of a packet filter as access lists: an entry for each way to meet a rule, sets for many addresses."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.intervals import Spans, prefixes_of, span_size
from greyheron.formats.machines.conditions import Conditions
from greyheron.formats.machines.filter_rules import FilterRule, FilterVerdict
from greyheron.model.document import AccessList, AddressSet
from greyheron.model.entry import (
    AddressTerm,
    Entry,
    IcmpMatch,
    ListBody,
    NamedAddresses,
    PortSpan,
    PortTerm,
)
from greyheron.model.header import DscpSpan
from greyheron.model.names import WITH_PORTS
from greyheron.model.values import Action, Family, ListKind

STEP = 10
MOST_PROTOCOLS = 16
MOST_ENTRIES = 20_000
_EVERY_PORT: Spans = ((0, 65535),)


class CannotWrite(Exception):
    """A rule that no entry can say; says why."""


@dataclass
class AddressSets:
    """The sets of one machine's lists, made as they are needed; `known` are those with names of their own."""

    machine: str
    known: Mapping[tuple[Family, Spans], str]
    made: dict[str, AddressSet] = field(default_factory=dict)
    _names: dict[tuple[Family, Spans], str] = field(default_factory=dict)

    def term(self, family: Family, spans: Spans | None) -> AddressTerm | None:
        """What an entry says for addresses: a block, a set, or nothing for all."""
        if spans is None or span_size(spans) == family.every_bit + 1:
            return None
        blocks = prefixes_of(family, spans)
        if len(blocks) == 1:
            return blocks[0]
        key = family, spans
        if key not in self._names:
            name = f"{self.machine}-{self.known.get(key, f'set-{len(self.made) + 1}')}"
            self._names[key] = name
            self.made[name] = AddressSet(name=name, members=tuple(map(str, blocks)))
        return NamedAddresses(self._names[key])


class WrittenList(Struct, frozen=True):
    """A list.

    rules:  those that made just one entry, by its number
    not_said:  what entries do not say exactly, and why
    """

    access_list: AccessList
    rules: Mapping[int, FilterRule]
    not_said: tuple[str, ...] = ()


def list_of(
    name: str, family: Family, rules: Sequence[FilterRule], sets: AddressSets, answers: bool, note: str
) -> WrittenList:
    """The list that decides as `rules` do; where no entry can say a rule, one that may not be there.

    answers:  whether the device answers what its lists deny, so that other denials are silent
    """
    entries: list[Entry] = []
    of: dict[int, FilterRule] = {}
    not_said: list[str] = []
    for rule in rules:
        try:
            made = list(_entries(rule, family, sets, answers))
        except CannotWrite as error:
            not_said.append(f"{error}: whether it decides is not known")
            made = list(_entries(_weaker(rule), family, sets, answers))
        for each in made:
            number = (len(entries) + 1) * STEP
            entries.append(replace(each, number=number))
            if len(made) == 1:
                of[number] = rule
        if len(entries) > MOST_ENTRIES:
            not_said.append(
                f"its rules come to more than {MOST_ENTRIES} entries: what the rest decides is not known"
            )
            for action in Action:
                entries.append(Entry((len(entries) + 1) * STEP, action, maybe=True))
            break
    access_list = AccessList(
        name=name, family=family, kind=ListKind.EXTENDED, note=note, body=ListBody(tuple(entries))
    )
    return WrittenList(access_list, of, tuple(not_said))


def _weaker(rule: FilterRule) -> FilterRule:
    """A rule that may decide about all that the given one does, by addresses alone."""
    asked = rule.conditions
    plain = Conditions(family=asked.family, source=asked.source, destination=asked.destination)
    return replace(rule, conditions=plain, maybe=True)


def _entries(rule: FilterRule, family: Family, sets: AddressSets, answers: bool) -> Iterator[Entry]:
    asked = rule.conditions
    permits = rule.verdict is FilterVerdict.ACCEPT
    source, destination = sets.term(family, asked.source), sets.term(family, asked.destination)
    for protocol, icmp in product(_protocols(rule, asked, family), _icmp(asked)):
        yield Entry(
            0,
            Action.PERMIT if permits else Action.DENY,
            protocol,
            source,
            destination,
            _ports(asked.source_ports),
            _ports(asked.destination_ports),
            icmp,
            flags=asked.flags,
            dscp=None if asked.dscp is None else tuple(DscpSpan(*span) for span in asked.dscp),
            log=rule.log,
            silent=answers and rule.verdict is FilterVerdict.DROP,
            note=rule.note,
            maybe=rule.maybe,
        )


def _protocols(rule: FilterRule, asked: Conditions, family: Family) -> list[int | None]:
    ported = any(ports is not None for ports in (asked.source_ports, asked.destination_ports))
    spans = asked.protocol
    if spans is None or spans == ((0, 255),):
        return [*sorted(WITH_PORTS)] if ported else [None]
    found = [number for low, high in spans for number in range(low, high + 1)]
    if ported:
        strange = [number for number in found if number not in WITH_PORTS]
        if strange:
            raise CannotWrite(f"{rule.where} asks for ports of protocol {strange[0]}")
    if len(found) > MOST_PROTOCOLS:
        raise CannotWrite(f"{rule.where} is for {len(found)} protocols")
    if asked.icmp is not None and found != [family.icmp]:
        raise CannotWrite(f"{rule.where} asks for ICMP types of another protocol")
    return [*found]


def _icmp(asked: Conditions) -> list[IcmpMatch | None]:
    if asked.icmp is None:
        return [None]
    return [*sorted(asked.icmp, key=lambda each: (each.type, each.code or -1))]


def _ports(spans: Spans | None) -> tuple[PortTerm, ...]:
    if spans is None or spans == _EVERY_PORT:
        return ()
    return tuple(PortSpan(low, high) for low, high in spans)
