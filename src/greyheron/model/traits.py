"""What each kind of device does: the one place where a kind's behaviour is told from its name.

Everything else asks for a trait. Kinds by name are left to what draws or words them.
"""

from types import MappingProxyType
from typing import Final, Literal

from msgspec import Struct

from greyheron.model.values import DenialAnswer, DeviceKind

TrackedProtocols = Literal["tcp", "udp", "icmp"]
TRACKED: Final[tuple[TrackedProtocols, ...]] = ("tcp", "udp", "icmp")


class Traits(Struct, frozen=True):
    """What a kind of device does, and which parts it may have.

    forwards:  passes on what is not for itself; has management lines, translation, OSPF, subinterfaces (§4)
    bridges:  joins interfaces to a segment, and has neither addresses nor routes (§1)
    end_system:  is itself the end of conversations: what its segment has beside routers
    open_ended:  stands for networks that are not drawn: has prefixes, and answers on every service (§2)
    zoned:  its interfaces belong to zones, which decide where no inbound list stands (§6)
    takes_lists:  lists can be placed on it (§3)
    takes_frame_lists:  so can frame lists, on its interfaces (§14)
    has_gateway:  sends what is not on its own segment to a gateway (§2)
    listens:  services can be given to it one by one (§5)
    tracks:  protocols whose sessions it tracks unless it says otherwise (§6)
    filters_own_traffic:  outbound lists see what it sends itself, unless it says otherwise (§4)
    answers_denied:  what it says of what it denies, unless it says otherwise (§4)
    """

    forwards: bool = False
    bridges: bool = False
    end_system: bool = False
    open_ended: bool = False
    zoned: bool = False
    takes_lists: bool = False
    takes_frame_lists: bool = False
    has_gateway: bool = False
    listens: bool = False
    tracks: tuple[TrackedProtocols, ...] = ()
    filters_own_traffic: bool = False
    answers_denied: DenialAnswer = DenialAnswer.NOTHING


TRAITS: Final = MappingProxyType(
    {
        DeviceKind.ROUTER: Traits(
            forwards=True,
            takes_lists=True,
            takes_frame_lists=True,
            listens=True,
            answers_denied=DenialAnswer.PROHIBITED,
        ),
        DeviceKind.FIREWALL: Traits(
            forwards=True, zoned=True, takes_lists=True, takes_frame_lists=True, listens=True, tracks=TRACKED
        ),
        DeviceKind.HOST: Traits(
            end_system=True,
            takes_lists=True,
            has_gateway=True,
            listens=True,
            tracks=TRACKED,
            filters_own_traffic=True,
        ),
        DeviceKind.SWITCH: Traits(bridges=True, takes_frame_lists=True),
        DeviceKind.OUTSIDE: Traits(open_ended=True, has_gateway=True),
    }
)
