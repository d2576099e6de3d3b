"""What a machine's packet filter decides at each of its interfaces, as rules in one order for each.

The kernel asks other chains of what is for the machine itself, what it passes on and what it sends. Here a
list stands at an interface and a direction. So the rules for what is its own are asked for its own addresses,
those for what is passed on for all others; and an interface that a packet will leave by is told by where its
routes lead. What one chain lets pass the next one is asked about. What is not known is kept as rules that may
not be there, and named.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from ipaddress import ip_address

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.intervals import Spans, span_union
from greyheron.formats.format import Notice
from greyheron.formats.machines.composition import (
    EVERYTHING,
    among,
    asked_at,
    composed,
    doubt,
    up_to_the_end,
    with_interfaces_of,
)
from greyheron.formats.machines.conditions import ANYTHING, Conditions, both
from greyheron.formats.machines.filter_rules import REWRITING, Chain, FilterRule, FilterVerdict
from greyheron.formats.machines.machine import LOOPBACK, Machine
from greyheron.formats.machines.settings import sending_rules, settings_rules
from greyheron.model.entry import IcmpMatch
from greyheron.model.item import family_of
from greyheron.model.values import Family

_DST_NAT = -100
"""The priority at which destinations are rewritten: chains behind it see them as they become."""
_ERRORS = {Family.IPV4: (3, 11, 12), Family.IPV6: (1, 2, 3, 4)}
_INSIDE = frozenset({LOOPBACK})


class FilterPolicy(Struct, frozen=True):
    """What stands at a machine's interfaces.

    inbound, outbound:  the rules at each interface, for each family; none where everything passes
    tracks:  whether what belongs to a conversation passes unasked
    rewrites:  the rules that translate addresses;  left_out:  the chains that could not be said, and why
    """

    inbound: dict[tuple[str, Family], tuple[FilterRule, ...]]
    outbound: dict[tuple[str, Family], tuple[FilterRule, ...]]
    tracks: bool
    rewrites: tuple[tuple[str, FilterRule], ...]
    left_out: tuple[Notice, ...]


def policy_of(
    machine: Machine,
    chains: Sequence[Chain],
    ports: Iterable[str],
    unsaid: Sequence[tuple[str, FilterRule]] = (),
) -> FilterPolicy:
    """ports:  the interfaces that have addresses, so that packets come in and leave by them

    unsaid:  rules that rewrite addresses and cannot be said, by hook
    """
    return _Reader(machine, chains, [each for each in ports if each != LOOPBACK], unsaid).policy()


class _Hooks(Struct, frozen=True):
    """What is decided at each hook, up to the last packet.

    first:  before all else;  own:  of what is for the machine;  through:  of what it passes on
    sent:  of what it sends itself;  last:  of all that leaves
    """

    first: tuple[FilterRule, ...]
    own: tuple[FilterRule, ...]
    through: tuple[FilterRule, ...]
    sent: tuple[FilterRule, ...]
    last: tuple[FilterRule, ...]


class _Doubts(Struct, frozen=True):
    """What may be denied besides, at each interface."""

    inbound: dict[str, tuple[FilterRule, ...]]
    outbound: dict[str, tuple[FilterRule, ...]]


_MAY_DENY = "it denies packets of known conversations too: whether those get through is not known"


class _Reader:
    def __init__(
        self,
        machine: Machine,
        chains: Sequence[Chain],
        ports: Sequence[str],
        unsaid: Sequence[tuple[str, FilterRule]],
    ) -> None:
        self._machine, self._ports, self._unsaid = machine, ports, unsaid
        self._filters = [chain for chain in chains if chain.kind in ("filter", "route")]
        self._left_out: list[Notice] = [notice for chain in chains for notice in chain.unknown]
        self._rewrites = tuple(
            (chain.hook, rule)
            for chain in chains
            if chain.kind == "nat"
            for rule in chain.rules
            if _rewrites(rule)
        )
        self._elsewhere = [
            chain
            for chain in chains
            if chain.kind not in ("filter", "route", "nat")
            and (chain.filters or chain.rules or not chain.accepts)
        ]
        for chain in self._elsewhere:
            told = f"chains of the kind {chain.kind} are not read: what they deny is not known"
            self._left_out.append(Notice(f"{machine.name}, {chain.where}", told))
        self._tracks = any(_passes_known(rule) for chain in self._filters for rule in chain.rules)

    def policy(self) -> FilterPolicy:
        inbound: dict[tuple[str, Family], tuple[FilterRule, ...]] = {}
        outbound: dict[tuple[str, Family], tuple[FilterRule, ...]] = {}
        for family in Family:
            asked = self._hooks(family, known=False)
            doubts = self._doubts(family) if self._tracks else _Doubts({}, {})
            for port in self._ports:
                before = (*self._machine_rules(port, family), *doubts.inbound.get(port, ()))
                rules = up_to_the_end((*before, *self._coming(port, family, asked)))
                if any(rule.verdict.denies for rule in rules):
                    inbound[port, family] = rules
                mine = Conditions(source=self._machine.own(family))
                unsure = (*self._sending_rules(family), *doubts.outbound.get(port, ()))
                before = tuple(among(unsure, mine))
                rules = up_to_the_end((*before, *self._leaving(port, family, asked)))
                if any(rule.verdict.denies for rule in rules):
                    outbound[port, family] = rules
        return FilterPolicy(
            inbound, outbound, self._tracks, self._rewrites, tuple(dict.fromkeys(self._left_out))
        )

    def _hooks(self, family: Family, known: bool) -> "_Hooks":
        """What each hook decides, of what opens a conversation or of what belongs to a known one."""
        published = any(rule.verdict is FilterVerdict.DNAT for _, rule in self._rewrites)
        first = composed(
            self._asked("ingress", family, known),
            self._asked("prerouting", family, known, lambda each: each <= _DST_NAT or not published),
        )
        second = self._asked("prerouting", family, known, lambda each: each > _DST_NAT and published)
        own = composed(second, self._asked("input", family, known))
        if self._machine.forwards_family(family):
            through = composed(second, self._asked("forward", family, known))
        else:
            through = (FilterRule("forwarding", ANYTHING, FilterVerdict.DROP),)
        unsaid = () if known else tuple(self._rewritten_unsaid(family, "postrouting"))
        sent = (*unsaid, *self._asked("output", family, known))
        last = composed(self._asked("postrouting", family, known), self._asked("egress", family, known))
        return _Hooks(first, own, (*unsaid, *through), sent, last)

    def _doubts(self, family: Family) -> "_Doubts":
        """Rules that may deny packets of known conversations, which pass here unasked.

        Whether a conversation gets through that has such packets is not known: those that it opens with, and
        by the way back those with both ends exchanged.
        """
        known = self._hooks(family, known=True)
        inbound: dict[str, list[FilterRule]] = {port: [] for port in self._ports}
        outbound: dict[str, list[FilterRule]] = {port: [] for port in self._ports}
        led = self._machine.led_by(family)
        for port in self._ports:
            others = [other for other in self._ports if other != port]
            for rule in self._coming(port, family, known, bare=True):
                if rule.verdict.denies and rule.where != "forwarding":
                    self._notice(rule.where, _MAY_DENY)
                    inbound[port].append(doubt(rule))
                    for other in others:
                        inbound[other].append(doubt(rule, turned=True))
                    outbound[port].append(doubt(rule, turned=True))
            for told in settings_rules(self._machine, port, family):
                if told.always:
                    self._notice(told.where, _MAY_DENY)
                if told.maybe or told.always:
                    conditions = told.conditions
                    if told.always and led is not None:  # answers come from where packets went
                        conditions = replace(conditions, source=led.get(port) or None)
                    doubted = FilterRule(told.where, conditions, FilterVerdict.DROP, maybe=True)
                    for other in others:
                        inbound[other].append(doubt(doubted, turned=True))
            for rule in self._leaving(port, family, known):
                if rule.verdict.denies:
                    self._notice(rule.where, _MAY_DENY)
                    inbound[port].append(doubt(rule, turned=True))
                    for other in others:
                        inbound[other].append(doubt(rule))
                    outbound[port].append(doubt(rule))
        return _Doubts(
            {port: tuple(dict.fromkeys(rules)) for port, rules in inbound.items()},
            {port: tuple(dict.fromkeys(rules)) for port, rules in outbound.items()},
        )

    def _notice(self, where: str, message: str) -> None:
        self._left_out.append(Notice(f"{self._machine.name}, {where}", message))

    def _asked(
        self, hook: str, family: Family, known: bool, at: Callable[[int], bool] = lambda _priority: True
    ) -> tuple[FilterRule, ...]:
        """What the chains of a hook decide about every packet."""
        found: tuple[FilterRule, ...] = (EVERYTHING,)
        chains = [
            chain
            for chain in self._filters
            if chain.hook == hook and chain.family in (None, family) and at(chain.priority)
        ]
        for chain in reversed(chains):
            end = FilterVerdict.ACCEPT if chain.accepts else FilterVerdict.DROP
            policy = FilterRule(f"{chain.where}, policy", ANYTHING, end)
            if chain.device is not None and end is FilterVerdict.DROP:
                policy = replace(policy, conditions=_on_device(chain, ANYTHING) or ANYTHING)
                found = (*self._without_states(chain, family, known), policy, *found)
                continue
            found = composed((*self._without_states(chain, family, known), policy), found)
        return found

    def _without_states(self, chain: Chain, family: Family, known: bool) -> Iterator[FilterRule]:
        """The rules of a chain that are asked of what opens a conversation, or belongs to a known one."""
        met = [*_met(chain, family)]
        if not known and any(_tells_discovery(conditions) for _, conditions in met):
            yield from self._of_discovery(chain, met)
        for rule, conditions in met:
            states = conditions.states
            if states is None:
                yield replace(rule, conditions=conditions)
                continue
            plain = replace(conditions, states=None)
            if self._tracks:
                if ("established" if known else "new") in states:
                    yield replace(rule, conditions=plain)
            elif states >= {"new", "established"}:
                yield replace(rule, conditions=plain)
            elif states == {"related"} and not rule.verdict.denies:
                yield from self._errors(rule, plain, family)
            elif states != {"invalid"} and states != {"untracked"}:
                told = f"it asks for {', '.join(sorted(states))}, and nothing lets known conversations pass"
                self._notice(rule.where, f"{told}: whether it decides is not known")
                yield replace(rule, conditions=plain, maybe=True)

    def _of_discovery(
        self, chain: Chain, met: Iterable[tuple[FilterRule, Conditions]]
    ) -> Iterator[FilterRule]:
        """What becomes of neighbour discovery, which is in no conversation: to a kernel it is untracked."""
        end = FilterVerdict.ACCEPT if chain.accepts else FilterVerdict.DROP
        whole = FilterRule(f"{chain.where}, policy", _on_device(chain, ANYTHING) or ANYTHING, end)
        for rule, conditions in (*met, (whole, whole.conditions)):
            if conditions.states is None or "untracked" in conditions.states:
                plain = both(replace(conditions, states=None), _DISCOVERY)
                if plain is not None:
                    yield replace(rule, conditions=plain)

    def _errors(self, rule: FilterRule, plain: Conditions, family: Family) -> Iterator[FilterRule]:
        """`related` alone lets errors about conversations home, of which nobody here knows."""
        kinds = frozenset(IcmpMatch(kind) for kind in _ERRORS[family])
        met = both(plain, Conditions(protocol=((family.icmp, family.icmp),), icmp=kinds))
        if met is not None:
            yield replace(rule, conditions=met, maybe=True)

    def _coming(
        self, port: str, family: Family, hooks: "_Hooks", bare: bool = False
    ) -> tuple[FilterRule, ...]:
        """What is decided of what comes in by `port`;  bare:  without what is known of single settings"""
        if not self._machine.forwards:
            found = tuple(asked_at(hooks.own, port))
        else:
            led = self._machine.led_by(family)
            passed = up_to_the_end(asked_at(self._through(family, hooks.through, led), port))
            passed = self._where_routes_lead(passed, family, led)
            mine = Conditions(destination=self._machine.own(family))
            found = (
                *self._rewritten(port, family, passed),
                *self._coming_back(port, passed, mine),
                *self._coming_for_itself(port, hooks, mine),
                *passed,
            )
        if not any(rule.verdict.denies for rule in found):
            found = (EVERYTHING,)
        found = composed(tuple(asked_at(hooks.first, port)), found)
        return up_to_the_end(found if bare else (*self._elsewhere_decided(port, family), *found))

    def _where_routes_lead(
        self, passed: tuple[FilterRule, ...], family: Family, led: Mapping[str, Spans] | None
    ) -> tuple[FilterRule, ...]:
        """The rules for what is passed on, asked of what a route leads to: the rest is unreachable before."""
        if led is None:
            return passed
        there = span_union(span for spans in led.values() for span in spans)
        if there == ((0, family.every_bit),):
            return passed
        return *among(passed, Conditions(destination=there)), EVERYTHING

    def _coming_for_itself(self, port: str, hooks: "_Hooks", mine: Conditions) -> Iterator[FilterRule]:
        """The rules for what is for the machine; not asked of others' answers that come to its address."""
        answers = not self._tracks and self._hides_behind(port)
        for rule in among(up_to_the_end(asked_at(hooks.own, port)), mine):
            yield replace(rule, maybe=True) if answers and rule.verdict.denies else rule

    def _coming_back(self, port: str, passed: Iterable[FilterRule], mine: Conditions) -> Iterator[FilterRule]:
        """Answers to what left with the machine's own address are passed on, and come for itself here."""
        if self._tracks or not self._hides_behind(port):
            return
        for rule in passed:
            if rule.verdict.denies:
                plain = replace(rule.conditions, destination=mine.destination)
                yield replace(rule, conditions=plain, maybe=True)

    def _elsewhere_decided(self, port: str, family: Family) -> Iterator[FilterRule]:
        """What chains of other kinds, and rewriting that cannot be said, may do with packets."""
        for chain in self._elsewhere:
            if chain.device in (None, port):
                yield FilterRule(chain.where, ANYTHING, FilterVerdict.DROP, maybe=True)
        yield from asked_at(self._rewritten_unsaid(family, "prerouting"), port)

    def _rewritten_unsaid(self, family: Family, hook: str) -> Iterator[FilterRule]:
        """Where packets go that are rewritten in a way that cannot be said is not known."""
        for at, rule in self._unsaid:
            met = both(rule.conditions, Conditions(family=family))
            if at == hook and met is not None:
                plain = replace(met, states=None)
                yield FilterRule(rule.where, plain, FilterVerdict.DROP, maybe=True)

    def _machine_rules(self, port: str, family: Family) -> Iterator[FilterRule]:
        """What a machine decides about packets that come in without asking a rule, as far as it is known."""
        for told in settings_rules(self._machine, port, family):
            yield FilterRule(told.where, told.conditions, FilterVerdict.DROP, maybe=told.maybe)
            if told.notice:
                self._notice(told.where, told.notice)

    def _sending_rules(self, family: Family) -> Iterator[FilterRule]:
        for told in sending_rules(self._machine, family):
            yield FilterRule(told.where, told.conditions, FilterVerdict.DROP, maybe=told.maybe)

    def _through(
        self, family: Family, through: tuple[FilterRule, ...], led: Mapping[str, Spans] | None
    ) -> tuple[FilterRule, ...]:
        """The rules for what is passed on, where it leaves told by where it goes."""
        found: list[FilterRule] = []
        for rule in through:
            leaves = rule.conditions.leaves
            if leaves is None:
                found.append(rule)
                continue
            if led is None:
                why = "it asks where packets leave, and equal routes part: whether it decides is not known"
                self._notice(rule.where, why)
                found.append(replace(rule, conditions=replace(rule.conditions, leaves=None), maybe=True))
                continue
            there = span_union(span for name in leaves for span in led.get(name, ()))
            told = Conditions(family=family, destination=there)
            met = both(replace(rule.conditions, leaves=None), told) if there else None
            if met is not None:
                found.append(replace(rule, conditions=met))
        return tuple(found)

    def _rewritten(self, port: str, family: Family, passed: Sequence[FilterRule]) -> Iterator[FilterRule]:
        """What is decided of packets for rewritten destinations, said of them as they come in."""
        for hook, rule in self._rewrites:
            if hook != "prerouting" or rule.verdict is not FilterVerdict.DNAT or rule.maybe:
                continue
            outside, inside = rewritten(rule, family)
            if outside is None or inside is None:
                continue
            for each in among(asked_at(passed, port), inside):
                conditions = replace(
                    each.conditions,
                    destination=outside.destination,
                    destination_ports=outside.destination_ports,
                )
                met = both(conditions, outside)
                if met is not None:
                    yield replace(each, conditions=met)

    def _leaving(self, port: str, family: Family, hooks: "_Hooks") -> tuple[FilterRule, ...]:
        last = [
            rule if rule.conditions.arrives is None else replace(rule, maybe=True) for rule in hooks.last
        ]  # where packets came in is not known where they leave
        leaving = tuple(asked_at(last, port, leaving=True))
        if self._rewrites:  # a list sees what sources have become, and these rules what they were
            leaving = tuple(
                replace(rule, conditions=replace(rule.conditions, source=None), maybe=True)
                if rule.conditions.source is not None
                else rule
                for rule in leaving
            )
        own = composed(up_to_the_end(asked_at(hooks.sent, port, leaving=True)), leaving)
        if not self._machine.forwards or own == leaving:
            return up_to_the_end(own)
        mine = Conditions(source=self._machine.own(family))
        if self._hides_behind(port):  # what it passes on has its own address there as well
            own = tuple(replace(rule, maybe=True) if rule.verdict.denies else rule for rule in own)
        return up_to_the_end((*among(own, mine), *leaving))

    def _hides_behind(self, port: str) -> bool:
        """Whether sources are rewritten of what leaves by an interface."""
        return any(
            hook == "postrouting" and (rule.conditions.leaves is None or port in rule.conditions.leaves)
            for hook, rule in self._rewrites
        )


def _met(chain: Chain, family: Family) -> Iterator[tuple[FilterRule, Conditions]]:
    """The rules of a chain that packets of a family may meet, with what they ask of them."""
    for rule in chain.rules:
        conditions = both(rule.conditions, Conditions(family=family))
        if conditions is None or _INSIDE in (conditions.arrives, conditions.leaves):
            continue
        conditions = _on_device(chain, conditions)
        if conditions is not None:
            conditions = with_interfaces_of(chain.hook, conditions)
        if conditions is not None:
            yield rule, conditions


def _on_device(chain: Chain, conditions: Conditions) -> Conditions | None:
    """What is asked by a chain that is for one interface only."""
    if chain.device is None:
        return conditions
    there = frozenset({chain.device})
    side = Conditions(leaves=there) if chain.hook == "egress" else Conditions(arrives=there)
    return both(conditions, side)


_DISCOVERY = Conditions(
    family=Family.IPV6,
    protocol=((Family.IPV6.icmp, Family.IPV6.icmp),),
    icmp=frozenset(IcmpMatch(kind) for kind in range(133, 138)),
)


def _tells_discovery(conditions: Conditions) -> bool:
    """Whether states tell neighbour discovery from what opens a conversation."""
    states = conditions.states
    if states is None or ("new" in states) is ("untracked" in states):
        return False
    return both(replace(conditions, states=None), _DISCOVERY) is not None


def _rewrites(rule: FilterRule) -> bool:
    return rule.verdict in REWRITING


def rewritten(rule: FilterRule, family: Family) -> tuple[Conditions | None, Conditions | None]:
    """What a rewritten packet's destination was, and what it becomes; None for other families."""
    to = ip_address(rule.to or "0.0.0.0")
    outside = both(rule.conditions, Conditions(family=family))
    if outside is None or family_of(to) is not family:
        return None, None
    ports = outside.destination_ports if rule.to_port is None else ((rule.to_port, rule.to_port),)
    inside = replace(
        ANYTHING,
        protocol=outside.protocol,
        destination=((int(to), int(to)),),
        destination_ports=ports,
    )
    return replace(outside, arrives=None, leaves=None), inside


def _passes_known(rule: FilterRule) -> bool:
    """Whether it lets what belongs to a known conversation pass, whatever else it is."""
    states = rule.conditions.states
    if rule.maybe:
        return False
    only = Conditions(family=rule.conditions.family, states=states)
    return (
        rule.verdict is FilterVerdict.ACCEPT
        and states is not None
        and "established" in states
        and rule.conditions == only
    )
