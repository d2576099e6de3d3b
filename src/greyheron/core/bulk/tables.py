"""Decision tables: one list asked about very many packets at once (§3).

Each field of a header falls into a class that no rule of the list can tell apart; for each class a row of
bits says which rules it satisfies. The lowest bit that the rows of all fields share is the first match.
"""

from collections.abc import Sequence

import numpy as np

from greyheron.core.headers import NONE, Headers, Ints, Words, occurring
from greyheron.core.lists.fields import ADDRESS_FIELDS, KIND_FIELDS, PORT_FIELDS, KindField
from greyheron.core.lists.fields.field import WORD, packed
from greyheron.core.lists.matching import discovers
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.model.values import Action, Family

_EVERY_BIT = np.uint64((1 << WORD) - 1)


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
        self._columns: dict[Packet, Words] = {}
        with_unseen = [*rules, *[None] * discovery]
        self._said = [(field, *_said(field, rules)) for field in KIND_FIELDS if rules]
        self._addresses = [field.table(with_unseen, family) for field in ADDRESS_FIELDS]
        self._ports = [field.table(with_unseen, family) for field in PORT_FIELDS]

    def first_match(self, headers: Headers) -> Ints:
        """For each packet the index that decides it, to look up in `denies` and `entries`."""
        found = np.full(len(headers), self._size, dtype=np.int64)
        if self._size == 0 or len(headers) == 0:
            return found
        (source_rows, ones), (destination_rows, others) = (each.rows(headers) for each in self._addresses)
        rest_rows, rests = self._rest(headers)
        active = np.arange(len(headers))
        for word in range(source_rows.shape[0]):
            shared = source_rows[word][ones] & destination_rows[word][others] & rest_rows[word][rests]
            hit = shared != 0
            bits = shared[hit]
            lowest = np.bitwise_count((bits & -bits) - np.uint64(1))
            found[active[hit]] = word * WORD + lowest.astype(np.int64)
            missed = ~hit
            active = active[missed]
            if len(active) == 0:
                break
            ones, others, rests = ones[missed], others[missed], rests[missed]
        return found

    def _rest(self, headers: Headers) -> tuple[Words, Ints]:
        """Rows for all but the addresses, each combination that occurs once."""
        rows, index = np.stack([self._column(kind) for kind in headers.kinds], axis=1), headers.kind
        tables = [(rows, index), *(each.rows(headers) for each in self._ports)]
        code, space = np.zeros(len(headers), dtype=np.int64), 1
        for rows, index in tables:
            code, space = code * rows.shape[1] + index, space * rows.shape[1]
        codes, index_of = occurring(code, space)
        shared = np.full((tables[0][0].shape[0], len(codes)), _EVERY_BIT)
        for rows, _ in reversed(tables):
            codes, index = np.divmod(codes, rows.shape[1])
            shared &= rows[:, index]
        return shared, index_of

    def _column(self, kind: Packet) -> Words:
        """Which rules match packets of `kind`, addresses and ports apart, as words of bits."""
        if kind not in self._columns:
            matching = np.ones(len(self._rules), dtype=np.bool_)
            for field, representatives, said in self._said:
                matching &= np.array([field.matches(rule, kind) for rule in representatives])[said]
            unseen = [discovers(kind)] if self._family is Family.IPV6 else []
            self._columns[kind] = packed([*matching.tolist(), *unseen])
        return self._columns[kind]


def _said(field: KindField, rules: Sequence[Rule]) -> tuple[list[Rule], Ints]:
    """A rule for each thing that rules say of a field, and which of them each rule is like."""
    number: dict[object, int] = {}
    said = np.array([number.setdefault(field.says(rule), len(number)) for rule in rules], dtype=np.int64)
    _, first = np.unique(said, return_index=True)
    return [rules[index] for index in first.tolist()], said
