"""A packet filter's rules as its JSON interface lists them: base chains, jumps followed, maps spread out.

What a rule says that is not known here is named. Such a rule may decide as it says, or not: it is kept as one
that may not be there, and the rest of its chain as it is.
"""

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from greyheron.formats.format import Notice
from greyheron.formats.machines.conditions import ANYTHING, Conditions, both
from greyheron.formats.machines.filter_rules import MOST_RULES, Chain, FilterRule, FilterVerdict
from greyheron.formats.machines.matches import Unknown, alternatives, conditions_of
from greyheron.model.values import Family

MOST_READ = 500_000
"""So many rules are read on the way, those of a chain as often as something leads there."""


DEEPEST = 16


BRIDGE_FILTER = "filter of bridge"


FAMILIES = {"inet": None, "ip": Family.IPV4, "ip6": Family.IPV6, "netdev": None}


_QUIET = frozenset(
    {
        "comment",
        "last",
        "log",
        "nftrace",
        "secmark",
        "ct helper",
        "ct timeout",
        "ct expectation",
        "flow",
        "dup",
        "set",
        "map",
    }
)
"""Statements that decide nothing about a packet."""


_WITHIN = frozenset({"limit", "quota", "ct count"})
"""Statements that let a rule go on for some packets and not for others."""


_MARKS = frozenset({"meta", "ct", "tcp option"})
"""What is set without an effect on what rules here ask for: marks, priorities, segment sizes."""


_TAKEN_AWAY = frozenset({"queue", "tproxy", "synproxy", "fwd"})


_QUIET_EXTENSIONS = frozenset(
    {"comment", "LOG", "TCPMSS", "MARK", "CONNMARK", "CLASSIFY", "CHECKSUM", "NFLOG"}
)


class _RuleOutcome(Struct, frozen=True):
    """What a rule does with packets that meet `conditions`.

    certain:  whether it is known that it does so
    total:  whether what a jump leaves undecided must not meet what stands behind it in the same rule
    """

    conditions: Conditions
    kind: str
    told: Any
    log: bool
    packets: int | None
    certain: bool
    total: bool = False


class _TooMany(Exception):
    """Rules lead to more rules than are read."""


Decisions = Iterator[FilterRule]


Return = Callable[[Conditions, bool], Decisions]
"""What is decided of packets that come back from a chain: what they are, and whether that is certain."""


def chains_of(
    listed: Any, machine: str, interfaces: Sequence[str], dormant: Collection[tuple[str, str]] = ()
) -> list[Chain]:
    """The base chains in a listing, in the order in which packets come to them at each hook.

    machine:  the name that notices begin with;  interfaces:  all that the machine has
    dormant:  tables that are asleep, by family and name: some versions do not list that
    Raises ValueError where it is no listing.
    """
    if not isinstance(listed, dict) or not isinstance(listed.get("nftables"), list):
        raise ValueError("expected what `nft -j list ruleset` prints")
    ruleset = _Ruleset(listed["nftables"], machine, interfaces)
    awake = (base for base in ruleset.bases if (base.get("family"), base.get("table")) not in dormant)
    found = [ruleset.chain(each) for each in awake]
    return sorted(found, key=lambda chain: chain.priority)


class _Ruleset:
    def __init__(self, objects: Sequence[Any], machine: str, interfaces: Sequence[str]) -> None:
        self._machine, self._interfaces = machine, interfaces
        self.bases: list[dict[str, Any]] = []
        self._rules: dict[tuple[str, str, str], list[dict[str, Any]]] = {}
        self._sets: dict[tuple[str, str, str], list[Any]] = {}
        self._counted: dict[tuple[str, str, str], int] = {}
        self._left = MOST_READ
        self._unknown: list[Notice] = []
        for each in objects:
            if not isinstance(each, dict) or len(each) != 1:
                raise ValueError("expected an object with one field in each place of the listing")
            ((kind, told),) = each.items()
            if not isinstance(told, dict):
                raise ValueError(f"expected fields in “{kind}”")
            self._take(kind, told)
        asleep = {
            (str(told.get("family")), str(told.get("name")))
            for each in objects
            for kind, told in each.items()
            if kind == "table" and "dormant" in _words(told.get("flags"))
        }
        self.bases = [
            base for base in self.bases if (str(base.get("family")), str(base.get("table"))) not in asleep
        ]

    def _take(self, kind: str, told: dict[str, Any]) -> None:
        table = str(told.get("family")), str(told.get("table"))
        if kind == "chain":
            if "hook" in told:
                self.bases.append(told)
        elif kind == "rule":
            self._rules.setdefault((*table, str(told.get("chain"))), []).append(told)
        elif kind in ("set", "map"):
            elements = told.get("elem", [])
            self._sets[*table, str(told.get("name"))] = elements if isinstance(elements, list) else [elements]
        elif kind == "counter":
            self._counted[*table, str(told.get("name"))] = _number(told.get("packets")) or 0

    def chain(self, base: dict[str, Any]) -> Chain:
        family, table, name = str(base.get("family")), str(base.get("table")), str(base.get("name"))
        where = f"table {family} {table}, chain {name}"
        self._unknown, self._left = [], MOST_READ
        accepts = base.get("policy", "accept") == "accept"
        rules: list[FilterRule] = []

        def policy(conditions: Conditions, certain: bool) -> Decisions:
            verdict = FilterVerdict.ACCEPT if accepts else FilterVerdict.DROP
            yield FilterRule(f"{where}, policy", conditions, verdict, maybe=not certain)

        if family in FAMILIES:
            start = replace(ANYTHING, family=FAMILIES[family])
            try:
                for rule in self._from((family, table, name), 0, start, True, 0, policy):
                    rules.append(rule)
                    if len(rules) > MOST_RULES:
                        raise _TooMany
            except _TooMany:
                self._notice(
                    where, f"its rules come to more than {MOST_RULES}: the rest may decide otherwise"
                )
                rules += _anything(where, start)
        elif self._rules.get((family, table, name)):
            rules += _anything(where, ANYTHING)
        return Chain(
            where,
            str(base.get("hook")),
            str(base.get("type")) if family in FAMILIES else f"{base.get('type')} of {family}",
            _number(base.get("prio")) or 0,
            accepts,
            FAMILIES.get(family),
            tuple(rules),
            tuple(dict.fromkeys(self._unknown)),
            None if base.get("dev") is None else str(base["dev"]),
        )

    def _notice(self, where: str, message: str) -> None:
        self._unknown.append(Notice(f"{self._machine}, {where}", message))

    def _from(
        self,
        chain: tuple[str, str, str],
        first: int,
        asked: Conditions,
        certain: bool,
        depth: int,
        back: Return,
    ) -> Decisions:
        """What a chain decides from one of its rules on, with the chains that it jumps to in their place.

        What it leaves undecided is left to what stands behind; `back` has what is decided of packets that a
        rule sends back to where the chain was called.
        """
        rules = self._rules.get(chain, [])
        for number in range(first, len(rules)):
            self._left -= 1
            if self._left < 0:
                raise _TooMany
            rule = rules[number]
            here = f"table {chain[0]} {chain[1]}, chain {chain[2]}, rule {rule.get('handle', number + 1)}"

            def rest(conditions: Conditions, certain: bool, number: int = number) -> Decisions:
                yield from self._from(chain, number + 1, conditions, certain, depth, back)
                yield from back(conditions, certain)

            for outcome in self._read(chain, rule, asked, here):
                yield from self._decided(chain, rule, here, outcome, certain, depth, rest, back)

    def _decided(
        self,
        chain: tuple[str, str, str],
        rule: dict[str, Any],
        here: str,
        outcome: _RuleOutcome,
        certain: bool,
        depth: int,
        rest: Return,
        back: Return,
    ) -> Decisions:
        conditions, sure = outcome.conditions, certain and outcome.certain
        match outcome.kind:
            case "jump" | "goto" if depth == DEEPEST:
                self._notice(here, f"jumps lead deeper than {DEEPEST} chains: what they decide is not known")
                yield from _anything(here, conditions)
            case "jump":
                yield from self._from(
                    (*chain[:2], _target(outcome.told)), 0, conditions, sure, depth + 1, rest
                )
                if outcome.total:
                    yield from rest(conditions, sure)
            case "goto":
                yield from self._from(
                    (*chain[:2], _target(outcome.told)), 0, conditions, sure, depth + 1, back
                )
                yield from back(conditions, sure)
            case "return":
                yield from back(conditions, sure)
            case "continue":
                if outcome.total:
                    yield from rest(conditions, sure)
            case kind if kind in _VERDICTS:
                try:
                    made = _decision(
                        here,
                        kind,
                        outcome.told,
                        conditions,
                        outcome.log,
                        outcome.packets,
                        rule.get("comment"),
                    )
                    yield made if sure else replace(made, maybe=True)
                except Unknown as error:
                    self._notice(here, str(error))
                    yield FilterRule(here, conditions, FilterVerdict(kind), maybe=True)
            case _:
                yield from _anything(here, conditions)

    def _read(
        self, chain: tuple[str, str, str], rule: dict[str, Any], asked: Conditions, here: str
    ) -> Iterator[_RuleOutcome]:
        """What a rule does, for each way to meet its conditions; what is not known of it is named."""
        ways, certain = [asked], True
        log, packets = False, None
        expressions = rule.get("expr", [])
        for expression in expressions if isinstance(expressions, list) else [expressions]:
            if not isinstance(expression, dict) or len(expression) != 1:
                self._notice(here, f"not understood: {str(expression)[:100]}")
                certain = False
                continue
            ((kind, told),) = expression.items()
            if kind == "match":
                try:
                    ways = list(_met(ways, alternatives(told, self._resolver(chain), self._interfaces)))
                except Unknown as error:
                    self._notice(here, f"whether it matches is not known: {error}")
                    certain = False
            elif kind == "vmap":
                try:
                    yield from self._mapped(chain, told, ways, log, packets, certain)
                except Unknown as error:
                    self._notice(here, f"what it leads to is not known: {error}")
                    yield from (_RuleOutcome(way, "unknown", None, log, packets, False) for way in ways)
                return
            elif kind == "log":
                log = True
            elif kind == "counter":
                packets = self._packets(chain, told)
            elif kind in _VERDICTS or kind in _LEADS:
                yield from (_RuleOutcome(way, kind, told, log, packets, certain) for way in ways)
                return
            elif kind in _WITHIN:
                self._notice(here, f"“{kind}”: it decides so for some packets, and for others it does not")
                certain = False
            elif kind == "mangle":
                if not _sets_marks(told):
                    self._notice(here, "it rewrites headers: what is decided of them behind it is not known")
                    yield from (_RuleOutcome(way, "unknown", None, log, packets, False) for way in ways)
            elif kind in _TAKEN_AWAY:
                self._notice(here, f"“{kind}”: what becomes of a packet is not known")
                yield from (_RuleOutcome(way, "unknown", None, log, packets, False) for way in ways)
                return
            elif kind == "xt" and isinstance(told, dict) and told.get("name") in _QUIET_EXTENSIONS:
                continue
            elif kind not in _QUIET:
                self._notice(here, f"“{kind}” is not known here: whether the rule decides so is not")
                certain = False

    def _mapped(
        self,
        chain: tuple[str, str, str],
        told: Any,
        ways: Sequence[Conditions],
        log: bool,
        packets: int | None,
        certain: bool,
    ) -> Iterator[_RuleOutcome]:
        """What a verdict map leads to, key by key; last what it has for all others. Raises Unknown."""
        resolve = self._resolver(chain)
        data = told.get("data") if isinstance(told, dict) else None
        pairs = data.get("set") if isinstance(data, dict) else resolve(data)
        read: list[tuple[list[Conditions], str, Any]] = []
        others: tuple[str, Any] | None = None
        for pair in pairs or ():
            if not isinstance(pair, list) or len(pair) != 2 or not isinstance(pair[1], dict):
                raise Unknown(f"“vmap” with {pair}")
            ((kind, target),) = pair[1].items()
            if kind not in _VERDICTS and kind not in _LEADS:
                raise Unknown(f"“{kind}” in a map is not known here")
            if pair[0] == "*":
                others = kind, target
                continue
            read.append((list(conditions_of(told["key"], pair[0], resolve, self._interfaces)), kind, target))
        for keys, kind, target in read:
            for way in _met(ways, keys):
                yield _RuleOutcome(way, kind, target, log, packets, certain, total=others is not None)
        if others is not None:
            # To have the key at all a packet must be of its family and protocol.
            alike = [
                replace(ANYTHING, family=one.family, protocol=one.protocol)
                for keys, _, _ in read
                for one in keys
            ]
            needed = alike[:1] if len(set(alike)) == 1 else [ANYTHING]
            yield from (_RuleOutcome(way, *others, log, packets, certain) for way in _met(ways, needed))

    def _resolver(self, chain: tuple[str, str, str]) -> Any:
        """Finds the elements of a set by its name: “@visitors”. Raises Unknown."""

        def resolve(name: Any) -> list[Any]:
            if not isinstance(name, str) or not name.startswith("@"):
                raise Unknown(f"{name} is no set")
            if (*chain[:2], name[1:]) not in self._sets:
                raise Unknown(f"there is no set {name}")
            return self._sets[*chain[:2], name[1:]]

        return resolve

    def _packets(self, chain: tuple[str, str, str], told: Any) -> int | None:
        if isinstance(told, dict):
            return _number(told.get("packets"))
        return self._counted.get((*chain[:2], str(told)), 0)


def _met(ways: Iterable[Conditions], others: Sequence[Conditions]) -> Iterator[Conditions]:
    for way in ways:
        for other in others:
            found = both(way, other)
            if found is not None:
                yield found


_VERDICTS = frozenset(verdict.value for verdict in FilterVerdict)


_LEADS = frozenset({"jump", "goto", "return", "continue"})


def _anything(where: str, conditions: Conditions) -> Decisions:
    """Where nobody knows what is decided."""
    for verdict in (FilterVerdict.ACCEPT, FilterVerdict.DROP):
        yield FilterRule(where, conditions, verdict, maybe=True)


def _target(told: Any) -> str:
    return str(told.get("target")) if isinstance(told, dict) else ""


def _words(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [value]


def _sets_marks(told: Any) -> bool:
    """Whether what is set has no part in what rules here ask for."""
    key = told.get("key") if isinstance(told, dict) else None
    return isinstance(key, dict) and len(key) == 1 and next(iter(key)) in _MARKS


def _decision(
    where: str, kind: str, told: Any, conditions: Conditions, log: bool, packets: int | None, note: Any
) -> FilterRule:
    """Raises Unknown."""
    verdict = FilterVerdict(kind)
    to, to_port, answer = None, None, None
    if verdict in (FilterVerdict.SNAT, FilterVerdict.DNAT):
        if not isinstance(told, dict) or not isinstance(told.get("addr"), str):
            raise Unknown(f"“{kind}” to anything but one address")
        to, to_port = told["addr"], _number(told.get("port"))
        if "port" in told and to_port is None:
            raise Unknown(f"“{kind}” to several ports")
    if verdict is FilterVerdict.REJECT:
        answer = "port-unreachable"
        if isinstance(told, dict):
            answer = str(told.get("expr") or told.get("type") or answer)
    remark = " ".join(str(note).split())[:200] if note else None
    return FilterRule(where, conditions, verdict, log, packets, remark, to, to_port, answer)


def _number(value: Any) -> int | None:
    return value if isinstance(value, int) and not isinstance(value, bool) else None
