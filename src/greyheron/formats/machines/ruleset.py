"""A packet filter's rules as its JSON interface lists them: base chains, jumps followed, maps spread out.

What a rule says that is not known here is named; its chain is then not understood, and nothing is guessed.
"""

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from greyheron.formats.format import Notice
from greyheron.formats.machines.conditions import ANYTHING, Conditions, both
from greyheron.formats.machines.matches import Unknown, alternatives, conditions_of
from greyheron.model.values import Family

MOST_RULES = 50_000
"""So many rules are spread out of one base chain."""
DEEPEST = 16
FAMILIES = {"inet": None, "ip": Family.IPV4, "ip6": Family.IPV6}
_QUIET = frozenset({"counter", "comment"})


class FilterVerdict(StrEnum):
    """What becomes of a packet. `REJECT` is answered, `DROP` is not; the others rewrite addresses."""

    ACCEPT = "accept"
    DROP = "drop"
    REJECT = "reject"
    RETURN = "return"
    MASQUERADE = "masquerade"
    SNAT = "snat"
    DNAT = "dnat"

    @property
    def denies(self) -> bool:
        return self in (FilterVerdict.DROP, FilterVerdict.REJECT)


class FilterRule(Struct, frozen=True):
    """One decision of a chain.

    where:  the rule it came of;  packets:  how many it counted, None where it counts none
    to, to_port:  what SNAT and DNAT rewrite to;  answer:  what REJECT says, as the filter calls it
    """

    where: str
    conditions: Conditions
    verdict: FilterVerdict
    log: bool = False
    packets: int | None = None
    note: str | None = None
    to: str | None = None
    to_port: int | None = None
    answer: str | None = None


class Chain(Struct, frozen=True):
    """A base chain.

    hook:  prerouting, input, forward, output, postrouting;  kind:  filter, nat, route; “filter of bridge”
    accepts:  what becomes of a packet that no rule decides
    unknown:  what was not understood, rule by rule: nothing can be said of the chain if there is any
    """

    where: str
    hook: str
    kind: str
    priority: int
    accepts: bool
    family: Family | None
    rules: tuple[FilterRule, ...]
    unknown: tuple[Notice, ...] = ()

    @property
    def filters(self) -> bool:
        """Whether it denies anything."""
        return bool(self.unknown) or not self.accepts or any(rule.verdict.denies for rule in self.rules)


def chains_of(listed: Any, machine: str, interfaces: Sequence[str]) -> list[Chain]:
    """The base chains in a listing, in the order in which packets come to them at each hook.

    machine:  the name that notices begin with;  interfaces:  all that the machine has
    Raises ValueError where it is no listing.
    """
    if not isinstance(listed, dict) or not isinstance(listed.get("nftables"), list):
        raise ValueError("expected what `nft -j list ruleset` prints")
    ruleset = _Ruleset(listed["nftables"], machine, interfaces)
    found = [ruleset.chain(each) for each in ruleset.bases]
    return sorted(found, key=lambda chain: chain.priority)


class _Ruleset:
    def __init__(self, objects: Sequence[Any], machine: str, interfaces: Sequence[str]) -> None:
        self._machine, self._interfaces = machine, interfaces
        self.bases: list[dict[str, Any]] = []
        self._rules: dict[tuple[str, str, str], list[dict[str, Any]]] = {}
        self._sets: dict[tuple[str, str, str], list[Any]] = {}
        self._counted: dict[tuple[str, str, str], int] = {}
        for each in objects:
            if not isinstance(each, dict) or len(each) != 1:
                raise ValueError("expected an object with one field in each place of the listing")
            ((kind, told),) = each.items()
            if not isinstance(told, dict):
                raise ValueError(f"expected fields in “{kind}”")
            self._take(kind, told)

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
        unknown: list[Notice] = []
        rules: list[FilterRule] = []
        if family in FAMILIES:
            start = replace(ANYTHING, family=FAMILIES[family])
            for rule in self._followed((family, table, name), start, where, unknown, 0):
                rules.append(rule)
                if len(rules) > MOST_RULES:
                    unknown.append(self._notice(where, f"its rules come to more than {MOST_RULES}"))
                    break
        return Chain(
            where,
            str(base.get("hook")),
            str(base.get("type")) if family in FAMILIES else f"{base.get('type')} of {family}",
            _number(base.get("prio")) or 0,
            base.get("policy", "accept") == "accept",
            FAMILIES.get(family),
            tuple(rules),
            tuple(dict.fromkeys(unknown)),
        )

    def _notice(self, where: str, message: str) -> Notice:
        return Notice(f"{self._machine}, {where}", message)

    def _followed(
        self, chain: tuple[str, str, str], asked: Conditions, where: str, unknown: list[Notice], depth: int
    ) -> Iterator[FilterRule]:
        """The rules of a chain, with those of chains that they jump to in their place."""
        rules = self._rules.get(chain, [])
        for number, rule in enumerate(rules):
            here = f"table {chain[0]} {chain[1]}, chain {chain[2]}, rule {rule.get('handle', number + 1)}"
            try:
                for conditions, statement, log, packets in self._read(chain, rule, asked):
                    kind, told = statement
                    if kind in ("jump", "goto"):
                        if depth == DEEPEST:
                            raise Unknown(f"jumps lead deeper than {DEEPEST} chains")
                        target = str(told.get("target")) if isinstance(told, dict) else ""
                        yield from self._followed((*chain[:2], target), conditions, where, unknown, depth + 1)
                        if kind == "goto":
                            raise Unknown("goto: what behind it is not asked cannot be said")
                        continue
                    if kind == "return":
                        if number < len(rules) - 1 or conditions != asked:
                            raise Unknown("return: what it leaves out cannot be said")
                        continue
                    yield _decision(here, kind, told, conditions, log, packets, rule.get("comment"))
            except Unknown as error:
                unknown.append(self._notice(here, str(error)))

    def _read(
        self, chain: tuple[str, str, str], rule: dict[str, Any], asked: Conditions
    ) -> Iterator[tuple[Conditions, tuple[str, Any], bool, int | None]]:
        """What a rule decides, for each way to meet its conditions. Raises Unknown."""
        ways = [asked]
        log, packets = False, None
        expressions = rule.get("expr", [])
        if not isinstance(expressions, list):
            raise Unknown("its expressions are no list")
        for expression in expressions:
            if not isinstance(expression, dict) or len(expression) != 1:
                raise Unknown(f"{expression}")
            ((kind, told),) = expression.items()
            if kind == "match":
                ways = list(_met(ways, alternatives(told, self._resolver(chain), self._interfaces)))
            elif kind == "vmap":
                for key, statement in self._mapped(chain, told):
                    for way in _met(ways, [key]):
                        yield way, statement, log, packets
                return
            elif kind == "log":
                log = True
            elif kind == "counter":
                packets = self._packets(chain, told)
            elif kind in _VERDICTS or kind in ("jump", "goto"):
                for way in ways:
                    yield way, (kind, told), log, packets
                return
            elif kind not in _QUIET:
                raise Unknown(f"“{kind}” is not known here")
        if log:
            raise Unknown("it logs and goes on: write log on a rule that decides")

    def _mapped(self, chain: tuple[str, str, str], told: Any) -> Iterator[tuple[Conditions, tuple[str, Any]]]:
        resolve = self._resolver(chain)
        data = told.get("data") if isinstance(told, dict) else None
        pairs = data.get("set") if isinstance(data, dict) else resolve(data)
        for pair in pairs or ():
            if not isinstance(pair, list) or len(pair) != 2 or not isinstance(pair[1], dict):
                raise Unknown(f"“vmap” with {pair}")
            ((kind, target),) = pair[1].items()
            if kind not in _VERDICTS and kind not in ("jump", "goto"):
                raise Unknown(f"“{kind}” in a map is not known here")
            for key in conditions_of(told["key"], pair[0], resolve, self._interfaces):
                yield key, (kind, target)

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
