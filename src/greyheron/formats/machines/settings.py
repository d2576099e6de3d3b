"""What a machine decides about packets beside its filter: settings of its kernel, routing policies.

Each is a rule that denies; one that may not be there where what it decides is not known.
"""

from collections.abc import Iterable, Iterator
from ipaddress import ip_address, ip_network

from msgspec import Struct

from greyheron.core.intervals import Spans, span_meet, span_minus, span_union
from greyheron.formats.machines.conditions import ANYTHING, Conditions
from greyheron.formats.machines.machine import EVERYWHERE, Machine
from greyheron.formats.machines.printed import PolicyLine
from greyheron.model.entry import IcmpMatch
from greyheron.model.names import PROTOCOLS
from greyheron.model.values import Family

_ECHO = {
    Family.IPV4: ("net.ipv4.icmp_echo_ignore_all", 8),
    Family.IPV6: ("net.ipv6.icmp.echo_ignore_all", 128),
}
_STRICT, _LOOSE = 1, 2


class KernelRule(Struct, frozen=True):
    """What is denied as packets come in by an interface.

    maybe:  whether that is not known;  notice:  what is said of it; empty where it is said exactly
    always:  whether packets of known conversations are denied too
    """

    where: str
    conditions: Conditions
    maybe: bool = False
    notice: str = ""
    always: bool = False


def settings_rules(machine: Machine, port: str, family: Family) -> Iterator[KernelRule]:
    """What a machine denies of packets of one family that come in by `port`, beside its rules."""
    yield from _legacy(machine)
    yield from _unlisted(machine)
    yield from _policies(machine, port, family)
    yield from _reverse_paths(machine, port, family)
    yield from _echo(machine, family)
    yield from _silent_discards(machine, family)
    yield from _not_passed_on(machine, port, family)
    yield from _served(machine, family)
    yield from _listening(machine, port, family)


def sending_rules(machine: Machine, family: Family) -> Iterator[KernelRule]:
    """What becomes otherwise of what a machine sends itself, as `settings_rules` says of what comes in."""
    for rule in machine.policies(family):
        conditions = None if rule.iif is not None else _of_policy(machine, rule, None, family)
        if conditions is not None:
            yield KernelRule(f"routing policy {rule.priority}", conditions, True)
    yield from _chosen_sources(machine, family)


def _legacy(machine: Machine) -> Iterator[KernelRule]:
    tables = machine.collected.legacy
    if tables:
        named = ", ".join(dict.fromkeys(tables))
        told = f"tables of the older packet filter are there ({named}) and were not collected: not known"
        yield KernelRule("older filter", ANYTHING, True, told)


def _unlisted(machine: Machine) -> Iterator[KernelRule]:
    for table in machine.unlisted:
        told = "the packet filter named it and did not list it: what it decides is not known"
        yield KernelRule(f"table {table}", ANYTHING, True, told)


def _policies(machine: Machine, port: str, family: Family) -> Iterator[KernelRule]:
    """Rules that lead to other routing tables than the usual ones, and interfaces that have their own."""
    for rule in machine.policies(family):
        conditions = _of_policy(machine, rule, port, family)
        if conditions is not None:
            told = f"it leads {rule.words} to another routing table: where these packets go is not known"
            yield KernelRule(f"routing policy {rule.priority}", conditions, True, told)
    if machine.own_table(port):
        told = f"{port} has a routing table of its own: where packets go that come in by it is not known"
        yield KernelRule(port, ANYTHING, True, told)


def _of_policy(machine: Machine, rule: PolicyLine, port: str | None, family: Family) -> Conditions | None:
    """What a policy is about of what comes in there, as far as it can be told; None where nothing is."""
    if rule.iif not in (None, port):
        return None
    spans = (
        _block(text, length, family) for text, length in ((rule.src, rule.srclen), (rule.dst, rule.dstlen))
    )
    source, destination = spans
    passed_on = span_minus(((0, family.every_bit),), machine.own(family))  # its own addresses come first
    destination = passed_on if destination is None else span_meet(destination, passed_on)
    return Conditions(family=family, source=source, destination=destination) if destination else None


def _block(text: str | None, length: int | None, family: Family) -> Spans | None:
    if text in (None, "all", "default"):
        return None
    first, last = PolicyLine.block(str(text), length, family)
    return ((first, last),)


def _reverse_paths(machine: Machine, port: str, family: Family) -> Iterator[KernelRule]:
    """Packets from where a route leads out of another interface, or none at all (RFC 3704 2.2, 2.3)."""
    if family is Family.IPV6:
        return
    how = max(machine.setting(f"net.ipv4.conf.{name}.rp_filter") for name in ("all", port))
    if how not in (_STRICT, _LOOSE):
        return
    led = machine.led_by(family)
    where = f"rp_filter of {port}"
    if led is None:
        yield KernelRule(where, ANYTHING, True, "equal routes part: whether it denies is not known")
        return
    ways = [led.get(port, ())] if how == _STRICT else list(led.values())
    allowed = span_union(span for spans in ways for span in spans)
    denied = span_minus(((0, family.every_bit),), span_union((*allowed, (0, 0))))
    if denied:
        yield KernelRule(where, Conditions(family=family, source=denied))


def _echo(machine: Machine, family: Family) -> Iterator[KernelRule]:
    name, kind = _ECHO[family]
    if machine.setting(name):
        asked = Conditions(
            family=family,
            protocol=((family.icmp, family.icmp),),
            destination=machine.own(family),
            icmp=frozenset({IcmpMatch(kind)}),
        )
        yield KernelRule(name, asked)


def _silent_discards(machine: Machine, family: Family) -> Iterator[KernelRule]:
    """A discarded packet is answered with network unreachable here (§2); a blackhole says nothing."""
    spans = machine.discarded(family, "blackhole")
    own = machine.own(family)
    if machine.forwards_family(family) and (spans := span_minus(spans, own)):
        yield KernelRule("blackhole routes", Conditions(family=family, destination=spans))


def _not_passed_on(machine: Machine, port: str, family: Family) -> Iterator[KernelRule]:
    """What comes in by an interface that passes nothing on, on a machine that does by others."""
    if machine.forwards_family(family) and not machine.forwards_from(port, family):
        others = span_minus(((0, family.every_bit),), machine.own(family))
        yield KernelRule(f"forwarding of {port}", Conditions(family=family, destination=others), always=True)


def _served(machine: Machine, family: Family) -> Iterator[KernelRule]:
    """Addresses that its table of local routes takes for its own, and no interface has."""
    if spans := machine.served(family):
        told = "its table of local routes has addresses that no interface has: not known"
        yield KernelRule("local table", Conditions(family=family, destination=spans), True, told)


def _listening(machine: Machine, port: str, family: Family) -> Iterator[KernelRule]:
    """What listens at some addresses or on some interface only: elsewhere nobody may answer."""
    own = machine.own(family)
    for (protocol, number), places in machine.listening.items():
        there = listened_at(places, port, family)
        if there is None or (missed := span_minus(own, there)) == ():
            continue
        kind = PROTOCOLS[protocol]
        asked = Conditions(
            family=family,
            protocol=((kind, kind),),
            destination=missed,
            destination_ports=((number, number),),
        )
        yield KernelRule(f"{protocol}/{number}", asked, True)


def listened_at(places: Iterable[str], port: str, family: Family) -> Spans | None:
    """The addresses at which something listens that came in by `port`; None for every one.

    places:  as `ss` tells them: an address, and behind `%` an interface
    """
    found: list[tuple[int, int]] = []
    for place in places:
        address, _, device = place.partition("%")
        if device not in ("", port):
            continue
        if address in ("*", EVERYWHERE[family]):
            return None
        try:
            told = ip_address(address.strip("[]"))
        except ValueError:
            continue
        if (told.version == 4) is (family is Family.IPV4):
            found.append((int(told), int(told)))
    return span_union(found)


def _chosen_sources(machine: Machine, family: Family) -> Iterator[KernelRule]:
    """Routes that say with which address to send: where that is another than is taken here."""
    for line in machine.routes(family):
        for hop in line.hops:
            port = machine.ports.get(hop.dev or "")
            if line.prefsrc is None or port is None or line.connected:
                continue
            held = [each for each in port.addresses if each.version == line.prefsrc.version]
            near = [each for each in held if hop.gateway is not None and hop.gateway in each.network]
            taken = next(iter(near or held), None)
            if taken is None or taken.ip != line.prefsrc:
                network = ip_network(line.prefix(family))
                spans = ((int(network[0]), int(network[-1])),)
                yield KernelRule(f"route to {network}", Conditions(family=family, destination=spans), True)
