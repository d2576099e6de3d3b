"""Records folded into conversations by who, whom and service.

Both ways of one conversation are one; who began it is known by a SYN or an echo request, else told by ports.
"""

import numpy as np
from msgspec import Struct

from greyheron.analysis.traffic.records import NO_TIME, Records
from greyheron.core.headers import Bools, Ints
from greyheron.core.shares import Share
from greyheron.model.names import PORTS, TCP, UDP

_PRIVILEGED = 1024
_ICMP = (1, 58)
_REPLIES = {(1, 0): 8, (1, 14): 13, (58, 129): 128}
"""The types that answer others (RFC 792, RFC 4443)."""
_ABOUT = {1: (3, 4, 5, 11, 12), 58: (1, 2, 3, 4, 137)}
"""ICMP that says something about other packets: it is no conversation."""
_KNOWN = np.array(sorted({*PORTS.values()}), dtype=np.int64)


_ADDRESS_BYTES = 100


class SeenTraffic(Struct, frozen=True):
    """Conversations that were there, those of one source, destination and service together, in arrays.

    addresses:  each once, as (six, value);  source, destination:  indices in it
    port:  the destination's, the type of ICMP, or -1;  source_port:  of one of them
    count:  how many conversations;  packets, octets:  both ways together
    answered:  whether its answer came home in any of them;  first, last:  as in `Records`
    errors:  how many records said something about other packets, which are in none of them
    """

    addresses: tuple[tuple[bool, int], ...]
    source: Ints
    destination: Ints
    protocol: Ints
    port: Ints
    source_port: Ints
    count: Ints
    packets: Ints
    octets: Ints
    answered: Bools
    first: Ints
    last: Ints
    errors: int

    def __len__(self) -> int:
        return len(self.source)

    @property
    def nbytes(self) -> int:
        """About how many bytes it takes."""
        arrays: int = sum(getattr(self, name).nbytes for name in SEEN_ARRAYS)
        return arrays + _ADDRESS_BYTES * len(self.addresses)

    def part(self, share: Share) -> Ints:
        """The rows of the conversations in a share, by who begins them."""
        inside = np.array([share.has(f"{value}") for _, value in self.addresses], dtype=np.bool_)
        return np.flatnonzero(inside[self.source])

    def take(self, rows: Ints) -> "SeenTraffic":
        """Some of the conversations; `errors` as of all."""
        arrays = {name: getattr(self, name)[rows] for name in SEEN_ARRAYS}
        return SeenTraffic(self.addresses, **arrays, errors=self.errors)


SEEN_ARRAYS = tuple(name for name in SeenTraffic.__struct_fields__ if name not in ("addresses", "errors"))


def fold(records: Records) -> SeenTraffic:
    """Everything that is alike together, the most packets first."""
    about = np.zeros(len(records), dtype=np.bool_)
    for protocol, kinds in _ABOUT.items():
        about |= (records.protocol == protocol) & np.isin(records.destination_port, kinds)
    errors = int(about.sum())
    records = records.take(~about)
    addresses, source, destination = _numbered(records)
    records, source, destination = _asked(records, source, destination)
    count = max(1, len(addresses))
    pair = source * count + destination
    back_pair = destination * count + source
    ports = _ports(records.protocol, records.source_port, records.destination_port)
    icmp = np.isin(records.protocol, _ICMP)
    back_ports = np.where(
        icmp, ports, _ports(records.protocol, records.destination_port, records.source_port)
    )
    turned = (back_pair < pair) | ((back_pair == pair) & (back_ports < ports))
    key = _together(np.where(turned, back_pair, pair), np.where(turned, back_ports, ports))
    unique, of = np.unique(key, return_inverse=True)
    begins = _beginnings(records, turned, of, len(unique))
    return _services(records, source, destination, turned, of, begins, addresses, errors)


def _numbered(records: Records) -> tuple[tuple[tuple[bool, int], ...], Ints, Ints]:
    """Every address once, and the indices of sources and destinations."""
    six = np.concatenate([records.six, records.six])
    high = np.concatenate([records.source_high, records.destination_high])
    low = np.concatenate([records.source_low, records.destination_low])
    if not six.any():
        unique, of = np.unique(low, return_inverse=True)
        addresses = tuple((False, int(value)) for value in unique)
    else:
        _, high_of = np.unique(high, return_inverse=True)
        _, low_of = np.unique(low, return_inverse=True)
        key = (high_of * 2 + six) * (int(low_of.max(initial=0)) + 1) + low_of
        _, first, of = np.unique(key, return_index=True, return_inverse=True)
        addresses = tuple((bool(six[at]), int(high[at]) << 64 | int(low[at])) for at in first)
    count = len(records)
    return addresses, of[:count].astype(np.int64), of[count:].astype(np.int64)


def _asked(records: Records, source: Ints, destination: Ints) -> tuple[Records, Ints, Ints]:
    """ICMP answers as what they answer, the other way round."""
    kinds = records.destination_port.copy()
    turned = np.zeros(len(records), dtype=np.bool_)
    for (protocol, answer), asked in _REPLIES.items():
        which = (records.protocol == protocol) & (records.destination_port == answer)
        kinds[which] = asked
        turned |= which
    if not turned.any():
        return records, source, destination
    every = {name: getattr(records, name) for name in Records.__struct_fields__}
    changed = Records(
        **every
        | {
            "destination_port": kinds,
            "opens": records.opens & ~turned,
            "back": np.where(turned, records.packets, records.back),
            "packets": np.where(turned, 0, records.packets),
        }
    )
    return changed, np.where(turned, destination, source), np.where(turned, source, destination)


def _ports(protocol: Ints, source: Ints, destination: Ints) -> Ints:
    return protocol << 34 | (source + 1) << 17 | (destination + 1)


def _together(one: Ints, other: Ints) -> Ints:
    """One number for each pair that occurs."""
    _, one_of = np.unique(one, return_inverse=True)
    others, other_of = np.unique(other, return_inverse=True)
    found: Ints = one_of * max(1, len(others)) + other_of
    return found


def _beginnings(records: Records, turned: Bools, of: Ints, count: int) -> Bools:
    """For each conversation whether it was begun by the side that is turned round in its key."""
    order = np.lexsort((np.arange(len(of)), records.first, of))
    first = np.full(count, -1, dtype=np.int64)
    first[of[order[::-1]]] = order[::-1]
    begun = turned[first]
    icmp = np.isin(records.protocol[first], _ICMP)
    ported = np.isin(records.protocol[first], (TCP, UDP)) & ~icmp
    own, other = records.source_port[first], records.destination_port[first]
    looks = _service_like(own, other)
    begun = np.where(ported & looks, ~begun, begun)
    opened = np.zeros((2, count), dtype=np.bool_)
    for way in (0, 1):
        opened[way, of[records.opens & (turned == bool(way))]] = True
    only = opened[0] != opened[1]
    found: Bools = np.where(only, opened[1], begun)
    return found


def _service_like(own: Ints, other: Ints) -> Bools:
    """Whether the port that sent is known, and looks like that of a service, and the other one does not."""
    known = (own >= 0) & (np.isin(own, _KNOWN) | (own < _PRIVILEGED))
    others = np.isin(other, _KNOWN) | (other < _PRIVILEGED)
    found: Bools = known & ~others
    return found


def _services(
    records: Records,
    source: Ints,
    destination: Ints,
    turned: Bools,
    of: Ints,
    begins: Bools,
    addresses: tuple[tuple[bool, int], ...],
    errors: int,
) -> SeenTraffic:
    """Conversations of one source, destination and service, together."""
    backward = turned != begins[of]
    whose = np.where(backward, destination, source)
    whom = np.where(backward, source, destination)
    icmp = np.isin(records.protocol, _ICMP)
    port = np.where(backward & ~icmp, records.source_port, records.destination_port)
    own = np.where(backward & ~icmp, records.destination_port, records.source_port)
    count = max(1, len(addresses))
    key = _together(whose * count + whom, records.protocol << 20 | (port + 1))
    _, at, group = np.unique(key, return_index=True, return_inverse=True)
    size = len(at)

    def total(values: Ints) -> Ints:
        return np.bincount(group, weights=values, minlength=size).astype(np.int64)

    back = np.maximum(records.back, 0)
    conversations = np.unique(group * (int(of.max(initial=0)) + 1) + of)
    answered = np.zeros(size, dtype=np.bool_)
    told = (records.hears == 1) & ~backward
    answered[group[told | (backward & (records.hears < 0)) | (records.back > 0)]] = True
    first = np.full(size, np.iinfo(np.int64).max)
    known = records.first != NO_TIME
    np.minimum.at(first, group[known], records.first[known])
    last = np.zeros(size, dtype=np.int64)
    np.maximum.at(last, group, records.last)
    packets = total(records.packets + back)
    order = np.argsort(-packets, kind="stable")
    return SeenTraffic(
        addresses,
        whose[at][order],
        whom[at][order],
        records.protocol[at][order],
        port[at][order],
        own[at][order],
        np.bincount(conversations // (int(of.max(initial=0)) + 1), minlength=size)[order],
        packets[order],
        total(records.octets)[order],
        answered[order],
        np.where(first == np.iinfo(np.int64).max, NO_TIME, first)[order],
        last[order],
        errors,
    )
