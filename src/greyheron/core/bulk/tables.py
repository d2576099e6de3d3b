"""Decision tables: one list asked about very many packets at once (2-semantics §3).

Each field of a header falls into a class that no rule of the list can tell apart; for each class a row of
bits says which rules it satisfies. The lowest bit that the rows of all fields share is the first match.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from greyheron.core.bulk.headers import NO_PORT, NONE, Addresses, Headers, Ints, PacketKind, Words, split
from greyheron.core.lists import ResolvedList, Rule
from greyheron.core.matching import NEIGHBOUR_DISCOVERY
from greyheron.model.entry import AddressBlock, NotPort, PortSpan
from greyheron.model.names import TCP
from greyheron.model.values import Action, Family

_PORTS = 1 << 16
_WORD = 64
_FEW = 1 << 24
"""Up to so many numbers are marked in an array; beyond, they are sorted."""


class DecisionTable:
    """A resolved list ready for many packets.

    denies:  whether each index does: every rule in order, then what stands unseen at the end of the list
    entries:  the entry's number at each index, or NONE for what stands unseen
    """

    def __init__(self, access_list: ResolvedList) -> None:
        rules, family = access_list.rules, access_list.family
        discovery = int(family is Family.IPV6)  # permitted just before the implicit deny
        self._rules = rules
        self._family = family
        self._size = len(rules) + discovery
        self.entries = np.array([*(rule.entry.number for rule in rules), *[NONE] * (discovery + 1)])
        self.denies = np.array(
            [rule.entry.action is Action.DENY for rule in rules] + [False] * discovery + [True]
        )
        self._columns: dict[PacketKind, Words] = {}
        unseen = [None] * discovery
        self._sources = _AddressRows([*(rule.sources for rule in rules), *unseen], family)
        self._destinations = _AddressRows([*(rule.destinations for rule in rules), *unseen], family)
        self._source_ports = _PortRows([*(rule.source_ports for rule in rules), *unseen])
        self._destination_ports = _PortRows([*(rule.destination_ports for rule in rules), *unseen])

    def first_match(self, headers: Headers) -> Ints:
        """For each packet the index that decides it, to look up in `denies` and `entries`."""
        found = np.full(len(headers), self._size, dtype=np.int64)
        if self._size == 0 or len(headers) == 0:
            return found
        source_rows, ones = self._sources.rows(headers.addresses, headers.source)
        destination_rows, others = self._destinations.rows(headers.addresses, headers.destination)
        rest_rows, rests = self._rest(headers)
        active = np.arange(len(headers))
        for word in range(source_rows.shape[0]):
            shared = source_rows[word][ones] & destination_rows[word][others] & rest_rows[word][rests]
            hit = shared != 0
            bits = shared[hit]
            lowest = np.bitwise_count((bits & -bits) - np.uint64(1))
            found[active[hit]] = word * _WORD + lowest.astype(np.int64)
            missed = ~hit
            active = active[missed]
            if len(active) == 0:
                break
            ones, others, rests = ones[missed], others[missed], rests[missed]
        return found

    def _rest(self, headers: Headers) -> tuple[Words, Ints]:
        """Rows for what is neither source nor destination address, each combination that occurs once."""
        from_rows, from_ports = self._source_ports.rows(headers.source_port)
        to_rows, to_ports = self._destination_ports.rows(headers.destination_port)
        kind_rows = np.stack([self._column(kind) for kind in headers.kinds], axis=1)
        code = (headers.kind * from_rows.shape[1] + from_ports) * to_rows.shape[1] + to_ports
        codes, index = occurring(code, len(headers.kinds) * from_rows.shape[1] * to_rows.shape[1])
        others, to = np.divmod(codes, to_rows.shape[1])
        kinds, from_ = np.divmod(others, from_rows.shape[1])
        return kind_rows[:, kinds] & from_rows[:, from_] & to_rows[:, to], index

    def _column(self, kind: PacketKind) -> Words:
        """Which rules speak of packets of `kind`, as words of bits."""
        if kind not in self._columns:
            spoken = [speaks_of(rule, self._family, kind) for rule in self._rules]
            if self._family is Family.IPV6:
                spoken.append(kind.protocol == self._family.icmp and kind.icmp_type in NEIGHBOUR_DISCOVERY)
            self._columns[kind] = _packed(spoken)
        return self._columns[kind]


def speaks_of(rule: Rule, family: Family, kind: PacketKind) -> bool:
    """Whether `rule` can match a packet of `kind`, addresses and ports apart."""
    entry = rule.entry
    if entry.protocol is not None and entry.protocol != kind.protocol:
        return False
    if (rule.source_ports is not None or rule.destination_ports is not None) and not kind.with_ports:
        return False
    if entry.icmp is not None:
        if kind.protocol != family.icmp or entry.icmp.type != kind.icmp_type:
            return False
        if entry.icmp.code is not None and entry.icmp.code != kind.icmp_code:
            return False
    return not entry.established or (kind.protocol == TCP and kind.answers)


def _packed(bits: Sequence[bool]) -> Words:
    """Bits in words of 64, the first one lowest."""
    padded = np.zeros(-(-len(bits) // _WORD) * _WORD, dtype=np.bool_)
    padded[: len(bits)] = bits
    return np.packbits(padded, bitorder="little").view("<u8").astype(np.uint64)


def occurring(codes: Ints, space: int) -> tuple[Ints, Ints]:
    """The numbers below `space` that occur in `codes`, rising, and the index of each code among them."""
    if space > _FEW:
        found, index = np.unique(codes, return_inverse=True)
        return found, index
    seen = np.zeros(space, dtype=np.bool_)
    seen[codes] = True
    found = np.flatnonzero(seen)
    number = np.empty(space, dtype=np.int64)
    number[found] = np.arange(len(found))
    return found, number[codes]


def _span_rows(spans: Iterable[tuple[int, int, int]], count: int, size: int) -> Words:
    """Bits as (words, rows) where rule `index` holds rows `first` to `last`, for (index, first, last)."""
    rows = np.zeros((-(-size // _WORD), count), dtype=np.uint64)
    for index, first, last in spans:
        word, bit = divmod(index, _WORD)
        rows[word, first : last + 1] |= np.uint64(1 << bit)
    return rows


_ROW_OF_ANY_PORT = np.ones(_PORTS, dtype=np.uint8)
"""Where no rule tells ports apart: the row behind the one for packets without ports."""


class _PortRows:
    """Ports cut where some rule begins or ends to hold; the first row is for packets without ports."""

    def __init__(self, rules: Sequence[tuple[PortSpan | NotPort, ...] | None]) -> None:
        spans = [
            (index, low, high)
            for index, terms in enumerate(rules)
            for low, high in (port_spans(terms) if terms is not None else [(NO_PORT, _PORTS - 1)])
        ]
        cuts = {0} | {low for _, low, _ in spans} | {high + 1 for _, _, high in spans}
        self._cuts = np.array(sorted(cuts - {NO_PORT, _PORTS}), dtype=np.int64)

        row_from = {cut: index for index, cut in enumerate(self._cuts.tolist(), 1)} | {NO_PORT: 0}

        count = len(self._cuts) + 1
        self._rows = _span_rows(
            ((index, row_from[low], row_from.get(high + 1, count) - 1) for index, low, high in spans),
            count,
            len(rules),
        )
        if count == 2:
            self._row_of_port = _ROW_OF_ANY_PORT
            return
        widths = np.diff(np.concatenate([[0], self._cuts, [_PORTS]]))
        kind = np.uint16 if count <= _PORTS else np.uint32
        self._row_of_port = np.repeat(np.arange(count, dtype=kind), widths)

    def rows(self, ports: Ints) -> tuple[Words, Ints]:
        """Bits as (words, rows), and the row of each of `ports`."""
        return self._rows, np.where(ports == NO_PORT, 0, self._row_of_port[ports]).astype(np.int64)


def port_spans(terms: Iterable[PortSpan | NotPort]) -> list[tuple[int, int]]:
    """The ports that some of `terms` holds, as spans that may overlap."""
    spans: list[tuple[int, int]] = []
    for term in terms:
        if isinstance(term, PortSpan):
            spans.append((term.low, term.high))
        else:
            spans += [(0, term.port - 1), (term.port + 1, _PORTS - 1)]
    return [(low, high) for low, high in spans if low <= high]


@dataclass(frozen=True, slots=True)
class _Masked:
    """Blocks that mask for the same scattered bits: sorted `values`, a row of bits for each, then none."""

    mask: tuple[np.uint64, np.uint64]
    values: "Sortable"
    rows: Words


class _AddressRows:
    """Addresses cut by the prefixes of a list, and by its wildcards where bits are scattered."""

    def __init__(self, rules: Sequence[tuple[AddressBlock, ...] | None], family: Family) -> None:
        size = len(rules)
        blocks = [
            (index, block)
            for index, found in enumerate(rules)
            for block in ((AddressBlock(family, 0, 0),) if found is None else found)
        ]
        prefixes = [(index, block) for index, block in blocks if block.length is not None]
        cuts = sorted(
            {0} | {block.first for _, block in prefixes} | {block.last + 1 for _, block in prefixes}
        )
        if cuts[-1] > family.every_bit:
            cuts.pop()
        row = {cut: number for number, cut in enumerate(cuts)}
        spans = (
            (index, row[block.first], row.get(block.last + 1, len(cuts)) - 1) for index, block in prefixes
        )
        self._family = family
        self._cuts = _sortable(family, *split(cuts))
        self._rows = _span_rows(spans, len(cuts), size)
        self._masked: list[_Masked] = []
        for mask in sorted({block.mask for _, block in blocks if block.length is None}):
            same = [(index, block.value) for index, block in blocks if block.mask == mask]
            values = sorted({value for _, value in same})
            number = {value: row for row, value in enumerate(values)}
            rows = _span_rows(
                ((index, number[value], number[value]) for index, value in same), len(values) + 1, size
            )
            high, low = split([mask])
            self._masked.append(_Masked((high[0], low[0]), _sortable(family, *split(values)), rows))

    def rows(self, addresses: Addresses, indices: Ints) -> tuple[Words, Ints]:
        """Bits as (words, rows), and the row of the address at each of `indices`."""
        used, place_of = occurring(indices, len(addresses))
        high, low = addresses.halves()
        high, low = high[used], low[used]
        row: Ints = np.searchsorted(self._cuts, _sortable(self._family, high, low), side="right") - 1
        rows = self._rows
        for masked in self._masked:
            key = _sortable(self._family, high & masked.mask[0], low & masked.mask[1])
            near = np.minimum(np.searchsorted(masked.values, key), len(masked.values) - 1)
            other = np.where(masked.values[near] == key, near, len(masked.values))
            width = len(masked.values) + 1
            pairs, row = occurring(row * width + other, rows.shape[1] * width)
            rows = rows[:, pairs // width] | masked.rows[:, pairs % width]
        return rows, row[place_of]


Sortable = NDArray[np.uint64] | NDArray[np.bytes_]


def _sortable(family: Family, high: Words, low: Words) -> Sortable:
    """Addresses as an array that sorts as they do: IPv6 ones as byte strings."""
    if family is Family.IPV4:
        return low
    return np.stack([high, low], axis=1).astype(">u8").view("S16").ravel()
