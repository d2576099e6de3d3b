"""Rules in one order: one after another, chain behind chain, at one interface, up to the last packet."""

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from greyheron.formats.machines.conditions import ANYTHING, NO_INTERFACE, Conditions, both
from greyheron.formats.machines.filter_rules import MOST_RULES, FilterRule, FilterVerdict

EVERYTHING = FilterRule("", ANYTHING, FilterVerdict.ACCEPT)
_EITHER = (FilterVerdict.ACCEPT, FilterVerdict.DROP)
_COMING = frozenset({"ingress", "prerouting", "input"})


def doubt(rule: FilterRule, turned: bool = False) -> FilterRule:
    """That `rule` may deny;  turned:  what comes back of it, with both ends exchanged"""
    asked = replace(rule.conditions, states=None, arrives=None, leaves=None)
    if turned:
        asked = replace(
            asked,
            source=asked.destination,
            destination=asked.source,
            source_ports=asked.destination_ports,
            destination_ports=asked.source_ports,
            icmp=None,
            flags=None,
            dscp=None,
        )
    return FilterRule(rule.where, asked, FilterVerdict.DROP, maybe=True)


def with_interfaces_of(hook: str, asked: Conditions) -> Conditions | None:
    """Conditions without what a hook does not know: where packets will leave, or where they came in."""
    if hook in _COMING and asked.leaves is not None:
        return replace(asked, leaves=None) if NO_INTERFACE in asked.leaves else None
    if hook == "output" and asked.arrives is not None:
        return replace(asked, arrives=None) if NO_INTERFACE in asked.arrives else None
    return asked


def composed(first: tuple[FilterRule, ...], then: tuple[FilterRule, ...]) -> tuple[FilterRule, ...]:
    """What two chains decide together: what the first lets pass the second is asked about."""
    if then == (EVERYTHING,):
        return first
    if first == (EVERYTHING,):
        return then
    found: list[FilterRule] = []
    for rule in first:
        if rule.verdict is not FilterVerdict.ACCEPT:
            found.append(rule)
            continue
        for each in then:
            met = both(each.conditions, rule.conditions)
            if met is not None:
                maybe, log = rule.maybe or each.maybe, rule.log or each.log
                found.append(replace(each, conditions=met, maybe=maybe, log=log, packets=None))
        if len(found) > MOST_RULES:
            where = rule.where
            return (
                *found[:MOST_RULES],
                *(FilterRule(where, ANYTHING, verdict, maybe=True) for verdict in _EITHER),
                EVERYTHING,
            )
    return tuple(found)


def up_to_the_end(rules: Iterable[FilterRule]) -> tuple[FilterRule, ...]:
    """`rules` up to the first that decides about every packet."""
    found: list[FilterRule] = []
    for rule in rules:
        found.append(rule)
        if _unconditional(rule) and not rule.maybe:
            break
    return tuple(found)


def _unconditional(rule: FilterRule) -> bool:
    return rule.conditions == Conditions(family=rule.conditions.family)


def asked_at(rules: Iterable[FilterRule], port: str, leaving: bool = False) -> Iterator[FilterRule]:
    """Those that are asked at one interface, which they need not say."""
    for rule in rules:
        names = rule.conditions.leaves if leaving else rule.conditions.arrives
        if names is None or port in names:
            plain = rule.conditions.arrives is None and rule.conditions.leaves is None
            yield (
                rule
                if plain
                else replace(rule, conditions=replace(rule.conditions, arrives=None, leaves=None))
            )


def among(rules: Iterable[FilterRule], others: Conditions) -> Iterator[FilterRule]:
    for rule in rules:
        met = both(rule.conditions, others)
        if met is not None:
            yield replace(rule, conditions=met)
