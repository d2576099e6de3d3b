"""A collected machine as a device: interfaces, routes, services, and its filter as lists at their places."""

import re
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from ipaddress import IPv4Interface, IPv6Address, IPv6Interface, ip_interface
from typing import Any

from greyheron.analysis.testing.sending import CountedAt
from greyheron.core.intervals import Spans, span_union
from greyheron.core.progress import Progress, unwatched
from greyheron.core.walk.delivery import LOGIN_PORTS
from greyheron.formats.format import Notice
from greyheron.formats.machines.collection import kept_names
from greyheron.formats.machines.filter_rules import REWRITING, Chain, FilterRule, FilterVerdict
from greyheron.formats.machines.lists import AddressSets, WrittenList, list_of
from greyheron.formats.machines.machine import EVERYWHERE, LOOPBACK, Machine
from greyheron.formats.machines.policy import FilterPolicy, policy_of
from greyheron.formats.machines.printed import HopLine, PortLine, RouteLine
from greyheron.formats.machines.ruleset import BRIDGE_FILTER, chains_of
from greyheron.formats.machines.translations import translations_of
from greyheron.model.document import to_data
from greyheron.model.entry import ListBody
from greyheron.model.names import PORTS, port_name
from greyheron.model.values import DenialAnswer, Direction, Family

_MAC = re.compile(r"^[0-9a-f]{2}(:[0-9a-f]{2}){5}$")
_LINES = {"remote": ("ssh", "telnet"), "web": ("https", "http")}
_TRACKED = ["tcp", "udp", "icmp"]
FIRST_PREFERENCE, LAST_PREFERENCE = 5, 254
MOST_NOTE = 400
_PASSED_ON = frozenset({"prerouting", "forward", "postrouting"})


@dataclass
class Made:
    """The document as it grows.

    filtering:  machines that may deny what they pass on;  bridging:  those that may deny frames
    """

    devices: list[dict[str, Any]] = field(default_factory=list)
    sets: list[dict[str, Any]] = field(default_factory=list)
    lists: list[dict[str, Any]] = field(default_factory=list)
    placements: list[dict[str, Any]] = field(default_factory=list)
    left_out: list[Notice] = field(default_factory=list)
    guessed: list[Notice] = field(default_factory=list)
    counts: Counter[CountedAt] = field(default_factory=Counter)
    filtering: set[str] = field(default_factory=set)
    bridging: set[str] = field(default_factory=set)


class Neighbours:
    """Who has an address, over all machines."""

    def __init__(self, machines: Sequence[Machine]) -> None:
        self._held: set[IPv4Interface | IPv6Interface] = set()
        self._by_link: dict[IPv6Address, list[tuple[IPv4Interface | IPv6Interface, ...]]] = {}
        for machine in machines:
            for port in machine.ports.values():
                self._held |= set(port.addresses)
                for each in port.addr_info:
                    if isinstance(each.local, IPv6Address) and each.local.is_link_local:
                        self._by_link.setdefault(each.local, []).append(port.addresses)
        self._addresses = {each.ip for each in self._held}

    def known(self, address: Any) -> bool:
        return address in self._addresses

    def whole(self, address: Any, port: PortLine) -> Any:
        """For a link-local next hop its holder's address in a prefix that the port shares; None: nobody's."""
        if not address.is_link_local:
            return address
        networks = {each.network for each in port.addresses}
        held = (each for ports in self._by_link.get(address, ()) for each in ports)  # one on each link
        return next((each.ip for each in held if each.version == 6 and each.network in networks), None)


class MadeDevice:
    """One machine on its way into the document."""

    def __init__(
        self,
        machine: Machine,
        neighbours: Neighbours,
        made: Made,
        macs: Mapping[str, int],
        progress: Progress = unwatched,
    ) -> None:
        self._machine, self._neighbours, self._made, self._macs = machine, neighbours, made, macs
        self._progress = progress
        self._names = kept_names(list(machine.ports))
        parents = {port.link for port in machine.ports.values() if port.vlan is not None}
        self._shown = {
            name: port for name, port in machine.ports.items() if port.addresses or name in parents
        }

    def add(self) -> None:
        """Raises ValueError, Cancelled."""
        machine, made = self._machine, self._made
        self._name_what_is_left()
        chains = chains_of(
            machine.collected.ruleset or {"nftables": []}, machine.name, list(machine.ports), machine.dormant
        )
        deny = [chain for chain in chains if chain.filters]
        made.filtering |= {machine.name for chain in deny if chain.hook in _PASSED_ON}
        made.bridging |= {machine.name for chain in deny if chain.kind == BRIDGE_FILTER}
        rewriting, unsaid = self._translations(chains)
        ports = [name for name, port in self._shown.items() if port.addresses]
        policy = policy_of(machine, chains, ports, unsaid)
        said = Counter(
            rule.answer
            for chain in chains
            for rule in chain.rules
            if rule.verdict is FilterVerdict.REJECT and rule.answer is not None
        )
        answer = _answer_of(said)
        answers = answer is not DenialAnswer.NOTHING
        device: dict[str, Any] = {
            "name": machine.name,
            "kind": "router" if machine.forwards else "host",
            "interfaces": [self._interface(name, port) for name, port in self._shown.items()],
            "answers_denied": answer,
        }
        device |= self._routes() | self._services()
        device["tracks"] = _TRACKED if policy.tracks else []
        if policy.outbound:
            device["filters_own_traffic"] = True
        if rewriting:
            device["translations"] = rewriting
        made.left_out += policy.left_out
        if policy.left_out:
            missing = "; ".join(map(str, policy.left_out))
            device["note"] = f"Not all of its filter is known here. {missing}"[:MOST_NOTE]
        self._warn(policy, chains, said, answer)
        made.devices.append(device)
        self._place(policy, answers)

    def _notice(self, what: str, message: str, guess: bool = False) -> None:
        into = self._made.guessed if guess else self._made.left_out
        into.append(Notice(f"{self._machine.name}, {what}" if what else self._machine.name, message))

    def _name_what_is_left(self) -> None:
        bridges = self._machine.bridges
        for name, port in self._machine.ports.items():
            if name in self._shown or name == LOOPBACK:
                continue
            if port.master in bridges and self._is_switch(port.master):
                continue
            if port.master in bridges:
                untagged, tagged = self._machine.vlans(name)
                vlans = [f"VLAN {untagged}"] if untagged not in (None, 1) else []
                vlans += [f"VLAN {number} tagged" for number in tagged]
                told = f" ({', '.join(vlans[:20])})" if vlans else ""
                self._notice(name, f"a port of the bridge {port.master}{told}: the bridge stands for it")
            else:
                self._notice(name, "it has no address: left out")

    def _is_switch(self, bridge: str | None) -> bool:
        """Whether it becomes a switch beside the machine: it has an address, and no tags upon it."""
        port = self._machine.ports[bridge or ""]
        tagged = any(each.vlan is not None and each.link == bridge for each in self._machine.ports.values())
        return bool(port.addresses) and "UP" in port.flags and not tagged

    def _interface(self, name: str, port: PortLine) -> dict[str, Any]:
        found: dict[str, Any] = {
            "name": self._names[name],
            "addresses": [str(each) for each in self._addresses(port)],
        }
        if "UP" not in port.flags:
            found["enabled"] = False
        if port.vlan is not None and port.link in self._names:
            if self._machine.forwards:
                found |= {"parent": self._names[port.link], "vlan": port.vlan}
        elif _usable(port.address, self._macs):
            found["mac"] = port.address
        return found

    def _addresses(self, port: PortLine) -> Iterator[IPv4Interface | IPv6Interface]:
        """Its addresses; alone, where no route leads to the prefix of one."""
        led = self._led_out.get(port.ifname, set())
        alone = {each.local for each in port.addr_info if each.noprefixroute}
        for each in port.addresses:
            there = each.ip not in alone or str(each.network) in led
            yield each if there else ip_interface((each.ip, each.max_prefixlen))

    @cached_property
    def _led_out(self) -> Mapping[str, set[str]]:
        """The prefixes that routes lead out of each port without a next hop."""
        found: dict[str, set[str]] = {}
        for family in Family:
            for line in self._machine.routes(family):
                for hop in line.hops:
                    if hop.gateway is None:
                        found.setdefault(hop.dev or "", set()).add(line.prefix(family))
        return found

    def _routes(self) -> dict[str, Any]:
        machine = self._machine
        found: dict[str, Any] = {}
        routes: list[dict[str, Any]] = [
            {"to": str(peer), "interface": self._names[name]}
            for name, port in self._shown.items()
            for peer in port.peers
        ]
        for family in Family:
            lines = [line for line in machine.routes(family) if not line.connected]
            ranks: dict[str, int] = {}
            for line in sorted(lines, key=lambda each: each.metric):
                self._progress(0)
                prefix = line.prefix(family)
                if prefix.startswith(("fe80", "ff00")):
                    continue
                ranks[prefix] = ranks.get(prefix, FIRST_PREFERENCE - 1) + 1
                if line.learnt:
                    self._notice(f"route to {prefix}", f"learnt by {line.protocol}: taken as static", True)
                made = list(self._hops(line, prefix, min(ranks[prefix], LAST_PREFERENCE)))
                key = "gateway" if family is Family.IPV4 else "gateway6"
                everywhere = prefix in ("0.0.0.0/0", "::/0")
                if (
                    everywhere
                    and not machine.forwards
                    and len(made) == 1
                    and key not in found
                    and made[0].keys() == {"to", "via"}
                ):
                    found[key] = made[0]["via"]
                else:
                    routes += made
        return found | ({"routes": routes} if routes else {})

    def _hops(self, line: RouteLine, prefix: str, preference: int) -> Iterator[dict[str, Any]]:
        more = {"preference": preference} if preference != FIRST_PREFERENCE else {}
        if line.nowhere:
            yield {"to": prefix, "discard": True, **more}
            return
        if line.type != "unicast":
            self._notice(f"route to {prefix}", f"routes of the type {line.type} are not taken over")
            return
        for hop in line.hops:
            if hop.dev not in self._shown:
                self._notice(f"route to {prefix}", f"it leads out of {hop.dev}, which is left out")
            elif hop.gateway is not None:
                via = self._neighbours.whole(hop.gateway, self._shown[hop.dev])
                if via is None:
                    self._notice(f"route to {prefix}", f"nobody is known at {hop.gateway}: left out")
                else:
                    yield {"to": prefix, "via": str(via), **self._on_link(hop, via), **more}
            elif hop.via is not None:
                self._notice(f"route to {prefix}", "its next hop is of the other family: left out")
            else:
                yield {"to": prefix, "interface": self._names[hop.dev], **more}

    def _on_link(self, hop: HopLine, via: Any) -> dict[str, Any]:
        """The interface too, where a next hop is said to be there, whatever its address."""
        dev = hop.dev or ""
        near = any(via in each.network for each in self._shown[dev].addresses)
        return {} if near or "onlink" not in hop.flags else {"interface": self._names[dev]}

    def _services(self) -> dict[str, Any]:
        services: dict[str, dict[str, Any]] = {}
        logins: set[int] = set()
        for (protocol, port), addresses in self._machine.listening.items():
            if not ("*" in addresses or addresses >= set(EVERYWHERE.values())):
                told = f"it listens at {', '.join(sorted(addresses))} only: elsewhere it is not known"
                self._notice(f"{protocol}/{port}", told, True)
            if self._machine.forwards and protocol == "tcp" and port in LOGIN_PORTS:
                logins.add(port)
                continue
            name = port_name(port) or f"{protocol}-{port}"
            name = f"{name}-{protocol}" if name in services else name
            services[name] = {"name": name, "protocol": protocol, "port": port}
        lines = [
            {"name": line, "transports": offered}
            for line, transports in _LINES.items()
            if (offered := [each for each in transports if PORTS[each] in logins])
        ]
        found: dict[str, Any] = {"services": list(services.values())} if services else {}
        return found | ({"lines": lines} if lines else {})

    def _translations(
        self, chains: Sequence[Chain]
    ) -> tuple[list[dict[str, Any]], list[tuple[str, FilterRule]]]:
        """What rewriting rules become, and those that cannot be said, with their hooks."""
        made: list[dict[str, Any]] = []
        unsaid: list[tuple[str, FilterRule]] = []
        for chain in chains:
            for rule in chain.rules if chain.kind == "nat" else ():
                if rule.verdict not in REWRITING:
                    continue
                if not self._machine.forwards and rule.verdict is FilterVerdict.MASQUERADE:
                    continue  # what it sends itself has that source anyway
                found = []
                if self._machine.forwards:
                    found = translations_of(self._machine, self._names, self._shown, chain.hook, rule)
                made += found
                if not found:
                    unsaid.append((chain.hook, rule))
                    self._notice(
                        rule.where, f"this {rule.verdict} cannot be said: what it rewrites is not known"
                    )
                elif rule.verdict is FilterVerdict.DNAT and rule.conditions.destination is None:
                    told = "it publishes whatever address is asked for: taken for the machine's own"
                    self._notice(rule.where, told, True)
        return made, unsaid

    def _warn(
        self, policy: FilterPolicy, chains: Sequence[Chain], said: Collection[str], answer: DenialAnswer
    ) -> None:
        """said:  what rules answer;  answer:  what the device does, whichever rule it is"""
        drops_invalid = any(
            rule.verdict.denies and rule.conditions.states == frozenset({"invalid"})
            for chain in chains
            for rule in chain.rules
        )
        if policy.tracks and not drops_invalid:
            self._notice(
                "its sessions",
                "what belongs to no conversation and opens none is taken to be dropped: no rule says so",
                True,
            )
        others = sorted(set(said) - {each for each, meant in _ANSWERS.items() if meant is answer})
        if answer is DenialAnswer.RESET:
            others = [each for each in others if each != _UNHEARD]
        if others:
            told = f"what it rejects is told as {answer} here, not as {', '.join(others)}"
            self._notice("its answers", told, True)

    def _place(self, policy: FilterPolicy, answers: bool) -> None:
        machine, made = self._machine, self._made
        known: dict[tuple[Family, Spans], str] = {}
        for family, number in ((Family.IPV4, "4"), (Family.IPV6, "6")):
            known[family, machine.own(family)] = f"own{number}"
            led = machine.led_by(family) or {}
            for way, spans in led.items():
                known.setdefault((family, spans), f"by-{self._names.get(way, way)}-{number}")
            routed = span_union(span for spans in led.values() for span in spans)
            known.setdefault((family, routed), f"routed{number}")
        sets = AddressSets(machine.name, known)
        ports = Counter(
            (direction, family, rules)
            for direction, rules_at in (("in", policy.inbound), ("out", policy.outbound))
            for (_, family), rules in rules_at.items()
        )
        found: dict[tuple[Family, tuple[FilterRule, ...]], WrittenList] = {}
        placed: list[tuple[WrittenList, str, str]] = []
        named: set[str] = set()
        for direction, rules_at in (("in", policy.inbound), ("out", policy.outbound)):
            for (port, family), rules in rules_at.items():
                place = f"{self._names[port]} {direction}"
                if (family, rules) not in found:
                    six = "6" if family is Family.IPV6 else ""
                    name = f"{machine.name}-{direction}{six}"
                    if ports[direction, family, rules] == 1 or name in named:
                        name = f"{machine.name}-{self._names[port].replace('/', '-')}-{direction}{six}"
                    named.add(name)
                    origins = sorted({rule.where.rpartition(",")[0] for rule in rules if rule.where})
                    written = found[family, rules] = list_of(
                        name[:63], family, rules, sets, answers, f"From {'; '.join(origins)}."[:MOST_NOTE]
                    )
                    made.left_out += [
                        Notice(f"{machine.name}, {place}", why) for why in dict.fromkeys(written.not_said)
                    ]
                placed.append((found[family, rules], self._names[port], direction))
        made.sets += [to_data(each) for each in sets.made.values()]
        made.lists += [
            to_data(each.access_list.model_copy(update={"body": ListBody()}))
            | {"entries": each.access_list.body}
            for each in {id(each): each for each, _, _ in placed}.values()
        ]
        made.placements += [
            {"list": each.access_list.name, "device": machine.name, "at": at, "direction": direction}
            for each, at, direction in placed
        ]
        self._count(placed)

    def _count(self, placed: Sequence[tuple[WrittenList, str, str]]) -> None:
        """Packets that a rule counted, where it is one entry at one place and no more."""
        met = Counter(rule.where for each, _, _ in placed for rule in each.rules.values())
        for each, at, direction in placed:
            for number, rule in each.rules.items():
                if rule.packets and met[rule.where] == 1:
                    place = self._machine.name, at, Direction(direction)
                    self._made.counts[CountedAt(*place, each.access_list.name, number)] = rule.packets
        several = {
            rule.where: rule.packets
            for each, _, _ in placed
            for rule in each.rules.values()
            if rule.packets and met[rule.where] > 1
        }
        if several:
            where, packets = next(iter(several.items()))
            others = f", nor what {len(several) - 1} others counted" if len(several) > 1 else ""
            self._notice(
                where,
                f"its {packets} packets are counted at no entry, as it stands at several places{others}",
            )


_UNHEARD = "port-unreachable"
_ANSWERS = {
    "admin-prohibited": DenialAnswer.PROHIBITED,
    "host-unreachable": DenialAnswer.HOST_UNREACHABLE,
    "addr-unreachable": DenialAnswer.HOST_UNREACHABLE,
    "net-unreachable": DenialAnswer.NETWORK_UNREACHABLE,
    "no-route": DenialAnswer.NETWORK_UNREACHABLE,
    _UNHEARD: DenialAnswer.PORT_UNREACHABLE,
    "tcp reset": DenialAnswer.RESET,
}
"""What rules of the packet filter answer, and what a device is set to."""


def _answer_of(said: Counter[str]) -> DenialAnswer:
    """What stands for all that a machine's rules answer: that of most, a reset where it resets."""
    if "tcp reset" in said:
        return DenialAnswer.RESET
    known = [each for each, _ in said.most_common() if each in _ANSWERS]
    if known:
        return _ANSWERS[known[0]]
    return DenialAnswer.PROHIBITED if said else DenialAnswer.NOTHING


def _usable(mac: str, macs: Mapping[str, int]) -> bool:
    """Whether it is the MAC address of one port only."""
    return (
        bool(_MAC.match(mac)) and macs[mac] == 1 and not int(mac[:2], 16) & 1 and mac != "00:00:00:00:00:00"
    )
