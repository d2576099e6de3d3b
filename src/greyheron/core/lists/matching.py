"""What a list does with a packet: the first entry that matches decides (§3)."""

from functools import cache

from msgspec import Struct

from greyheron.core.lists.fields import FIELDS, Field
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.lists.rules import Rule
from greyheron.core.packet import Packet
from greyheron.model.entry import Entry, IcmpMatch
from greyheron.model.values import Action, Family

NEIGHBOUR_DISCOVERY = range(133, 137)
AT_THE_END = 1 << 40
"""The number of what stands unseen at the end of a list: above those of all entries."""


class Mismatch(Struct, frozen=True):
    """The first field of an entry that did not match, by its label."""

    entry: int
    field: str


class Decision(Struct, frozen=True):
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
        passed_over.append(Mismatch(rule.entry.number, field.label))
    action = Action.PERMIT if discovers(packet) else Action.DENY
    return Decision(None, action, silent=False, log=False, passed_over=tuple(passed_over))


def discovers(packet: Packet) -> bool:
    """Whether an IPv6 list permits it just before its implicit deny: neighbour discovery (RFC 4861)."""
    icmp = packet.family is Family.IPV6 and packet.protocol == Family.IPV6.icmp
    return icmp and packet.icmp_type in NEIGHBOUR_DISCOVERY


@cache
def implicit_rules(family: Family) -> tuple[Rule, ...]:
    """What stands unseen before the implicit deny: an IPv6 list permits neighbour discovery (§3)."""
    if family is Family.IPV4:
        return ()
    matches = (IcmpMatch(number) for number in NEIGHBOUR_DISCOVERY)
    entries = (Entry(AT_THE_END, Action.PERMIT, protocol=family.icmp, icmp=each) for each in matches)
    return tuple(Rule(entry, None, None, None, None).among(FIELDS) for entry in entries)


def first_mismatch(rule: Rule, packet: Packet) -> Field | None:
    """The first field of `rule` that `packet` does not match, or None when it matches in all."""
    for field in rule.constraints:
        if not field.matches(rule, packet):
            return field
    return None
