"""Rules of a packet filter as values, and the chains that they stand in."""

from enum import StrEnum

from msgspec import Struct

from greyheron.formats.format import Notice
from greyheron.formats.machines.conditions import Conditions
from greyheron.model.values import Family

MOST_RULES = 50_000
"""So many rules are spread out of one base chain."""


class FilterVerdict(StrEnum):
    """What becomes of a packet. `REJECT` is answered, `DROP` is not; the others rewrite addresses."""

    ACCEPT = "accept"
    DROP = "drop"
    REJECT = "reject"
    MASQUERADE = "masquerade"
    SNAT = "snat"
    DNAT = "dnat"

    @property
    def denies(self) -> bool:
        return self in (FilterVerdict.DROP, FilterVerdict.REJECT)


REWRITING = frozenset({FilterVerdict.MASQUERADE, FilterVerdict.SNAT, FilterVerdict.DNAT})


class FilterRule(Struct, frozen=True):
    """One decision of a chain.

    where:  the rule it came of;  packets:  how many it counted, None where it counts none
    to, to_port:  what SNAT and DNAT rewrite to;  answer:  what REJECT says, as the filter calls it
    maybe:  whether it is not known that it decides so
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
    maybe: bool = False


class Chain(Struct, frozen=True):
    """A base chain.

    hook:  prerouting, input, forward, output, postrouting;  kind:  filter, nat, route; “filter of bridge”
    accepts:  what becomes of a packet that no rule decides
    unknown:  what was not understood, rule by rule
    device:  the interface that a chain at `ingress` is for
    """

    where: str
    hook: str
    kind: str
    priority: int
    accepts: bool
    family: Family | None
    rules: tuple[FilterRule, ...]
    unknown: tuple[Notice, ...] = ()
    device: str | None = None

    @property
    def filters(self) -> bool:
        """Whether it denies anything."""
        return not self.accepts or any(rule.verdict.denies for rule in self.rules)
