"""Meeting a list: at an interface or a management line (§4, §5)."""

from collections.abc import Mapping

from greyheron.core.lists import ResolvedList
from greyheron.core.matching import decide
from greyheron.core.packet import Packet
from greyheron.core.steps import Filtered, Unfiltered
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.document import Device
from greyheron.model.values import Direction, Family

Lists = Mapping[tuple[AttachmentPoint, Family], ResolvedList]
"""What is placed at each attachment point, by family."""


def meet(lists: Lists, point: AttachmentPoint, packet: Packet) -> Filtered | Unfiltered:
    """What the list at `point` does with `packet`, if one of its family stands there."""
    placed = lists.get((point, packet.family))
    if placed is None:
        return Unfiltered(point)
    return Filtered(point, placed.name, decide(placed, packet))


def stopped_between(
    lists: Lists, sender: Device, egress: str, receiver: str, ingress: str, packet: Packet
) -> Filtered | None:
    """The list that keeps a packet of the sender's own from a neighbour on its segment; None: it arrives."""
    points = [AttachmentPoint(receiver, ingress, Direction.IN)]
    if sends_through(sender):
        points.insert(0, AttachmentPoint(sender.name, egress, Direction.OUT))
    for point in points:
        met = meet(lists, point, packet)
        if isinstance(met, Filtered) and met.decision.denies:
            return met
    return None


def sends_through(device: Device) -> bool:
    """Whether a device's outbound lists see the packets that it sends itself (§4)."""
    if device.filters_own_traffic is not None:
        return device.filters_own_traffic
    return device.traits.filters_own_traffic
