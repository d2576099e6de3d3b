"""Rules of a packet filter that rewrite addresses, as translations (§7)."""

from collections.abc import Iterator, Mapping
from ipaddress import ip_address
from typing import Any

from greyheron.core.intervals import Spans, prefixes_of
from greyheron.formats.machines.filter_rules import FilterRule, FilterVerdict
from greyheron.formats.machines.machine import LOOPBACK, Machine
from greyheron.formats.machines.policy import rewritten
from greyheron.formats.machines.printed import PortLine
from greyheron.model.item import family_of
from greyheron.model.values import Family

_PROTOCOL = {6: "tcp", 17: "udp"}


def translations_of(
    machine: Machine, names: Mapping[str, str], shown: Mapping[str, PortLine], hook: str, rule: FilterRule
) -> list[dict[str, Any]]:
    """A rule as translations as a document has them; none where it cannot be said.

    names:  what interfaces are called here;  shown:  those that are there
    """
    addressed = [name for name, port in shown.items() if port.addresses and name != LOOPBACK]
    if rule.maybe:
        return []
    if hook == "postrouting" and rule.verdict in (FilterVerdict.MASQUERADE, FilterVerdict.SNAT):
        return list(_hiding(machine, names, addressed, rule))
    if hook == "prerouting" and rule.verdict is FilterVerdict.DNAT:
        return list(_publishing(machine, names, addressed, rule))
    return []


def _hiding(
    machine: Machine, names: Mapping[str, str], addressed: list[str], rule: FilterRule
) -> Iterator[dict[str, Any]]:
    """Many inside addresses behind few: for each family, prefix and outside interface."""
    asked = rule.conditions
    services = (asked.protocol, asked.destination, asked.destination_ports, asked.source_ports, asked.states)
    outsides = sorted(asked.leaves) if asked.leaves is not None else addressed
    if any(each is not None for each in (*services, asked.arrives)) or not set(outsides) <= set(addressed):
        return
    families = [asked.family] if asked.family is not None else list(Family)
    if rule.to is not None:
        families = [each for each in families if each is family_of(ip_address(rule.to))]
    for outside in outsides:
        inside = [names[name] for name in addressed if name != outside]
        for family in families:
            if not inside or not _held(machine, outside, family):
                continue
            every: Spans = ((0, family.every_bit),)
            for block in prefixes_of(family, every if asked.source is None else asked.source):
                source = f"{family.text(block.first)}/{block.length}"
                made = {"kind": "dynamic", "inside": inside, "outside": names[outside], "source": source}
                yield made | ({"to": f"{rule.to}/{family.bits}"} if rule.to else {})


def _held(machine: Machine, name: str, family: Family) -> list[int]:
    return [int(each.ip) for each in machine.ports[name].addresses if family_of(each.ip) is family]


def _publishing(
    machine: Machine, names: Mapping[str, str], addressed: list[str], rule: FilterRule
) -> Iterator[dict[str, Any]]:
    """An inside address, or a service of it, at an outside one: wherever the rule lets packets come in."""
    to = ip_address(rule.to or "0.0.0.0")
    family = family_of(to)
    outside, _ = rewritten(rule, family)
    arrives = rule.conditions.arrives
    if outside is None or outside.source is not None or outside.source_ports is not None:
        return
    led = [
        name
        for name, spans in (machine.led_by(family) or {}).items()
        if any(low <= int(to) <= high for low, high in spans)
    ]
    ways = [name for name in addressed if (arrives is None or name in arrives) and name not in led]
    if len(led) != 1 or led[0] not in addressed:
        return
    service: dict[str, Any] = {}
    if outside.protocol is not None or outside.destination_ports is not None:
        port, protocol = _single(outside.destination_ports), _PROTOCOL.get(_single(outside.protocol) or 0)
        if protocol is None or port is None:
            return
        service = {"protocol": protocol, "port": rule.to_port or port}
        service |= {"to_port": port} if rule.to_port not in (None, port) else {}
    for way in ways:
        address = _single(outside.destination)
        if outside.destination is None:  # whatever it was for: of all that is its own is said here
            own = _held(machine, way, family)
            address = own[0] if len(own) == 1 else None
        if address is None:
            continue
        yield {
            "kind": "static",
            "inside": [names[led[0]]],
            "outside": names[way],
            "source": f"{to}/{family.bits}",
            "to": f"{family.text(address)}/{family.bits}",
            "inward": True,
            **service,
        }


def _single(spans: Spans | None) -> int | None:
    return spans[0][0] if spans is not None and len(spans) == 1 and spans[0][0] == spans[0][1] else None
