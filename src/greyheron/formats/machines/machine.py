"""One machine as it was collected: what its commands printed, checked, and as values."""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from ipaddress import (
    IPv4Address,
    IPv6Address,
    ip_interface,
    ip_network,
)

from greyheron.core.intervals import Spans, span_minus, span_union
from greyheron.formats.machines.printed import Collected, PolicyLine, PortLine, RouteLine
from greyheron.model.item import family_of
from greyheron.model.values import Family

LOOPBACK = "lo"


_LISTENING = re.compile(r"^(tcp|udp) \S+ \d+ \d+ (\S+):(\d+) ")


EVERYWHERE = {Family.IPV4: "0.0.0.0", Family.IPV6: "[::]"}
"""How `ss` calls every address of a family; of both it says `*`."""


_EVERY_MACHINES_OWN = {
    Family.IPV4: ((0x7F00_0000, 0x7FFF_FFFF),),
    Family.IPV6: ((1, 1), (0xFE80 << 112, (1 << 128) - 1)),
}
"""What every machine serves that speaks to nobody else by it, or on single links only."""


@dataclass(frozen=True)
class Machine:
    """A machine as it was collected.

    name:  as it is called here;  where:  the file it came of
    ignored:  addresses that are somebody else's too, and are taken for his
    """

    name: str
    where: str
    collected: Collected
    ignored: frozenset[IPv4Address | IPv6Address] = frozenset()

    @cached_property
    def ports(self) -> Mapping[str, PortLine]:
        found = {each.ifname: each for each in self.collected.address or ()}
        if not self.ignored:
            return found
        return {
            name: port.model_copy(
                update={"addr_info": tuple(one for one in port.addr_info if one.local not in self.ignored)}
            )
            for name, port in found.items()
        }

    @property
    def forwards(self) -> bool:
        return any(map(self.forwards_family, Family))

    def forwards_family(self, family: Family) -> bool:
        """Whether it passes on what is not for itself and comes in by some interface."""
        return any(self.forwards_from(port, family) for port in self.ports if port != LOOPBACK)

    def forwards_from(self, port: str, family: Family) -> bool:
        """Whether it passes on what comes in by `port`.

        What was not collected of one family is as with the other. IPv4 asks the interface; IPv6 asks all of
        them at once, or one that is made to.
        """
        told = self.collected.forwards4, self.collected.forwards6
        own, other = told if family is Family.IPV4 else told[::-1]
        everywhere = (other if own is None else own) == "1"
        if family is Family.IPV6:
            return everywhere or bool(self.setting(f"net.ipv6.conf.{port}.force_forwarding"))
        return bool(self._settings.get(f"net.ipv4.conf.{port}.forwarding", everywhere))

    @property
    def dormant(self) -> frozenset[tuple[str, str]]:
        """The tables of its packet filter that are asleep, by family and name."""
        return frozenset(table for table, lines in self._tables.items() if "dormant" in " ".join(lines))

    @property
    def unlisted(self) -> tuple[str, ...]:
        """The tables that are awake and were named, and of which nothing was listed."""
        told = (self.collected.ruleset or {}).get("nftables")
        objects = told if isinstance(told, list) else []
        listed = {
            (str(table.get("family")), str(table.get("name")))
            for each in objects
            if isinstance(each, dict) and isinstance(table := each.get("table"), dict)
        }
        return tuple(" ".join(table) for table in self._tables if table not in listed | self.dormant)

    @cached_property
    def _tables(self) -> Mapping[tuple[str, str], list[str]]:
        """What was said of each table beside its rules."""
        found: dict[tuple[str, str], list[str]] = {}
        for line in self.collected.flagged:
            words = line.split()
            if words[:1] == ["table"] and len(words) > 2:
                table = words[1], words[2]
                found[table] = []
            elif found:
                found[table].append(line)
        return found

    @cached_property
    def _settings(self) -> Mapping[str, int]:
        split = (line.partition("=") for line in self.collected.settings)
        return {name.strip(): int(value) for name, _, value in split if value.strip().lstrip("-").isdigit()}

    def setting(self, name: str) -> int:
        """A setting of the kernel; 0 where it was not collected."""
        return self._settings.get(name, 0)

    def policies(self, family: Family) -> tuple[PolicyLine, ...]:
        """The rules that lead to other routing tables than the usual ones."""
        told = self.collected.rule if family is Family.IPV4 else self.collected.rule6
        return tuple(each for each in told or () if not each.usual)

    def own_table(self, port: str) -> bool:
        """Whether an interface belongs to a device that has a routing table of its own (a VRF)."""
        master = self.ports.get(self.ports[port].master or "")
        return master is not None and master.linkinfo.info_kind == "vrf"

    def discarded(self, family: Family, kind: str) -> Spans:
        """The destinations that routes of a kind lead to, as far as no longer prefix is known."""
        found: list[tuple[int, int]] = []
        taken: Spans = ()
        for line in sorted(self.routes(family), key=lambda each: (-_length(each, family), each.metric)):
            network = ip_network(line.prefix(family))
            mine = span_minus(((int(network[0]), int(network[-1])),), taken)
            taken = span_union((*taken, *mine))
            if line.type == kind:
                found += mine
        return span_union(found)

    def routes(self, family: Family) -> tuple[RouteLine, ...]:
        told = (self.collected.route if family is Family.IPV4 else self.collected.route6) or ()
        return tuple(each for each in told if family_of(ip_network(each.prefix(family))) is family)

    @cached_property
    def bridges(self) -> Mapping[str, tuple[str, ...]]:
        """The ports of each bridge."""
        return {
            name: tuple(each.ifname for each in self.ports.values() if each.master == name)
            for name, port in self.ports.items()
            if port.linkinfo.info_kind == "bridge"
        }

    def vlans(self, port: str) -> tuple[int | None, tuple[int, ...]]:
        """The VLAN that a bridge's port carries without a tag, and those with one."""
        untagged, tagged = None, []
        for each in self.collected.vlan or ():
            if each.ifname == port:
                for line in each.vlans:
                    for number in range(line.vlan, (line.vlanEnd or line.vlan) + 1):
                        if "Egress Untagged" in line.flags:
                            untagged = number
                        else:
                            tagged.append(number)
        return untagged, tuple(tagged)

    def own(self, family: Family) -> Spans:
        """The addresses of what its filter takes for its own: unicast, broadcast and groups."""
        spans: list[tuple[int, int]] = []
        for port in self.ports.values():
            for held in port.addresses:
                if held.version == 4 and family is Family.IPV4:
                    spans.append((int(held.ip), int(held.ip)))
                    if held.network.prefixlen < 31:  # RFC 3021
                        last = int(held.network.broadcast_address)
                        spans.append((last, last))
                elif held.version == 6 and family is Family.IPV6:
                    spans.append((int(held.ip), int(held.ip)))
        spans += self.served(family)
        if family is Family.IPV4:
            spans += [(0xE000_0000, 0xEFFF_FFFF), (0xFFFF_FFFF, 0xFFFF_FFFF)]
        else:
            spans += [(0xFE80 << 112, (0xFEC0 << 112) - 1), (0xFF << 120, (1 << 128) - 1)]
        return span_union(spans)

    def served(self, family: Family) -> Spans:
        """What its table of local routes takes for its own that no interface has."""
        told = (self.collected.local if family is Family.IPV4 else self.collected.local6) or ()
        networks = [ip_network(line.prefix(family)) for line in told if line.type in ("local", "broadcast")]
        mine = span_union((int(each[0]), int(each[-1])) for each in networks if family_of(each) is family)
        held = [each for port in self.ports.values() for each in port.addr_info if each.local is not None]
        every = [ip_interface((each.local, each.prefixlen)) for each in held if each.local is not None]
        known = [(int(each.ip), int(each.ip)) for each in every if family_of(each.network) is family]
        known += [
            (int(end), int(end))
            for each in every
            if each.version == 4 and family is Family.IPV4
            for end in (each.network[0], each.network[-1])
        ]
        return span_minus(mine, span_union([*known, *_EVERY_MACHINES_OWN[family]]))

    def led_by(self, family: Family) -> Mapping[str, Spans] | None:
        """The destinations that its routes lead out of each interface; None where equal ways part."""
        return self._led[family]

    @cached_property
    def _led(self) -> Mapping[Family, Mapping[str, Spans] | None]:
        return {family: self._leading(family) for family in Family}

    def _leading(self, family: Family) -> Mapping[str, Spans] | None:
        found: dict[str, list[tuple[int, int]]] = {}
        taken: Spans = ()
        lines = self.routes(family)
        for line in sorted(lines, key=lambda each: (-_length(each, family), each.metric)):
            network = ip_network(line.prefix(family))
            mine = span_minus(((int(network[0]), int(network[-1])),), taken)
            taken = span_union((*taken, *mine))
            ways = {hop.dev for hop in line.hops}
            if line.nowhere or not mine:
                continue
            if len(ways) > 1:
                return None
            (way,) = ways
            if way is not None:
                found.setdefault(way, []).extend(mine)
        return {name: span_union(spans) for name, spans in found.items()}

    @cached_property
    def listening(self) -> Mapping[tuple[str, int], frozenset[str]]:
        """Protocols and ports that something listens on, and the addresses; not those of its own inside."""
        found: dict[tuple[str, int], set[str]] = {}
        for line in self.collected.listening:
            told = _LISTENING.match(line)
            if told and not told[2].startswith(("127.", "[::1]")):
                found.setdefault((told[1], int(told[3])), set()).add(told[2])
        return {which: frozenset(addresses) for which, addresses in found.items()}


def _length(line: RouteLine, family: Family) -> int:
    return ip_network(line.prefix(family)).prefixlen
