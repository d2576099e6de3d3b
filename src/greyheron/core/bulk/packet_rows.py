"""What each way of many conversations is made of: packets that nothing rewrites, and who takes them (§8)."""

import numpy as np

from greyheron.core.bulk.conversations import Rows
from greyheron.core.bulk.forwarding import LISTENS, ForwardingIndex, Listening, protocol_index
from greyheron.core.bulk.tracer import ARRIVED, NO_SESSION, REFUSED, SPECIAL, Batch, Deliver
from greyheron.core.headers import NO_PORT, NONE, Headers, Ints
from greyheron.core.packet import Packet
from greyheron.core.walk.conversation import reply_to
from greyheron.core.walk.sessions import can_open
from greyheron.model.names import TCP, WITH_PORTS

OUT, RETURN, OUT_AGAIN, RETURN_AGAIN = range(4)
"""A conversation's packets, as in `Prepared.kinds`."""
HOME, LATER = (RETURN, RETURN_AGAIN), (OUT_AGAIN, RETURN_AGAIN)


class PacketRows:
    """The packets of `rows`, none of which has a link-local end or an open source.

    Arrays have one index for each request, if not said otherwise.

    towards:  the destination class of each address
    replies:  whether anything comes back;  is_tcp:  whether that is acknowledged
    manners:  of each request what may send its packets another way: all but replies is a matter of sessions
    """

    def __init__(self, forwarding: ForwardingIndex, rows: Rows) -> None:
        self.forwarding, self.rows = forwarding, rows
        asked = rows.asked
        self.towards = forwarding.classes(rows.addresses)
        self.protocol = np.array(
            [protocol_index(forwarding.family, name.request.protocol) for name in asked], dtype=np.int64
        )
        self._opens = np.array([can_open(name.opener) for name in asked], dtype=np.bool_)
        self.replies = np.array([name.replies for name in asked], dtype=np.bool_)
        self._reply_opens = np.array(
            [name.replies and can_open(reply_to(name.opener)) for name in asked], dtype=np.bool_
        )
        self._fragment = np.array([name.request.fragment for name in asked], dtype=np.bool_)
        self.is_tcp = np.array(
            [name.replies and name.request.protocol == TCP for name in asked], dtype=np.bool_
        )
        self._port = np.array(
            [NO_PORT if name.request.port is None else name.request.port for name in asked], dtype=np.int64
        )
        kinds: dict[Packet, int] = {}
        width = RETURN_AGAIN + 1
        numbered = [[kinds.setdefault(kind, len(kinds)) for kind in name.kinds] for name in asked]
        self._kind = np.array([[*number, *[0] * (width - len(number))] for number in numbered]).reshape(
            -1, width
        )
        self._kinds = tuple(kinds)

    @property
    def manners(self) -> Ints:
        tracked = self.forwarding.tracked[self.protocol]
        alike = self.forwarding.tracked_alike[self.protocol]
        opens, replies_open = self._opens | ~tracked, self._reply_opens | ~tracked
        fragment = self._fragment & tracked
        return np.stack([alike, opens, self.replies, replies_open, fragment])

    def delivery(self, device: int, asked: int) -> Listening:
        """What becomes of a request at the device that it is for."""
        protocol = self.rows.asked[asked].request.protocol
        if not self.replies[asked] and protocol in WITH_PORTS:
            return LISTENS  # a fragment, or no opener: whoever listens
        return self.forwarding.delivers(device, protocol, int(self._port[asked]))

    def there(self, rows: Rows) -> tuple[Batch, Deliver]:
        """The first packets of some of the rows, and what becomes of them where they are for a device."""
        request = rows.request
        leg = Batch(
            rows.device,
            rows.source,
            rows.destination,
            self.towards[rows.destination],
            self.protocol[request],
            self._opens[request],
            self._fragment[request],
            (),
        )

        def deliver(indices: Ints, devices: Ints) -> tuple[Ints, Ints]:
            asked = len(rows.asked)
            pairs, index = np.unique(devices * asked + request[indices], return_inverse=True)
            found = [self.delivery(*divmod(pair, asked)) for pair in pairs.tolist()]
            outcomes, lines = zip(*map(_at_one_line, found), strict=True) if found else ((), ())
            return np.array(outcomes, dtype=np.int64)[index], np.array(lines, dtype=np.int64)[index]

        return leg, deliver

    def back(self, rows: Rows, device: Ints, known: tuple[Ints, ...]) -> tuple[Batch, Deliver]:
        """The replies to `rows` from `device` each, where `known` have sessions of the conversations."""
        leg = Batch(
            device,
            rows.destination,
            rows.source,
            self.towards[rows.source],
            self.protocol[rows.request],
            self._reply_opens[rows.request],
            np.zeros(len(device), dtype=np.bool_),
            known,
        )

        def deliver(indices: Ints, devices: Ints) -> tuple[Ints, Ints]:
            awaited = devices == rows.device[indices]
            return np.where(awaited, ARRIVED, NO_SESSION), np.full(len(indices), NONE)

        return leg, deliver

    def headers(self, packet: int, row: Ints) -> Headers:
        """The headers of the conversation's `packet` of rows, each as often as it stands in `row`."""
        rows = self.rows.take(row)
        ports = rows.source_port, self._port[rows.request]
        ends = rows.source, rows.destination
        if packet in HOME:
            ports, ends = ports[::-1], ends[::-1]
        return Headers(rows.addresses, self._kinds, *ends, self._kind[rows.request, packet], *ports)


def _at_one_line(delivery: Listening) -> tuple[int, int]:
    """The outcome, and the point of the line that is asked or NONE; SPECIAL where there are several."""
    listens, lines = delivery
    if len(lines) > 1:
        return SPECIAL, NONE
    return ARRIVED if listens else REFUSED, lines[0] if lines else NONE
