"""Neighbour discovery: an IPv6 neighbour is found only if lists let it be (§1, §3)."""

from collections.abc import Mapping

from greyheron.core.filters import Lists, stopped_between
from greyheron.core.packet import Packet
from greyheron.core.segments import InterfaceId
from greyheron.core.steps import Filtered
from greyheron.model.document import Device
from greyheron.model.values import Family

SOLICITED_NODE = 0xFF02_0000_0000_0000_0000_0001_FF00_0000
SOLICITATION, ADVERTISEMENT = 135, 136


def stopped_discovery(
    lists: Lists,
    devices: Mapping[str, Device],
    asking: InterfaceId,
    answering: InterfaceId,
    target: int,
    asker: int,
) -> Filtered | None:
    """The list that keeps `asking` from finding `target` at `answering`; None when nothing does.

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
        stopped = stopped_between(lists, devices[sender[0]], sender[1], *receiver, packet)
        if stopped is not None:
            return stopped
    return None
