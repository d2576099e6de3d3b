"""Finding neighbours: by ARP or neighbour discovery, and only if lists let it be (§1, §3, §14)."""

from greyheron.core.lists.filters import InForce, stopped_between
from greyheron.core.lists.met import Filtered
from greyheron.core.network.segments import InterfaceId
from greyheron.core.packet import Packet
from greyheron.model.values import Family

SOLICITED_NODE = 0xFF02_0000_0000_0000_0000_0001_FF00_0000
SOLICITATION, ADVERTISEMENT = 135, 136


def stopped_discovery(
    in_force: InForce, asking: InterfaceId, answering: InterfaceId, target: int, asker: int
) -> Filtered | None:
    """The list that keeps `asking` from finding the IPv6 `target` at `answering`; None when nothing does.

    asker:  the address from which it is solicited, and which is answered
    """
    group = SOLICITED_NODE | target & 0xFF_FFFF
    for message, source, destination, sender, receiver in (
        (SOLICITATION, asker, group, asking, answering),
        (ADVERTISEMENT, target, asker, answering, asking),
    ):
        packet = Packet(
            Family.IPV6,
            source,
            destination,
            Family.IPV6.icmp,
            icmp_type=message,
            icmp_code=0,
            hop_limit=255,
        )
        stopped = stopped_between(in_force, sender, receiver, packet)
        if stopped is not None:
            return stopped
    return None


def unfound(
    in_force: InForce, family: Family, asking: InterfaceId, answering: InterfaceId, target: int, asker: int
) -> Filtered | None:
    """The list that keeps `asking` from finding `target` in either family; ARP shows lists no addresses."""
    if family is Family.IPV4:
        return in_force.wires.asking(asking, answering)
    return stopped_discovery(in_force, asking, answering, target, asker)
