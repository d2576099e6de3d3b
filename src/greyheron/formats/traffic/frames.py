"""Frames as they were captured: where the IP packet in each begins, whatever stands before it.

Tags of VLANs, labels of MPLS (RFC 3032), sessions of PPP over Ethernet (RFC 2516), and 802.2 headers are
seen through, however many there are.
"""

import numpy as np
from numpy.typing import NDArray

from greyheron.analysis.traffic.records import Halves
from greyheron.core.headers import Ints

V4, V6 = 0x0800, 0x86DD
_ETHERNET, _RAW, _COOKED, _COOKED_2, _NULL, _LOOP = 1, (12, 14, 101, 228, 229), 113, 276, 0, 108
_PPP_LINKS, _PPPOE_LINK = (9, 50), 51
LINKS = frozenset((_ETHERNET, _COOKED, _COOKED_2, _NULL, _LOOP, _PPPOE_LINK, *_PPP_LINKS, *_RAW))
"""The link types that are read, by their numbers in capture files."""
_TAGS, _LABELS, _SESSION, _PPP = (0x8100, 0x88A8, 0x9100, 0x9200), (0x8847, 0x8848), 0x8864, 0x880B
_LONGEST = 1500
"""A larger number at the place of an EtherType is one; up to this it is a length (IEEE 802.3)."""
_MOST_AROUND = 16
_IN_PPP = {0x21: V4, 0x57: V6, 0x281: _LABELS[0], 0x283: _LABELS[1]}
Bytes = NDArray[np.uint8]


class Heads:
    """The bytes of many packets, by their place in each; behind what was captured nothing stands."""

    def __init__(self, whole: Bytes, at: Ints, room: Ints) -> None:
        self._whole, self._at, self.room = whole, at, room

    def __len__(self) -> int:
        return len(self._at)

    def take(self, which: Ints) -> "Heads":
        return Heads(self._whole, self._at[which], self.room[which])

    def one(self, place: Ints | int) -> Ints:
        found = self._whole[np.minimum(self._at + place, len(self._whole) - 1)]
        return np.where(place < self.room, found, 0).astype(np.int64)

    def two(self, place: Ints | int) -> Ints:
        return self.one(place) << 8 | self.one(place + 1)

    def four(self, place: Ints) -> Ints:
        return self.two(place) << 16 | self.two(place + 2)

    def eight(self, place: Ints) -> Halves:
        high, low = self.four(place).astype(np.uint64), self.four(place + 4).astype(np.uint64)
        return high << np.uint64(32) | low


def network_header(heads: Heads, link: Ints) -> tuple[Ints, Ints]:
    """Where the IP header of each packet begins, and its EtherType; another one where it is no IP packet.

    link:  the link type of each
    """
    start, kind = _behind_link(heads, link)
    for _ in range(_MOST_AROUND):
        before = start
        start, kind = _unwrapped(heads, start, kind)
        if (start == before).all():
            break
    said = _by_version(heads, start)
    return start, np.where((kind == said) | (link == _LOOP) | (link == _NULL), said, 0)


def _behind_link(heads: Heads, link: Ints) -> tuple[Ints, Ints]:
    kinds = [link == _ETHERNET, link == _COOKED, link == _COOKED_2, (link == _NULL) | (link == _LOOP)]
    start = np.select(kinds, [14, 16, 20, 4], 0)
    kind = np.select(kinds[:3], [heads.two(12), heads.two(14), heads.two(0)], 0)
    kind = np.where(np.isin(link, _RAW), _by_version(heads, start), kind)
    return start, np.select([np.isin(link, _PPP_LINKS), link == _PPPOE_LINK], [_PPP, _SESSION], kind)


def _by_version(heads: Heads, start: Ints) -> Ints:
    """The EtherType that the first bits of an IP header tell (RFC 791 3.1, RFC 8200 3)."""
    version = heads.one(start) >> 4
    return np.select([version == 4, version == 6], [V4, V6], 0)


def _unwrapped(heads: Heads, start: Ints, kind: Ints) -> tuple[Ints, Ints]:
    """Past one header before the IP packet."""
    tagged, labelled, session = np.isin(kind, _TAGS), np.isin(kind, _LABELS), kind == _SESSION
    ppp, short = kind == _PPP, (kind > 0) & (kind <= _LONGEST)
    named = short & (heads.two(start) == 0xAAAA) & (heads.four(start + 2) == 0x0300_0000)
    last_label = labelled & (heads.one(start + 2) & 1 == 1)
    addressed = ppp & (heads.two(start) == 0xFF03)
    at = start + 2 * addressed
    brief = ppp & (heads.one(at) & 1 == 1)
    protocol = np.where(brief, heads.one(at), heads.two(at))
    inside = np.select([protocol == each for each in _IN_PPP], [*_IN_PPP.values()], 0)
    behind = np.select(
        [tagged, labelled, session, ppp, named],
        [start + 4, start + 4, start + 6, at + np.where(brief, 1, 2), start + 8],
        start,
    )
    return behind, np.select(
        [tagged, last_label, session, ppp, named],
        [heads.two(start + 2), _by_version(heads, start + 4), _PPP, inside, heads.two(start + 6)],
        kind,
    )
