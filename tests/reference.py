"""A deliberately naive interpreter of docs/semantics.md: slow, recursive, and sharing no code with the core.

It reads documents only, recomputes everything for every packet, and answers for one conversation with the
set of what could come of it: for every combination of equal-cost paths a verdict and who decided.
"""

import hashlib
from dataclasses import dataclass, field, replace
from datetime import date
from ipaddress import IPv4Address, IPv6Address, IPv6Network, ip_address, ip_network
from itertools import count
from typing import Any

from greyheron.model.device import Device, Interface
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock, Entry, NamedAddresses, NamedPorts, NotPort
from tests.reference_frames import Frames, tag_for, vlan_of

Addr = IPv4Address | IPv6Address
End = tuple[str, str]
Ended = tuple[str, tuple[Any, ...] | None]
"""A verdict, and (device, at, direction, list, entry) of a list that decided, or None."""

LOCAL = IPv6Network("fe80::/10")
LETTERS = {"FIN": "F", "SYN": "S", "RST": "R", "PSH": "P", "ACK": "A", "URG": "U", "ECE": "E", "CWR": "C"}
LOGINS = {22: "ssh", 23: "telnet", 443: "https", 80: "http"}


@dataclass(frozen=True)
class P:
    """A packet."""

    src: Addr | None
    dst: Addr
    proto: int
    sport: int | None = None
    dport: int | None = None
    flags: str = ""
    icmp: tuple[int, int] | None = None
    ttl: int = 64
    reply: bool = False
    dscp: int = 0
    fragment: bool = False

    @property
    def key(self) -> tuple[Any, ...]:
        return (self.proto, self.src, self.sport, self.dst, self.dport)

    @property
    def back(self) -> tuple[Any, ...]:
        return (self.proto, self.dst, self.dport, self.src, self.sport)


@dataclass(frozen=True)
class Mind:
    """Sessions and translations.

    flows: like a kernel's table, (device, first packet as it came, as it went on) → whether it was answered
    """

    flows: tuple[tuple[tuple[str, Any, Any], bool], ...] = ()
    asked: frozenset[Any] = frozenset()


@dataclass
class Way:
    """One finished path: how it ended, the packet as made and as last seen, the choices made."""

    end: str
    by: tuple[Any, ...] | None
    made: P
    seen: P
    where: str
    mind: Mind
    choices: dict[str, Any] = field(default_factory=dict)


class Reference:
    def __init__(self, network: Network, with_lists: bool = True, at: str = "mon 00:00") -> None:
        """at:  a day of an ordinary week, or a date, and an hour"""
        self.n = network
        self.on = {p.name for p in network.periods if any(_on(str(window), at) for window in p.windows)}
        self.dev = {d.name: d for d in network.devices}
        self.with_lists = with_lists
        self.frames = Frames(network, self.on)
        self.ospf = {4: self._ospf(4), 6: self._ospf(6)}

    # --- addresses -------------------------------------------------------------------------------------

    def iface(self, end: End) -> Interface:
        return next(i for i in self.dev[end[0]].interfaces if i.name == end[1])

    def addrs(self, end: End, v: int) -> list[Any]:
        """Addresses with their networks, an IPv6 link-local one last; none while the interface is down."""
        if not self.up(end):
            return []
        given: list[Any] = [a for a in self.iface(end).addresses if a.version == v]
        if v == 4:
            return given
        wide = [a for a in given if a.ip not in LOCAL]
        local = [a for a in given if a.ip in LOCAL]
        if not local:
            digest = hashlib.sha256(f"{end[0]}/{end[1]}".encode()).digest()[:8]
            host = int.from_bytes(digest, "big")
            return [*wide, _Own(IPv6Address((0xFE80 << 112) | host))]
        return [*wide, *local]

    def up(self, end: End) -> bool:
        i = self.iface(end)
        return i.enabled and (i.parent is None or self.iface((end[0], i.parent)).enabled)

    def holders(self, a: Addr) -> list[End]:
        return [
            (d.name, i.name)
            for d in self.n.devices
            if d.kind != "switch"
            for i in d.interfaces
            if any(x.ip == a for x in self.addrs((d.name, i.name), a.version))
        ]

    def owner(self, a: Addr) -> str | None:
        found = self.holders(a)
        if found:
            return found[0][0]
        return next((d.name for d in self.n.devices for p in d.prefixes if a in p), None)

    def mine(self, device: str, a: Addr) -> bool:
        if a in LOCAL:
            return any(end[0] == device for end in self.holders(a))
        return self.owner(a) == device

    # --- segments: flood a frame ----------------------------------------------------------------------

    def segment(self, end: End) -> set[End]:
        """Every layer-3 interface that a frame sent by `end` comes to, itself included."""
        if not self.up(end):
            return set()
        i = self.iface(end)
        reached: set[End] = {end}
        seen: set[Any] = set()
        frames: list[tuple[End, int | None]] = [((end[0], i.parent or i.name), i.vlan)]
        while frames:
            out, tag = frames.pop()
            if (out, tag) in seen or not self.iface(out).enabled:
                continue
            seen.add((out, tag))
            for link in self.n.links:
                ends = [tuple(e.split(":", 1)) for e in link.ends]
                if not link.enabled or out not in ends:
                    continue
                far = ends[1] if ends[0] == out else ends[0]
                frames += self._receive((far[0], far[1]), tag, reached)
        return reached

    def _receive(self, far: End, tag: int | None, reached: set[End]) -> list[tuple[End, int | None]]:
        port = self.iface(far)
        if not port.enabled:
            return []
        device = self.dev[far[0]]
        if device.kind != "switch":
            for i in device.interfaces:
                matches = i.name == far[1] if tag is None else (i.parent == far[1] and i.vlan == tag)
                if matches and self.up((device.name, i.name)):
                    reached.add((device.name, i.name))
            return []
        vlan = vlan_of(port, tag)
        if vlan is None:
            return []
        return [
            ((device.name, other.name), sent[0])
            for other in device.interfaces
            if other.name != far[1] and (sent := tag_for(other, vlan)) is not None
        ]

    def neighbour(self, end: End, a: Addr) -> End | None:
        segment = self.segment(end)
        if not segment:
            return None
        held = self.holders(a)
        if a in LOCAL:
            return next((h for h in held if h in segment and h != end), None)
        if held:
            return held[0] if held[0] in segment and held[0] != end else None
        for d in self.n.devices:
            for rule in d.translations:
                answering = (d.name, rule.outside)
                if rule.to is not None and a in rule.to and answering in segment and answering != end:
                    return answering
        owner = self.owner(a)
        order = [(d.name, i.name) for d in self.n.devices for i in d.interfaces]
        return next((e for e in order if e in segment and e[0] == owner), None)

    # --- lists -------------------------------------------------------------------------------------------

    def meet(self, device: str, at: str, way: str, p: P) -> tuple[Any, ...] | None:
        """None when nothing stands there; else (action, device, at, direction, list, entry)."""
        if not self.with_lists:
            return None
        for placed in self.n.placements:
            if (placed.device, placed.at, placed.direction) != (device, at, way):
                continue
            lst = next(x for x in self.n.lists if x.name == placed.list)
            if lst.family != f"ipv{p.dst.version}":
                continue
            for entry in sorted(lst.body.entries, key=lambda e: e.number):
                if entry.during and (entry.during.period in self.on) is entry.during.outside:
                    continue
                if self.matches(entry, p):
                    return (entry.action.value, device, at, way, lst.name, entry.number)
            discovery = p.dst.version == 6 and p.proto == 58 and p.icmp and 133 <= p.icmp[0] <= 136
            return ("permit" if discovery else "deny", device, at, way, lst.name, None)
        return None

    def matches(self, e: Entry, p: P) -> bool:
        if e.protocol not in (None, p.proto):
            return False
        if not (self._addr(e.source, p.src) and self._addr(e.destination, p.dst)):
            return False
        if not (self._port(e.source_ports, p.sport, p) and self._port(e.destination_ports, p.dport, p)):
            return False
        if e.icmp is not None:
            number = 1 if p.dst.version == 4 else 58
            if p.proto != number or p.icmp is None or p.icmp[0] != e.icmp.type:
                return False
            if e.icmp.code is not None and e.icmp.code != p.icmp[1]:
                return False
        if e.established and (p.proto != 6 or not {"A", "R"} & set(p.flags)):
            return False
        if e.flags is not None:
            if p.proto != 6 or p.fragment:
                return False
            for flag in e.flags.on.names:
                if LETTERS[flag] not in p.flags:
                    return False
            for flag in e.flags.off.names:
                if LETTERS[flag] in p.flags:
                    return False
        if e.fragment and not p.fragment:
            return False
        return e.dscp is None or any(p.dscp in range(span.low, span.high + 1) for span in e.dscp)

    def _addr(self, term: Any, a: Addr | None) -> bool:
        if term is None:
            return True
        if a is None:
            return False
        if isinstance(term, AddressBlock):
            return int(a) & term.mask == term.value
        assert isinstance(term, NamedAddresses)
        group = next((g for g in self.n.address_sets if g.name == term.name), None)
        if group is not None:
            return any(_member(m, a) for m in group.members)
        d = self.dev[term.name]
        own = any(x.ip == a for i in d.interfaces for x in self.addrs((d.name, i.name), a.version))
        return own or any(a in prefix for prefix in d.prefixes)

    def _port(self, terms: Any, port: int | None, p: P) -> bool:
        if not terms:
            return True
        if port is None or p.proto not in (6, 17):
            return False
        for term in terms:
            if isinstance(term, NamedPorts):
                group = next(g for g in self.n.port_sets if g.name == term.name)
                if self._port(group.terms, port, p):
                    return True
            elif isinstance(term, NotPort):
                if port != term.port:
                    return True
            elif term.low <= port <= term.high:
                return True
        return False

    # --- routes -----------------------------------------------------------------------------------------

    def routes(self, device: str, v: int) -> list[Any]:
        """(network, preference, metric, via, interface, discard)"""
        d = self.dev[device]
        found: list[Any] = []
        for i in d.interfaces:
            if self.up((device, i.name)):
                for a in self.addrs((device, i.name), v):
                    if a.ip not in LOCAL:
                        found.append((a.network, 0, 0, None, i.name, False))
        for r in d.routes:
            if r.to.version == v:
                found.append((r.to, r.preference, 0, r.via, r.interface, r.discard))
        gateway = d.gateway if v == 4 else d.gateway6
        if gateway is not None:
            only = d.interfaces[0].name if gateway in LOCAL else None
            found.append((ip_network("0.0.0.0/0" if v == 4 else "::/0"), 5, 0, gateway, only, False))
        return found + self.ospf[v].get(device, [])

    def hops(self, device: str, dst: Addr, depth: int = 8) -> tuple[bool, set[tuple[str, Addr | None]]]:
        """Whether a route discards, and the next hops (interface, address or None for the destination)."""
        if dst in LOCAL:
            own = [i.name for i in self.dev[device].interfaces if self.up((device, i.name))]
            near = [name for name in own if self.neighbour((device, name), dst)]
            return False, {(name, None) for name in near or own[:1]}
        covering = [r for r in self.routes(device, dst.version) if dst in r[0]]
        usable: list[tuple[Any, set[tuple[str, Addr | None]]]] = []
        for r in covering:
            if r[5]:
                usable.append((r, set()))
                continue
            resolved = self._resolve(device, r, depth)
            if resolved:
                usable.append((r, resolved))
        if not usable:
            return False, set()
        best = min((-r[0].prefixlen, r[1], r[2]) for r, _ in usable)
        chosen = [(r, h) for r, h in usable if (-r[0].prefixlen, r[1], r[2]) == best]
        return any(r[5] for r, _ in chosen), set().union(*(h for _, h in chosen))

    def _resolve(self, device: str, r: Any, depth: int) -> set[tuple[str, Addr | None]]:
        _, _, _, via, interface, _ = r
        if interface is not None:
            return {(interface, via)} if self.up((device, interface)) else set()
        if via is None or depth == 0:
            return set()
        _, onward = self.hops(device, via, depth - 1)
        return {(i, via if a is None else a) for i, a in onward}

    def _ospf(self, v: int) -> dict[str, list[Any]]:
        """Distances by relaxing again and again, then routes by every first hop that is on a shortest way."""
        speaking = [
            (d.name, i.name)
            for d in self.n.devices
            if d.kind in ("router", "firewall")
            for i in d.interfaces
            if i.ospf and not i.ospf.passive and self.up((d.name, i.name)) and _has(i, v)
        ]
        edges: list[tuple[str, str, str, Addr, int]] = []
        for a in speaking:
            for b in speaking:
                if a[0] != b[0] and b in self.segment(a) and self._hear(a, b, v) and self._hear(b, a, v):
                    speaks = self.iface(a).ospf
                    assert speaks is not None
                    edges.append((a[0], b[0], a[1], self._voice(b, v), speaks.cost))
        routers = [d.name for d in self.n.devices if any(i.ospf for i in d.interfaces)]
        dist = {(a, b): 0 if a == b else 10**9 for a in routers for b in routers}
        for _ in routers:
            for near, far, _, _, cost in edges:
                for goal in routers:
                    dist[near, goal] = min(dist[near, goal], cost + dist[far, goal])
        extra: dict[str, list[Any]] = {name: [] for name in routers}
        tables = self._tables(routers, dist, edges, v, extra)
        # Static routes are announced while they are in use, the most preferred first, until nothing changes.
        waiting = sorted(
            (r.preference, name, number)
            for name in routers
            if self.dev[name].announces_static
            for number, r in enumerate(self.dev[name].routes)
            if r.to.version == v and r.to.prefixlen > 0
        )
        grown = True
        while grown:
            grown = False
            for item in list(waiting):
                _, name, number = item
                r = self.dev[name].routes[number]
                self.ospf = {**getattr(self, "ospf", {}), v: tables}
                if self._uses(name, r, v):
                    extra[name].append((r.to, 20, self._forwarder(name, r, v)))
                    waiting.remove(item)
                    tables = self._tables(routers, dist, edges, v, extra)
                    grown = True
        return tables

    def _uses(self, device: str, static: Any, v: int) -> bool:
        same = [r for r in self.routes(device, v) if r[0] == static.to]
        usable = [r for r in same if r[5] or self._resolve(device, r, 8)]
        mine = (static.to, static.preference, 0, static.via, static.interface, static.discard)
        return mine in usable and min((r[1], r[2]) for r in usable) == (static.preference, 0)

    def _tables(
        self, routers: list[str], dist: Any, edges: Any, v: int, extra: dict[str, list[Any]]
    ) -> dict[str, list[Any]]:
        tables: dict[str, list[Any]] = {}
        for here in routers:
            found: dict[Any, list[Any]] = {}
            for key, prefix, there, straight in self._ways(here, routers, dist, v, extra):
                found.setdefault(prefix, []).append((key, there, straight))
            tables[here] = []
            for prefix, ways in found.items():
                least = min(key for key, _, _ in ways)
                hops: dict[Any, None] = {}
                for key, there, straight in ways:
                    if key == least and straight is not None:
                        hops[straight] = None
                    elif key == least:
                        for near, far, interface, via, cost in edges:
                            if near == here and cost + dist[far, there] == dist[here, there]:
                                hops[interface, via] = None
                for interface, via in hops:
                    tables[here].append((prefix, 110, least[1], via, interface, False))
        return tables

    def _ways(self, here: str, routers: list[str], dist: Any, v: int, extra: dict[str, list[Any]]) -> Any:
        """Cost, prefix, the router to go to, and where straight to, for all that others announce."""
        inside = [(r, *each) for r in routers for each in self._told(r, v) if not each[2]]
        for there in routers:
            if there == here:
                continue
            if dist[here, there] < 10**9:
                for prefix, cost, external in self._told(there, v):
                    yield (external, dist[here, there] + cost), prefix, there, None
            for prefix, cost, forwarder in extra[there]:
                if forwarder is None:
                    if dist[here, there] < 10**9:
                        yield (True, dist[here, there] + cost), prefix, there, None
                    continue
                near = [each for each in inside if forwarder in each[1]]
                longest = max(each[1].prefixlen for each in near)
                own = [a for i in self.dev[here].interfaces for a in self.addrs((here, i.name), v)]
                if any(a.ip == forwarder for a in own):
                    continue
                for router, network, beyond, _ in near:
                    if network.prefixlen == longest and dist[here, router] < 10**9:
                        total = True, dist[here, router] + beyond + cost
                        if router != here:
                            yield total, prefix, router, None
                        for i in self.dev[here].interfaces if router == here else ():
                            held = self.addrs((here, i.name), v)
                            if i.ospf and any(a.network == network for a in held):
                                yield total, prefix, router, (i.name, forwarder)

    def _forwarder(self, router: str, r: Any, v: int) -> Any:
        """The next hop that routers may go to straight (RFC 2328 12.4.4.1)."""
        held = [
            a
            for i in self.dev[router].interfaces
            if i.ospf and self.up((router, i.name))
            for a in self.addrs((router, i.name), v)
        ]
        return r.via if v == 4 and r.via and any(r.via in a.network for a in held) else None

    def _told(self, router: str, v: int) -> list[tuple[Any, int, bool]]:
        """(network, cost, whether it is no part of the area)"""
        d = self.dev[router]
        told = [
            (a.network, i.ospf.cost, False)
            for i in d.interfaces
            if i.ospf and self.up((router, i.name))
            for a in self.addrs((router, i.name), v)
            if a.ip not in LOCAL
        ]
        if d.announces_default:
            told.append((ip_network("0.0.0.0/0" if v == 4 else "::/0"), 20, True))
        return told

    def _voice(self, end: End, v: int) -> Addr:
        addresses = self.addrs(end, v)
        found: Addr = addresses[0].ip if v == 4 else addresses[-1].ip
        return found

    def _hear(self, a: End, b: End, v: int) -> bool:
        """Whether `b` hears `a`."""
        if v == 4 and self._voice(b, v) not in self.addrs(a, v)[0].network:
            return False
        group = ip_address("224.0.0.5" if v == 4 else "ff02::5")
        for dst in (group, self._voice(b, v)):
            p = P(self._voice(a, v), dst, 89, ttl=1)
            if self._filters_own(self.dev[a[0]]) and _denied(self.meet(*a, "out", p)):
                return False
            if self.with_lists and self.frames.stopped_packet(a, b, dst):
                return False
            if _denied(self.meet(*b, "in", p)):
                return False
        return self._unfound(a, b, self._voice(b, v), self._voice(a, v)) is None

    # --- the packet ------------------------------------------------------------------------------------

    def _filters_own(self, d: Device) -> bool:
        return d.kind == "host" if d.filters_own_traffic is None else d.filters_own_traffic

    def _tracks(self, d: Device, p: P) -> bool:
        usual = ("tcp", "udp", "icmp") if d.kind in ("firewall", "host") else ()
        name = {6: "tcp", 17: "udp", 1 if p.dst.version == 4 else 58: "icmp"}.get(p.proto)
        return name in (usual if d.tracks is None else d.tracks)

    def walk(self, p: P, origin: str, mind: Mind, choices: dict[str, Any] | None = None) -> list[Way]:
        return self._at(origin, None, p, mind, [], None, choices or {}, {})

    def _at(
        self, name: str, ingress: str | None, p: P, mind: Mind, been: list[Any], made: P | None,
        keep: dict[Any, Any], chosen: dict[Any, Any],
    ) -> list[Way]:  # fmt: skip
        d = self.dev[name]
        came = p

        def end(how: str, by: tuple[Any, ...] | None = None, m: Mind | None = None) -> list[Way]:
            return [Way(how, by, made or p, p, name, m or mind, chosen)]

        known = False
        if ingress is not None:
            if (name, ingress, replace(p, ttl=0)) in been:
                return end("unreachable")
            state = self._state(d, p, mind)
            if p.fragment and (self._tracks(d, p) or d.translations):
                if not self.mine(name, p.dst):
                    return end("blocked")
                known = True
            elif self._tracks(d, p):
                known = state == "part"
                if state == "invalid":
                    return end("blocked")
            sees_before = d.inbound_sees == "before"
            met = self.meet(name, ingress, "in", p) if sees_before and not known else None
            if _denied(met):
                return end("blocked", met[1:] if met else None)
            entered = self._translate_in(d, ingress, p, mind, state)
            if entered is None:
                return end("blocked")
            p = entered
            met = self.meet(name, ingress, "in", p) if not sees_before and not known else None
            if _denied(met):
                return end("blocked", met[1:] if met else None)
        if self.mine(name, p.dst):
            if ingress is None:
                p = replace(p, src=p.src or p.dst)
                made = came = p
                mind = mind if p.reply else replace(mind, asked=mind.asked | {(name, p.key)})
            let_in = self._admit(d, ingress, came, p, mind)
            return [
                Way(how, by, made or came, p, name, mind if how == "blocked" else let_in, chosen)
                for how, by in self._deliver(d, p, mind)
            ]
        if ingress is not None:
            if d.kind not in ("router", "firewall") or p.ttl <= 1:
                return end("unreachable")
            if p.dst in LOCAL or (p.src is not None and p.src in LOCAL):
                return end("unreachable")
        _, hops = self.hops(name, p.dst)
        if not hops:
            return end("unreachable")
        flow = (name, came.key)
        kept = keep.get(flow, chosen.get(flow))
        hops = {hop for hop in hops if hop == kept} or hops
        ways: list[Way] = []
        for hop in sorted(hops, key=lambda h: (h[0], -1 if h[1] is None else int(h[1]))):
            ways += self._leave(d, ingress, came, p, mind, known, hop, been, made, keep, chosen)
        return ways

    def _leave(
        self, d: Device, ingress: str | None, came: P, p: P, mind: Mind, known: bool, hop: Any,
        been: list[Any], made: P | None, keep: dict[Any, Any], chosen: dict[Any, Any],
    ) -> list[Way]:  # fmt: skip
        egress, via = hop
        met: tuple[Any, ...] | None = None
        if ingress is None:
            if p.src is None:
                p = replace(p, src=self._source(d.name, egress, via or p.dst, p.dst))
            made = came = p
            mind = mind if p.reply else replace(mind, asked=mind.asked | {(d.name, p.key)})
            if self._filters_own(d):
                known = self._tracks(d, p) and self._state(d, p, mind) == "part"
                met = None if known else self.meet(d.name, egress, "out", p)
        else:
            listed = self.meet(d.name, ingress, "in", came) is not None
            if d.kind == "firewall" and not known and not listed and not _zones_allow(d, ingress, egress):
                return [Way("blocked", None, made or p, p, d.name, mind, chosen)]
            p = replace(p, ttl=p.ttl - 1)
            inside = p
            p = self._translate_out(d, ingress, egress, p, came, mind)
            met = None
            if not known:
                met = self.meet(d.name, egress, "out", p if d.outbound_sees == "after" else inside)
        chosen = {**chosen, (d.name, came.key): hop}
        if _denied(met):
            return [Way("blocked", met[1:] if met else None, made or p, p, d.name, mind, chosen)]
        mind = self._admit(d, ingress, came, p, mind)
        target = via or p.dst
        there = self.neighbour((d.name, egress), target)
        if there is None:
            return [Way("unreachable", None, made or p, p, d.name, mind, chosen)]
        asker = p.src
        if target.version == 6:
            own = [a.ip for a in self.addrs((d.name, egress), 6)]
            asker = next((a for a in own if a == p.src), own[-1])
        stopped = self._unfound((d.name, egress), there, target, asker)
        if stopped is None and self.with_lists:
            stopped = self.frames.stopped_packet((d.name, egress), there, p.dst)
        if stopped is not None:
            return [Way("blocked", stopped[1:], made or p, p, d.name, mind, chosen)]
        been = [*been, (d.name, ingress, replace(came, ttl=0))]
        return self._at(there[0], there[1], p, mind, been, made, keep, chosen)

    def _source(self, device: str, egress: str, toward: Addr, dst: Addr) -> Addr | None:
        local = dst in LOCAL
        held = [a for a in self.addrs((device, egress), dst.version) if (a.ip in LOCAL) == local]
        near = [a for a in held if toward in a.network]
        if near or held:
            found: Addr = (near or held)[0].ip
            return found
        every = [a.ip for i in self.dev[device].interfaces for a in self.addrs((device, i.name), dst.version)]
        return next(iter([a for a in every if a not in LOCAL] + every), None)

    def _flow(self, d: Device, p: P, mind: Mind) -> tuple[tuple[str, Any, Any], bool, bool] | None:
        """The conversation of `p` in the device's table, whether it was answered, whether `p` goes back."""
        for flow, answered in mind.flows:
            if flow[0] == d.name and p.key in (flow[1], _flip(flow[2])):
                return flow, answered, p.key != flow[1]
        return None

    def _state(self, d: Device, p: P, mind: Mind) -> str:
        """part: of a conversation under way; new: it may begin one; invalid: neither"""
        found = self._flow(d, p, mind)
        if found is not None:
            _, answered, backwards = found
            if answered or (backwards and (p.proto != 6 or "S" in p.flags or "R" in p.flags)):
                return "part"
        if p.fragment:
            return "invalid"
        opener = _opens(p) if p.proto == 6 else p.icmp not in ((0, 0), (129, 0))
        return "new" if opener else "invalid"

    def _admit(self, d: Device, ingress: str | None, came: P, sent: P, mind: Mind) -> Mind:
        if came.fragment or not (d.translations or self._tracks(d, came)):
            return mind
        found = self._flow(d, came, mind)
        if found is None:
            if self._state(d, came, mind) == "invalid":
                return mind
            return replace(mind, flows=(*mind.flows, ((d.name, came.key, sent.key), False)))
        if found[2] and (ingress is None or self._state(d, came, mind) == "part"):
            flows = tuple((flow, answered or flow == found[0]) for flow, answered in mind.flows)
            return replace(mind, flows=flows)
        return mind

    def _unfound(
        self, asking: End, answering: End, target: Addr, asker: Addr | None
    ) -> tuple[Any, ...] | None:
        if not self.with_lists:
            return None
        if target.version == 4:
            return self.frames.stopped_arp(asking, answering)
        assert isinstance(asker, IPv6Address)
        group = IPv6Address(int(IPv6Address("ff02::1:ff00:0")) | int(target) & 0xFFFFFF)
        question = P(asker, group, 58, icmp=(135, 0))
        answer = P(target, asker, 58, icmp=(136, 0))
        for p, sender, receiver in ((question, asking, answering), (answer, answering, asking)):
            if self._filters_own(self.dev[sender[0]]) and _denied(met := self.meet(*sender, "out", p)):
                return met
            if stopped := self.frames.stopped_packet(sender, receiver, p.dst):
                return stopped
            if _denied(met := self.meet(*receiver, "in", p)):
                return met
        return None

    def _deliver(self, d: Device, p: P, mind: Mind) -> list[Ended]:
        """Several where it is a login that several lines may take."""
        if p.reply:
            waits = any(who == d.name and t in (p.key, p.back) for who, t in mind.asked)
            return [("passes", None) if waits else ("blocked", None)]
        if p.proto not in (6, 17) or d.kind == "outside" or p.fragment:
            return [("passes", None)]
        if p.proto == 6 and p.dport in LOGINS:
            takes = [x for x in d.lines if LOGINS[p.dport] in x.transports]
            ends: list[Ended] = []
            for x in takes:
                if x.name == takes[0].name:
                    at = x.name if x.numbers is None else f"{x.name}/{x.numbers}"
                    met = self.meet(d.name, at, "in", p) if _opens(p) else None
                    ends.append(("blocked", met[1:]) if met and _denied(met) else ("passes", None))
            if ends:
                return ends if _opens(p) else ends[:1]
        name = "tcp" if p.proto == 6 else "udp"
        listens = any((s.protocol, s.port) == (name, p.dport) for s in d.services)
        return [("passes" if listens or (p.proto == 6 and not _opens(p)) else "refused", None)]

    # --- translation -------------------------------------------------------------------------------------

    def _translate_in(self, d: Device, ingress: str, p: P, mind: Mind, state: str) -> P | None:
        found = self._flow(d, p, mind)
        if found is not None and state != "invalid":
            (_, came, sent), _, backwards = found
            after = _flip(came) if backwards else sent
            return replace(p, dst=after[3], dport=after[4])
        if state == "invalid":
            return p
        static = [r for r in d.translations if r.kind == "static" and r.outside == ingress]
        for r in static:
            if r.to is not None and _speaks(r, p, r.to, p.dst, p.dport, r.to_port or r.port):
                address = r.source.network_address + (int(p.dst) - int(r.to.network_address))
                return replace(p, dst=address, dport=p.dport if r.port is None else r.port)
        if any(_speaks(r, p, r.source, p.dst, p.dport, r.port) for r in static if not r.inward):
            return None
        return p

    def _translate_out(self, d: Device, ingress: str, egress: str, p: P, came: P, mind: Mind) -> P:
        state = self._state(d, came, mind)
        found = self._flow(d, came, mind)
        if found is not None and state != "invalid":
            (_, first, sent), _, backwards = found
            after = _flip(first) if backwards else sent
            return replace(p, src=after[1], sport=after[2])
        if state == "invalid":
            return p
        rules = [r for r in d.translations if r.outside == egress and ingress in r.inside and not r.inward]
        assert p.src is not None
        for kind in ("static", "dynamic"):
            for r in rules:
                if r.kind != kind or not _speaks(r, p, r.source, p.src, p.sport, r.port):
                    continue
                offset = int(p.src) - int(r.source.network_address)
                if kind == "static":
                    assert r.to is not None
                    q = replace(p, src=r.to.network_address + offset)
                    if r.port is not None:
                        q = replace(q, sport=r.to_port or r.port)
                elif r.to is not None:
                    q = replace(p, src=r.to.network_address + offset % r.to.num_addresses)
                else:
                    own = self.addrs((d.name, egress), p.dst.version)
                    if not own:
                        continue
                    q = replace(p, src=own[0].ip)
                return q
        return p

    # --- conversations -----------------------------------------------------------------------------------

    def converse(self, p: P, origin: str) -> tuple[str, list[Ended]]:
        """The verdict, and what came of every combination of paths, at most 64."""
        ends: list[Ended] = []
        for out in self.walk(p, origin, Mind())[:64]:
            ends += self._exchange(p, origin, out)
        ends = ends[:64]
        verdicts = {verdict for verdict, _ in ends}
        return (verdicts.pop() if len(verdicts) == 1 else "mixed"), ends

    def by_name(self, name: str, p: P, origin: str) -> tuple[str, list[Ended]]:
        """The same for a packet whose destination is yet to be asked for; `p.dst` says of which family."""
        first: tuple[str, list[Ended]] | None = None
        for resolver in self.dev[origin].resolvers:
            query = P(p.src if resolver.version == p.dst.version else None, resolver, 17, 49152, 53)
            found = self.converse(query, origin)
            first = first or found
            if found[0] == "passes":
                answering = self.dev[self.walk(query, origin, Mind())[0].where]
                answers = [a for r in answering.records if r.name == name for a in r.addresses]
                own = [a for a in answers if a.version == p.dst.version]
                return self.converse(replace(p, dst=own[0]), origin) if own else ("unreachable", [])
        assert first is not None
        return first

    def _exchange(self, p: P, origin: str, out: Way) -> list[Ended]:
        echo = p.proto in (1, 58) and p.icmp in ((8, 0), (128, 0))
        answered = echo or p.proto == 17 or (p.proto == 6 and _opens(p))
        if out.end != "passes" or p.fragment or not answered:
            return [(out.end, out.by)]
        seen = out.seen
        assert seen.src is not None
        icmp = None if not echo else (0, 0) if p.dst.version == 4 else (129, 0)
        flags = "SA" if p.proto == 6 else ""
        back = P(seen.dst, seen.src, seen.proto, seen.dport, seen.sport, flags, icmp, reply=True)
        back = replace(back, dscp=seen.dscp if echo else 0)
        ends: list[Ended] = []
        for home in self.walk(back, out.where, out.mind):
            end: Ended = (home.end, home.by)
            mind = home.mind
            if home.end == "passes" and p.proto == 6:
                for first, start, like in ((out.made, origin, out), (home.made, out.where, home)):
                    ack = self.walk(replace(first, flags="A"), start, mind, like.choices)[0]
                    end, mind = (ack.end, ack.by), ack.mind
                    if ack.end != "passes":
                        break
            ends.append(end)
        return ends


class _Own:
    """A derived link-local address, in the shape of an interface address."""

    def __init__(self, ip: IPv6Address) -> None:
        self.ip = ip
        self.network = IPv6Network("fe80::/64")
        self.version = 6


DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]


def _on(window: str, at: str) -> bool:
    """Whether a moment is in a window, both as they are written, hour by hour."""
    day, hour = at.split()
    if " to " in window:
        first, end = window.split(" to ")
        return day not in DAYS and first <= at < end
    if day not in DAYS:
        day = DAYS[date.fromisoformat(day).weekday()]
    days, _, hours = window.partition(" ")
    first, _, end = (hours or "00:00-24:00").partition("-")
    yesterday = DAYS[DAYS.index(day) - 1]
    if first < end:
        return _of(days, day) and first <= hour < end
    return (_of(days, day) and hour >= first) or (_of(days, yesterday) and hour < end)


def _of(days: str, day: str) -> bool:
    if days == "daily":
        return True
    low, dash, high = days.partition("-")
    return DAYS.index(low) <= DAYS.index(day) <= DAYS.index(high) if dash else day in days.split(",")


def _opens(p: P) -> bool:
    return "".join(flag for flag in p.flags if flag not in "EC") == "S"


def _has(i: Interface, v: int) -> bool:
    return any(a.version == v for a in i.addresses)


def _denied(met: tuple[Any, ...] | None) -> bool:
    return met is not None and met[0] == "deny"


def _member(text: str, a: Addr) -> bool:
    if (":" in text) != (a.version == 6):
        return False
    if "~" in text:
        head, wildcard = text.split("~")
        mask = 0xFFFFFFFF ^ int(IPv4Address(wildcard))
        return int(a) & mask == int(IPv4Address(head)) & mask
    return a in ip_network(text)


def _zones_allow(d: Device, ingress: str, egress: str) -> bool:
    rank = {name: number for number, zone in zip(count(), d.zones, strict=False) for name in zone.interfaces}
    if ingress not in rank or egress not in rank:
        return False
    return rank[ingress] < rank[egress] or (rank[ingress] == rank[egress] and d.same_zone)


def _speaks(r: Any, p: P, prefix: Any, a: Addr, port: int | None, wanted: int | None) -> bool:
    if prefix.version != a.version or a not in prefix:
        return False
    if r.protocol is None:
        return True
    return p.proto == (6 if r.protocol == "tcp" else 17) and (r.port is None or port == wanted)


def _flip(t: tuple[Any, ...]) -> tuple[Any, ...]:
    return (t[0], t[3], t[4], t[1], t[2])
