"""Neighbour discovery: an IPv6 neighbour is found only if lists let it be (§1, §3)."""

from greyheron.core.filters import stopped_between
from greyheron.core.packet import Packet
from greyheron.core.segments import InterfaceId
from greyheron.core.steps import Filtered
from greyheron.core.world import World
from greyheron.model.values import Family

SOLICITED_NODE = 0xFF02_0000_0000_0000_0000_0001_FF00_0000
SOLICITATION, ADVERTISEMENT = 135, 136


def stopped_discovery(
    world: World, asking: InterfaceId, answering: InterfaceId, target: int, source: int | None
) -> Filtered | None:
    """The list that keeps `asking` from finding `target` at `answering`; None when nothing does.

    source:  of the packet that wants to go there; it is asked from if `asking` holds it (RFC 4861 7.2.2)
    """
    own = [each.address for each in world.topology.held(asking, Family.IPV6)]
    asker = source if source in own else own[-1]
    assert asker is not None
    group = SOLICITED_NODE | target & 0xFF_FFFF
    solicitation = Packet(
        Family.IPV6, asker, group, Family.IPV6.icmp, icmp_type=SOLICITATION, icmp_code=0, hop_limit=255
    )
    answer = Packet(
        Family.IPV6, target, asker, Family.IPV6.icmp, icmp_type=ADVERTISEMENT, icmp_code=0, hop_limit=255
    )
    for packet, sender, receiver in ((solicitation, asking, answering), (answer, answering, asking)):
        stopped = stopped_between(
            world.discovery_lists, world.topology.devices[sender[0]], sender[1], *receiver, packet
        )
        if stopped is not None:
            return stopped
    return None
