"""Meeting a list: at an interface or a management line (§4, §5)."""

from collections.abc import Mapping
from dataclasses import dataclass

from greyheron.core.lists.layer2_paths import Layer2Paths, denied_in
from greyheron.core.lists.matching import decide
from greyheron.core.lists.met import Filtered, Unfiltered, denies
from greyheron.core.lists.resolved import ResolvedList
from greyheron.core.network.segments import InterfaceId
from greyheron.core.packet import Packet
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.values import Direction, Family

Lists = Mapping[tuple[AttachmentPoint, Family], ResolvedList]
"""What is placed at each attachment point, by family."""


@dataclass(frozen=True, eq=False)
class InForce:
    """All lists that are in force: those of packets, and those of frames on the wires between devices."""

    lists: Lists
    wires: Layer2Paths


def meet(lists: Lists, point: AttachmentPoint, packet: Packet) -> Filtered | Unfiltered:
    """What the list at `point` does with `packet`, if one of its family stands there."""
    placed = lists.get((point, packet.family))
    if placed is None:
        return Unfiltered(point)
    return Filtered(point, placed.name, decide(placed, packet))


def stopped_between(
    in_force: InForce, egress: InterfaceId, ingress: InterfaceId, packet: Packet
) -> Filtered | None:
    """The list that keeps a packet of the sender's own from a neighbour on its segment; None: it arrives."""
    met: Filtered | Unfiltered
    if in_force.wires.devices[egress[0]].sends_through:
        met = meet(in_force.lists, AttachmentPoint(*egress, Direction.OUT), packet)
        if denies(met):
            return met
    stopped = denied_in(in_force.wires.carrying(egress, ingress, packet))
    if stopped is not None:
        return stopped
    met = meet(in_force.lists, AttachmentPoint(*ingress, Direction.IN), packet)
    return met if denies(met) else None
