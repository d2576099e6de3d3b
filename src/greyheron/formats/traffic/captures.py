"""Packet captures, read as arrays.

Where packets lie is found one after another; what is in them is read of all at once.
"""

from collections.abc import Mapping

import numpy as np

from greyheron.analysis.traffic.records import Records, joined
from greyheron.core.headers import Bools, Ints
from greyheron.core.progress import Progress
from greyheron.formats.format import Notice
from greyheron.formats.traffic.captured import Packets, packets_in
from greyheron.formats.traffic.frames import V4, V6, Bytes, Heads, network_header

_AT_ONCE = 1 << 18
_OPTIONS = (0, 43, 60)
"""IPv6 extension headers that are passed over, each by its own length (RFC 8200 4)."""
_MOST_OPTIONS = 8
_FRAGMENT, _TCP, _UDP, _SCTP, _ICMP, _ICMP6 = 44, 6, 17, 132, 1, 58
_SYN, _ACK, _SYN_ACK = 0x02, 0x10, 0x12
_TELLING = 0x16  # SYN, RST, ACK


def read_capture(
    path: str, content: bytes, _columns: Mapping[str, str], progress: Progress
) -> tuple[Records, list[Notice]]:
    """The packets in a capture. A file that breaks off is read as far as it goes. Raises DocumentError."""
    packets, notices = packets_in(path, content)
    whole = np.frombuffer(content, dtype=np.uint8)
    found: list[Records] = []
    strange, short = 0, 0
    count = len(packets.at)
    for first in range(0, count, _AT_ONCE):
        progress(first / count)
        records, others, cut = _read(whole, packets, slice(first, first + _AT_ONCE))
        found.append(records)
        strange += others
        short += cut
    if strange:
        notices.append(Notice(path, f"{strange} of {count} frames hold no IP packet: left out"))
    if short:
        notices.append(Notice(path, f"{short} of {count} packets are cut too short to be told: left out"))
    return joined(found), notices


def _read(whole: Bytes, packets: Packets, which: slice) -> tuple[Records, int, int]:
    """Some packets in arrays; how many others hold no IP packet, and how many are cut too short."""
    link = np.array(packets.link[which], dtype=np.int64)
    every = Heads(
        whole,
        np.array(packets.at[which], dtype=np.int64),
        np.array(packets.captured[which], dtype=np.int64),
    )
    start, kind = network_header(every, link)
    strange = (kind != V4) & (kind != V6)
    keep = np.flatnonzero(~strange & (every.room >= start + np.where(kind == V6, 40, 20)))
    behind, protocol, first, cut = _behind(every.take(keep), start[keep], kind[keep] == V6)
    telling = np.select(
        [np.isin(protocol, (_TCP, _UDP, _SCTP)), np.isin(protocol, (_ICMP, _ICMP6))], [4, 1], 0
    )
    told = ~cut & (~first | (every.room[keep] >= behind + telling))
    keep, behind, protocol, first = keep[told], behind[told], protocol[told], first[told]
    heads, start, six = every.take(keep), start[keep], kind[keep] == V6
    ported = first & np.isin(protocol, (_TCP, _UDP, _SCTP))
    icmp = first & np.isin(protocol, (_ICMP, _ICMP6))
    kinds = np.where(icmp, heads.one(behind), -1)
    flagged = ported & (protocol == _TCP) & (heads.room > behind + 13)
    flags = np.where(flagged, heads.one(behind + 13), 0)
    echo = icmp & (kinds == np.where(six, 128, 8))
    source_high = destination_high = np.zeros(len(keep), dtype=np.uint64)
    source_low = heads.four(start + 12).astype(np.uint64)
    destination_low = heads.four(start + 16).astype(np.uint64)
    if six.any():
        source_high = np.where(six, heads.eight(start + 8), source_high)
        source_low = np.where(six, heads.eight(start + 16), source_low)
        destination_high = np.where(six, heads.eight(start + 24), destination_high)
        destination_low = np.where(six, heads.eight(start + 32), destination_low)
    time = np.array(packets.time[which], dtype=np.int64)[keep]
    records = Records(
        six=six,
        source_high=source_high,
        source_low=source_low,
        destination_high=destination_high,
        destination_low=destination_low,
        protocol=protocol,
        source_port=np.where(ported, heads.two(behind), -1),
        destination_port=np.where(ported, heads.two(behind + 2), kinds),
        packets=np.ones(len(keep), dtype=np.int64),
        octets=np.array(packets.whole[which], dtype=np.int64)[keep],
        back=np.full(len(keep), -1, dtype=np.int64),
        first=time,
        last=time,
        opens=echo | ((protocol == _TCP) & (flags & _SYN_ACK == _SYN)),
        hears=np.where(flagged, flags & _TELLING == _ACK, -1),
    )
    others = int(strange.sum())
    return records, others, len(every) - len(keep) - others


def _behind(heads: Heads, start: Ints, six: Bools) -> tuple[Ints, Ints, Bools, Bools]:
    """What stands behind the IP header: where it begins, and its protocol.

    Then whether it is a first fragment, and whether the headers before it were cut.
    """
    behind = np.where(six, start + 40, start + (heads.one(start) & 15) * 4)
    protocol = np.where(six, heads.one(start + 6), heads.one(start + 9))
    first = six | (heads.two(start + 6) & 0x1FFF == 0)
    cut = np.zeros(len(heads), dtype=np.bool_)
    for _ in range(_MOST_OPTIONS):
        more = six & np.isin(protocol, _OPTIONS)
        piece = six & (protocol == _FRAGMENT)
        if not (more | piece).any():
            break
        cut |= (more | piece) & (heads.room < behind + 8)
        first &= ~piece | (heads.two(behind + 2) >> 3 == 0)
        length = np.where(more, (heads.one(behind + 1) + 1) * 8, np.where(piece, 8, 0))
        protocol = np.where(more | piece, heads.one(behind), protocol)
        behind = behind + length
    return behind, protocol, first, cut
