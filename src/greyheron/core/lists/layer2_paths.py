"""Layer-2 paths: the switches that a frame crosses between two interfaces, and the lists there (§14)."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from greyheron.core.lists.frames import ARP, BROADCAST, Frame, FrameLists, decide_frame, frame_of, mac_of
from greyheron.core.lists.met import Filtered
from greyheron.core.lists.resolved import FrameList
from greyheron.core.network.segments import InterfaceId, Segments
from greyheron.core.packet import Packet
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Device
from greyheron.model.values import Direction


@dataclass(frozen=True, eq=False)
class Layer2Paths:
    """The segments of a network, and the frame lists in force at each attachment point."""

    devices: Mapping[str, Device]
    segments: Segments
    lists: FrameLists
    _points: dict[tuple[InterfaceId, InterfaceId], tuple[AttachmentPoint, ...]] = field(
        default_factory=dict, repr=False
    )

    def under(self, lists: FrameLists) -> "Layer2Paths":
        """The same wires with these lists in force."""
        return replace(self, lists=lists)

    def points(self, egress: InterfaceId, ingress: InterfaceId) -> tuple[AttachmentPoint, ...]:
        """Where frame lists can meet a frame from one interface to another, in its order."""
        found = self._points.get((egress, ingress))
        if found is None:
            found = self._points[egress, ingress] = self._passed(egress, ingress)
        return found

    def _passed(self, egress: InterfaceId, ingress: InterfaceId) -> tuple[AttachmentPoint, ...]:
        met = [AttachmentPoint(*egress, Direction.OUT)]
        for near, far in self.segments.crossing(egress, ingress):
            for end, direction in ((near, Direction.OUT), (far, Direction.IN)):
                name, _, port = end.partition(":")
                if self.devices[name].traits.bridges:
                    met.append(AttachmentPoint(name, port, direction))
        return (*met, AttachmentPoint(*ingress, Direction.IN))

    def both_ways(self, one: InterfaceId, other: InterfaceId) -> tuple[AttachmentPoint, ...]:
        """Where they can meet what goes between two neighbours: a packet, or what asks for one of them."""
        return (*self.points(one, other), *self.points(other, one))

    def lists_between(self, one: InterfaceId, other: InterfaceId) -> tuple[FrameList | None, ...]:
        """What stands at each of those places."""
        return tuple(map(self.lists.get, self.both_ways(one, other))) if self.lists else ()

    def met(self, egress: InterfaceId, ingress: InterfaceId, frame: Frame) -> tuple[Filtered, ...]:
        """What the frame lists on its way make of `frame`, up to the first that denies it."""
        if not self.lists:
            return ()
        met: list[Filtered] = []
        for point in self.points(egress, ingress):
            found = self.lists.get(point)
            if found is None:
                continue
            met.append(Filtered(point, found.name, decide_frame(found, frame), frame))
            if met[-1].decision.denies:
                break
        return tuple(met)

    def carrying(self, egress: InterfaceId, ingress: InterfaceId, packet: Packet) -> tuple[Filtered, ...]:
        """The same for the frame that carries `packet`."""
        if not self.lists:
            return ()
        return self.met(egress, ingress, frame_of(packet, self._mac(egress), self._mac(ingress)))

    def asking(self, asker: InterfaceId, answerer: InterfaceId) -> Filtered | None:
        """The list that stops an ARP request, or the reply to it (RFC 826); None: nothing does."""
        if not self.lists:
            return None
        request = Frame(ARP, self._mac(asker), BROADCAST)
        reply = Frame(ARP, self._mac(answerer), self._mac(asker))
        return denied_in(self.met(asker, answerer, request)) or denied_in(self.met(answerer, asker, reply))

    def _mac(self, port: InterfaceId) -> int:
        return mac_of(self.devices[port[0]], port[1])


def denied_in(met: tuple[Filtered, ...]) -> Filtered | None:
    """The denial among what lists decided: the last, if any."""
    return met[-1] if met and met[-1].decision.denies else None
