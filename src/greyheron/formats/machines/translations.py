"""Rules of a packet filter that rewrite addresses, as translations (§7)."""

from collections.abc import Mapping
from ipaddress import ip_address
from typing import Any

from greyheron.core.regions import Spans, prefixes_of
from greyheron.formats.machines.machine import LOOPBACK, Machine, PortLine
from greyheron.formats.machines.policy import rewritten
from greyheron.formats.machines.ruleset import FilterRule, FilterVerdict
from greyheron.model.document import family_of
from greyheron.model.values import Family

_PROTOCOL = {6: "tcp", 17: "udp"}


def translation_of(
    machine: Machine, names: Mapping[str, str], shown: Mapping[str, PortLine], hook: str, rule: FilterRule
) -> dict[str, Any] | None:
    """A translation as a document has it; None where it cannot be said.

    names:  what interfaces are called here;  shown:  those that are there
    """
    addressed = [name for name, port in shown.items() if port.addresses and name != LOOPBACK]
    if hook == "postrouting" and rule.verdict in (FilterVerdict.MASQUERADE, FilterVerdict.SNAT):
        return _hiding(names, addressed, rule)
    if hook == "prerouting" and rule.verdict is FilterVerdict.DNAT:
        return _publishing(machine, names, addressed, rule)
    return None


def _hiding(names: Mapping[str, str], addressed: list[str], rule: FilterRule) -> dict[str, Any] | None:
    """Many inside addresses behind few."""
    asked = rule.conditions
    services = (asked.protocol, asked.destination, asked.destination_ports, asked.source_ports, asked.states)
    if any(each is not None for each in services) or asked.leaves is None or len(asked.leaves) != 1:
        return None
    (outside,) = asked.leaves
    inside = [names[name] for name in addressed if name != outside]
    source = _one_prefix(asked.source, asked.family or Family.IPV4)
    if outside not in addressed or not inside or source is None:
        return None
    made = {"kind": "dynamic", "inside": inside, "outside": names[outside], "source": source}
    return made | ({"to": f"{rule.to}/{'128' if ':' in rule.to else '32'}"} if rule.to else {})


def _publishing(
    machine: Machine, names: Mapping[str, str], addressed: list[str], rule: FilterRule
) -> dict[str, Any] | None:
    """An inside address, or a service of it, at an outside one."""
    to = ip_address(rule.to or "0.0.0.0")
    family = family_of(to)
    outside, _ = rewritten(rule, family)
    if outside is None or outside.destination is None or outside.source is not None:
        return None
    (first, last), *others = outside.destination
    holders = [
        name
        for name in addressed
        if any(each.version == to.version and int(each.ip) == first for each in machine.ports[name].addresses)
    ]
    led = [
        name
        for name, spans in (machine.led_by(family) or {}).items()
        if any(low <= int(to) <= high for low, high in spans)
    ]
    if first != last or others or len(holders) != 1 or not led:
        return None
    if led[0] == holders[0] or led[0] not in addressed:
        return None
    whole = family.bits
    made: dict[str, Any] = {
        "kind": "static",
        "inside": [names[led[0]]],
        "outside": names[holders[0]],
        "source": f"{to}/{whole}",
        "to": f"{family.text(first)}/{whole}",
    }
    if outside.protocol is None and outside.destination_ports is None:
        return made
    port, protocol = _single(outside.destination_ports), _PROTOCOL.get(_single(outside.protocol) or 0)
    if protocol is None or port is None:
        return None
    made |= {"protocol": protocol, "port": rule.to_port or port}
    return made | ({"to_port": port} if rule.to_port not in (None, port) else {})


def _single(spans: Spans | None) -> int | None:
    return spans[0][0] if spans is not None and len(spans) == 1 and spans[0][0] == spans[0][1] else None


def _one_prefix(spans: Spans | None, family: Family) -> str | None:
    """As it is written; everything where nothing is said, None where it is no prefix."""
    blocks = prefixes_of(family, ((0, family.every_bit),) if spans is None else spans)
    return f"{family.text(blocks[0].first)}/{blocks[0].length}" if len(blocks) == 1 else None
