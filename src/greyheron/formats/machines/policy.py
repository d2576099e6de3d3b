"""What a machine's packet filter decides at each of its interfaces, as rules in one order for each.

The kernel asks other chains of what is for the machine itself, what it passes on and what it sends. Here a
list stands at an interface and a direction. So the rules for what is its own are asked for its own addresses,
those for what is passed on for all others; and an interface that a packet will leave by is told by where its
routes lead. What cannot be said exactly is not said: the chain is named, and left out.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from ipaddress import ip_address

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.regions import Spans, span_union
from greyheron.formats.format import Notice
from greyheron.formats.machines.conditions import ANYTHING, Conditions, both
from greyheron.formats.machines.machine import LOOPBACK, Machine
from greyheron.formats.machines.ruleset import Chain, FilterRule, FilterVerdict
from greyheron.model.document import family_of
from greyheron.model.values import Family

_BELONGS = frozenset({"established", "related"})
_OPENS = frozenset({"new", "untracked"})
_INSIDE = frozenset({LOOPBACK})
_EVERYTHING = FilterRule("", ANYTHING, FilterVerdict.ACCEPT)


class _CannotSay(Exception):
    """A chain that cannot be said here; says why."""


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


def policy_of(machine: Machine, chains: Sequence[Chain], ports: Iterable[str]) -> FilterPolicy:
    """ports:  the interfaces that have addresses, so that packets come in and leave by them"""
    return _Reader(machine, chains, [each for each in ports if each != LOOPBACK]).policy()


class _Reader:
    def __init__(self, machine: Machine, chains: Sequence[Chain], ports: Sequence[str]) -> None:
        self._machine, self._ports = machine, ports
        self._filters = [chain for chain in chains if chain.kind == "filter"]
        self._left_out: list[Notice] = []
        self._rewrites = tuple(
            (chain.hook, rule) for chain in chains if chain.kind == "nat" for rule in chain.rules
        )
        for chain in chains:
            if chain.kind == "nat":
                self._left_out += chain.unknown
            elif chain.kind != "filter":
                self._leave_out(chain, f"chains of the kind {chain.kind} are not read")
        self._tracks = any(
            _passes_known(rule) for chain in self._filters for rule in chain.rules if not chain.unknown
        )

    def policy(self) -> FilterPolicy:
        inbound: dict[tuple[str, Family], tuple[FilterRule, ...]] = {}
        outbound: dict[tuple[str, Family], tuple[FilterRule, ...]] = {}
        for family in Family:
            before = self._said("prerouting", family, only_denies=True)
            own = self._said("input", family)
            through = self._said("forward", family) if self._machine.forwards else None
            sent = self._said("output", family)
            self._said("postrouting", family, nothing=True)
            for port in self._ports:
                rules = self._coming(port, family, before, own, through)
                if rules:
                    inbound[port, family] = rules
                rules = self._leaving(port, family, sent)
                if rules:
                    outbound[port, family] = rules
        return FilterPolicy(
            inbound, outbound, self._tracks, self._rewrites, tuple(dict.fromkeys(self._left_out))
        )

    def _leave_out(self, chain: Chain, why: str) -> None:
        self._left_out.append(Notice(f"{self._machine.name}, {chain.where}", f"not understood: {why}"))

    def _said(
        self, hook: str, family: Family, only_denies: bool = False, nothing: bool = False
    ) -> tuple[FilterRule, ...] | None:
        """The rules of a hook for one family, its end too; None where all passes, or nothing can be said.

        only_denies, nothing:  what its chains may do, since others are asked behind them
        """
        chains = [
            chain
            for chain in self._filters
            if chain.hook == hook and chain.family in (None, family) and chain.filters
        ]
        found: list[FilterRule] = []
        for number, chain in enumerate(chains):
            try:
                if nothing:
                    raise _CannotSay(f"what is denied at {hook} has no place here")
                rules = self._asked(chain, family)
                last = number == len(chains) - 1 and not only_denies
                if not last and any(not rule.verdict.denies for rule in rules):
                    raise _CannotSay("it permits, and other chains are asked behind it")
                found += rules
                if last:
                    end = FilterVerdict.ACCEPT if chain.accepts else FilterVerdict.DROP
                    found.append(FilterRule(f"{chain.where}, policy", ANYTHING, end))
            except _CannotSay as error:
                self._leave_out(chain, str(error))
                return None
        return tuple(found) if any(rule.verdict.denies for rule in found) else None

    def _asked(self, chain: Chain, family: Family) -> list[FilterRule]:
        """The rules of a chain that are asked of what opens a conversation. Raises _CannotSay."""
        if chain.unknown:
            self._left_out += chain.unknown
            raise _CannotSay(f"{len(chain.unknown)} of its rules")
        found: list[FilterRule] = []
        known_pass, denies = False, False
        for rule in chain.rules:
            conditions = both(rule.conditions, Conditions(family=family))
            if conditions is None or _INSIDE in (conditions.arrives, conditions.leaves):
                continue
            states = conditions.states
            if _passes_known(rule):
                if denies:
                    raise _CannotSay(f"{rule.where} lets what is known pass behind rules that deny")
                known_pass = True
                states = (states or frozenset()) - _BELONGS
                if not states:
                    continue
            if states is not None and not self._tracks:
                raise _CannotSay(f"{rule.where} asks for states, and nothing lets known conversations pass")
            if states is not None and not states & _OPENS:
                if rule.verdict.denies and states == {"invalid"}:
                    continue  # so does whoever tracks
                raise _CannotSay(f"{rule.where} asks for {', '.join(sorted(states))} alone")
            denies |= rule.verdict.denies and (states is None or bool(states & _BELONGS))
            if conditions.states is not None:
                conditions = replace(conditions, states=None)
            found.append(rule if conditions == rule.conditions else replace(rule, conditions=conditions))
        if self._tracks and not known_pass and (denies or not chain.accepts):
            raise _CannotSay("it asks of every packet, others of what opens a conversation only")
        return found

    def _coming(
        self,
        port: str,
        family: Family,
        before: tuple[FilterRule, ...] | None,
        own: tuple[FilterRule, ...] | None,
        through: tuple[FilterRule, ...] | None,
    ) -> tuple[FilterRule, ...]:
        if before is None and own is None and through is None:
            return ()
        found = list(_at(before or (), port))
        if not self._machine.forwards:
            found += _at(own or (_EVERYTHING,), port)
            return tuple(found)
        led = self._machine.led_by(family)
        passed = self._through(family, through, led)
        found += self._rewritten(port, family, passed)
        mine = Conditions(destination=self._machine.own(family))
        found += _among(_at(own or (_EVERYTHING,), port), mine)
        found += _at(passed, port)
        return tuple(found)

    def _through(
        self, family: Family, through: tuple[FilterRule, ...] | None, led: Mapping[str, Spans] | None
    ) -> tuple[FilterRule, ...]:
        """The rules for what is passed on, where it leaves told by where it goes."""
        found: list[FilterRule] = []
        for rule in through or (_EVERYTHING,):
            leaves = rule.conditions.leaves
            if leaves is None:
                found.append(rule)
                continue
            if led is None:
                self._left_out.append(
                    Notice(
                        f"{self._machine.name}, {rule.where}",
                        "not understood: it asks where packets leave, and equal routes part",
                    )
                )
                return (_EVERYTHING,)
            there = span_union(span for name in leaves for span in led.get(name, ()))
            told = Conditions(family=family, destination=there)
            met = both(replace(rule.conditions, leaves=None), told) if there else None
            if met is not None:
                found.append(replace(rule, conditions=met))
        return tuple(found)

    def _rewritten(self, port: str, family: Family, passed: Sequence[FilterRule]) -> Iterator[FilterRule]:
        """What is decided of packets for rewritten destinations, said of them as they come in."""
        for hook, rule in self._rewrites:
            if hook != "prerouting" or rule.verdict is not FilterVerdict.DNAT:
                continue
            outside, inside = rewritten(rule, family)
            if outside is None or inside is None:
                continue
            for each in _among(_at(passed, port), inside):
                conditions = replace(
                    each.conditions,
                    destination=outside.destination,
                    destination_ports=outside.destination_ports,
                )
                met = both(conditions, outside)
                if met is not None:
                    yield replace(each, conditions=met)

    def _leaving(
        self, port: str, family: Family, sent: tuple[FilterRule, ...] | None
    ) -> tuple[FilterRule, ...]:
        if sent is None:
            return ()
        if not self._machine.forwards:
            return tuple(_at(sent, port, leaving=True))
        mine = Conditions(source=self._machine.own(family))
        return (*_among(_at(sent, port, leaving=True), mine), _EVERYTHING)


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
    only = Conditions(family=rule.conditions.family, states=states)
    return (
        rule.verdict is FilterVerdict.ACCEPT
        and states is not None
        and bool(states & _BELONGS)
        and rule.conditions == only
    )


def _at(rules: Iterable[FilterRule], port: str, leaving: bool = False) -> Iterator[FilterRule]:
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


def _among(rules: Iterable[FilterRule], others: Conditions) -> Iterator[FilterRule]:
    for rule in rules:
        met = both(rule.conditions, others)
        if met is not None:
            yield replace(rule, conditions=met)
