"""The lists of a device, its sessions, zones and translation as rules of the kernel's packet filter.

The order is that of §4: sessions, inbound list, translation of the destination, zones, translation of the
source, outbound list; lines at delivery; frame lists at the edges of all that.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from greyheron.core.delivery import LOGIN_PORTS, line_for
from greyheron.core.filters import sends_through
from greyheron.core.lists import FrameList, ResolvedList
from greyheron.core.translation import answered_addresses
from greyheron.core.world import World
from greyheron.core.zones import lets_through
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Device, Prefix, Translation, family_of
from greyheron.model.entry import FrameMatch
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Action, Direction, Family
from greyheron.rehearsal.expressions import (
    Expression,
    either,
    match,
    matching,
    matching_frame,
    meta,
    no_first_fragment,
    of_family,
    payload,
)

TABLE = {"family": "inet", "name": "heron"}
FRAMES = {"family": "netdev", "name": "heron-frames"}
NEIGHBOURS = {"family": "arp", "name": "heron-neighbours"}
MOST_MAPPED = 1024
"""Prefixes of a static translation are mapped address by address, up to so many."""
_OWN = 0x1000
_ICMP = {Family.IPV4: 1, Family.IPV6: 58}


@dataclass(frozen=True, slots=True)
class Counted:
    """What a counter counts: one entry of a list at one place; `entry` is None for its end."""

    point: AttachmentPoint
    list: str
    entry: int | None


@dataclass(frozen=True, slots=True)
class Rules:
    """What the packet filter is told, as commands of its JSON interface, and what its counters count."""

    commands: tuple[dict[str, Any], ...] = ()
    counters: Mapping[str, Counted] = field(default_factory=dict)


def rules_of(
    world: World, device: Device, ports: Mapping[str, tuple[str, ...]], left_out: list[str]
) -> Rules:
    """ports:  the kernel's names of each interface: none while it is disabled, several where there are VLANs
    left_out:  takes what cannot be said to the kernel
    """
    made = _Maker(world, device, ports, left_out)
    made.make()
    return Rules(tuple(made.commands), made.counters)


class _Maker:
    def __init__(
        self, world: World, device: Device, ports: Mapping[str, tuple[str, ...]], left_out: list[str]
    ) -> None:
        self._world, self._device, self._left_out = world, device, left_out
        self._ports = {name: kernel[0] for name, kernel in ports.items() if kernel}
        self._every = ports
        self.commands: list[dict[str, Any]] = []
        self.counters: dict[str, Counted] = {}
        self._chains: set[str] = set()
        tracked = device.traits.tracks if device.tracks is None else device.tracks
        self._tracked = [number for name, number in (("tcp", TCP), ("udp", UDP)) if name in tracked]
        self._tracked += [*_ICMP.values()] if "icmp" in tracked else []
        answers = device.traits.answers_denied if device.answers_denied is None else device.answers_denied
        self._deny: Expression = (
            {"reject": {"type": "icmpx", "expr": "admin-prohibited"}} if answers else {"drop": None}
        )
        self._answers = answers

    def make(self) -> None:
        device = self._device
        if not device.traits.bridges:
            self._pieces()
            self._inbound()
            self._lines()
            self._zones()
            self._outbound()
            self._translations()
        if self._chains:
            self.commands.insert(0, {"add": {"table": dict(TABLE)}})
        self._frames()
        self._neighbours()

    # --- chains and rules ------------------------------------------------------------------------------

    def _chain(self, name: str, hook: str, priority: int, kind: str = "filter") -> str:
        if name not in self._chains:
            self._chains.add(name)
            self.commands.append(
                {
                    "add": {
                        "chain": {
                            "family": TABLE["family"],
                            "table": TABLE["name"],
                            "name": name,
                            "type": kind,
                            "hook": hook,
                            "prio": priority,
                            "policy": "accept",
                        }
                    }
                }
            )
            if kind == "filter":
                self._rule(
                    name, match(meta("iifname" if hook != "output" else "oifname"), "lo"), {"accept": None}
                )
        return name

    def _rule(self, chain: str, *expressions: Expression, table: dict[str, str] = TABLE) -> None:
        rule = {"family": table["family"], "table": table["name"], "chain": chain, "expr": list(expressions)}
        self.commands.append({"add": {"rule": rule}})

    def _counter(self, counted: Counted, table: dict[str, str] = TABLE) -> str:
        name = f"c{len(self.counters)}"
        self.counters[name] = counted
        self.commands.append(
            {"add": {"counter": {"family": table["family"], "table": table["name"], "name": name}}}
        )
        return name

    # --- lists ---------------------------------------------------------------------------------------------

    def _listed(self, point: AttachmentPoint, family: Family) -> ResolvedList | None:
        return self._world.lists.get((point, family))

    def _list_chain(self, point: AttachmentPoint, found: ResolvedList, deny: Expression) -> str:
        """The entries of a list at one place: what is permitted goes back to where it came from."""
        name = f"list{len(self._chains)}"
        self._chains.add(name)
        self.commands.append(
            {"add": {"chain": {"family": TABLE["family"], "table": TABLE["name"], "name": name}}}
        )
        for rule in found.rules:
            entry = rule.entry
            counter = self._counter(Counted(point, found.name, entry.number))
            ends = deny if not entry.silent else {"drop": None}
            verdict = {"return": None} if entry.action is Action.PERMIT else ends
            for conditions in matching(rule, found.family):
                self._rule(name, *conditions, {"counter": counter}, verdict)
        counter = self._counter(Counted(point, found.name, None))
        if found.family is Family.IPV6:
            discovery = match(payload("icmpv6", "type"), {"range": [133, 136]})
            self._rule(name, discovery, {"counter": counter}, {"return": None})
        self._rule(name, {"counter": counter}, deny)
        return name

    def _inbound(self) -> None:
        points = [
            (port, AttachmentPoint(self._device.name, name, Direction.IN))
            for name, port in self._ports.items()
        ]
        if self._tracked:
            chain = self._chain("arrive", "prerouting", -150)
            self._follow(chain)
            invalid = match({"ct": {"key": "state"}}, "invalid", "in")
            for number in self._tracked:
                opens = [match(meta("l4proto"), number)]
                for family, icmp in ((Family.IPV4, "icmp"), (Family.IPV6, "icmpv6")):
                    if number == family.icmp:
                        opens = [match(payload(icmp, "type"), family.echo[1])]
                self._rule(chain, *opens, invalid, {"drop": None})
        for port, point in points:
            for family in Family:
                found = self._listed(point, family)
                if found is not None:
                    chain = self._chain("arrive", "prerouting", -150)
                    jump = {"jump": {"target": self._list_chain(point, found, self._deny)}}
                    self._rule(chain, match(meta("iifname"), port), of_family(family), jump)

    def _pieces(self) -> None:
        """Fragments that nobody follows here are left as they come; so are the device's own."""
        if not (self._tracked or self._device.translations):
            return
        for family in Family:
            own = self._chain("make-pieces", "output", -450)
            self._rule(own, of_family(family), no_first_fragment(family), {"notrack": None})
            others = [
                number for number in self._tracked if number not in _ICMP.values() or number == family.icmp
            ]
            if not self._device.translations:
                come = self._chain("come-pieces", "prerouting", -450)
                strange = match(meta("l4proto"), {"set": others}, "!=")
                self._rule(come, of_family(family), strange, no_first_fragment(family), {"notrack": None})

    def _follow(self, chain: str) -> None:
        """What belongs to a session passes with no list or zone asked (§6)."""
        known = match({"ct": {"key": "state"}}, ["established", "related"], "in")
        self._rule(chain, match({"ct": {"key": "protocol"}}, either(self._tracked)), known, {"accept": None})

    def _lines(self) -> None:
        device = self._device
        for line in device.lines:
            ports = sorted(port for port in LOGIN_PORTS & line.ports if line_for(device, port) is line)
            point = AttachmentPoint(device.name, line.name, Direction.IN)
            for family in Family:
                found = self._listed(point, family)
                if found is None or not ports:
                    continue
                chain = self._chain("deliver", "input", 0)
                opens = match({"&": [payload("tcp", "flags"), _ALL_BUT_ECN]}, TcpFlags.SYN.value)
                jump = {"jump": {"target": self._list_chain(point, found, self._deny)}}
                self._rule(
                    chain, of_family(family), match(payload("tcp", "dport"), either(ports)), opens, jump
                )

    def _zones(self) -> None:
        device = self._device
        if not device.traits.zoned:
            return
        chain = self._chain("cross", "forward", -20)
        if self._tracked:
            self._follow(chain)
        for ingress, port in self._ports.items():
            for family in Family:
                point = AttachmentPoint(device.name, ingress, Direction.IN)
                denied = [
                    other for name, other in self._ports.items() if not lets_through(device, ingress, name)
                ]
                if self._listed(point, family) is None and denied:
                    leaving = match(meta("oifname"), either(denied))
                    self._rule(chain, match(meta("iifname"), port), of_family(family), leaving, self._deny)

    def _outbound(self) -> None:
        device = self._device
        own = sends_through(device)
        for name, port in self._ports.items():
            point = AttachmentPoint(device.name, name, Direction.OUT)
            translated = any(rule.outside == name for rule in device.translations)
            for family in Family:
                found = self._listed(point, family)
                if found is None:
                    continue
                if translated and self._answers:
                    self._left_out.append(
                        f"answers of {device.name} to what {found.name} denies {point}: the kernel gives "
                        "none behind a translation"
                    )
                deny: Expression = {"drop": None} if translated else self._deny
                jump = {"jump": {"target": self._list_chain(point, found, deny)}}
                hooks = [("leave", "postrouting", 150)] if translated else [("pass", "forward", 0)]
                if own and not translated:
                    hooks.append(("send", "output", 0))
                for chain_name, hook, priority in hooks:
                    fresh = chain_name not in self._chains
                    chain = self._chain(chain_name, hook, priority)
                    if fresh and self._tracked:
                        self._follow(chain)
                    if fresh and translated and not own:
                        self._mark_own()
                        self._rule(chain, match(meta("mark"), _OWN), {"accept": None})
                    self._rule(chain, match(meta("oifname"), port), of_family(family), jump)

    def _mark_own(self) -> None:
        chain = self._chain("make", "output", -10)
        self._rule(chain, {"mangle": {"key": meta("mark"), "value": _OWN}})

    # --- translation -----------------------------------------------------------------------------------

    def _translations(self) -> None:
        device = self._device
        if not device.translations:
            return
        marks = {name: 1 + number for number, name in enumerate(self._ports)}
        came = self._chain("came", "forward", -30)
        for name, port in self._ports.items():
            self._rule(
                came, match(meta("iifname"), port), {"mangle": {"key": meta("mark"), "value": marks[name]}}
            )
        inside = self._chain("inside", "prerouting", -120)
        enter = self._chain("enter", "prerouting", -100, "nat")
        depart = self._chain("depart", "postrouting", 100, "nat")
        for rule in sorted(device.translations, key=lambda rule: rule.kind != "static"):
            outside = self._ports.get(rule.outside)
            if outside is None:
                continue
            family = family_of(rule.source)
            ip = "ip" if family is Family.IPV4 else "ip6"
            by = [marks[name] for name in rule.inside if name in marks]
            leaving = [
                match(meta("oifname"), outside),
                match(meta("mark"), either(by or [0xFFFF])),
                of_family(family),
            ]
            arriving = [match(meta("iifname"), outside), of_family(family)]
            if rule.kind == "static" and rule.to is not None:
                if rule.source.num_addresses > MOST_MAPPED:
                    self._left_out.append(
                        f"the translation of {rule.source} in {device.name}: it is too large"
                    )
                    continue
                for mine, theirs in zip(rule.source, rule.to, strict=True):
                    to_port = rule.to_port or rule.port
                    self._rule(
                        enter,
                        *arriving,
                        match(payload(ip, "daddr"), str(theirs)),
                        *_service(rule, "dport", to_port),
                        {
                            "dnat": {
                                "family": ip,
                                "addr": str(mine),
                                **({"port": rule.port} if rule.port else {}),
                            }
                        },
                    )
                    self._rule(
                        depart,
                        *leaving,
                        match(payload(ip, "saddr"), str(mine)),
                        *_service(rule, "sport", rule.port),
                        {
                            "snat": {
                                "family": ip,
                                "addr": str(theirs),
                                **({"port": to_port} if rule.port else {}),
                            }
                        },
                    )
                new = match({"ct": {"key": "state"}}, "new", "in")
                within = match(payload(ip, "daddr"), _prefix_of(rule.source))
                self._rule(
                    inside, *arriving, new, within, *_service(rule, "dport", rule.port), {"drop": None}
                )
            else:
                self._dynamic(rule, family, depart, leaving)

    def _dynamic(self, rule: Translation, family: Family, chain: str, leaving: list[Expression]) -> None:
        ip = "ip" if family is Family.IPV4 else "ip6"
        own = self._world.topology.held((self._device.name, rule.outside), family)
        source = payload(ip, "saddr")
        conditions = [*leaving, *_service(rule, "sport", rule.port)]
        within = match(source, _prefix_of(rule.source))
        if rule.to is None:
            if own:
                self._rule(
                    chain, *conditions, within, {"snat": {"family": ip, "addr": family.text(own[0].address)}}
                )
            return
        # One inside address keeps to one of the pool, counted from its first; pools are powers of two.
        for number, address in zip(range(MOST_MAPPED), rule.to, strict=False):
            low = rule.to.num_addresses - 1
            same = match(
                {"&": [source, family.text(low)]},
                family.text((int(rule.source.network_address) + number) & low),
            )
            self._rule(chain, *conditions, within, same, {"snat": {"family": ip, "addr": str(address)}})

    def _neighbours(self) -> None:
        """The device answers for translated addresses on the segment itself, and for nobody else (§7)."""
        device = self._device
        answered: dict[str, list[Any]] = {}
        for outside, block in answered_addresses(device):
            if outside in self._ports and block.family is Family.IPV4:
                answered.setdefault(outside, []).append(
                    {"prefix": {"addr": block.family.text(block.value), "len": block.length}}
                )
        if not answered:
            return
        chain = {"family": NEIGHBOURS["family"], "table": NEIGHBOURS["name"], "name": "asked"}
        hooked = {**chain, "type": "filter", "hook": "input", "prio": 0, "policy": "accept"}
        self.commands += [{"add": {"table": dict(NEIGHBOURS)}}, {"add": {"chain": hooked}}]
        for outside, prefixes in answered.items():
            own = [
                Family.IPV4.text(each.address)
                for each in self._world.topology.held((device.name, outside), Family.IPV4)
            ]
            request = match(payload("arp", "operation"), "request")
            for target in (*own, *prefixes):
                asked = match(payload("arp", "daddr ip"), target)
                self._rule(
                    "asked",
                    match(meta("iifname"), self._ports[outside]),
                    request,
                    asked,
                    {"accept": None},
                    table=NEIGHBOURS,
                )
            self._rule(
                "asked",
                match(meta("iifname"), self._ports[outside]),
                request,
                {"drop": None},
                table=NEIGHBOURS,
            )

    # --- frames ----------------------------------------------------------------------------------------

    def _frames(self) -> None:
        lists = self._world.in_force.wires.lists
        added = False
        for name, ports in self._every.items():
            for direction, hook in ((Direction.IN, "ingress"), (Direction.OUT, "egress")):
                point = AttachmentPoint(self._device.name, name, direction)
                found = lists.get(point)
                if found is None or not ports:
                    continue
                if not added:
                    self.commands.append({"add": {"table": dict(FRAMES)}})
                    added = True
                counters = {
                    entry.number: self._counter(Counted(point, found.name, entry.number), FRAMES)
                    for entry in found.entries
                }
                end = self._counter(Counted(point, found.name, None), FRAMES)
                for port in ports:
                    self._frame_chain(f"{hook}-{port}", hook, port, found, counters, end)

    def _frame_chain(
        self, name: str, hook: str, port: str, found: FrameList, counters: Mapping[int, str], end: str
    ) -> None:
        chain = {
            "family": FRAMES["family"],
            "table": FRAMES["name"],
            "name": name,
            "type": "filter",
            "hook": hook,
            "dev": port,
            "prio": 0,
            "policy": "accept",
        }
        self.commands.append({"add": {"chain": chain}})
        for entry in found.entries:
            verdict = {"accept": None} if entry.action is Action.PERMIT else {"drop": None}
            conditions = matching_frame(entry.frame or FrameMatch())
            self._rule(name, *conditions, {"counter": counters[entry.number]}, verdict, table=FRAMES)
        self._rule(name, {"counter": end}, {"drop": None}, table=FRAMES)


_ALL_BUT_ECN = (TcpFlags.FIN | TcpFlags.SYN | TcpFlags.RST | TcpFlags.PSH | TcpFlags.ACK | TcpFlags.URG).value


def _service(rule: Translation, side: str, port: int | None) -> Iterator[Expression]:
    """What limits a rule to a protocol, and to one port."""
    if rule.protocol is None:
        return
    yield match(meta("l4proto"), TCP if rule.protocol == "tcp" else UDP)
    if rule.port is not None:
        yield match(payload(rule.protocol, side), port)


def _prefix_of(prefix: Prefix) -> Any:
    return {"prefix": {"addr": str(prefix.network_address), "len": prefix.prefixlen}}
