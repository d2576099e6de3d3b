"""The lists of a device, its sessions, zones and translation as rules of the kernel's packet filter.

The order is that of §4: sessions, inbound list, translation of the destination, zones, translation of the
source, outbound list; lines at delivery; frame lists at the edges of all that.
"""

from collections.abc import Mapping

from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.walk.delivery import LOGIN_PORTS, lines_for
from greyheron.core.walk.zones import lets_through
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP
from greyheron.model.values import Action, Direction, Family, Sees
from greyheron.rehearsal.expressions import (
    either,
    match,
    matching,
    meta,
    no_first_fragment,
    of_family,
    payload,
)
from greyheron.rehearsal.framing import add_frames
from greyheron.rehearsal.rewriting import add_neighbours, add_translations
from greyheron.rehearsal.rulebook import DROPPING, ICMP, TABLE, Counted, Denying, RuleBook, Rules

_OWN = 0x1000


def rules_of(
    world: World, device: Device, ports: Mapping[str, tuple[str, ...]], left_out: list[str]
) -> Rules:
    """ports:  the kernel's names of each interface: none while it is disabled, several where there are VLANs
    left_out:  takes what cannot be said to the kernel
    """
    made = _Maker(world, device, ports, left_out)
    made.make()
    return Rules(tuple(made.commands), made.counters)


class _Maker(RuleBook):
    def make(self) -> None:
        device = self.device
        if not device.traits.bridges:
            self._pieces()
            self._inbound()
            self._lines()
            self._zones()
            self._outbound()
            add_translations(self)
        if self._chains:
            self.commands.insert(0, {"add": {"table": dict(TABLE)}})
        add_frames(self)
        add_neighbours(self)

    def _listed(self, point: AttachmentPoint, family: Family) -> ResolvedList | None:
        return self.world.lists.get((point, family))

    def _list_chain(self, point: AttachmentPoint, found: ResolvedList, deny: Denying) -> str:
        """The entries of a list at one place: what is permitted goes back to where it came from."""
        name = f"list{len(self._chains)}"
        self._chains.add(name)
        self.commands.append(
            {"add": {"chain": {"family": TABLE["family"], "table": TABLE["name"], "name": name}}}
        )
        for rule in found.rules:
            entry = rule.entry
            counter = self.counter(Counted(point, found.name, entry.number))
            for conditions in matching(rule, found.family):
                told = (*conditions, *self.told(counter))
                if entry.action is Action.PERMIT:
                    self.rule(name, *told, {"return": None})
                else:
                    self.denies(name, DROPPING if entry.silent else deny, *told, protocol=entry.protocol)
        counter = self.counter(Counted(point, found.name, None))
        if found.family is Family.IPV6:
            discovery = match(payload("icmpv6", "type"), {"range": [133, 136]})
            self.rule(name, discovery, *self.told(counter), {"return": None})
        self.denies(name, deny, *self.told(counter))
        return name

    def _inbound(self) -> None:
        points = [
            (port, AttachmentPoint(self.device.name, name, Direction.IN)) for name, port in self.ports.items()
        ]
        if self.tracked:
            chain = self.chain("arrive", "prerouting", -150)
            self._follow(chain)
            invalid = match({"ct": {"key": "state"}}, "invalid", "in")
            for number in self.tracked:
                opens = [match(meta("l4proto"), number)]
                for family, icmp in ((Family.IPV4, "icmp"), (Family.IPV6, "icmpv6")):
                    if number == family.icmp:
                        opens = [match(payload(icmp, "type"), family.echo[1])]
                self.rule(chain, *opens, invalid, {"drop": None})
        for port, point in points:
            for family in Family:
                found = self._listed(point, family)
                if found is not None:
                    chain = self._arriving()
                    jump = {"jump": {"target": self._list_chain(point, found, self.deny)}}
                    self.rule(chain, match(meta("iifname"), port), of_family(family), jump)

    def _arriving(self) -> str:
        """Where inbound lists are asked: before the translation of destinations, or behind it (§4)."""
        if self.device.inbound_sees is Sees.BEFORE:
            return self.chain("arrive", "prerouting", -150)
        fresh = "arrived" not in self._chains
        chain = self.chain("arrived", "prerouting", -90)
        if fresh and self.tracked:
            self._follow(chain)
        return chain

    def _pieces(self) -> None:
        """Fragments that nobody follows here are left as they come; so are the device's own."""
        if not (self.tracked or self.device.translations):
            return
        for family in Family:
            own = self.chain("make-pieces", "output", -450)
            self.rule(own, of_family(family), no_first_fragment(family), {"notrack": None})
            others = [
                number for number in self.tracked if number not in ICMP.values() or number == family.icmp
            ]
            if not self.device.translations:
                come = self.chain("come-pieces", "prerouting", -450)
                strange = match(meta("l4proto"), {"set": others}, "!=")
                self.rule(come, of_family(family), strange, no_first_fragment(family), {"notrack": None})

    def _follow(self, chain: str) -> None:
        """What belongs to a session passes with no list or zone asked (§6)."""
        known = match({"ct": {"key": "state"}}, ["established", "related"], "in")
        self.rule(chain, match({"ct": {"key": "protocol"}}, either(self.tracked)), known, {"accept": None})

    def _lines(self) -> None:
        device = self.device
        for line in device.lines:
            taking = {port: lines_for(device, TCP, port) for port in sorted(LOGIN_PORTS & line.ports)}
            ports = [port for port, lines in taking.items() if line is lines[0]]
            behind = any(line in lines[1:] for lines in taking.values())
            point = AttachmentPoint(device.name, line.at, Direction.IN)
            if behind and any(self._listed(point, family) for family in Family):
                self.left_out.append(
                    f"the list {point}: a login comes to it when the lines before it are taken"
                )
            for family in Family:
                found = self._listed(point, family)
                if found is None or not ports:
                    continue
                chain = self.chain("deliver", "input", 0, inner=True)
                opens = match({"&": [payload("tcp", "flags"), _ALL_BUT_ECN]}, TcpFlags.SYN.value)
                jump = {"jump": {"target": self._list_chain(point, found, self.deny_login)}}
                self.rule(
                    chain, of_family(family), match(payload("tcp", "dport"), either(ports)), opens, jump
                )

    def _zones(self) -> None:
        device = self.device
        if not device.traits.zoned:
            return
        chain = self.chain("cross", "forward", -20)
        if self.tracked:
            self._follow(chain)
        for ingress, port in self.ports.items():
            for family in Family:
                point = AttachmentPoint(device.name, ingress, Direction.IN)
                denied = [
                    other for name, other in self.ports.items() if not lets_through(device, ingress, name)
                ]
                if self._listed(point, family) is None and denied:
                    leaving = match(meta("oifname"), either(denied))
                    coming = match(meta("iifname"), port), of_family(family), leaving
                    self.denies(chain, self.deny, *coming)

    def _outbound(self) -> None:
        device = self.device
        own = device.sends_through
        for name, port in self.ports.items():
            point = AttachmentPoint(device.name, name, Direction.OUT)
            after = device.outbound_sees is Sees.AFTER
            translated = after and any(rule.outside == name for rule in device.translations)
            for family in Family:
                found = self._listed(point, family)
                if found is None:
                    continue
                if translated and self.deny is not DROPPING:
                    self.left_out.append(
                        f"answers of {device.name} to what {found.name} denies {point}: the kernel gives "
                        "none behind a translation"
                    )
                deny = DROPPING if translated else self.deny
                jump = {"jump": {"target": self._list_chain(point, found, deny)}}
                hooks = [("leave", "postrouting", 150)] if translated else [("pass", "forward", 0)]
                if own and not translated:
                    hooks.append(("send", "output", 0))
                for chain_name, hook, priority in hooks:
                    fresh = chain_name not in self._chains
                    chain = self.chain(chain_name, hook, priority)
                    if fresh and self.tracked:
                        self._follow(chain)
                    if fresh and translated and not own:
                        self._mark_own()
                        self.rule(chain, match(meta("mark"), _OWN), {"accept": None})
                    self.rule(chain, match(meta("oifname"), port), of_family(family), jump)

    def _mark_own(self) -> None:
        chain = self.chain("make", "output", -10)
        self.rule(chain, {"mangle": {"key": meta("mark"), "value": _OWN}})


_ALL_BUT_ECN = (TcpFlags.FIN | TcpFlags.SYN | TcpFlags.RST | TcpFlags.PSH | TcpFlags.ACK | TcpFlags.URG).value
