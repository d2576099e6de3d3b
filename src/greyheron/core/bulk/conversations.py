"""Conversations and what became of them, in arrays."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.headers import NO_PORT, Addresses, Bools, Ints
from greyheron.core.packet import Packet, kind_of
from greyheron.core.walk.addressing import opener_of
from greyheron.core.walk.conversation import expects_reply, reply_to
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP
from greyheron.model.services import Request
from greyheron.model.values import Family


class Conversations(Struct, frozen=True):
    """Many conversations of one family.

    senders:  devices, each with the address it sends from (None: its own choice, §4)
    destinations:  addresses;  requests:  what is asked for
    sender, destination, request:  for each conversation its index in those
    source_port:  for each conversation, where its request has a port
    """

    family: Family
    senders: Sequence[tuple[str, int | None]]
    destinations: Sequence[int]
    requests: Sequence[Request]
    sender: Ints
    destination: Ints
    request: Ints
    source_port: Ints

    def __len__(self) -> int:
        return len(self.sender)


class Verdicts(Struct, frozen=True):
    """What became of each conversation, in arrays of one length. Where paths differ, of the first that fails.

    verdict:  index in VERDICT_ORDER;  outcome:  index in OUTCOMES
    arrives:  whether on one path at least it gets through, or is refused where it was going
    reached:  whether its first packet gets there on one path at least, whatever becomes of the answer
    point:  index in `points` and `names` of the list that decided, or NONE where none did
    entry:  its entry's number, or NONE for the implicit end of the list
    device:  index in `devices` of the device where the deciding packet ended
    """

    points: Sequence[AttachmentPoint]
    names: Sequence[str | None]
    devices: Sequence[str]
    verdict: Ints
    arrives: Bools
    reached: Bools
    outcome: Ints
    point: Ints
    entry: Ints
    device: Ints

    def take(self, indices: Ints) -> "Verdicts":
        return replace(
            self,
            verdict=self.verdict[indices],
            arrives=self.arrives[indices],
            reached=self.reached[indices],
            outcome=self.outcome[indices],
            point=self.point[indices],
            entry=self.entry[indices],
            device=self.device[indices],
        )


class Prepared(Struct, frozen=True):
    """A request with what follows from it.

    opener:  the packet that opens it, between no addresses
    kinds:  of the packets there and home, and of later ones there and home, as far as there are any
    """

    request: Request
    opener: Packet
    replies: bool
    kinds: tuple[Packet, ...]

    @classmethod
    def of(cls, request: Request, family: Family) -> "Prepared":
        opener = opener_of(family, request, 0, 0, NO_PORT)
        if not expects_reply(opener):
            return cls(request, opener, False, (kind_of(opener),))
        first = opener, reply_to(opener)
        kinds = [kind_of(packet) for packet in first]
        if request.protocol == TCP:
            kinds += [kind_of(replace(packet, flags=TcpFlags.ACK)) for packet in first]
        return cls(request, opener, True, tuple(kinds))


class Rows(Struct, frozen=True):
    """Conversations that can be told apart; arrays of one length, and what the indices in them stand for.

    device:  numbers of senders
    source, destination:  indices in `addresses`; the source NONE where it depends on the path
    """

    addresses: Addresses
    asked: Sequence[Prepared]
    device: Ints
    source: Ints
    destination: Ints
    request: Ints
    source_port: Ints

    def __len__(self) -> int:
        return len(self.device)

    def take(self, indices: Ints) -> "Rows":
        return Rows(
            self.addresses,
            self.asked,
            self.device[indices],
            self.source[indices],
            self.destination[indices],
            self.request[indices],
            self.source_port[indices],
        )


class Exchanges(Struct, frozen=True):
    """How each exchange ends, where, and by which entry: sorted by row, then as the walk finds them.

    reached:  whether its first packet got where it was going
    """

    row: Ints
    outcome: Ints
    end: Ints
    point: Ints
    entry: Ints
    reached: Bools

    def take(self, indices: Ints) -> "Exchanges":
        return Exchanges(
            self.row[indices],
            self.outcome[indices],
            self.end[indices],
            self.point[indices],
            self.entry[indices],
            self.reached[indices],
        )


def joined(parts: Sequence[Exchanges]) -> Exchanges:
    """All of `parts`, sorted by row."""
    row, outcome, end, point, entry, reached = (
        np.concatenate([getattr(part, name) for part in parts])
        for name in ("row", "outcome", "end", "point", "entry", "reached")
    )
    return Exchanges(row, outcome, end, point, entry, reached).take(np.argsort(row, kind="stable"))
