"""Frames for the naive reference: every way through the switches is tried, and the best one taken (§14)."""

import hashlib
from typing import Any

from greyheron.model.device import Interface
from greyheron.model.document import Network

End = tuple[str, str]
Way = list[tuple[End, End]]
"""Links, each from its near end to its far one."""

TYPES = {4: 0x0800, 6: 0x86DD, "arp": 0x0806}


class Frames:
    def __init__(self, network: Network, on: set[str]) -> None:
        """on:  the periods that are on"""
        self.n, self.on = network, on
        self.kinds = {device.name: device.kind for device in network.devices}

    def mac(self, end: End) -> int:
        port = self._port(end)
        if port.mac:
            return int(port.mac.replace(":", ""), 16)
        if port.parent:
            return self.mac((end[0], port.parent))
        pairs = list(hashlib.sha256("/".join(end).encode()).digest()[:6])
        pairs[0] = pairs[0] & 0b11111100 | 0b10
        return int.from_bytes(bytes(pairs), "big")

    def stopped_packet(self, a: End, b: End, dst: Any) -> tuple[Any, ...] | None:
        """Who stops the frame of a packet to `dst` from `a` to its neighbour `b`."""
        return self._stopped(a, b, TYPES[dst.version], self.mac(a), self._to(b, dst))

    def stopped_arp(self, a: End, b: End) -> tuple[Any, ...] | None:
        question = self._stopped(a, b, TYPES["arp"], self.mac(a), 2**48 - 1)
        return question or self._stopped(b, a, TYPES["arp"], self.mac(b), self.mac(a))

    def _to(self, b: End, dst: Any) -> int:
        if not dst.is_multicast:
            return self.mac(b)
        low = dst.packed[-4:]
        if dst.version == 6:
            return int.from_bytes(b"\x33\x33" + low, "big")
        return int.from_bytes(b"\x01\x00\x5e" + bytes([low[1] & 127]) + low[2:], "big")

    def _stopped(self, a: End, b: End, kind: int, src: int, dst: int) -> tuple[Any, ...] | None:
        met = [(*a, "out")]
        for near, far in self.way(a, b):
            met += [(*near, "out")] * (self.kinds[near[0]] == "switch")
            met += [(*far, "in")] * (self.kinds[far[0]] == "switch")
        for device, at, direction in [*met, (*b, "in")]:
            for placed in self.n.placements:
                found = next(x for x in self.n.lists if x.name == placed.list)
                there = (placed.device, placed.at, placed.direction) == (device, at, direction)
                if not there or found.kind != "frame":
                    continue
                action, number = "deny", None
                for e in sorted(found.body.entries, key=lambda e: e.number):
                    if e.during and (e.during.period in self.on) is e.during.outside:
                        continue
                    f = e.frame
                    assert f is not None
                    if (
                        f.ether_type in (None, kind)
                        and (f.source is None or src & f.source.mask == f.source.value)
                        and (f.destination is None or dst & f.destination.mask == f.destination.value)
                    ):
                        action, number = e.action.value, e.number
                        break
                if action == "deny":
                    return ("deny", device, at, direction, found.name, number)
        return None

    def way(self, a: End, b: End) -> Way:
        """Of the shortest ways the first by name, read from the end whose name is first."""
        one, other = sorted([a, b])
        port = self._port(one)
        start = (one[0], port.parent or port.name)
        ways = self._ways(start, port.vlan, other, [])
        best = min(
            ways, key=lambda way: (len(way), [(far[0], _joined(near), _joined(far)) for near, far in way])
        )
        return best if one == a else [(far, near) for near, far in reversed(best)]

    def _ways(self, out: End, tag: int | None, goal: End, so_far: Way) -> list[Way]:
        """Every way of a frame that leaves by the port `out` with a tag."""
        if not self._port(out).enabled or any(out in link for link in so_far):
            return []
        found: list[Way] = []
        for link in self.n.links:
            ends = [(end.split(":", 1)[0], end.split(":", 1)[1]) for end in link.ends]
            if not link.enabled or out not in ends:
                continue
            far = ends[1] if ends[0] == out else ends[0]
            port = self._port(far)
            if not port.enabled or far[0] in {near[0] for near, _ in so_far}:
                continue
            way = [*so_far, (out, far)]
            if self.kinds[far[0]] != "switch":
                at = self._port(goal)
                here = (at.parent or at.name, at.vlan) == (far[1], tag) and goal[0] == far[0]
                found += [way] if here else []
                continue
            vlan = vlan_of(port, tag)
            if vlan is None:
                continue
            device = next(each for each in self.n.devices if each.name == far[0])
            for other in device.interfaces:
                sent = tag_for(other, vlan)
                if other.name != far[1] and sent is not None:
                    found += self._ways((far[0], other.name), sent[0], goal, way)
        return found

    def _port(self, end: End) -> Interface:
        device = next(each for each in self.n.devices if each.name == end[0])
        return next(each for each in device.interfaces if each.name == end[1])


def _joined(end: End) -> str:
    return ":".join(end)


def vlan_of(port: Interface, tag: int | None) -> int | None:
    """The VLAN that a switch puts a frame in; None: it drops it."""
    if not port.trunk and port.untagged is None:
        return (port.access or 1) if tag is None else None
    if tag is None:
        return port.untagged
    return tag if tag in port.trunk and tag != port.untagged else None


def tag_for(port: Interface, vlan: int) -> tuple[int | None] | None:
    """How a switch sends a frame of a VLAN out of a port: (tag,), or None when it does not."""
    if not port.trunk and port.untagged is None:
        return (None,) if (port.access or 1) == vlan else None
    if port.untagged == vlan:
        return (None,)
    return (vlan,) if vlan in port.trunk else None
