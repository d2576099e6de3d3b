"""What the packet filter of a namespace tells of single packets: its log, read from netlink.

One message for each packet that an entry decided, under the name of the entry's counter.
"""

import socket
import struct
from collections.abc import Iterator
from contextlib import suppress

from greyheron.rehearsal.kernel import KernelError, Namespace
from greyheron.rehearsal.rulebook import LOG_GROUP

_NETFILTER = 12
_LOG = 4 << 8
_CONFIGURE = _LOG | 1
_REQUEST_ACKNOWLEDGED = 5
_ATTRIBUTE = struct.Struct("=HH")
_MESSAGE = struct.Struct("=IHHII")
_PAYLOAD, _PREFIX = 9, 10
_BUFFER = 1 << 22
_SETTINGS = (
    _ATTRIBUTE.pack(5, 1) + b"\1\0\0\0",  # bind to the group
    _ATTRIBUTE.pack(10, 2) + struct.pack("!IBxx", 128, 2),  # so many bytes of each packet
    _ATTRIBUTE.pack(8, 5) + struct.pack("!I", 1),  # each at once
)


class FilterLog:
    """The log of one namespace's packet filter, from now on."""

    def __init__(self, namespace: Namespace) -> None:
        with namespace.entered():
            self.socket = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, _NETFILTER)
        self.socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BUFFER)
        self.socket.bind((0, 0))
        for attribute in _SETTINGS:
            told = struct.pack("=BBH", 0, 0, socket.htons(LOG_GROUP)) + attribute
            head = _MESSAGE.pack(_MESSAGE.size + len(told), _CONFIGURE, _REQUEST_ACKNOWLEDGED, 1, 0)
            self.socket.send(head + told)
            (refused,) = struct.unpack_from("=i", self.socket.recv(4096), _MESSAGE.size)
            if refused:
                raise KernelError(f"{namespace.device}: the packet filter’s log cannot be read ({-refused})")
        self.socket.setblocking(False)

    def read(self) -> Iterator[tuple[str, bytes]]:
        """What was told since it was read last: the counter's name, and the packet from its IP header on."""
        with suppress(BlockingIOError):
            while True:
                yield from told_in(self.socket.recv(1 << 16))

    def close(self) -> None:
        self.socket.close()


def told_in(messages: bytes) -> Iterator[tuple[str, bytes]]:
    """The packets in netlink messages, with what they were told under."""
    at = 0
    while at + _MESSAGE.size <= len(messages):
        length, kind, *_ = _MESSAGE.unpack_from(messages, at)
        if length < _MESSAGE.size:
            return
        if kind & ~0xFF == _LOG:
            found = dict(_attributes(messages[at + _MESSAGE.size + 4 : at + length]))
            if _PREFIX in found and _PAYLOAD in found:
                yield found[_PREFIX].rstrip(b"\0").decode("ascii", "replace"), found[_PAYLOAD]
        at += _whole(length)


def _attributes(behind: bytes) -> Iterator[tuple[int, bytes]]:
    at = 0
    while at + _ATTRIBUTE.size <= len(behind):
        length, kind = _ATTRIBUTE.unpack_from(behind, at)
        if length < _ATTRIBUTE.size:
            return
        yield kind, behind[at + _ATTRIBUTE.size : at + length]
        at += _whole(length)


def _whole(length: int) -> int:
    return length + -length % 4
