"""Records of traffic, in arrays: a packet each, or what somebody else counted of many."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from greyheron.core.headers import Bools, Ints

Halves = NDArray[np.uint64]
NO_TIME = 0
LATEST, MOST_COUNTED = 1 << 62, 1 << 50
"""No time in nanoseconds, and no number of packets or bytes, is larger: whoever says so is not believed."""


class Records(Struct, frozen=True):
    """Many records; all arrays have one length.

    six:  whether the addresses are of IPv6
    source_high, source_low, …:  addresses as the high and the low 64 bits of numbers
    source_port, destination_port:  -1 where there are none; of ICMP the type stands as destination port
    packets, octets:  there, and `back`, packets that answered, where who recorded knows; else -1
    first, last:  nanoseconds since 1970, NO_TIME where they are not known
    opens:  whether it is known to begin a conversation: a SYN alone, an echo request
    hears:  whether it shows that its sender was answered (TCP: an acknowledgement); -1 where that is not told
    """

    six: Bools
    source_high: Halves
    source_low: Halves
    destination_high: Halves
    destination_low: Halves
    protocol: Ints
    source_port: Ints
    destination_port: Ints
    packets: Ints
    octets: Ints
    back: Ints
    first: Ints
    last: Ints
    opens: Bools
    hears: Ints

    def __len__(self) -> int:
        return len(self.protocol)

    def take(self, which: Ints | Bools) -> "Records":
        return Records(*(getattr(self, name)[which] for name in self.__struct_fields__))


def joined(parts: Sequence[Records]) -> Records:
    """All records of several; of none, none."""
    if not parts:
        return _NONE
    return Records(
        *(np.concatenate([getattr(part, name) for part in parts]) for name in Records.__struct_fields__)
    )


class RecordRow(Struct, frozen=True):
    """One record as plain values, for readers that come to them one by one; see `Records`."""

    six: bool
    source: int
    destination: int
    protocol: int
    source_port: int = -1
    destination_port: int = -1
    packets: int = 1
    octets: int = 0
    back: int = -1
    first: int = NO_TIME
    last: int = NO_TIME
    opens: bool = True
    hears: int = -1


_HALF = (1 << 64) - 1


def gathered(rows: Sequence[RecordRow]) -> Records:
    """Rows in arrays."""

    def ints(name: str) -> Ints:
        return np.array([getattr(row, name) for row in rows], dtype=np.int64)

    def halves(name: str, shift: int) -> Halves:
        return np.array([getattr(row, name) >> shift & _HALF for row in rows], dtype=np.uint64)

    def bools(name: str) -> Bools:
        return np.array([getattr(row, name) for row in rows], dtype=np.bool_)

    return Records(
        six=bools("six"),
        source_high=halves("source", 64),
        source_low=halves("source", 0),
        destination_high=halves("destination", 64),
        destination_low=halves("destination", 0),
        protocol=ints("protocol"),
        source_port=ints("source_port"),
        destination_port=ints("destination_port"),
        packets=ints("packets"),
        octets=ints("octets"),
        back=ints("back"),
        first=ints("first"),
        last=ints("last"),
        opens=bools("opens"),
        hears=ints("hears"),
    )


_NONE = gathered(())
