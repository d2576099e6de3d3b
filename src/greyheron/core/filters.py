"""Meeting a list: at an interface or a management line (2-semantics §4, §5)."""

from greyheron.core.matching import decide
from greyheron.core.packet import Packet
from greyheron.core.places import AttachmentPoint
from greyheron.core.steps import Filtered, Unfiltered
from greyheron.core.world import World


def at_interface(world: World, point: AttachmentPoint, packet: Packet) -> Filtered | Unfiltered:
    """What the list at `point` does with `packet`, if one of its family stands there."""
    placed = world.lists.get((point, packet.family))
    if placed is None:
        return Unfiltered(point)
    return Filtered(point, placed.name, decide(placed, packet))
